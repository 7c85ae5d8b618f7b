//! The samples of a WAV file, block by block.

use super::super::pcm;
use super::Layout;
use crate::block::{BLOCK_FRAMES, Block, Source};
use crate::clip::Facts;
use crate::error::{Error, Result};
use crate::num::{count, size};
use crate::spec::Format;
use crate::units::SampleRate;
use std::fs::File;
use std::io::{Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};

/// Gives the frames of one file.
#[derive(Debug)]
pub struct Frames {
    file: File,
    path: PathBuf,
    format: Format,
    frame_bytes: usize,
    left: u64,
    bytes: Vec<u8>,
}

impl Frames {
    /// Starts at the first frame.
    ///
    /// # Errors
    /// [`Error::Read`].
    pub fn new(mut file: File, path: &Path, facts: &Facts, layout: &Layout) -> Result<Self> {
        let at = SeekFrom::Start(layout.data_offset);
        file.seek(at).map_err(|source| Error::Read {
            path: path.to_owned(),
            source,
        })?;
        Ok(Self {
            file,
            path: path.to_owned(),
            format: facts.format,
            frame_bytes: layout.frame_bytes.into(),
            left: facts.frames,
            bytes: Vec::new(),
        })
    }
}

impl Source for Frames {
    fn rate(&self) -> SampleRate {
        self.format.rate
    }

    fn channels(&self) -> usize {
        self.format.channels.count().into()
    }

    fn next(&mut self, block: &mut Block) -> Result<()> {
        let frames = size(self.left.min(count(BLOCK_FRAMES)));
        self.bytes.resize(frames * self.frame_bytes, 0);
        self.file
            .read_exact(&mut self.bytes)
            .map_err(|source| Error::Read {
                path: self.path.clone(),
                source,
            })?;
        block.shape(self.channels(), frames);
        pcm::decode(self.format.encoding.codec, &self.bytes, block);
        self.left -= count(frames);
        Ok(())
    }
}
