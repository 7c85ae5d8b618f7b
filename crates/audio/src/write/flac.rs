//! Native FLAC (RFC 9639): metadata, then frames one by one.

use super::codec::flac::{BLOCK, frame};
use super::codec::plain_pcm;
use super::{Along, Out, Writer, all_came, comments};
use crate::block::Block;
use crate::error::{Error, Result};
use crate::num::{count, count32, int32};
use crate::spec::Codec;
use crate::spec::Output;
use md5::{Digest as _, Md5};
use std::io::SeekFrom;

/// Writes one file.
pub struct FlacWriter<'a> {
    out: &'a mut dyn Out,
    output: &'a Output,
    sum: Md5,
    /// Samples that wait for a whole frame.
    waiting: Vec<Vec<i32>>,
    bytes: Vec<u8>,
    number: u64,
    frames: u64,
    sizes: (usize, usize),
    copied: bool,
}

impl<'a> FlacWriter<'a> {
    /// Writes the metadata; STREAMINFO is filled in at the end.
    ///
    /// # Errors
    /// [`Error::Write`].
    pub fn new(out: &'a mut dyn Out, output: &'a Output, along: Along) -> Result<Self> {
        let info = along.stream.and_then(|stream| stream.headers.into_iter().next());
        let copied = info.is_some();
        let mut blocks: Vec<(u8, Vec<u8>)> = vec![(0, info.unwrap_or_else(|| vec![0; 34]))];
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
        out.write_all(&head).map_err(Error::write)?;
        Ok(Self {
            out,
            output,
            sum: Md5::new(),
            waiting: vec![Vec::new(); output.format.channels.count().into()],
            bytes: Vec::new(),
            number: 0,
            frames: 0,
            sizes: (usize::MAX, 0),
            copied,
        })
    }

    /// Encodes the first `frames` frames that wait.
    fn frame(&mut self, frames: usize) -> Result<()> {
        let part: Vec<Vec<i32>> =
            self.waiting.iter_mut().map(|w| w.drain(..frames).collect()).collect();
        let bytes = frame(&part, bits(self.output), self.output.format.rate.hertz(), self.number);
        self.number += 1;
        self.sizes = (self.sizes.0.min(bytes.len()), self.sizes.1.max(bytes.len()));
        self.out.write_all(&bytes).map_err(Error::write)
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
            | u64::from(bits(self.output) - 1) << 36
            | self.output.frames;
        bytes.extend_from_slice(&packed.to_be_bytes());
        bytes.extend_from_slice(&self.sum.clone().finalize());
        bytes
    }
}

fn bits(output: &Output) -> u32 {
    if output.format.encoding.codec == Codec::Flac16 { 16 } else { 24 }
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

impl Writer for FlacWriter<'_> {
    fn write(&mut self, block: &Block) -> Result<()> {
        let scale = if bits(self.output) == 16 { 32_768.0 } else { 8_388_608.0 };
        for (waiting, channel) in self.waiting.iter_mut().zip(block.channels()) {
            waiting.extend(channel.iter().map(|s| int32(s * scale)));
        }
        // RFC 9639, 8.2: the check sum is that of the samples, little-endian and interleaved.
        self.bytes.clear();
        plain_pcm(
            if bits(self.output) == 16 { Codec::Pcm16 } else { Codec::Pcm24 },
            block,
            &mut self.bytes,
        );
        self.sum.update(&self.bytes);
        self.frames += count(block.frames());
        while self.waiting[0].len() >= BLOCK {
            self.frame(BLOCK)?;
        }
        Ok(())
    }

    fn copy(&mut self, packet: &[u8]) -> Result<()> {
        self.out.write_all(packet).map_err(Error::write)
    }

    fn finish(&mut self) -> Result<()> {
        if self.copied {
            return Ok(());
        }
        all_came(self.output, self.frames)?;
        let rest = self.waiting[0].len();
        if rest > 0 {
            self.frame(rest)?;
        }
        let info = self.stream_info();
        self.out.seek(SeekFrom::Start(8)).map_err(Error::write)?;
        self.out.write_all(&info).map_err(Error::write)?;
        self.out.seek(SeekFrom::End(0)).map_err(Error::write)?;
        Ok(())
    }
}
