//! QOA files ("QOA Specification" 1.0, 2023).

use super::codec::qoa::Qoa;
use super::{Out, Writer, all_came};
use crate::block::Block;
use crate::error::{Error, Result};
use crate::num::count;
use crate::plan::Output;

/// Writes one file.
pub struct QoaWriter<'a> {
    out: &'a mut dyn Out,
    output: &'a Output,
    encoder: Qoa,
    frames: u64,
    bytes: Vec<u8>,
}

impl<'a> QoaWriter<'a> {
    /// Writes the file's head: its name and the number of frames.
    ///
    /// # Errors
    /// [`Error::Write`].
    pub fn new(out: &'a mut dyn Out, output: &'a Output) -> Result<Self> {
        let frames = u32::try_from(output.frames).unwrap_or(u32::MAX);
        let mut head = b"qoaf".to_vec();
        head.extend_from_slice(&frames.to_be_bytes());
        out.write_all(&head).map_err(Error::Write)?;
        let format = output.format;
        Ok(Self {
            out,
            output,
            encoder: Qoa::new(format.rate.hertz(), format.channels.count().into()),
            frames: 0,
            bytes: Vec::new(),
        })
    }
}

impl Writer for QoaWriter<'_> {
    fn write(&mut self, block: &Block) -> Result<()> {
        self.bytes.clear();
        self.encoder.encode(block, &mut self.bytes);
        self.frames += count(block.frames());
        self.out.write_all(&self.bytes).map_err(Error::Write)
    }

    fn copy(&mut self, packet: &[u8]) -> Result<()> {
        self.frames = self.output.frames;
        self.out.write_all(packet).map_err(Error::Write)
    }

    fn finish(&mut self) -> Result<()> {
        all_came(self.output, self.frames)?;
        self.bytes.clear();
        self.encoder.finish(&mut self.bytes);
        self.out.write_all(&self.bytes).map_err(Error::Write)
    }
}
