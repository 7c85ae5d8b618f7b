//! RIFF WAVE files whose every byte is known before the first is written.
//!
//! Sources: "Multimedia Programming Interface and Data Specifications 1.0" (IBM, Microsoft, 1991),
//! "Multiple Channel Audio Data and WAVE Files" (Microsoft, 2007).

use super::{CarriedBytes, Writer, pcm};
use crate::block::Block;
use crate::error::{Error, Result};
use crate::num::{count, count32};
use crate::plan::Output;
use crate::spec::{Format, Header, Kind, Layout};
use std::io::Write;

/// RIFF counts what follows its first eight bytes in 32 bits.
pub const LARGEST_FILE: u64 = 8 + 0xFFFF_FFFF;

/// Bytes of one frame.
pub fn frame_bytes(format: Format) -> u64 {
    let sample = format.encoding.codec.sample_bytes().unwrap_or(0);
    u64::from(sample) * u64::from(format.channels.count())
}

/// The whole file, in bytes.
pub fn file_bytes(output: &Output) -> u64 {
    let padded = |bytes: u64| bytes + bytes % 2;
    let data = output.frames.saturating_mul(frame_bytes(output.format));
    let carried = output.carried.iter().map(|c| 8 + padded(c.extra.bytes));
    12 + 8 + fmt_bytes(output) + fact_bytes(output) + 8 + padded(data) + carried.sum::<u64>()
}

fn is_float(output: &Output) -> bool {
    matches!(output.format.encoding.codec.kind(), Kind::Float(_))
}

/// The 16 bytes of old for PCM, two more that count nothing for other plain formats, or the 40 of
/// the extensible form.
fn fmt_bytes(output: &Output) -> u64 {
    match output.header {
        Some(Header::Extensible) => 40,
        _ if is_float(output) => 18,
        _ => 16,
    }
}

/// Everything but integer PCM has a `fact` chunk (RIFF 1.0, "FACT Chunk").
fn fact_bytes(output: &Output) -> u64 {
    if is_float(output) { 12 } else { 0 }
}

/// Everything before the samples.
fn head(output: &Output) -> Vec<u8> {
    let format = output.format;
    let float = is_float(output);
    let tag: u16 = if float { 3 } else { 1 };
    let extensible = output.header == Some(Header::Extensible);
    let frame = frame_bytes(format);
    let bits = 8 * format.encoding.codec.sample_bytes().unwrap_or(0);
    let word = |n: u64| u32::try_from(n).unwrap_or(u32::MAX).to_le_bytes();
    let half = |n: u64| u16::try_from(n).unwrap_or(u16::MAX).to_le_bytes();

    let mut head = Vec::with_capacity(80);
    head.extend_from_slice(b"RIFF");
    head.extend_from_slice(&word(file_bytes(output) - 8));
    head.extend_from_slice(b"WAVEfmt ");
    head.extend_from_slice(&word(fmt_bytes(output)));
    let first = if extensible { 0xFFFE } else { tag };
    head.extend_from_slice(&first.to_le_bytes());
    head.extend_from_slice(&format.channels.count().to_le_bytes());
    head.extend_from_slice(&format.rate.hertz().to_le_bytes());
    head.extend_from_slice(&word(u64::from(format.rate.hertz()) * frame));
    head.extend_from_slice(&half(frame));
    head.extend_from_slice(&bits.to_le_bytes());
    if extensible {
        head.extend_from_slice(&22u16.to_le_bytes());
        head.extend_from_slice(&bits.to_le_bytes());
        head.extend_from_slice(&mask(format).to_le_bytes());
        head.extend_from_slice(&tag.to_le_bytes());
        head.extend_from_slice(&SUBFORMAT_END);
    } else if float {
        head.extend_from_slice(&0u16.to_le_bytes());
    }
    if float {
        head.extend_from_slice(b"fact\x04\0\0\0");
        head.extend_from_slice(&word(output.frames));
    }
    head.extend_from_slice(b"data");
    head.extend_from_slice(&word(output.frames * frame));
    head
}

/// The end that all `KSDATAFORMAT_SUBTYPE` GUIDs of plain tags share.
const SUBFORMAT_END: [u8; 14] = [
    0x00, 0x00, 0x00, 0x00, 0x10, 0x00, 0x80, 0x00, 0x00, 0xAA, 0x00, 0x38, 0x9B, 0x71,
];

/// Which loudspeakers the channels are for; 0 leaves it open.
fn mask(format: Format) -> u32 {
    match format.channels.layout() {
        Some(Layout::Mono) => 0x4,
        Some(Layout::Stereo) => 0x3,
        Some(Layout::Quad) => 0x33,
        Some(Layout::Surround51) => 0x3F,
        Some(Layout::Surround71) => 0x63F,
        None => 0,
    }
}

/// Everything behind the samples, the pad byte included.
fn tail(output: &Output, carried: &CarriedBytes) -> Vec<u8> {
    let data = output.frames * frame_bytes(output.format);
    let mut tail = vec![0; usize::from(!data.is_multiple_of(2))];
    for (id, bytes) in &carried.0 {
        tail.extend_from_slice(id);
        tail.extend_from_slice(&count32(bytes.len()).to_le_bytes());
        tail.extend_from_slice(bytes);
        if bytes.len() % 2 == 1 {
            tail.push(0);
        }
    }
    tail
}

/// Writes one file.
pub struct WavWriter<'a> {
    out: &'a mut dyn Write,
    output: &'a Output,
    carried: CarriedBytes,
    frames: u64,
    bytes: Vec<u8>,
}

impl<'a> WavWriter<'a> {
    /// Writes everything before the samples.
    ///
    /// # Errors
    /// [`Error::Write`].
    pub fn new(out: &'a mut dyn Write, output: &'a Output, carried: CarriedBytes) -> Result<Self> {
        out.write_all(&head(output)).map_err(Error::Write)?;
        Ok(Self {
            out,
            output,
            carried,
            frames: 0,
            bytes: Vec::new(),
        })
    }

    /// Copies samples that are encoded already.
    ///
    /// # Errors
    /// [`Error::Write`].
    pub fn copy(&mut self, encoded: &[u8]) -> Result<()> {
        self.frames += count(encoded.len()) / frame_bytes(self.output.format).max(1);
        self.out.write_all(encoded).map_err(Error::Write)
    }
}

impl Writer for WavWriter<'_> {
    fn write(&mut self, block: &Block) -> Result<()> {
        self.bytes.clear();
        pcm::encode(self.output.format.encoding.codec, block, &mut self.bytes);
        self.frames += count(block.frames());
        self.out.write_all(&self.bytes).map_err(Error::Write)
    }

    fn finish(&mut self) -> Result<()> {
        if self.frames != self.output.frames {
            return Err(Error::Verify {
                what: format!(
                    "{} frames were planned, {} came",
                    self.output.frames, self.frames
                ),
            });
        }
        let tail = tail(self.output, &self.carried);
        self.out.write_all(&tail).map_err(Error::Write)
    }
}
