//! Porch Finch, a door intercom: ring melodies that loop as a whole, and short tones.
//!
//! `ring/*.pfr` is AAC in MP4, 44100 Hz stereo, at most 25 s. `tones.txt` names, below a heading, the tones
//! that the door knows: `tone/NAME.wav`, companded, 8000 Hz mono, behind a plain header.

use std::fmt;
use std::fs;
use std::path::Path;

/// The longest melody, in milliseconds.
const LONGEST: u64 = 25_000;

/// What happened when the intercom was started.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Boot {
    /// Each sound, and how long it lasts in milliseconds, or why it stays silent.
    pub sounds: Vec<(String, Result<u64, String>)>,
}

/// Starts the intercom.
///
/// # Errors
/// Why it does not start at all.
pub fn boot(memory: &Path) -> Result<Boot, String> {
    if fs::read(memory.join("finch.id")).ok().as_deref() != Some(b"PF-2\n") {
        return Err("finch.id is missing or wrong".to_owned());
    }
    let mut sounds = Vec::new();
    let mut names: Vec<String> = fs::read_dir(memory.join("ring"))
        .map_err(|error| format!("ring cannot be read: {error}"))?
        .flatten()
        .map(|entry| entry.file_name().to_string_lossy().into_owned())
        .filter(|name| name.ends_with(".pfr"))
        .collect();
    names.sort();
    for name in names {
        let loaded = fs::read(memory.join("ring").join(&name));
        let verdict = loaded.map_err(|e| e.to_string()).and_then(|bytes| melody(&bytes));
        sounds.push((format!("ring/{name}"), verdict));
    }
    let list = fs::read_to_string(memory.join("tones.txt"))
        .map_err(|error| format!("tones.txt cannot be read: {error}"))?;
    for name in list.lines().skip(1).filter(|line| !line.is_empty()) {
        let loaded = fs::read(memory.join("tone").join(format!("{name}.wav")));
        let verdict =
            loaded.map_err(|_| "there is no such file".to_owned()).and_then(|bytes| tone(&bytes));
        sounds.push((format!("tone/{name}.wav"), verdict));
    }
    Ok(Boot { sounds })
}

impl fmt::Display for Boot {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (at, (name, verdict)) in self.sounds.iter().enumerate() {
            let line = if at == 0 { "" } else { "\n" };
            match verdict {
                Ok(millis) => write!(f, "{line}  {name:<24}plays {millis} ms")?,
                Err(why) => write!(f, "{line}  {name:<24}stays silent: {why}")?,
            }
        }
        Ok(())
    }
}

fn word(bytes: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_be_bytes(bytes.get(at..at + 4)?.try_into().ok()?))
}

/// The contents of the first box of a kind (ISO 14496-12, 4.2).
fn inside<'b>(bytes: &'b [u8], kind: &[u8]) -> Option<&'b [u8]> {
    let mut at = 0;
    while let Some(length) = word(bytes, at) {
        let length = usize::try_from(length).ok().filter(|length| *length >= 8)?;
        if bytes.get(at + 4..at + 8)? == kind {
            return bytes.get(at + 8..at + length);
        }
        at += length;
    }
    None
}

/// AAC in MP4; its length is what the edit list shows.
fn melody(bytes: &[u8]) -> Result<u64, String> {
    let no_mp4 = || "not an MP4 file, whatever its name says".to_owned();
    inside(bytes, b"ftyp").ok_or_else(no_mp4)?;
    let movie = inside(bytes, b"moov").ok_or_else(no_mp4)?;
    let header = inside(movie, b"mvhd").ok_or_else(no_mp4)?;
    let wide = if header.first() == Some(&1) { 8 } else { 0 };
    let scale =
        word(header, 12 + wide).map(u64::from).filter(|scale| *scale > 0).ok_or_else(no_mp4)?;
    let length = match wide {
        0 => word(header, 16).map(u64::from),
        _ => word(header, 28).map(u64::from),
    };
    let media = inside(movie, b"trak").and_then(|track| inside(track, b"mdia"));
    let table = media.and_then(|m| inside(m, b"minf")).and_then(|m| inside(m, b"stbl"));
    let entry = table.and_then(|t| inside(t, b"stsd")).and_then(|d| inside(&d[8..], b"mp4a"));
    let entry = entry.ok_or("not AAC")?;
    // Channels and rate of the sample entry (ISO 14496-12, 12.2.3).
    let channels = entry.get(16..18).ok_or_else(no_mp4)?;
    let rate = word(entry, 24).ok_or_else(no_mp4)? >> 16;
    if (channels, rate) != (&[0, 2], 44_100) {
        return Err("melodies are 44100 Hz stereo".to_owned());
    }
    let millis = length.ok_or_else(no_mp4)? * 1000 / scale;
    match millis <= LONGEST {
        true => Ok(millis),
        false => Err(format!("it lasts {millis} ms, {LONGEST} are allowed")),
    }
}

/// A-law or µ-law behind a plain header, and no chunk that it does not need.
fn tone(bytes: &[u8]) -> Result<u64, String> {
    if bytes.get(..4) != Some(b"RIFF") || bytes.get(8..16) != Some(b"WAVEfmt ") {
        return Err("not a WAV file".to_owned());
    }
    let little = |at: usize| -> Option<u32> {
        Some(u32::from_le_bytes(bytes.get(at..at + 4)?.try_into().ok()?))
    };
    if !matches!(bytes.get(20), Some(6 | 7)) || bytes.get(22..24) != Some(&[1, 0]) {
        return Err("tones are mono, A-law or µ-law".to_owned());
    }
    if little(24) != Some(8000) {
        return Err("tones are 8000 Hz".to_owned());
    }
    let mut at = 20 + usize::try_from(little(16).unwrap_or(0)).unwrap_or(0);
    while let (Some(kind), Some(length)) = (bytes.get(at..at + 4), little(at + 4)) {
        match kind {
            b"data" => return Ok(u64::from(length) / 8),
            b"fact" => at += 8 + usize::try_from(length).unwrap_or(0),
            _ => return Err("a chunk that it does not know".to_owned()),
        }
    }
    Err("it has no samples".to_owned())
}
