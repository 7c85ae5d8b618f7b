//! Writing files, with exact headers.

mod aiff;
mod au;
mod caf;
mod carry;
pub mod codec;
mod comments;
pub(crate) mod flac;
mod id3;
mod mp3;
mod mp4;
mod ogg;
mod packets;
mod plain;
mod texts;
pub mod wav;

use crate::block::Block;
use crate::digest::SampleDigest;
use crate::error::{Error, Result};
use crate::read::{Clip, Stream};
use crate::spec::{ByteOrder, Carried, Codec, Container, Format, Output};
use crate::unmet::Unmet;
use plain::PlainWriter;
use std::io::{Seek, Write};

/// What a writer needs of a file.
pub trait Out: Write + Seek {}
impl<T: Write + Seek> Out for T {}

/// Takes blocks and turns them into one file.
pub trait Writer {
    /// Encodes one more block.
    ///
    /// # Errors
    /// [`crate::Error::Write`].
    fn write(&mut self, block: &Block) -> Result<()>;

    /// Takes a packet over as it is; the writer must have been made with the clip's own stream.
    ///
    /// # Errors
    /// [`crate::Error::Write`].
    fn copy(&mut self, packet: &[u8]) -> Result<()>;

    /// Writes what comes after the samples.
    ///
    /// # Errors
    /// [`crate::Error::Write`]; [`crate::Error::Verify`] where fewer or more frames came than planned.
    fn finish(&mut self) -> Result<()>;

    /// What every decoder makes of what was written, sample for sample, where the encoder itself knows that: once it is
    /// finished.
    fn made(&self) -> Option<SampleDigest> {
        None
    }
}

/// What comes along from the clip.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Along {
    /// Chunks, with their contents.
    pub chunks: Vec<(String, Vec<u8>)>,
    /// The clip's own stream, where its packets are copied.
    pub stream: Option<Stream>,
}

impl Along {
    /// Reads chunks from the clip, and makes the planned changes.
    ///
    /// # Errors
    /// [`crate::Error::Read`].
    pub fn load(clip: &Clip, carried: &[Carried]) -> Result<Self> {
        let mut chunks = Vec::new();
        for Carried { extra, patch } in carried {
            chunks.push((extra.id.clone(), patch.apply(clip.extra_bytes(extra)?)));
        }
        Ok(Self { chunks, stream: None })
    }

    /// Whether this chunk comes along.
    pub fn has(&self, id: &str) -> bool {
        self.chunks.iter().any(|(own, _)| own == id)
    }
}

/// A writer for the planned output.
///
/// # Errors
/// [`crate::Error::Write`]; [`crate::Error::CannotMeet`] where a codec refuses the format.
pub fn writer<'a>(
    out: &'a mut dyn Out,
    output: &'a Output,
    along: Along,
) -> Result<Box<dyn Writer + 'a>> {
    Ok(match output.format.container {
        Container::Aiff | Container::Aifc => Box::new(aiff::writer(out, output, &along)?),
        Container::Au => Box::new(au::writer(out, output, &along)?),
        Container::Caf => caf::writer(out, output, along)?,
        Container::Ogg => Box::new(ogg::OggWriter::new(out, output, along)?),
        Container::M4a => mp4::writer(out, output, along)?,
        Container::Mp3 => mp3::writer(out, output, along)?,
        Container::Flac => Box::new(flac::FlacWriter::new(out, output, along)?),
        Container::Qoa => {
            // The file's name and the number of frames ("QOA Specification" 1.0, file header).
            let frames = u32::try_from(output.frames).unwrap_or(u32::MAX);
            let head = [&b"qoaf"[..], &frames.to_be_bytes()].concat();
            let ends = (head, Vec::new());
            Box::new(PlainWriter::new(out, output, ByteOrder::Big, &along, ends)?)
        }
        Container::Raw => {
            let order = output.format.encoding.order.unwrap_or(ByteOrder::Little);
            let ends = (Vec::new(), Vec::new());
            Box::new(PlainWriter::new(out, output, order, &along, ends)?)
        }
        _ => Box::new(wav::writer(out, output, &along)?),
    })
}

/// Whether there is an encoder for a format: some have tables for each rate, and only they know.
pub(crate) fn encodes(format: Format) -> bool {
    format.encoding.codec != Codec::Vorbis || codec::vorbis::Vorbis::new(format).is_ok()
}

/// Refuses a file of another length than was planned.
fn all_came(output: &Output, frames: u64) -> Result<()> {
    let frames = frames.saturating_sub(output.before + output.beyond);
    if frames == output.frames {
        return Ok(());
    }
    Err(Error::Verify { what: format!("{} frames were planned, {frames} came", output.frames) })
}

/// What a codec refuses.
fn refused(output: &Output, what: &str) -> Error {
    Error::CannotMeet(Unmet::CodecRefuses {
        format: output.format.to_string(),
        reason: what.to_owned(),
    })
}
