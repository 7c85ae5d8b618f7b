//! RIFF WAVE files, RF64 and W64, whose every byte is known before the first is written.
//!
//! Sources: "Multimedia Programming Interface and Data Specifications 1.0" (IBM, Microsoft, 1991),
//! "Multiple Channel Audio Data and WAVE Files" (Microsoft, 2007),
//! EBU Tech 3306 (RF64), "Wave64 File Format" (2003).

use super::codec::plain::{data_bytes, unit};
use super::plain::{PlainWriter, sample_bytes};
use super::{Along, Out, texts};
use crate::error::Result;
use crate::num::{count, size};
use crate::read::codec::adpcm::MS_COEFFICIENTS;
use crate::spec::Output;
use crate::spec::{ByteOrder, Codec, Container, Format, Header, Kind, Layout};

/// RIFF counts what follows its first eight bytes in 32 bits.
pub const LARGEST_FILE: u64 = 8 + 0xFFFF_FFFF;

/// The whole file, in bytes, without what is made of loops, markers and texts.
pub fn file_bytes(output: &Output) -> u64 {
    let data = data_bytes(output);
    let container = output.format.container;
    let carried = output.carried.iter().map(|c| chunk_bytes(container, c.extra.bytes));
    before(output) + chunk_bytes(container, data) - chunk_bytes(container, 0) + carried.sum::<u64>()
}

/// A chunk with its head and what fills it up: an even number of bytes, in W64 a multiple of eight.
fn chunk_bytes(container: Container, contents: u64) -> u64 {
    match container {
        Container::W64 => 24 + contents.next_multiple_of(8),
        _ => 8 + contents.next_multiple_of(2),
    }
}

/// Everything before the samples.
fn before(output: &Output) -> u64 {
    let chunk = |contents| chunk_bytes(output.format.container, contents);
    let own = if output.format.container == Container::W64 { 40 } else { 12 };
    let fact = fact_bytes(output).map_or(0, chunk);
    own + sizes_bytes(output) + chunk(fmt_bytes(output)) + fact + chunk(0)
}

/// How the names of W64 go on behind those of WAV.
const W64_REST: &[u8] = b"\xF3\xAC\xD3\x11\x8C\xD1\0\xC0\x4F\x8E\xDB\x8A";
/// And behind that of the file.
const W64_RIFF: &[u8] = b"riff\x2E\x91\xCF\x11\xA5\xD6\x28\xDB\x04\xC1\0\0";

/// The head of a chunk; in W64 its size counts the head.
fn chunk_head(to: &mut Vec<u8>, container: Container, id: &[u8], contents: u64) {
    to.extend_from_slice(&id[..4]);
    if container == Container::W64 {
        to.extend_from_slice(W64_REST);
        to.extend_from_slice(&(24 + contents).to_le_bytes());
    } else {
        to.extend_from_slice(&u32::try_from(contents).unwrap_or(u32::MAX).to_le_bytes());
    }
}

/// A whole chunk, filled up.
fn chunk(to: &mut Vec<u8>, container: Container, id: &[u8], contents: &[u8]) {
    let length = count(contents.len());
    chunk_head(to, container, id, length);
    to.extend_from_slice(contents);
    let filled = chunk_bytes(container, length) - chunk_bytes(container, 0) - length;
    to.resize(to.len() + size(filled), 0);
}

/// The plain tag of an encoding ("Multimedia Registration Kit", WAVE form types).
fn tag(codec: Codec) -> u16 {
    match codec {
        Codec::F32 | Codec::F64 => 3,
        Codec::ALaw => 6,
        Codec::MuLaw => 7,
        Codec::ImaAdpcm => 0x11,
        Codec::MsAdpcm => 2,
        Codec::Gsm => 0x31,
        _ => 1,
    }
}

fn is_integer(output: &Output) -> bool {
    matches!(output.format.encoding.codec.kind(), Kind::Integer(_))
}

/// The 16 bytes of old for PCM, two more that count nothing for other plain formats, four with the
/// length of a block, these and the coefficients of Microsoft's ADPCM, or the 40 of the extensible form.
fn fmt_bytes(output: &Output) -> u64 {
    match output.header {
        Some(Header::Extensible) => 40,
        _ if output.format.encoding.codec == Codec::MsAdpcm => 50,
        _ if unit(output).1 > 1 => 20,
        _ if is_integer(output) => 16,
        _ => 18,
    }
}

/// The `ds64` chunk of RF64.
fn sizes_bytes(output: &Output) -> u64 {
    if output.format.container == Container::Rf64 { 36 } else { 0 }
}

/// Everything but integer PCM has a `fact` chunk (RIFF 1.0, "FACT Chunk").
fn fact_bytes(output: &Output) -> Option<u64> {
    let length = if output.format.container == Container::W64 { 8 } else { 4 };
    (!is_integer(output)).then_some(length)
}

/// Everything before `data` bytes of samples; `size` is the whole file's.
fn head(output: &Output, data: u64, size: u64) -> Vec<u8> {
    let format = output.format;
    let codec = format.encoding.codec;
    let tag = tag(codec);
    let extensible = output.header == Some(Header::Extensible);
    let (unit_bytes, unit_frames) = unit(output);
    let bits = match codec {
        Codec::ImaAdpcm | Codec::MsAdpcm => 4,
        codec => 8 * codec.sample_bytes().unwrap_or(0),
    };
    let word = |n: u64| u32::try_from(n).unwrap_or(u32::MAX).to_le_bytes();
    let half = |n: u64| u16::try_from(n).unwrap_or(u16::MAX).to_le_bytes();

    let container = format.container;
    let large = container == Container::Rf64;
    let mut head = Vec::with_capacity(128);
    match container {
        Container::W64 => {
            head.extend_from_slice(W64_RIFF);
            head.extend_from_slice(&size.to_le_bytes());
            head.extend_from_slice(b"wave");
            head.extend_from_slice(W64_REST);
        }
        _ => {
            // EBU Tech 3306, 3.4: sizes and frames in 64 bits, no table of other chunks.
            head.extend_from_slice(if large { b"RF64" } else { b"RIFF" });
            head.extend_from_slice(&if large { [0xFF; 4] } else { word(size - 8) });
            head.extend_from_slice(b"WAVE");
        }
    }
    if large {
        let sizes = [size - 8, data, output.frames].map(u64::to_le_bytes).concat();
        chunk(&mut head, container, b"ds64", &[&sizes[..], &[0; 4]].concat());
    }
    let mut fmt = Vec::with_capacity(50);
    let first = if extensible { 0xFFFE } else { tag };
    fmt.extend_from_slice(&first.to_le_bytes());
    fmt.extend_from_slice(&format.channels.count().to_le_bytes());
    fmt.extend_from_slice(&format.rate.hertz().to_le_bytes());
    let a_second = u64::from(format.rate.hertz()) * unit_bytes / unit_frames;
    fmt.extend_from_slice(&word(a_second));
    fmt.extend_from_slice(&half(unit_bytes));
    fmt.extend_from_slice(&bits.to_le_bytes());
    if extensible {
        fmt.extend_from_slice(&22u16.to_le_bytes());
        fmt.extend_from_slice(&bits.to_le_bytes());
        fmt.extend_from_slice(&mask(format).to_le_bytes());
        fmt.extend_from_slice(&tag.to_le_bytes());
        fmt.extend_from_slice(&SUBFORMAT_END);
    } else if codec == Codec::MsAdpcm {
        fmt.extend_from_slice(&32u16.to_le_bytes());
        fmt.extend_from_slice(&half(unit_frames));
        fmt.extend_from_slice(&half(count(MS_COEFFICIENTS.len())));
        for (a, b) in MS_COEFFICIENTS {
            fmt.extend_from_slice(&a.to_le_bytes());
            fmt.extend_from_slice(&b.to_le_bytes());
        }
    } else if unit_frames > 1 {
        fmt.extend_from_slice(&2u16.to_le_bytes());
        fmt.extend_from_slice(&half(unit_frames));
    } else if !is_integer(output) {
        fmt.extend_from_slice(&0u16.to_le_bytes());
    }
    chunk(&mut head, container, b"fmt ", &fmt);
    match fact_bytes(output) {
        Some(8) => chunk(&mut head, container, b"fact", &output.frames.to_le_bytes()),
        Some(_) => chunk(&mut head, container, b"fact", &word(output.frames)),
        None => {}
    }
    chunk_head(&mut head, container, b"data", if large { u64::MAX } else { data });
    head
}

/// The end that all `KSDATAFORMAT_SUBTYPE` GUIDs of plain tags share.
const SUBFORMAT_END: [u8; 14] =
    [0x00, 0x00, 0x00, 0x00, 0x10, 0x00, 0x80, 0x00, 0x00, 0xAA, 0x00, 0x38, 0x9B, 0x71];

/// Which loudspeakers the channels are for; 0 leaves it open.
pub(super) fn mask(format: Format) -> u32 {
    match format.channels.layout() {
        Some(Layout::Mono) => 0x4,
        Some(Layout::Stereo) => 0x3,
        Some(Layout::Quad) => 0x33,
        Some(Layout::Surround51) => 0x3F,
        Some(Layout::Surround71) => 0x63F,
        None => 0,
    }
}

/// Chunks that are made of the plan's loops, markers and texts where none of that kind comes along.
fn made(output: &Output, along: &Along) -> Vec<(&'static str, Vec<u8>)> {
    let mut chunks = Vec::new();
    if !output.loops.is_empty() && !along.has("smpl") {
        chunks.push(("smpl", texts::smpl(&output.loops, output.format.rate)));
    }
    if !output.markers.is_empty() && !along.has("cue ") {
        chunks.push(("cue ", texts::cue(&output.markers)));
        chunks.extend(texts::names(&output.markers).map(|names| ("LIST adtl", names)));
    }
    if !along.has("LIST INFO") {
        chunks.extend(texts::info(&output.tags).map(|info| ("LIST INFO", info)));
    }
    chunks
}

/// Everything behind the samples, what fills them up included.
fn tail(output: &Output, along: &Along, data: u64) -> Vec<u8> {
    let container = output.format.container;
    let mut filled = chunk_bytes(container, data) - chunk_bytes(container, 0) - data;
    let made = made(output, along);
    if container == Container::W64 && made.is_empty() && along.chunks.is_empty() {
        // There are loaders that take whatever follows for samples.
        filled = 0;
    }
    let mut tail = vec![0; size(filled)];
    let carried = along.chunks.iter().map(|(id, bytes)| (id.as_str(), bytes));
    for (id, bytes) in carried.chain(made.iter().map(|(id, bytes)| (*id, bytes))) {
        chunk(&mut tail, container, id.as_bytes(), bytes);
    }
    tail
}

/// A writer for a WAV, RF64 or W64.
///
/// # Errors
/// [`crate::Error::Write`].
pub fn writer<'a>(
    out: &'a mut dyn Out,
    output: &'a Output,
    along: &Along,
) -> Result<PlainWriter<'a>> {
    let data = sample_bytes(output, along);
    let tail = tail(output, along, data);
    let head = head(output, data, before(output) + data + count(tail.len()));
    PlainWriter::new(out, output, ByteOrder::Little, along, (head, tail))
}
