//! Native FLAC (RFC 9639): metadata blocks are read here, frames by symphonia.

use super::bytes::{be16, be64};
use super::codec::symphonia::{Setup, Symphonia, TrackPackets};
use super::packets::Decoded;
use super::plain::{Coding, Plain};
use super::reading::Reading;
use super::{Body, Opened, Packets, Stream, comments};
use crate::block::Source;
use crate::clip::{Extra, Tag};
use crate::crc::{FLAC_FRAME, FLAC_HEADER};
use crate::error::{Error, Result};
use crate::num::size;
use crate::read::input::Handle;
use crate::spec::Facts;
use crate::spec::{ByteOrder, Channels, Codec, Container, Encoding, Format};
use std::path::Path;
use symphonia::core::formats::{FormatOptions, FormatReader};
use symphonia::core::io::MediaSourceStream;
use symphonia::default::formats::FlacReader;

/// Names of the metadata blocks (RFC 9639, 8.1).
const BLOCKS: [&str; 7] =
    ["STREAMINFO", "PADDING", "APPLICATION", "SEEKTABLE", "VORBIS_COMMENT", "CUESHEET", "PICTURE"];
/// Metadata that is read at most.
const MOST_BLOCKS: usize = 1024;

/// Where the frames lie.
#[derive(Debug)]
struct Flac {
    info: Vec<u8>,
    offset: u64,
    bytes: u64,
}

/// Reads the metadata blocks.
pub(super) fn open(mut file: Reading<'_>) -> Result<Opened> {
    let Metadata { info, mut tags, mut extras, end } = metadata(&mut file)?;
    let info = info.filter(|info| info.len() >= 34);
    let info = info.ok_or_else(|| file.malformed("it has no STREAMINFO", 4))?;
    let (format, stated, valid_bits) = read_info(&info, &file)?;
    let bytes = file.length().saturating_sub(end);
    let held = last_frame_end(&mut file, end, &info)?;
    let frames = frames(stated, held, bytes, &mut file);
    let (loops, loop_names) = file.take_loop(&mut tags, frames, format.rate);
    // The vendor's name alone, and the loop, are no texts.
    extras.retain(|extra| extra.id != "VORBIS_COMMENT" || !tags.is_empty());
    let facts = Facts {
        frames,
        valid_bits,
        audio_bytes: bytes,
        loops,
        loop_names,
        tags,
        extras,
        ..Facts::new(format, file.length())
    };
    Ok(file.opened(facts, Flac { info, offset: end, bytes }))
}

/// What the metadata blocks hold, and where they end.
struct Metadata {
    info: Option<Vec<u8>>,
    tags: Vec<Tag>,
    extras: Vec<Extra>,
    end: u64,
}

fn metadata(file: &mut Reading<'_>) -> Result<Metadata> {
    let mut at = id3_length(file)?;
    if file.at(at, 4)? != b"fLaC" {
        return Err(file.malformed("it does not begin with fLaC", at));
    }
    at += 4;
    let mut found = Metadata { info: None, tags: Vec::new(), extras: Vec::new(), end: at };
    for _ in 0..MOST_BLOCKS {
        let head = file.at(at, 4)?;
        let &[kind, a, b, c] = head.as_slice() else {
            return Err(file.malformed("it ends within its metadata", at));
        };
        let length = u64::from(u32::from_be_bytes([0, a, b, c]));
        let name = BLOCKS.get(usize::from(kind & 0x7F)).copied().unwrap_or("unknown");
        match name {
            "STREAMINFO" if found.info.is_none() => found.info = Some(file.at(at + 4, length)?),
            "PADDING" => {}
            _ => {
                if name == "VORBIS_COMMENT" {
                    found.tags = comments::parse(&file.at(at + 4, length)?);
                }
                found.extras.push(Extra { id: name.to_owned(), offset: at + 4, bytes: length });
            }
        }
        at += 4 + length;
        found.end = at;
        if kind & 0x80 != 0 {
            break;
        }
    }
    Ok(found)
}

/// How many frames there are: `stated` by the header (0 where it leaves it open), `held` by the last frame that was
/// found in the `bytes` of the frames.
fn frames(stated: u64, held: Option<u64>, bytes: u64, file: &mut Reading<'_>) -> u64 {
    match (stated, held) {
        (0, Some(held)) => file.promised(None, held),
        (0, None) => 0,
        (stated, None) if bytes == 0 => {
            file.compare(stated, 0);
            0
        }
        (stated, None) => stated,
        (stated, Some(held)) => {
            file.compare(stated, held);
            if held > stated {
                file.corrected(format!(
                    "its header counts {stated} frames, its frames hold {held}; the rest is left out"
                ));
            }
            stated.min(held)
        }
    }
}

/// Some writers put ID3 tags before the file's own beginning.
fn id3_length(file: &mut Reading<'_>) -> Result<u64> {
    let head = file.at(0, 10)?;
    Ok(super::mp3::id3_bytes(&head).unwrap_or(0))
}

/// RFC 9639, 8.2: rate, channels, bits and the number of frames.
pub(super) fn read_info(info: &[u8], file: &Reading<'_>) -> Result<(Format, u64, Option<u16>)> {
    let packed = be64(info, 10).unwrap_or_default();
    let part = |shift: u32, bits: u32| packed >> shift & ((1 << bits) - 1);
    let hertz = u32::try_from(part(44, 20)).unwrap_or_default();
    let rate = file.rate(hertz, 18)?;
    let counted = u16::try_from(part(41, 3) + 1).unwrap_or(1);
    let bits = u16::try_from(part(36, 5) + 1).unwrap_or(16);
    let codec = if bits <= 16 { Codec::Flac16 } else { Codec::Flac24 };
    if bits > 24 {
        return Err(file.unsupported(format!("FLAC of {bits} bits")));
    }
    // RFC 9639, 9.1.3: four and six channels have their usual places.
    let channels = Channels::usual(counted).unwrap_or(Channels::MONO);
    let format =
        Format { container: Container::Flac, encoding: Encoding::plain(codec), rate, channels };
    let whole = if bits <= 16 { 16 } else { 24 };
    Ok((format, part(0, 36), (bits != whole).then_some(bits)))
}

/// How much of the end is searched for the last frame; no frame of FLAC's usual sizes is longer.
const SEARCHED: u64 = 1 << 20;

/// Where the last whole frame ends, in frames of sound; `None` where none is found in the last MiB. A
/// frame is whole where the check sum at the end of the file is its own.
fn last_frame_end(file: &mut Reading<'_>, first: u64, info: &[u8]) -> Result<Option<u64>> {
    let from = first.max(file.length().saturating_sub(SEARCHED));
    let tail = file.at(from, SEARCHED)?;
    let fixed = u64::from(be16(info, 0).unwrap_or_default());
    let starts = (0..tail.len().saturating_sub(5)).rev();
    let heads = starts.filter_map(|at| frame_head(&tail[at..], fixed).map(|head| (at, head)));
    // What looks like a head within a frame is none where an earlier one's sum holds.
    let mut broken = None;
    for (at, (start, length)) in heads.take(8) {
        if FLAC_FRAME.checksum(&tail[at..]) == 0 {
            return Ok(Some(start + length));
        }
        broken.get_or_insert(start);
    }
    Ok(broken)
}

/// RFC 9639, 9.1: sync code, block size, number, check sum. Gives the first frame of sound and how
/// many it holds.
pub(crate) fn frame_head(bytes: &[u8], fixed: u64) -> Option<(u64, u64)> {
    let (&[first, second, third, fourth], rest) = bytes.split_first_chunk::<4>()?;
    if first != 0xFF || second & 0xFE != 0xF8 || third >> 4 == 0 || third & 15 == 15 {
        return None;
    }
    if fourth >> 4 > 10 || fourth & 1 != 0 {
        return None;
    }
    let (number, used) = coded_number(rest)?;
    let mut at = 4 + used;
    let length = match third >> 4 {
        1 => 192,
        code @ 2..=5 => 144 << code,
        6 => {
            at += 1;
            u64::from(*bytes.get(at - 1)?) + 1
        }
        7 => {
            at += 2;
            u64::from(be16(bytes, at - 2)?) + 1
        }
        code => 1 << code,
    };
    at += match third & 15 {
        12 => 1,
        13 | 14 => 2,
        _ => 0,
    };
    if FLAC_HEADER.checksum(bytes.get(..at)?) != *bytes.get(at)? {
        return None;
    }
    let variable = second & 1 != 0;
    let start = if variable { number } else { number.checked_mul(fixed)? };
    Some((start, length))
}

/// A number in the manner of UTF-8, up to 36 bits (RFC 9639, 9.1.5).
fn coded_number(bytes: &[u8]) -> Option<(u64, usize)> {
    let first = *bytes.first()?;
    let ones = first.leading_ones();
    if ones == 0 {
        return Some((first.into(), 1));
    }
    if !(2..=7).contains(&ones) {
        return None;
    }
    let used = size(ones.into());
    let mut value = u64::from(first) & (0x7F >> ones);
    for byte in bytes.get(1..used)? {
        if byte >> 6 != 2 {
            return None;
        }
        value = value << 6 | u64::from(byte & 0x3F);
    }
    Some((value, used))
}

impl Body for Flac {
    fn frames(&self, file: Handle, path: &Path, facts: &Facts) -> Result<Box<dyn Source>> {
        let broken = |what: String| Error::Malformed {
            path: path.to_owned(),
            format: "FLAC",
            what,
            offset: self.offset,
        };
        let stream = MediaSourceStream::new(Box::new(file), Default::default());
        let reader = FlacReader::try_new(stream, FormatOptions::default())
            .map_err(|error| broken(error.to_string()))?;
        let decoder = Symphonia::new(Setup::Flac(self.info.clone())).map_err(broken)?;
        let track = reader.tracks().first().map_or(0, |track| track.id);
        let packets = TrackPackets::new(Box::new(reader), track, path, "FLAC");
        let (packets, decoder) = (Box::new(packets), Box::new(decoder));
        Ok(Box::new(Decoded::new(packets, decoder, path, facts, 0)))
    }

    fn packets(&self, file: Handle, path: &Path) -> Result<Box<dyn Packets>> {
        let whole = Plain {
            offset: self.offset,
            bytes: self.bytes,
            unit_bytes: 1 << 14,
            unit_frames: 1 << 20,
            coding: Coding::Pcm(ByteOrder::Big),
        };
        whole.packets(file, path)
    }

    fn stream(&self) -> Stream {
        Stream { headers: vec![self.info.clone()], ..Stream::default() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_in_the_manner_of_utf_8() {
        for (bytes, want) in [
            (&[0x7F][..], Some((0x7F, 1))),
            (&[0xC2, 0xA9], Some((0xA9, 2))),
            (&[0xFE, 0xBF, 0xBF, 0xBF, 0xBF, 0xBF, 0xBF], Some(((1 << 36) - 1, 7))),
            (&[0x80], None),
            (&[0xC2, 0x29], None),
        ] {
            assert_eq!(coded_number(bytes), want);
        }
    }
}
