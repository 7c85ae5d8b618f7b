//! Slow Comet, a planetarium's show player: cues of a property list, in folders with exact case.
//!
//! `show.plist` lists `Cues`: each is `cues/NAME.aiff`, 24-bit PCM, 48000 Hz stereo; loops as
//! `INST` and `MARK` say.

use std::fmt;
use std::fs;
use std::path::Path;

/// A cue as the player holds it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Cue {
    /// Its frames.
    pub frames: u32,
    /// The loop region.
    pub looped: Option<(u32, u32)>,
}

/// What happened when the show was loaded.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Boot {
    /// Every cue of the list, in its order.
    pub cues: Vec<(String, Result<Cue, String>)>,
}

/// Loads the show.
///
/// # Errors
/// Why there is no show.
pub fn boot(show: &Path) -> Result<Boot, String> {
    let list = plist::Value::from_file(show.join("show.plist"))
        .map_err(|error| format!("show.plist cannot be read: {error}"))?;
    let cues = list.as_dictionary().and_then(|dict| dict.get("Cues"));
    let cues = cues.and_then(plist::Value::as_array).ok_or("show.plist lists no Cues")?;
    let names = cues.iter().filter_map(plist::Value::as_string);
    let cues = names.map(|name| (name.to_owned(), load(show, name))).collect();
    Ok(Boot { cues })
}

impl fmt::Display for Boot {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (at, (name, verdict)) in self.cues.iter().enumerate() {
            let line = if at == 0 { "" } else { "\n" };
            match verdict {
                Ok(Cue { frames, looped: None }) => {
                    write!(f, "{line}  {name:<24}plays {frames} frames once")?
                }
                Ok(Cue { frames, looped: Some((start, end)) }) => {
                    write!(
                        f,
                        "{line}  {name:<24}plays {frames} frames, looping from {start} to {end}"
                    )?;
                }
                Err(why) => write!(f, "{line}  {name:<24}stays dark: {why}")?,
            }
        }
        Ok(())
    }
}

/// The player's own file system is case-sensitive, whatever this computer's is.
fn exactly(folder: &Path, name: &str) -> bool {
    let (first, rest) = name.split_once('/').unwrap_or((name, ""));
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    let there = entries.into_iter().any(|entry| entry.file_name() == *first);
    there && (rest.is_empty() || exactly(&folder.join(first), rest))
}

fn load(show: &Path, name: &str) -> Result<Cue, String> {
    let file = format!("cues/{name}.aiff");
    if !exactly(show, &file) {
        return Err(format!("there is no {file}, just so"));
    }
    let path = file.split('/').fold(show.to_owned(), |path, part| path.join(part));
    let bytes = fs::read(path).map_err(|error| error.to_string())?;
    if bytes.get(..4) != Some(b"FORM") || bytes.get(8..12) != Some(b"AIFF") {
        return Err("not an AIFF file".to_owned());
    }
    let word = |at: usize| -> Option<u32> {
        Some(u32::from_be_bytes(bytes.get(at..at + 4)?.try_into().ok()?))
    };
    let half = |at: usize| -> Option<u16> {
        Some(u16::from_be_bytes(bytes.get(at..at + 2)?.try_into().ok()?))
    };
    let (mut form, mut marks, mut ends) = (None, Vec::new(), None);
    let mut at = 12;
    while let (Some(kind), Some(length)) = (bytes.get(at..at + 4), word(at + 4)) {
        let body = at + 8;
        match kind {
            b"COMM" => form = bytes.get(body..body + 18).zip(word(body + 2)),
            b"MARK" => {
                let mut place = body + 2;
                for _ in 0..half(body).unwrap_or(0) {
                    let (Some(id), Some(frame)) = (half(place), word(place + 2)) else {
                        break;
                    };
                    marks.push((id, frame));
                    let name = usize::from(bytes.get(place + 6).copied().unwrap_or(0));
                    // A name with its length byte takes an even number of bytes.
                    place += 6 + (name + 2) / 2 * 2;
                }
            }
            // The sustain loop: its mode, and the markers at its ends.
            b"INST" if half(body + 8) == Some(1) => ends = half(body + 10).zip(half(body + 12)),
            _ => {}
        }
        at = body + usize::try_from(length).map_err(|_| "it is too long")?.div_ceil(2) * 2;
    }
    let (comm, frames) = form.ok_or("it has no COMM")?;
    // Stereo, 24 bits, 48000 Hz as an 80-bit number.
    let fits =
        comm[..2] == [0, 2] && comm[6..8] == [0, 24] && comm[8..12] == [0x40, 0x0E, 0xBB, 0x80];
    if !fits {
        return Err("cues are 24-bit stereo at 48000 Hz".to_owned());
    }
    let place = |id: u16| marks.iter().find(|mark| mark.0 == id).map(|mark| mark.1);
    let looped = ends.and_then(|(start, end)| place(start).zip(place(end)));
    match looped {
        Some((start, end)) if start >= end || end > frames => Err("its loop is none".to_owned()),
        looped => Ok(Cue { frames, looped }),
    }
}
