//! Fields of headers that readers pass over and strict loaders do not. What they must hold is worked out here from
//! the formats' own definitions.

use crate::block::fill;
use crate::clip::Extra;
use crate::error::{Error, Result};
use crate::num::count;
use crate::plan::Plan;
use crate::read::Clip;
use crate::spec::{ByteOrder, Codec, Container, Format, Kind, Layout};
use std::io::Read as _;

/// Headers are looked for in this many bytes at the start.
const HEAD: usize = 4096;

fn odd(what: &str, expected: impl std::fmt::Display, found: impl std::fmt::Display) -> Error {
    Error::Verify { what: format!("{what}: expected {expected}, found {found}") }
}

fn must(what: &str, expected: u64, found: u64) -> Result<()> {
    match expected == found {
        true => Ok(()),
        false => Err(odd(what, expected, found)),
    }
}

/// Compares what the container's header says twice, or beside what a reader needs.
///
/// # Errors
/// [`Error::Verify`] naming the field; [`Error::Read`].
pub fn compare(plan: &Plan, written: &Clip) -> Result<()> {
    let mut bytes = vec![0; HEAD];
    let mut file = written.input().open()?;
    let length = fill(&mut file.by_ref(), &mut bytes)
        .map_err(|source| Error::Read { path: written.input().name().to_owned(), source })?;
    bytes.truncate(length);
    match plan.to.format.container {
        Container::W64 => w64(plan, &bytes, written),
        container if container.is_wave() => riff(plan, &bytes, written.facts().file_bytes),
        Container::Caf => caf(plan, &bytes),
        Container::Aiff | Container::Aifc => form(plan, &bytes, written.facts().file_bytes),
        _ => Ok(()),
    }
}

/// A number of `N` bytes, the least first.
fn le(bytes: &[u8], at: usize, length: usize) -> u64 {
    let field = bytes.get(at..bytes.len().min(at + length)).unwrap_or_default();
    field.iter().rev().fold(0, |number, byte| number << 8 | u64::from(*byte))
}

/// The same, the most significant first.
fn be(bytes: &[u8], at: usize, length: usize) -> u64 {
    let field = bytes.get(at..at + length).unwrap_or_default();
    field.iter().fold(0, |number, byte| number << 8 | u64::from(*byte))
}

/// Where the contents of a chunk begin, as far as the head tells.
fn chunk(bytes: &[u8], id: &[u8; 4], size: fn(&[u8], usize, usize) -> u64) -> Option<usize> {
    let mut at = 12;
    while let Some(found) = bytes.get(at..at + 4) {
        if found == id {
            return Some(at + 8);
        }
        let length = crate::num::size(size(bytes, at + 4, 4));
        at = at.checked_add(8 + length + length % 2)?;
    }
    None
}

/// RIFF 1.0 "WAVE Form", "Format Chunk", "FACT Chunk"; WAVEFORMATEXTENSIBLE.
fn riff(plan: &Plan, bytes: &[u8], length: u64) -> Result<()> {
    let to = plan.to.format;
    match chunk(bytes, b"ds64", le) {
        // EBU Tech 3306, 3.4: the sizes of 32 bits say nothing.
        Some(sizes) => {
            must("the size in the ds64 chunk", length - 8, le(bytes, sizes, 8))?;
            must("the frames in the ds64 chunk", plan.to.frames, le(bytes, sizes + 16, 8))?;
            must("the table in the ds64 chunk", 0, le(bytes, sizes + 24, 4))?;
            must("the size in the RF64 header", u32::MAX.into(), le(bytes, 4, 4))?;
        }
        None => must("the size in the RIFF header", length - 8, le(bytes, 4, 4))?,
    }
    let Some(fmt) = chunk(bytes, b"fmt ", le) else {
        return Ok(());
    };
    wave_format(to, bytes, fmt, le(bytes, fmt - 4, 4))?;
    match chunk(bytes, b"fact", le) {
        Some(fact) => {
            let frames = plan.to.frames.min(u32::MAX.into());
            must("the frames in the fact chunk", frames, le(bytes, fact, 4))
        }
        None => Ok(()),
    }
}

/// The name of a W64.
const W64_RIFF: &[u8] = b"riff\x2E\x91\xCF\x11\xA5\xD6\x28\xDB\x04\xC1\0\0";
/// How all of its other names go on behind those of WAV.
const W64_REST: &[u8] = b"\xF3\xAC\xD3\x11\x8C\xD1\0\xC0\x4F\x8E\xDB\x8A";

/// "Wave64 File Format", 3 and 4: sizes that count their heads, chunks at multiples of eight bytes.
fn w64(plan: &Plan, bytes: &[u8], written: &Clip) -> Result<()> {
    let names = (bytes.get(..16), bytes.get(24..28), bytes.get(28..40));
    let strange = || Error::Verify { what: "its names are not those of a W64".to_owned() };
    if names != (Some(W64_RIFF), Some(b"wave"), Some(W64_REST)) {
        return Err(strange());
    }
    must("the size in the header", written.facts().file_bytes, le(bytes, 16, 8))?;
    let mut at = 40;
    while let Some(id) = bytes.get(at..at + 4) {
        let size = le(bytes, at + 16, 8);
        if bytes.get(at + 4..at + 16) != Some(W64_REST) {
            return Err(strange());
        }
        let end = count(at) + size;
        let filling = end.next_multiple_of(8) - end;
        let filling = Extra { id: String::new(), offset: end, bytes: filling };
        must("what fills a chunk up", 0, le(&written.extra_bytes(&filling)?, 0, 8))?;
        match id {
            b"fmt " => wave_format(plan.to.format, bytes, at + 24, size.saturating_sub(24))?,
            b"fact" => must("the frames in the fact chunk", plan.to.frames, le(bytes, at + 24, 8))?,
            b"data" => return Ok(()),
            _ => return Err(strange()),
        }
        at += crate::num::size(size.next_multiple_of(8)).max(24);
    }
    Ok(())
}

/// The contents of a format chunk of this size.
fn wave_format(to: Format, bytes: &[u8], fmt: usize, size: u64) -> Result<()> {
    let (block, extensible) = (le(bytes, fmt + 12, 2), le(bytes, fmt, 2) == 0xFFFE);
    let frames = match to.encoding.codec {
        // ADPCM (Multimedia Data Standards Update, 1994): how many frames a block holds.
        Codec::ImaAdpcm | Codec::MsAdpcm | Codec::Gsm => le(bytes, fmt + 18, 2),
        _ => 1,
    };
    let a_second = u64::from(to.rate.hertz()) * block / frames.max(1);
    must("the bytes a second in the header", a_second, le(bytes, fmt + 8, 4))?;
    if size >= 18 {
        must("the size of the extension", size - 18, le(bytes, fmt + 16, 2))?;
    }
    if extensible {
        let bits = le(bytes, fmt + 14, 2);
        must("the valid bits in the header", bits, le(bytes, fmt + 18, 2))?;
        must("the channel mask in the header", mask(to), le(bytes, fmt + 20, 4))?;
    }
    Ok(())
}

/// `dwChannelMask`: a bit for each loudspeaker, from front left on.
fn mask(format: Format) -> u64 {
    const SPEAKERS: [(Layout, &[u32]); 5] = [
        (Layout::Mono, &[2]),
        (Layout::Stereo, &[0, 1]),
        (Layout::Quad, &[0, 1, 4, 5]),
        (Layout::Surround51, &[0, 1, 2, 3, 4, 5]),
        (Layout::Surround71, &[0, 1, 2, 3, 4, 5, 9, 10]),
    ];
    let row = SPEAKERS.iter().find(|(layout, _)| Some(*layout) == format.channels.layout());
    row.map_or(0, |(_, speakers)| speakers.iter().map(|bit| 1u64 << bit).sum())
}

/// "Apple Core Audio Format Specification 1.0": the file's header, the "Audio Description Chunk", which always comes first,
/// and the count of edits before the samples.
fn caf(plan: &Plan, bytes: &[u8]) -> Result<()> {
    let to = plan.to.format;
    let (codec, channels) = (to.encoding.codec, u64::from(to.channels.count()));
    let little = to.encoding.order == Some(ByteOrder::Little);
    let sample = codec.sample_bytes().map(u64::from);
    let plain = sample.map(|bytes| (bytes * channels, 1, 8 * bytes));
    let (flags, (unit, frames, bits)) = match codec {
        Codec::Alac16 => (1, (0, 4096, 0)),
        Codec::Alac24 => (3, (0, 4096, 0)),
        Codec::Aac => (2, (0, 1024, 0)),
        Codec::ImaAdpcm => (0, (34 * channels, 64, 0)),
        codec => {
            let float = u64::from(matches!(codec.kind(), Kind::Float(_)));
            (float + 2 * u64::from(little), plain.unwrap_or((0, 0, 0)))
        }
    };
    for (what, at, length, meant) in [
        ("the version of the format", 4, 4, 0x1_0000),
        ("the rate in the header", 20, 8, f64::from(to.rate.hertz()).to_bits()),
        ("the flags of the encoding", 32, 4, flags),
        ("the bytes of a packet", 36, 4, unit),
        ("the frames of a packet", 40, 4, frames),
        ("the channels in the header", 44, 4, channels),
        ("the bits of a sample", 48, 4, bits),
    ] {
        must(what, meant, be(bytes, at, length))?;
    }
    let mut at = 8;
    while let Some(id) = bytes.get(at..at + 4) {
        if id == b"data" {
            return must("the count of edits", 0, be(bytes, at + 12, 4));
        }
        let length = crate::num::size(be(bytes, at + 4, 8));
        at = at.saturating_add(12).saturating_add(length);
    }
    Ok(())
}

/// AIFF 1.3 "Form", "Common Chunk", "Sound Data Chunk"; AIFF-C "Format Version Chunk".
fn form(plan: &Plan, bytes: &[u8], length: u64) -> Result<()> {
    let to = plan.to.format;
    must("the size in the FORM header", length - 8, be(bytes, 4, 4))?;
    if to.container == Container::Aifc {
        let version = chunk(bytes, b"FVER", be).map_or(0, |at| be(bytes, at, 4));
        must("the version of the format", 0xA280_5140, version)?;
    }
    let Some(comm) = chunk(bytes, b"COMM", be) else {
        return Ok(());
    };
    // An 80-bit number (IEEE 754 extended): its exponent, then 64 bits that begin with a 1.
    let hertz = u64::from(to.rate.hertz());
    let shift = hertz.leading_zeros();
    must("the exponent of the rate", 16_383 + 63 - u64::from(shift), be(bytes, comm + 8, 2))?;
    must("the rate in the header", hertz << shift, be(bytes, comm + 10, 8))?;
    if let Some(sample) = to.encoding.codec.sample_bytes() {
        let bits = match to.encoding.codec {
            // They stand for 16 bits (AIFF-C, "sampleSize" of compressed sounds).
            Codec::MuLaw | Codec::ALaw => be(bytes, comm + 6, 2),
            _ => 8 * u64::from(sample),
        };
        must("the bits of a sample", bits, be(bytes, comm + 6, 2))?;
    }
    match chunk(bytes, b"SSND", be) {
        Some(sound) => must("offset and block size of the samples", 0, be(bytes, sound, 8)),
        None => Ok(()),
    }
}
