//! Native FLAC (RFC 9639): metadata is written here, frames are encoded by the flacenc crate one by one.

use super::{Along, Out, Writer, all_came, comments};
use crate::block::Block;
use crate::crc::{FLAC_FRAME, FLAC_HEADER};
use crate::error::{Error, Result};
use crate::num::{count, count32, int32};
use crate::plan::Output;
use crate::spec::Kind;
use flacenc::bitsink::ByteSink;
use flacenc::component::{BitRepr as _, StreamInfo};
use flacenc::error::{Verified, Verify as _};
use flacenc::source::{Context, Fill as _, FrameBuf};
use std::io::SeekFrom;

/// Frames of sound in a frame of FLAC.
const BLOCK: usize = 4096;
/// The encoder takes no shorter frames than these; a shorter last one is written as it is.
const SHORTEST: usize = 32;

/// Writes one file.
pub struct FlacWriter<'a> {
    out: &'a mut dyn Out,
    output: &'a Output,
    config: Verified<flacenc::config::Encoder>,
    info: StreamInfo,
    sum: Context,
    /// Interleaved samples that wait for a whole frame.
    waiting: Vec<i32>,
    number: usize,
    frames: u64,
    sizes: (usize, usize),
    copied: Option<Vec<u8>>,
}

impl<'a> FlacWriter<'a> {
    /// Writes the metadata; STREAMINFO is filled in at the end.
    ///
    /// # Errors
    /// [`Error::Write`]; [`Error::CannotMeet`] where the encoder refuses the format.
    pub fn new(out: &'a mut dyn Out, output: &'a Output, along: Along) -> Result<Self> {
        let refused = |what: String| super::refused(output, &what);
        let format = output.format;
        let channels = usize::from(format.channels.count());
        let bits = bits(output);
        let rate = crate::num::size(format.rate.hertz().into());
        let copied = along.stream.as_ref().and_then(|stream| stream.headers.first().cloned());
        // What is copied may have a rate that the encoder does not take.
        let rate = if copied.is_some() { 48_000 } else { rate };
        let info = StreamInfo::new(rate, channels, bits).map_err(|e| refused(e.to_string()))?;
        let config = flacenc::config::Encoder::default().into_verified();
        let mut blocks: Vec<(u8, Vec<u8>)> = vec![(0, copied.clone().unwrap_or_else(|| vec![0; 34]))];
        for (id, contents) in along.chunks {
            blocks.push((kind(&id), contents));
        }
        if !output.tags.is_empty() || !output.loops.is_empty() {
            blocks.push((4, comments::comments("Deft Needle", output)));
        }
        let mut head = b"fLaC".to_vec();
        let last = blocks.len() - 1;
        for (at, (kind, contents)) in blocks.iter().enumerate() {
            head.push(kind | if at == last { 0x80 } else { 0 });
            head.extend_from_slice(&count32(contents.len()).to_be_bytes()[1..]);
            head.extend_from_slice(contents);
        }
        out.write_all(&head).map_err(Error::Write)?;
        Ok(Self {
            out,
            output,
            config: config.map_err(|(_, e)| refused(e.to_string()))?,
            info,
            sum: Context::new(bits, channels),
            waiting: Vec::new(),
            number: 0,
            frames: 0,
            sizes: (usize::MAX, 0),
            copied,
        })
    }

    /// Encodes the first `frames` frames that wait.
    fn frame(&mut self, frames: usize) -> Result<()> {
        let refused = |what: String| super::refused(self.output, &what);
        let channels = usize::from(self.output.format.channels.count());
        let samples: Vec<i32> = self.waiting.drain(..frames * channels).collect();
        let filled = self.sum.fill_interleaved(&samples);
        filled.map_err(|e| refused(e.to_string()))?;
        let bytes = if frames < SHORTEST {
            verbatim(&samples, channels, bits(self.output), self.number)
        } else {
            let mut buffer = FrameBuf::with_size(channels, frames).map_err(|e| refused(e.to_string()))?;
            buffer.fill_interleaved(&samples).map_err(|e| refused(e.to_string()))?;
            let frame = flacenc::encode_fixed_size_frame(&self.config, &buffer, self.number, &self.info);
            let mut sink = ByteSink::new();
            frame
                .map_err(|e| refused(e.to_string()))?
                .write(&mut sink)
                .map_err(|e| refused(e.to_string()))?;
            sink.as_slice().to_vec()
        };
        self.number += 1;
        self.sizes = (self.sizes.0.min(bytes.len()), self.sizes.1.max(bytes.len()));
        self.out.write_all(&bytes).map_err(Error::Write)
    }

    /// RFC 9639, 8.2.
    fn stream_info(&self) -> Vec<u8> {
        let format = self.output.format;
        let block = u16::try_from(BLOCK).unwrap_or(u16::MAX).to_be_bytes();
        let mut bytes = [block, block].concat();
        let (least, most) = if self.number == 0 { (0, 0) } else { self.sizes };
        for size in [least, most] {
            bytes.extend_from_slice(&count32(size).to_be_bytes()[1..]);
        }
        let packed = u64::from(format.rate.hertz()) << 44
            | u64::from(format.channels.count() - 1) << 41
            | count(bits(self.output) - 1) << 36
            | self.output.frames;
        bytes.extend_from_slice(&packed.to_be_bytes());
        bytes.extend_from_slice(&self.sum.md5_digest());
        bytes
    }
}

fn bits(output: &Output) -> usize {
    match output.format.encoding.codec.kind() {
        Kind::Integer(bits) => crate::num::size(bits.into()),
        _ => 16,
    }
}

/// RFC 9639, 8.1.
fn kind(id: &str) -> u8 {
    match id {
        "APPLICATION" => 2,
        "SEEKTABLE" => 3,
        "VORBIS_COMMENT" => 4,
        "CUESHEET" => 5,
        _ => 6,
    }
}

/// A frame whose samples go as they are (RFC 9639, 9.1 and 9.2.2): rate from STREAMINFO, block size in
/// one byte.
fn verbatim(samples: &[i32], channels: usize, bits: usize, number: usize) -> Vec<u8> {
    let byte = |n: usize| u8::try_from(n).unwrap_or(u8::MAX);
    let depth = if bits == 16 { 4 } else { 6 };
    let mut bytes = vec![0xFF, 0xF8, 0x60, byte(channels - 1) << 4 | depth << 1];
    bytes.extend_from_slice(&coded(count(number)));
    bytes.push(byte(samples.len() / channels - 1));
    bytes.push(FLAC_HEADER.checksum(&bytes));
    for channel in 0..channels {
        bytes.push(0x02);
        for sample in samples.iter().skip(channel).step_by(channels) {
            let [_, a, b, c] = sample.to_be_bytes();
            let sample = [a, b, c];
            bytes.extend_from_slice(if bits == 16 { &sample[1..] } else { &sample });
        }
    }
    let sum = FLAC_FRAME.checksum(&bytes);
    bytes.extend_from_slice(&sum.to_be_bytes());
    bytes
}

/// A number in the manner of UTF-8 (RFC 9639, 9.1.5).
fn coded(number: u64) -> Vec<u8> {
    if number < 0x80 {
        return vec![number.to_le_bytes()[0]];
    }
    // Six bits a byte behind the first, which has what its leading ones leave.
    let behind = (1..6).find(|n| number < 1 << (5 * n + 6)).unwrap_or(6);
    let mut bytes: Vec<u8> = (0..behind)
        .map(|n| 0x80 | (number >> (6 * n)).to_le_bytes()[0] & 0x3F)
        .collect();
    let ones = 0xFF00u16 >> (behind + 1);
    bytes.push(ones.to_le_bytes()[0] | (number >> (6 * behind)).to_le_bytes()[0]);
    bytes.reverse();
    bytes
}

impl Writer for FlacWriter<'_> {
    fn write(&mut self, block: &Block) -> Result<()> {
        let scale = if bits(self.output) == 16 { 32_768.0 } else { 8_388_608.0 };
        for frame in 0..block.frames() {
            let samples = block.channels().iter().map(|c| int32(c[frame] * scale));
            self.waiting.extend(samples);
        }
        self.frames += count(block.frames());
        let whole = BLOCK * block.channels().len();
        while self.waiting.len() >= whole {
            self.frame(BLOCK)?;
        }
        Ok(())
    }

    fn copy(&mut self, packet: &[u8]) -> Result<()> {
        self.out.write_all(packet).map_err(Error::Write)
    }

    fn finish(&mut self) -> Result<()> {
        if self.copied.is_some() {
            return Ok(());
        }
        all_came(self.output, self.frames)?;
        let rest = self.waiting.len() / usize::from(self.output.format.channels.count());
        if rest > 0 {
            self.frame(rest)?;
        }
        let info = self.stream_info();
        self.out.seek(SeekFrom::Start(8)).map_err(Error::Write)?;
        self.out.write_all(&info).map_err(Error::Write)?;
        self.out.seek(SeekFrom::End(0)).map_err(Error::Write)?;
        Ok(())
    }
}


#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_in_the_manner_of_utf_8() {
        for (number, want) in [
            (0x7F, vec![0x7F]),
            (0xA9, vec![0xC2, 0xA9]),
            (0x800, vec![0xE0, 0xA0, 0x80]),
            (0x7FF, vec![0xDF, 0xBF]),
            (0x1_0000, vec![0xF0, 0x90, 0x80, 0x80]),
        ] {
            assert_eq!(coded(number), want, "{number:X}");
        }
    }
}
