//! AIFF and AIFF-C.
//!
//! Sources: "Audio Interchange File Format: AIFF" 1.3 (Apple, 1989); "Audio Interchange File Format
//! AIFF-C" draft (Apple, 1991).

use super::Opened;
use super::bytes::{be16, be32, four, text};
use super::chunks::{Chunk, Walker, readable};
use super::plain::Plain;
use super::reading::Reading;
use crate::clip::{Direction, Extra, Loop, Marker, Tag};
use crate::error::Result;
use crate::num::{rounded, size};
use crate::spec::Facts;
use crate::spec::{ByteOrder, Codec, Container, Encoding, Format};
use crate::units::{FrameRange, SampleRate};

/// What the `COMM` chunk says.
struct Common {
    format: Format,
    frames: u64,
    valid_bits: Option<u16>,
    order: ByteOrder,
}

/// The loops of an `INST` chunk: whether for the release, how they play, and the markers of their ends.
#[derive(Default)]
struct Instrument {
    loops: Vec<(bool, u16, u16, u16)>,
}

/// A marker: its identifier, the frame that it stands before, its name.
struct Mark {
    id: u16,
    frame: u64,
    name: String,
}

/// Compression types whose samples are not decoded here, by name.
const NAMED: &[(&[u8; 4], &str)] = &[(b"GSM ", "GSM 6.10"), (b"alac", "ALAC")];

/// Reads all chunks but the samples.
pub(super) fn open(file: Reading<'_>) -> Result<Opened> {
    let mut walker = Walker::start(file, ByteOrder::Big)?;
    let Chunks { common, sound, marks, instrument, tags, extras } = chunks(&mut walker)?;
    let mut file = walker.file;
    let common = common.ok_or_else(|| file.malformed("it has no \"COMM\" chunk", 12))?;
    let plain = samples(&common, sound, &mut file)?;
    let frames = frames_of(&common, &plain);
    let loops = loops(&instrument, &marks, frames, &mut file);
    let of_loop = |id: u16| instrument.loops.iter().any(|&(_, _, a, b)| a == id || b == id);
    let mut markers: Vec<Marker> = marks
        .iter()
        .filter(|mark| !of_loop(mark.id))
        .map(|mark| Marker { frame: mark.frame, name: mark.name.clone() })
        .collect();
    markers.sort_by_key(|marker| marker.frame);
    // Places are among what is beside the samples, like `smpl` and `cue ` of a WAV.
    let facts = Facts {
        frames,
        valid_bits: common.valid_bits,
        audio_bytes: plain.bytes,
        loops,
        markers,
        tags,
        extras,
        ..Facts::new(common.format, file.length())
    };
    Ok(file.opened(facts, plain))
}

/// What the chunks say, before they are held against one another.
#[derive(Default)]
struct Chunks {
    common: Option<Common>,
    /// The samples, and the bytes before the first.
    sound: Option<(Chunk, u32)>,
    marks: Vec<Mark>,
    instrument: Instrument,
    tags: Vec<Tag>,
    extras: Vec<Extra>,
}

fn chunks(walker: &mut Walker<'_>) -> Result<Chunks> {
    let mut all = Chunks::default();
    while let Some(chunk) = walker.next()? {
        match &chunk.id {
            b"COMM" if all.common.is_none() => {
                let bytes = walker.contents(&chunk)?;
                all.common = Some(read_common(&bytes, walker, chunk.offset)?);
            }
            b"SSND" if all.sound.is_none() => {
                let head = walker.some(&chunk, 8)?;
                all.sound = Some((chunk, be32(&head, 0).unwrap_or_default()));
            }
            b"MARK" => all.marks = read_marks(&walker.contents(&chunk)?),
            b"INST" => all.instrument = read_instrument(&walker.contents(&chunk)?),
            b"FVER" => {}
            id => {
                if let b"NAME" | b"AUTH" | b"ANNO" | b"(c) " = id {
                    all.tags.push(Tag::of_aiff(id, text(&walker.contents(&chunk)?)));
                }
                let (id, offset) = (readable(id), chunk.offset);
                all.extras.push(Extra { id, offset, bytes: chunk.bytes });
            }
        }
    }
    Ok(all)
}

/// Where the samples lie, as far as they are in the file.
fn samples(common: &Common, sound: Option<(Chunk, u32)>, file: &mut Reading<'_>) -> Result<Plain> {
    // "If there are no sample frames, the Sound Data Chunk may be left out" (AIFF 1.3, page 9).
    let (offset, bytes, held) = match sound {
        Some((chunk, skip)) => {
            let skip = 8 + u64::from(skip);
            let less = |n: u64| n.saturating_sub(skip);
            (chunk.offset + skip, less(chunk.bytes), less(chunk.held))
        }
        None if common.frames == 0 => (0, 0, 0),
        None => return Err(file.malformed("it has no \"SSND\" chunk", 12)),
    };
    let mut plain = Plain::samples(offset, 0, common.format, common.order);
    let unit = plain.unit_bytes;
    let (mut counted, in_file) = (common.frames, held / unit);
    // Packets are counted there; some writers count their frames, some those of all channels as one.
    if plain.unit_frames > 1 {
        let of_frames = counted.div_ceil(plain.unit_frames);
        counted = if counted > in_file { of_frames } else { bytes / unit };
    }
    plain.bytes = counted.min(in_file) * unit;
    file.compare(counted, in_file);
    if in_file >= counted && bytes / unit > counted {
        let more = bytes / unit - counted;
        file.corrected(format!(
            "its samples go on for {more} frames after the {counted} that it counts"
        ));
    }
    Ok(plain)
}

/// As many as the packets hold, or as it says where it counts frames and not packets.
fn frames_of(common: &Common, plain: &Plain) -> u64 {
    let units = plain.bytes / plain.unit_bytes;
    let held = units * plain.unit_frames;
    let counted = common.frames > units
        && common.frames <= held
        && common.frames.div_ceil(plain.unit_frames) * plain.unit_bytes == plain.bytes;
    if counted { common.frames } else { held }
}

/// AIFF 1.3, "The Common Chunk": channels, frames, bits, rate; AIFF-C adds the compression type.
fn read_common(bytes: &[u8], walker: &Walker<'_>, offset: u64) -> Result<Common> {
    let file = &walker.file;
    let bad = |what: String| file.malformed(what, offset);
    let (Some(channels), Some(frames), Some(bits), Some(rate)) =
        (be16(bytes, 0), be32(bytes, 2), be16(bytes, 6), bytes.get(8..18))
    else {
        return Err(bad("its \"COMM\" chunk is too short".to_owned()));
    };
    let rate = extended(rate);
    let hertz = u32::try_from(rounded(rate)).ok().and_then(SampleRate::new);
    let Some(rate) = hertz.filter(|_| rate.is_finite()) else {
        return Err(bad(format!("its sample rate is {rate}")));
    };
    let channels = file.channels(channels.into(), offset)?;
    let kind = four(bytes, 18).filter(|_| walker.kind() == *b"AIFC");
    let (codec, order) = match kind.as_ref() {
        None => (pcm(bits), ByteOrder::Big),
        Some(b"NONE" | b"twos" | b"in24" | b"in32") => (pcm(bits), ByteOrder::Big),
        Some(b"sowt") => (pcm(bits), ByteOrder::Little),
        Some(b"fl32" | b"FL32") => (Some(Codec::F32), ByteOrder::Big),
        Some(b"fl64" | b"FL64") => (Some(Codec::F64), ByteOrder::Big),
        Some(b"ulaw" | b"ULAW") => (Some(Codec::MuLaw), ByteOrder::Big),
        Some(b"alaw" | b"ALAW") => (Some(Codec::ALaw), ByteOrder::Big),
        Some(b"ima4") => (Some(Codec::ImaAdpcm), ByteOrder::Big),
        Some(other) => {
            let known = NAMED.iter().find(|row| row.0 == other);
            return Err(file.unsupported(match known {
                Some((_, name)) => format!("AIFF-C with {name}"),
                None => format!("AIFF-C of type \"{}\"", other.escape_ascii()),
            }));
        }
    };
    let codec = codec.ok_or_else(|| bad(format!("it says {bits} bits a sample")))?;
    let wide = codec.sample_bytes().is_some_and(|bytes| bytes > 1);
    let stated = kind.is_some() && wide;
    let whole = codec.sample_bytes().map(|bytes| 8 * bytes);
    let integer = matches!(codec.kind(), crate::spec::Kind::Integer(_));
    Ok(Common {
        format: Format {
            container: match kind {
                Some(_) => Container::Aifc,
                None => Container::Aiff,
            },
            encoding: Encoding { order: stated.then_some(order), ..Encoding::plain(codec) },
            rate,
            channels,
        },
        frames: frames.into(),
        valid_bits: (integer && Some(bits) != whole).then_some(bits),
        order,
    })
}

/// Samples of 1 to 32 bits lie in the upper bits of whole bytes.
fn pcm(bits: u16) -> Option<Codec> {
    match bits {
        1..=8 => Some(Codec::Pcm8),
        9..=16 => Some(Codec::Pcm16),
        17..=24 => Some(Codec::Pcm24),
        25..=32 => Some(Codec::Pcm32),
        _ => None,
    }
}

/// An 80-bit IEEE 754 number: sign, 15 bits of exponent with a bias of 16,383, 64 bits of fraction
/// with its first one stated.
fn extended(bytes: &[u8]) -> f64 {
    let exponent = i32::from(be16(bytes, 0).unwrap_or_default() & 0x7FFF) - 16_383;
    let upper = f64::from(be32(bytes, 2).unwrap_or_default());
    let lower = f64::from(be32(bytes, 6).unwrap_or_default());
    if bytes.first().is_some_and(|b| b & 0x80 != 0) {
        return f64::NAN;
    }
    (upper + lower / 4_294_967_296.0) * 2f64.powi(exponent - 31)
}

/// AIFF 1.3, "The Marker Chunk": a count, then for each an identifier, a position and a counted text
/// whose length, its count included, is even.
fn read_marks(bytes: &[u8]) -> Vec<Mark> {
    let mut marks = Vec::new();
    let stated = be16(bytes, 0).map_or(0, usize::from);
    let mut at = 2;
    while marks.len() < stated {
        let (Some(id), Some(frame)) = (be16(bytes, at), be32(bytes, at + 2)) else {
            break;
        };
        let length = usize::from(bytes.get(at + 6).copied().unwrap_or_default());
        let name = bytes.get(at + 7..at + 7 + length).unwrap_or_default();
        marks.push(Mark { id, frame: frame.into(), name: text(name) });
        at += 6 + (1 + length).next_multiple_of(2);
    }
    marks
}

/// AIFF 1.3, "The Instrument Chunk": eight bytes of notes and gain, then the sustain and the release
/// loop, each a mode (0 none, 1 forward, 2 ping-pong) and two markers.
fn read_instrument(bytes: &[u8]) -> Instrument {
    let loops = [(8, false), (14, true)].into_iter().filter_map(|(at, release)| {
        let (mode, start, end) = (be16(bytes, at)?, be16(bytes, at + 2)?, be16(bytes, at + 4)?);
        (mode != 0).then_some((release, mode, start, end))
    });
    Instrument { loops: loops.collect() }
}

/// Markers lie between frames, so that a loop is half-open as it stands.
fn loops(
    instrument: &Instrument,
    marks: &[Mark],
    frames: u64,
    file: &mut Reading<'_>,
) -> Vec<Loop> {
    let place = |id: u16| marks.iter().find(|mark| mark.id == id).map(|mark| mark.frame);
    let mut all = Vec::new();
    for &(release, mode, start, end) in &instrument.loops {
        let range = place(start).zip(place(end)).map(|(start, end)| FrameRange { start, end });
        match range {
            Some(range) if !range.is_empty() && range.end <= frames => {
                let direction = match mode {
                    2 => Direction::PingPong,
                    mode => {
                        if mode != 1 {
                            file.corrected(format!(
                                "a loop of mode {mode}; taken for one that plays forward"
                            ));
                        }
                        Direction::Forward
                    }
                };
                all.push(Loop { direction, release, ..Loop::endless(range) });
            }
            _ => file.corrected(format!(
                "a loop between the markers {start} and {end} lies outside the clip; left out"
            )),
        }
    }
    all.truncate(size(2));
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn extended_numbers() {
        // From the examples of AIFF 1.3, and the smallest and largest rates that are met.
        for (bytes, want) in [
            ([0x40, 0x0E, 0xAC, 0x44, 0, 0, 0, 0, 0, 0], 44_100.0),
            ([0x40, 0x0F, 0xAC, 0x44, 0, 0, 0, 0, 0, 0], 88_200.0),
            ([0x40, 0x0E, 0xAD, 0xDD, 0x17, 0x45, 0xD1, 0x74, 0x5D, 0x17], 44_509.090_909),
            ([0x3F, 0xFF, 0x80, 0, 0, 0, 0, 0, 0, 0], 1.0),
            ([0; 10], 0.0),
        ] {
            assert!((extended(&bytes) - want).abs() < 1e-5, "{want}");
        }
    }
}
