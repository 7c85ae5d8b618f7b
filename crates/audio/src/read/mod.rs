//! Opening clips: by content, never by extension; frames in blocks.
//!
//! Nothing here imports from `write`: what is written is proved by these readers.

mod input;
mod pcm;
pub mod sniff;
pub mod wav;

pub use input::Input;

use crate::block::Source;
use crate::clip::{Extra, Facts};
use crate::error::{Error, Result};
use sniff::Sniffed;
use std::io::{Read, Seek, SeekFrom};
use std::path::Path;

/// What a reader needs of a file.
pub trait ReadSeek: Read + Seek + Send {}
impl<T: Read + Seek + Send> ReadSeek for T {}

/// An opened clip: its facts, and its frames as often as they are asked for.
#[derive(Debug)]
pub struct Clip {
    input: Input,
    facts: Facts,
    layout: wav::Layout,
}

impl Clip {
    /// Opens a file and reads its headers.
    ///
    /// # Errors
    /// [`Error::Read`], [`Error::Malformed`], [`Error::Unsupported`] or [`Error::Unknown`].
    pub fn open(path: &Path) -> Result<Self> {
        Self::from_input(Input::file(path))
    }

    /// Opens an input, such as spooled standard input.
    ///
    /// # Errors
    /// As [`Clip::open`].
    pub fn from_input(input: Input) -> Result<Self> {
        let mut file = input.open()?;
        match sniff::sniff(&mut file, input.name())? {
            Sniffed::Wav => {
                let (facts, layout) = wav::read_header(&mut file, input.name())?;
                Ok(Self {
                    input,
                    facts,
                    layout,
                })
            }
            Sniffed::Other { about, .. } => Err(Error::Unsupported {
                path: input.name().to_owned(),
                what: about.to_owned(),
            }),
            Sniffed::Unknown { looks } => Err(Error::Unknown {
                path: input.name().to_owned(),
                what: looks,
            }),
        }
    }

    /// Where it comes from.
    pub fn input(&self) -> &Input {
        &self.input
    }

    /// What its headers say.
    pub fn facts(&self) -> &Facts {
        &self.facts
    }

    /// Its frames from the start.
    ///
    /// # Errors
    /// [`Error::Read`] where it can no longer be opened.
    pub fn frames(&self) -> Result<Box<dyn Source>> {
        let file = self.input.open()?;
        Ok(Box::new(wav::Frames::new(
            file,
            self.input.name(),
            &self.facts,
            &self.layout,
        )?))
    }

    /// The contents of one of its extra chunks.
    ///
    /// # Errors
    /// [`Error::Read`] where they can no longer be read.
    pub fn extra_bytes(&self, extra: &Extra) -> Result<Vec<u8>> {
        let mut file = self.input.open()?;
        let mut bytes = Vec::new();
        file.seek(SeekFrom::Start(extra.offset))
            .and_then(|_| file.take(extra.bytes).read_to_end(&mut bytes))
            .map_err(|source| Error::Read {
                path: self.input.name().to_owned(),
                source,
            })?;
        Ok(bytes)
    }

    /// Its encoded samples as they lie in the file, for copying.
    ///
    /// # Errors
    /// [`Error::Read`] where it can no longer be opened.
    pub fn audio_bytes(&self) -> Result<impl Read + use<>> {
        let mut file = self.input.open()?;
        file.seek(SeekFrom::Start(self.layout.data_offset))
            .map_err(|source| Error::Read {
                path: self.input.name().to_owned(),
                source,
            })?;
        Ok(file.take(self.layout.data_bytes))
    }
}
