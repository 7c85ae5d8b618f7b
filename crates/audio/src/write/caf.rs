//! CAF ("Apple Core Audio Format Specification 1.0"): chunks with 64-bit sizes, all big-endian.

use super::packets::{Packed, Track, Wrap};
use super::plain::{PlainWriter, sample_bytes};
use super::wav::mask;
use super::{Along, Out, Writer};
use crate::clip::{Direction, Loop, Marker, Tag};
use crate::error::Result;
use crate::num::{count, count32, low_byte, real};
use crate::spec::{ByteOrder, Codec, Format, Kind, Output};

/// A chunk.
fn chunk(to: &mut Vec<u8>, id: &[u8], contents: &[u8]) {
    to.extend_from_slice(&id[..4]);
    to.extend_from_slice(&count(contents.len()).to_be_bytes());
    to.extend_from_slice(contents);
}

fn words(all: &[u32]) -> Vec<u8> {
    all.iter().flat_map(|word| word.to_be_bytes()).collect()
}

/// What the description says of packets: their bytes and their frames, 0 where they differ.
struct Packets {
    bytes: u32,
    frames: u32,
}

/// The file's own header and its "Audio Description Chunk".
fn begin(format: Format, order: ByteOrder, packets: &Packets) -> Vec<u8> {
    let codec = format.encoding.codec;
    // Of `lpcm`: 1 floating point, 2 little-endian. Of `alac`: the bits of its samples.
    let (kind, flags) = match (codec, codec.kind()) {
        (Codec::MuLaw, _) => (b"ulaw", 0),
        (Codec::ALaw, _) => (b"alaw", 0),
        (Codec::ImaAdpcm, _) => (b"ima4", 0),
        (Codec::Aac, _) => (b"aac ", 2),
        (Codec::Alac16, _) => (b"alac", 1),
        (Codec::Alac24, _) => (b"alac", 3),
        (_, kind) => {
            let float = u32::from(matches!(kind, Kind::Float(_)));
            (b"lpcm", float | if order == ByteOrder::Little { 2 } else { 0 })
        }
    };
    let bits = match kind {
        b"lpcm" | b"ulaw" | b"alaw" => 8 * u32::from(codec.sample_bytes().unwrap_or(0)),
        _ => 0,
    };
    let mut bytes = f64::from(format.rate.hertz()).to_bits().to_be_bytes().to_vec();
    bytes.extend_from_slice(kind);
    let channels = format.channels.count().into();
    bytes.extend(words(&[flags, packets.bytes, packets.frames, channels, bits]));
    let mut head = b"caff\0\x01\0\0".to_vec();
    chunk(&mut head, b"desc", &bytes);
    // "Channel Layout Chunk": bits as in WAV's mask, no descriptions. Those of ALAC and AAC go without saying.
    if kind != b"alac" && kind != b"aac " && format.channels.count() > 2 && mask(format) != 0 {
        chunk(&mut head, b"chan", &words(&[1 << 16, mask(format), 0]));
    }
    head
}

/// A record of the "Marker Chunk": a type, a place, a number; no time code, all channels.
fn marker(to: &mut Vec<u8>, kind: &[u8; 4], frame: u64, id: u32) {
    to.extend_from_slice(kind);
    to.extend_from_slice(&real(frame).to_bits().to_be_bytes());
    to.extend(words(&[id, 0, 0, 0]));
}

/// Loops as regions ("Region Chunk"): flag 1 that they loop, 2 forward, 4 backward; a start and an end.
fn regions(loops: &[Loop]) -> Vec<u8> {
    let mut bytes = words(&[0, count32(loops.len())]);
    for (id, l) in (1..).zip(loops) {
        let flags = match l.direction {
            Direction::Forward => 1 | 2,
            Direction::Backward => 1 | 4,
            Direction::PingPong => 1 | 2 | 4,
        };
        bytes.extend(words(&[id, flags, 2]));
        marker(&mut bytes, b"rbeg", l.range.start, 0);
        marker(&mut bytes, b"rend", l.range.end, 0);
    }
    bytes
}

fn markers(markers: &[Marker]) -> Vec<u8> {
    let mut bytes = words(&[count32(markers.len()), 0]);
    for (id, one) in (1..).zip(markers) {
        marker(&mut bytes, &[0; 4], one.frame, id);
    }
    bytes
}

/// The names of markers ("Strings Chunk"): a number and a place for each, then texts that end with a zero.
fn names(markers: &[Marker]) -> Vec<u8> {
    let named = || (1u32..).zip(markers).filter(|(_, marker)| !marker.name.is_empty());
    let mut bytes = words(&[count32(named().count())]);
    let mut texts = Vec::new();
    for (id, marker) in named() {
        bytes.extend(words(&[id]));
        bytes.extend_from_slice(&count(texts.len()).to_be_bytes());
        texts.extend_from_slice(marker.name.as_bytes());
        texts.push(0);
    }
    bytes.extend(texts);
    bytes
}

/// The "Information Chunk": pairs of texts, its own names in small letters.
fn info(tags: &[Tag]) -> Vec<u8> {
    let mut bytes = words(&[count32(tags.len())]);
    for tag in tags {
        for text in [tag.name.to_lowercase(), tag.value.clone()] {
            bytes.extend(text.bytes().filter(|byte| *byte != 0));
            bytes.push(0);
        }
    }
    bytes
}

/// Everything beside the samples, and the head of their chunk, which begins with a count of edits.
fn beside(to: &mut Vec<u8>, output: &Output, chunks: &[(String, Vec<u8>)], data: u64) {
    if !output.loops.is_empty() {
        chunk(to, b"regn", &regions(&output.loops));
    }
    if !output.markers.is_empty() {
        chunk(to, b"mark", &markers(&output.markers));
        if output.markers.iter().any(|marker| !marker.name.is_empty()) {
            chunk(to, b"strg", &names(&output.markers));
        }
    }
    if !output.tags.is_empty() {
        chunk(to, b"info", &info(&output.tags));
    }
    for (id, contents) in chunks {
        chunk(to, id.as_bytes(), contents);
    }
    to.extend_from_slice(b"data");
    to.extend_from_slice(&(data + 4).to_be_bytes());
    to.extend_from_slice(&[0; 4]);
}

/// The "Packet Table Chunk": packets, frames that count, frames before and behind them, sizes in groups of seven bits.
fn table(packets: u64, frames: [u64; 3], sizes: &[u32]) -> Vec<u8> {
    let [valid, before, behind] = frames;
    let mut bytes = packets.to_be_bytes().to_vec();
    bytes.extend_from_slice(&valid.to_be_bytes());
    let word = |frames: u64| u32::try_from(frames).unwrap_or(u32::MAX);
    bytes.extend(words(&[word(before), word(behind)]));
    for size in sizes {
        let groups = (32 - size.leading_zeros()).div_ceil(7).max(1);
        let group = |turn: u32| (size >> (7 * turn) & 0x7F).cast_signed();
        bytes.extend((1..groups).rev().map(|turn| low_byte(group(turn) | 0x80)));
        bytes.push(low_byte(group(0)));
    }
    let mut all = Vec::new();
    chunk(&mut all, b"pakt", &bytes);
    all
}

/// Around packets of changing sizes.
struct Caf {
    chunks: Vec<(String, Vec<u8>)>,
}

impl Wrap for Caf {
    fn head(&self, track: &Track<'_>, data: u64) -> Vec<u8> {
        let format = track.output.format;
        let packets = Packets { bytes: 0, frames: track.packet_frames };
        let mut head = begin(format, ByteOrder::Big, &packets);
        chunk(&mut head, b"kuki", &track.description);
        beside(&mut head, track.output, &self.chunks, data);
        head
    }

    fn tail(&self, track: &Track<'_>) -> Vec<u8> {
        let held = count(track.sizes.len()) * u64::from(track.packet_frames);
        let behind = held.saturating_sub(track.delay + track.output.frames);
        let frames = [track.output.frames, track.delay, behind];
        table(count(track.sizes.len()), frames, &track.sizes)
    }

    fn describe(&self, _: Format, packed: &Packed) -> Vec<u8> {
        match packed {
            Packed::Alac { config, .. } => config.clone(),
            #[cfg(feature = "aac")]
            Packed::Aac(stream) => stream.clone(),
        }
    }
}

/// A writer for a CAF.
///
/// # Errors
/// [`crate::Error::Write`]; [`crate::Error::CannotMeet`] where a codec refuses the format.
pub fn writer<'a>(
    out: &'a mut dyn Out,
    output: &'a Output,
    along: Along,
) -> Result<Box<dyn Writer + 'a>> {
    let format = output.format;
    if let Codec::Aac | Codec::Alac16 | Codec::Alac24 = format.encoding.codec {
        let Along { chunks, stream } = along;
        return super::packets::writer(out, output, stream, Box::new(Caf { chunks }));
    }
    let order = match format.encoding.codec {
        // Single bytes are signed here.
        Codec::Pcm8 => ByteOrder::Big,
        _ => format.encoding.order.unwrap_or(ByteOrder::Big),
    };
    let sample = format.encoding.codec.sample_bytes().unwrap_or(0);
    let frame = u64::from(sample) * u64::from(format.channels.count());
    let (bytes, frames) = format.unit().unwrap_or((frame, 1));
    let narrow = |n: u64| u32::try_from(n).unwrap_or(u32::MAX);
    let mut head = begin(format, order, &Packets { bytes: narrow(bytes), frames: narrow(frames) });
    let mut tail = Vec::new();
    let packets = output.frames.div_ceil(frames);
    if frames > 1 {
        // Packets of one size need no table but for the frames that count.
        tail = table(packets, [output.frames, 0, packets * frames - output.frames], &[]);
    }
    beside(&mut head, output, &along.chunks, sample_bytes(output, &along));
    Ok(Box::new(PlainWriter::new(out, output, order, &along, (head, tail))?))
}
