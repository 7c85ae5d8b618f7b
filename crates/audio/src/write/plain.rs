//! Files whose samples lie in one piece between a head and a tail that are known before them.

use super::codec::plain::{Plain, data_bytes};
use super::{Along, Out, Writer, all_came};
use crate::block::Block;
use crate::error::{Error, Result};
use crate::num::count;
use crate::spec::ByteOrder;
use crate::spec::Output;

/// Bytes of the samples: those of the clip where they are copied, else what the encoder makes.
pub fn sample_bytes(output: &Output, along: &Along) -> u64 {
    match &along.stream {
        Some(stream) => stream.bytes,
        None => data_bytes(output),
    }
}

/// Writes one file.
pub struct PlainWriter<'a> {
    out: &'a mut dyn Out,
    output: &'a Output,
    encoder: Plain,
    tail: Vec<u8>,
    /// Bytes still to be copied, where samples are copied.
    to_copy: Option<u64>,
    frames: u64,
    bytes: Vec<u8>,
}

impl<'a> PlainWriter<'a> {
    /// Writes the head; `order` is that of samples of more than one byte, and whether single bytes are
    /// signed.
    ///
    /// # Errors
    /// [`Error::Write`].
    pub fn new(
        out: &'a mut dyn Out,
        output: &'a Output,
        order: ByteOrder,
        along: &Along,
        (head, tail): (Vec<u8>, Vec<u8>),
    ) -> Result<Self> {
        out.write_all(&head).map_err(Error::write)?;
        Ok(Self {
            out,
            output,
            encoder: Plain::new(output, order),
            tail,
            to_copy: along.stream.as_ref().map(|stream| stream.bytes),
            frames: 0,
            bytes: Vec::new(),
        })
    }
}

impl Writer for PlainWriter<'_> {
    fn write(&mut self, block: &Block) -> Result<()> {
        self.bytes.clear();
        self.encoder.encode(block, &mut self.bytes);
        self.frames += count(block.frames());
        self.out.write_all(&self.bytes).map_err(Error::write)
    }

    fn copy(&mut self, packet: &[u8]) -> Result<()> {
        let left = self.to_copy.and_then(|left| left.checked_sub(count(packet.len())));
        self.to_copy = Some(left.ok_or_else(|| Error::Verify {
            what: "more bytes of samples came than were planned".to_owned(),
        })?);
        self.out.write_all(packet).map_err(Error::write)
    }

    fn finish(&mut self) -> Result<()> {
        match self.to_copy {
            Some(0) => {}
            Some(left) => {
                return Err(Error::Verify {
                    what: format!("{left} bytes of samples did not come"),
                });
            }
            None => all_came(self.output, self.frames)?,
        }
        self.bytes.clear();
        self.encoder.finish(&mut self.bytes);
        self.bytes.extend_from_slice(&self.tail);
        self.out.write_all(&self.bytes).map_err(Error::write)
    }
}
