//! Writing files, with exact headers.

mod pcm;
pub mod wav;

use crate::block::Block;
use crate::error::Result;
use crate::plan::{Carried, Output};
use crate::read::Clip;
use std::io::Write;

/// Takes blocks and turns them into one file.
pub trait Writer {
    /// Encodes one more block.
    ///
    /// # Errors
    /// [`crate::Error::Write`].
    fn write(&mut self, block: &Block) -> Result<()>;

    /// Writes what comes after the samples.
    ///
    /// # Errors
    /// [`crate::Error::Write`]; [`crate::Error::Verify`] where fewer or more frames came than planned.
    fn finish(&mut self) -> Result<()>;
}

/// Chunks that come along, with their contents.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CarriedBytes(pub Vec<([u8; 4], Vec<u8>)>);

impl CarriedBytes {
    /// Reads them from the clip, and makes the planned changes.
    ///
    /// # Errors
    /// [`crate::Error::Read`].
    pub fn load(clip: &Clip, carried: &[Carried]) -> Result<Self> {
        let mut all = Vec::new();
        for Carried { extra, patch } in carried {
            if let &[a, b, c, d] = extra.id.as_bytes() {
                all.push(([a, b, c, d], patch.apply(clip.extra_bytes(extra)?)));
            }
        }
        Ok(Self(all))
    }
}

/// A writer for the planned output.
///
/// # Errors
/// [`crate::Error::Write`].
pub fn writer<'a>(
    out: &'a mut dyn Write,
    output: &'a Output,
    carried: CarriedBytes,
) -> Result<Box<dyn Writer + 'a>> {
    Ok(Box::new(wav::WavWriter::new(out, output, carried)?))
}
