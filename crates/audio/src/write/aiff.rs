//! AIFF and AIFF-C files whose every byte before the samples is known before the first is written.
//!
//! Sources: "Audio Interchange File Format: AIFF" 1.3 (Apple, 1989); "Audio Interchange File Format
//! AIFF-C" draft (Apple, 1991).

use super::plain::{PlainWriter, sample_bytes};
use super::{Along, Out};
use crate::error::Result;
use crate::num::{count, count32, low_byte};
use crate::spec::Output;
use crate::spec::{ByteOrder, Codec, Container};
use crate::units::SampleRate;

/// AIFF-C's version of 1990-05-23 (AIFF-C draft, "The Format Version Chunk").
const VERSION: u32 = 0xA280_5140;

/// A rate as an 80-bit number: whole numbers of up to 32 bits fill its upper half.
fn extended(rate: SampleRate) -> [u8; 10] {
    let zeros = rate.hertz().leading_zeros();
    let exponent = u16::try_from(16_383 + 31 - zeros).unwrap_or(0).to_be_bytes();
    let fraction = (rate.hertz() << zeros).to_be_bytes();
    let mut bytes = [0; 10];
    bytes[..2].copy_from_slice(&exponent);
    bytes[2..6].copy_from_slice(&fraction);
    bytes
}

/// The compression type of AIFF-C and its name, counted and of even length.
fn compression(output: &Output) -> (&'static [u8; 4], &'static [u8]) {
    let little = output.format.encoding.order == Some(ByteOrder::Little);
    match output.format.encoding.codec {
        Codec::F32 => (b"fl32", b"\x1532-bit floating point"),
        Codec::F64 => (b"fl64", b"\x1564-bit floating point"),
        Codec::ImaAdpcm => (b"ima4", b"\x07IMA 4:1"),
        Codec::MuLaw => (b"ulaw", b"\x0A\xB5Law 2:1  \0"),
        Codec::ALaw => (b"alaw", b"\x08ALaw 2:1\0"),
        _ if little => (b"sowt", b"\x00\0"),
        _ => (b"NONE", b"\x0Enot compressed\0"),
    }
}

/// A chunk with its pad byte.
fn chunk(to: &mut Vec<u8>, id: &[u8], contents: &[u8]) {
    to.extend_from_slice(&id[..4]);
    to.extend_from_slice(&count32(contents.len()).to_be_bytes());
    to.extend_from_slice(contents);
    if contents.len() % 2 == 1 {
        to.push(0);
    }
}

fn common(output: &Output) -> Vec<u8> {
    let codec = output.format.encoding.codec;
    let bits = match codec {
        Codec::MuLaw | Codec::ALaw | Codec::ImaAdpcm => 16,
        codec => 8 * codec.sample_bytes().unwrap_or(0),
    };
    let mut bytes = output.format.channels.count().to_be_bytes().to_vec();
    // Packets are counted where there are some.
    let units = output.frames.div_ceil(output.format.unit().map_or(1, |unit| unit.1));
    let frames = u32::try_from(units).unwrap_or(u32::MAX);
    bytes.extend_from_slice(&frames.to_be_bytes());
    bytes.extend_from_slice(&bits.to_be_bytes());
    bytes.extend_from_slice(&extended(output.format.rate));
    if output.format.container == Container::Aifc {
        let (kind, name) = compression(output);
        bytes.extend_from_slice(kind);
        bytes.extend_from_slice(name);
    }
    bytes
}

/// Markers, those of loops first (AIFF 1.3, "The Marker Chunk"), and the loops that name them ("The
/// Instrument Chunk"): middle C over all notes and strengths, no gain.
fn places(output: &Output) -> (Vec<u8>, Vec<u8>) {
    let mut marks = Vec::new();
    let mut instrument = vec![60, 0, 0, 127, 1, 127, 0, 0];
    let mut count = 0u16;
    let mut mark = |frame: u64, name: &str| {
        count += 1;
        let frame = u32::try_from(frame).unwrap_or(u32::MAX);
        let name = &name.as_bytes()[..name.floor_char_boundary(255)];
        marks.extend_from_slice(&count.to_be_bytes());
        marks.extend_from_slice(&frame.to_be_bytes());
        marks.push(low_byte(count32(name.len()).cast_signed()));
        marks.extend_from_slice(name);
        if name.len().is_multiple_of(2) {
            marks.push(0);
        }
        count
    };
    for release in [false, true] {
        let Some(l) = output.loops.iter().find(|l| l.release == release) else {
            instrument.extend_from_slice(&[0; 6]);
            continue;
        };
        let ends = [mark(l.range.start, "beg loop"), mark(l.range.end, "end loop")];
        let mode: u16 = if l.direction.is_forward() { 1 } else { 2 };
        instrument.extend_from_slice(&mode.to_be_bytes());
        instrument.extend(ends.iter().flat_map(|id| id.to_be_bytes()));
    }
    for marker in &output.markers {
        mark(marker.frame, &marker.name);
    }
    let mut all = count.to_be_bytes().to_vec();
    all.extend_from_slice(&marks);
    (all, instrument)
}

/// Everything between the file's own header and the samples.
fn before_samples(output: &Output, along: &Along) -> Vec<u8> {
    let mut bytes = Vec::new();
    if output.format.container == Container::Aifc {
        chunk(&mut bytes, b"FVER", &VERSION.to_be_bytes());
    }
    chunk(&mut bytes, b"COMM", &common(output));
    if !output.loops.is_empty() || !output.markers.is_empty() {
        let (marks, instrument) = places(output);
        chunk(&mut bytes, b"MARK", &marks);
        if !output.loops.is_empty() {
            chunk(&mut bytes, b"INST", &instrument);
        }
    }
    for tag in &output.tags {
        if let Some(id) = tag.names().and_then(|names| names.aiff)
            && !along.has(&id.escape_ascii().to_string())
        {
            chunk(&mut bytes, id, tag.value.as_bytes());
        }
    }
    for (id, contents) in &along.chunks {
        chunk(&mut bytes, id.as_bytes(), contents);
    }
    bytes
}

/// A writer for an AIFF or AIFF-C.
///
/// # Errors
/// [`crate::Error::Write`].
pub fn writer<'a>(
    out: &'a mut dyn Out,
    output: &'a Output,
    along: &Along,
) -> Result<PlainWriter<'a>> {
    let before = before_samples(output, along);
    let data = sample_bytes(output, along);
    let size = 4 + count(before.len()) + 16 + data + data % 2;
    let word = |n: u64| u32::try_from(n).unwrap_or(u32::MAX).to_be_bytes();
    let mut head = b"FORM".to_vec();
    head.extend_from_slice(&word(size));
    head.extend_from_slice(match output.format.container {
        Container::Aifc => b"AIFC",
        _ => b"AIFF",
    });
    head.extend_from_slice(&before);
    head.extend_from_slice(b"SSND");
    head.extend_from_slice(&word(8 + data));
    // No offset, no alignment.
    head.extend_from_slice(&[0; 8]);
    let tail = vec![0; usize::from(!data.is_multiple_of(2))];
    // Single bytes are signed here.
    let order = match output.format.encoding.codec {
        Codec::Pcm8 => ByteOrder::Big,
        _ => output.format.encoding.order.unwrap_or(ByteOrder::Big),
    };
    PlainWriter::new(out, output, order, along, (head, tail))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rates_as_the_format_prints_them() {
        for (hertz, want) in [
            (44_100, [0x40, 0x0E, 0xAC, 0x44, 0, 0, 0, 0, 0, 0]),
            (1, [0x3F, 0xFF, 0x80, 0, 0, 0, 0, 0, 0, 0]),
        ] {
            assert_eq!(extended(SampleRate::new(hertz).unwrap()), want);
        }
    }
}
