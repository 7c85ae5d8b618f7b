//! Files whose samples lie in one piece between a head and a tail that are known before them.

use super::codec::plain::{self as codec, data_bytes, unit};
use super::{Along, Out, Writer, all_came};
use crate::block::Block;
use crate::digest::SampleDigest;
use crate::error::{Error, Result};
use crate::num::{count, size};
use crate::read::codec::adpcm::MS_COEFFICIENTS;
use crate::read::plain::{Coding, Plain, Units};
use crate::spec::{ByteOrder, Codec, Kind, Output};

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
    encoder: codec::Plain,
    tail: Vec<u8>,
    /// Bytes still to be copied, where samples are copied.
    to_copy: Option<u64>,
    frames: u64,
    bytes: Vec<u8>,
    made: Option<Made>,
}

/// What the codes of a lossy encoder stand for, followed while they are made: a decoder in step with it, which knows
/// nothing of files.
struct Made {
    units: Units,
    /// Bytes of a unit that is not whole.
    begun: Vec<u8>,
    left: u64,
    digest: SampleDigest,
    block: Block,
}

impl Made {
    /// For the encodings whose loss is the encoder's own.
    fn of(output: &Output) -> Option<Self> {
        let format = output.format;
        let (unit_bytes, unit_frames) = match format.encoding.codec {
            // The last frame alone may be shorter ("QOA Specification" 1.0, frame header and slices).
            Codec::Qoa => (8 + (16 + 256 * 8) * u64::from(format.channels.count()), 256 * 20),
            _ => unit(output),
        };
        let coding = match (format.encoding.codec, output.block_bytes) {
            (codec, _) if codec.kind() != Kind::Lossy => return None,
            (Codec::ImaAdpcm, Some(_)) => Coding::Ima,
            (Codec::ImaAdpcm, None) => Coding::Ima4,
            (Codec::MsAdpcm, Some(_)) => Coding::Ms(MS_COEFFICIENTS.to_vec()),
            (Codec::Qoa, _) => Coding::Qoa,
            (Codec::Gsm | Codec::G722, _) => Coding::Running,
            (codec, _) if codec.g726_bits().is_some() => Coding::Running,
            _ => return None,
        };
        let plain = Plain { offset: 0, bytes: u64::MAX, unit_bytes, unit_frames, coding };
        let channels = format.channels.count().into();
        Some(Self {
            units: Units::new(plain, format),
            begun: Vec::new(),
            left: output.frames,
            digest: SampleDigest::new(channels),
            block: Block::new(channels),
        })
    }

    /// Takes in more codes; the last of them may be those of a shorter unit.
    fn take(&mut self, bytes: &[u8], is_last: bool) {
        self.begun.extend_from_slice(bytes);
        let whole = match is_last {
            true => self.begun.len(),
            false => self.begun.len() / self.units.bytes() * self.units.bytes(),
        };
        if whole == 0 || self.left == 0 {
            return;
        }
        self.units.decode(&self.begun[..whole], &mut self.block);
        self.begun.drain(..whole);
        self.block.truncate(size(self.left));
        self.left -= count(self.block.frames());
        self.digest.update(&self.block);
    }
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
            encoder: codec::Plain::new(output, order),
            made: along.stream.is_none().then(|| Made::of(output)).flatten(),
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
        if let Some(made) = &mut self.made {
            made.take(&self.bytes, false);
        }
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
        if let Some(made) = &mut self.made {
            made.take(&self.bytes, true);
        }
        self.bytes.extend_from_slice(&self.tail);
        self.out.write_all(&self.bytes).map_err(Error::write)
    }

    fn made(&self) -> Option<SampleDigest> {
        self.made.as_ref().map(|made| made.digest.clone())
    }
}
