//! Small texts beside a file that tell where it loops.

use crate::refusal::OddTemplate;
use crate::template::{Names, Piece, pieces};
use deft_needle_audio::num::real;
use deft_needle_audio::units::{FrameRange, SampleRate};
use regex::Regex;
use serde::de::Error as _;
use serde::{Deserialize, Deserializer};

/// A text beside a slot's file that tells its loop. Both are templates over what is known of the slot:
/// `{folder}`, `{name}`, `{stem}`; `{loop.start}`, `{loop.end}` and `{loop.length}` are frames,
/// `{loop.start-seconds}` and so on seconds.
#[derive(Debug, Clone, PartialEq)]
pub struct LoopFile {
    /// Its path in the root.
    pub file: String,
    /// What it says.
    pub text: String,
}

/// Places that tell a loop.
const PLACES: [&str; 3] = ["loop.start", "loop.end", "loop.length"];
/// What stands behind those that tell seconds.
const SECONDS: &str = "-seconds";

impl<'de> Deserialize<'de> for LoopFile {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        #[derive(Deserialize)]
        #[serde(deny_unknown_fields)]
        struct Keys {
            file: String,
            text: String,
        }
        let Keys { file, text } = Keys::deserialize(deserializer)?;
        let broken = |odd: OddTemplate| {
            let line = odd.written().unwrap_or_default();
            D::Error::custom(format!(
                "\"{line}\" has a brace without its other one: write {{{{ or }}}}"
            ))
        };
        let known = pieces(&text).map_err(broken)?;
        pieces(&file).map_err(broken)?;
        let tells = |name: &str| {
            let is = |piece: &Piece| matches!(piece, Piece::Place(place) if is_place(place, name));
            known.iter().any(is)
        };
        match tells("loop.start") && (tells("loop.end") || tells("loop.length")) {
            true => Ok(Self { file, text }),
            false => Err(D::Error::custom(
                "the text tells no loop: write {loop.start} and {loop.end}, or {loop.length}",
            )),
        }
    }
}

fn is_place(place: &str, name: &str) -> bool {
    place.trim().strip_suffix(SECONDS).unwrap_or(place.trim()) == name
}

impl LoopFile {
    /// The file's path for a slot, within the root.
    ///
    /// # Errors
    /// A place that is not known.
    pub fn path(&self, slot: &str) -> Result<String, OddTemplate> {
        let mut names = Names::default();
        names.slot(slot);
        Ok(names.text(&self.file)?.trim_start_matches('/').to_owned())
    }

    /// What the file says of a slot that loops so.
    ///
    /// # Errors
    /// A place that is not known.
    pub fn written(
        &self,
        slot: &str,
        range: FrameRange,
        rate: SampleRate,
    ) -> Result<String, OddTemplate> {
        let mut names = Names::default();
        names.slot(slot);
        names.looped(range, rate);
        names.text(&self.text)
    }

    /// The loop that such a file tells; nothing where it is another text.
    pub fn read(&self, text: &str, rate: SampleRate) -> Option<FrameRange> {
        let mut pattern = String::new();
        let mut places = Vec::new();
        for piece in pieces(self.text.trim()).ok()? {
            match piece {
                Piece::Text(text) => {
                    let escaped = regex::escape(&text);
                    pattern += &escaped.replace("\r\n", "\n").replace('\n', r"\r?\n");
                }
                Piece::Place(place) if PLACES.iter().any(|name| is_place(&place, name)) => {
                    places.push(place.trim().to_owned());
                    pattern += r"(\d+(?:\.\d+)?)";
                }
                Piece::Place(_) => pattern += ".*?",
            }
        }
        let found = Regex::new(&pattern).ok()?;
        let found = found.captures(text)?;
        let value = |name: &str| {
            let at = places.iter().position(|place| is_place(place, name))?;
            let number: f64 = found.get(at + 1)?.as_str().parse().ok()?;
            Some(match places[at].ends_with(SECONDS) {
                true => deft_needle_audio::num::rounded(number * f64::from(rate.hertz())),
                false => deft_needle_audio::num::rounded(number),
            })
        };
        let start = value("loop.start")?;
        let end = value("loop.end").or_else(|| start.checked_add(value("loop.length")?))?;
        (start < end).then_some(FrameRange { start, end })
    }
}

impl Names {
    /// Takes in what a slot's name tells.
    pub fn slot(&mut self, slot: &str) {
        let (folder, file) = slot.rsplit_once('/').unwrap_or(("", slot));
        let (stem, extension) = file.rsplit_once('.').unwrap_or((file, ""));
        self.set("slot", slot);
        self.set("folder", folder);
        self.set("name", file);
        self.set("stem", stem);
        self.set("extension", extension);
    }

    /// Takes in what the brackets of an expression hold: `{1}`, `{2}` ….
    pub fn found(&mut self, found: &regex::Captures<'_>) {
        for (number, part) in found.iter().enumerate().skip(1) {
            self.set(&number.to_string(), part.map_or("", |part| part.as_str()));
        }
    }

    /// Takes in where a file loops.
    pub fn looped(&mut self, range: FrameRange, rate: SampleRate) {
        let all = PLACES.into_iter().zip([range.start, range.end, range.len()]);
        for (name, frames) in all {
            self.set(name, frames);
            // Six digits tell every frame of any rate.
            let seconds = real(frames) / f64::from(rate.hertz());
            let seconds = (seconds * 1e6).round() / 1e6;
            self.set(&format!("{name}{SECONDS}"), seconds);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn loops_come_back_as_they_were_written() {
        let rate = SampleRate::new(44_100).unwrap();
        let range = FrameRange { start: 66_151, end: 319_725 };
        for (text, want) in [
            ("{loop.start}\n{loop.end}\n", "66151\n319725\n"),
            ("from {loop.start} for {loop.length}", "from 66151 for 253574"),
            (
                "plays: {name}\nfrom: {loop.start-seconds} s\nto: {loop.end-seconds} s\n",
                "plays: mill.ogg\nfrom: 1.500023 s\nto: 7.25 s\n",
            ),
        ] {
            let file = LoopFile { file: "{folder}/{stem}.tune".to_owned(), text: text.to_owned() };
            let written = file.written("music/mill.ogg", range, rate).unwrap();
            assert_eq!(written, want);
            assert_eq!(file.read(&written, rate), Some(range), "{text}");
            assert_eq!(file.read(&written.replace('\n', "\r\n"), rate), Some(range), "{text}");
            assert_eq!(file.path("music/mill.ogg").unwrap(), "music/mill.tune");
            assert_eq!(file.read("something else", rate), None);
        }
        for bad in ["file = 'a'\ntext = 'x'", "file = '{'\ntext = '{loop.start} {loop.end}'"] {
            assert!(toml::from_str::<LoopFile>(bad).is_err(), "{bad}");
        }
    }
}
