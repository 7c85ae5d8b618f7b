//! The list beside a sheet: every name with what its stock is, so that the target need not be at hand.

use crate::error::{Error, Result};
use crate::hash::Hash;
use crate::refusal::OddText;
use crate::sheet::{Fault, Within};
use deft_needle_audio::spec::Format;
use deft_needle_audio::units::FrameRange;
use deft_needle_audio::{Facts, Invalid};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::path::Path;

/// What is known of a slot's stock.
#[derive(Debug, Clone, PartialEq, Deserialize, JsonSchema, Serialize)]
pub struct Listed {
    /// The slot.
    pub name: String,
    /// Its spec line, or `opaque`.
    pub spec: String,
    /// Its length in seconds.
    pub seconds: Option<f64>,
    /// Its length in frames.
    pub frames: Option<u64>,
    /// Its loudness in LUFS; nothing for silence.
    pub lufs: Option<f64>,
    /// Its first loop in frames, as in `480..1440`; the end is the first frame not played.
    #[serde(rename = "loop")]
    pub looped: Option<String>,
    /// The file's size.
    pub bytes: u64,
    /// The hash of the file (BLAKE3).
    pub hash: Option<Hash>,
    /// The slot that it leads to, where it is a link.
    #[serde(default)]
    pub link: Option<String>,
}

/// The columns, in order.
pub const COLUMNS: [&str; 9] =
    ["name", "spec", "seconds", "frames", "lufs", "loop", "bytes", "hash", "link"];

impl Listed {
    /// What the stock is; `None` for a closed format.
    pub fn format(&self) -> Option<Format> {
        self.spec.parse().ok()
    }

    /// What a sound's headers tell.
    pub fn of_sound(name: &str, facts: &Facts, hash: Hash) -> Self {
        let written = |range: &FrameRange| format!("{}..{}", range.start, range.end);
        Self {
            name: name.to_owned(),
            spec: facts.format.to_string(),
            seconds: Some(thousandths(facts.seconds())),
            frames: Some(facts.frames),
            lufs: None,
            looped: facts.loops.first().map(|l| written(&l.range)),
            bytes: facts.file_bytes,
            hash: Some(hash),
            link: None,
        }
    }

    /// A file of a closed format.
    pub fn opaque(name: &str, bytes: u64, hash: Hash) -> Self {
        Self {
            name: name.to_owned(),
            spec: "opaque".to_owned(),
            seconds: None,
            frames: None,
            lufs: None,
            looped: None,
            bytes,
            hash: Some(hash),
            link: None,
        }
    }
}

/// To three digits behind the point.
pub fn thousandths(value: f64) -> f64 {
    (value * 1000.0).round() / 1000.0
}

/// The list as text.
///
/// # Errors
/// None that could occur in memory.
pub fn to_csv(list: &[Listed]) -> Result<Vec<u8>> {
    let mut writer = csv::Writer::from_writer(Vec::new());
    let wrong = |error: csv::Error| Error::write("write", Path::new("the list"))(error.into());
    for one in list {
        writer.serialize(one).map_err(wrong)?;
    }
    if list.is_empty() {
        writer.write_record(COLUMNS).map_err(wrong)?;
    }
    writer
        .into_inner()
        .map_err(|error| Error::write("write", Path::new("the list"))(error.into_error()))
}

/// Whether a table is such a list, by its headings.
pub fn is_list(text: &str) -> bool {
    let first = text.lines().next().unwrap_or_default();
    first.split(',').map(str::trim).take(2).eq(["name", "spec"])
}

/// Reads such a list.
///
/// # Errors
/// [`Error::Sheet`] at the line that is wrong.
pub fn from_csv(text: &str, path: &Path) -> Result<Vec<Listed>> {
    let mut reader = csv::Reader::from_reader(text.as_bytes());
    let mut all = Vec::new();
    for row in reader.deserialize() {
        let one: Listed = row.map_err(|error| {
            let what = match error.kind() {
                csv::ErrorKind::Deserialize { err, .. } => err.to_string(),
                _ => error.to_string(),
            };
            let line = error.position().map_or(1, csv::Position::line);
            in_line(path, text, line, OddText::Grammar(what))
        })?;
        let name: Within = one.name.parse().map_err(|invalid: Invalid| {
            let line = text.lines().take_while(|l| !l.contains(&one.name)).count();
            in_line(path, text, deft_needle_audio::num::count(line) + 1, invalid)
        })?;
        all.push(Listed { name: name.0, ..one });
    }
    Ok(all)
}

/// A fault of a whole line, counted from 1.
pub(super) fn in_line(path: &Path, text: &str, line: u64, odd: impl Into<OddText>) -> Error {
    let skipped = deft_needle_audio::num::size(line.saturating_sub(1));
    let start: usize = text.split_inclusive('\n').take(skipped).map(str::len).sum();
    let length = text[start.min(text.len())..].lines().next().map_or(0, str::len);
    Fault::at(path, text, &(start..start + length), odd.into()).into()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lists_come_back_as_they_went() {
        let hash = Hash::of(b"x");
        let list = [
            Listed {
                seconds: Some(1.25),
                frames: Some(60_000),
                lufs: Some(-18.2),
                looped: Some("480..1440".to_owned()),
                spec: "wav pcm16 48000 mono".to_owned(),
                ..Listed::opaque("sfx/a, \"b\".wav", 44, hash)
            },
            Listed::opaque("鐘.bin", 7, hash),
        ];
        let bytes = to_csv(&list).unwrap();
        let text = String::from_utf8(bytes).unwrap();
        assert!(is_list(&text) && text.starts_with(&COLUMNS.join(",")));
        assert_eq!(from_csv(&text, Path::new("x")).unwrap(), list);
        for (bad, part) in [
            ("name,spec,bytes\na,opaque,many\n", "line 2"),
            ("name,spec,seconds,frames,lufs,loop,bytes,hash\n../a,opaque,,,,,1,\n", "lead out"),
        ] {
            let error = from_csv(bad, Path::new("x")).unwrap_err().to_string();
            assert!(error.contains(part), "{error}");
        }
    }
}
