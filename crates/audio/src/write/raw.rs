//! Samples alone.

use super::codec::plain::{Plain, unit};
use super::{Out, Writer, all_came};
use crate::block::Block;
use crate::error::{Error, Result};
use crate::num::count;
use crate::plan::Output;
use crate::spec::ByteOrder;

/// Writes one file.
pub struct RawWriter<'a> {
    out: &'a mut dyn Out,
    output: &'a Output,
    encoder: Plain,
    frames: u64,
    bytes: Vec<u8>,
}

impl<'a> RawWriter<'a> {
    /// Writes nothing yet.
    pub fn new(out: &'a mut dyn Out, output: &'a Output) -> Self {
        let order = output.format.encoding.order.unwrap_or(ByteOrder::Little);
        Self {
            out,
            output,
            encoder: Plain::new(output, order),
            frames: 0,
            bytes: Vec::new(),
        }
    }
}

impl Writer for RawWriter<'_> {
    fn write(&mut self, block: &Block) -> Result<()> {
        self.bytes.clear();
        self.encoder.encode(block, &mut self.bytes);
        self.frames += count(block.frames());
        self.out.write_all(&self.bytes).map_err(Error::Write)
    }

    fn copy(&mut self, packet: &[u8]) -> Result<()> {
        self.frames += count(packet.len()) / unit(self.output).0;
        self.out.write_all(packet).map_err(Error::Write)
    }

    fn finish(&mut self) -> Result<()> {
        all_came(self.output, self.frames)
    }
}
