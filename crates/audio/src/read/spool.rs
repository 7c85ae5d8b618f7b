//! Frames in a private file, for what no decoder gives in the order in which it is played.
//!
//! A length that a header promises is not trusted with any room: frames are written as they come.

use super::{Body, Handle, Packets, Private};
use crate::block::{Block, Source};
use crate::error::{Error, Result};
use crate::num::{count, single, size};
use crate::spec::{Facts, Kind};
use crate::units::SampleRate;
use std::fs::File;
use std::io::{self, Read as _, Seek as _, SeekFrom, Write as _};
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Frames that are read at once.
const BLOCK: usize = 4096;

/// The file, gone with it.
#[derive(Debug)]
pub struct Spool {
    path: PathBuf,
    channels: usize,
    /// Whether numbers of 32 bits hold every sample.
    narrow: bool,
    _kept: Private,
}

/// In which order frames are read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Order {
    /// As they came.
    First,
    /// The last one first.
    Last,
}

impl Spool {
    /// Writes as many frames as the facts tell. `whole` says that they are those of the clip as it was decoded, and
    /// need no more room than its encoding.
    ///
    /// # Errors
    /// Those of reading, and of `wrong`, which is told what failed here.
    pub fn of(
        source: &mut dyn Source,
        facts: &Facts,
        whole: bool,
        wrong: impl Fn(io::Error) -> Error + Copy,
    ) -> Result<Self> {
        let kept = Private::new().map_err(wrong)?;
        let grid = facts.format.encoding.codec.grid();
        let spool = Self {
            path: kept.path().join("frames"),
            channels: source.channels(),
            narrow: whole && matches!(grid, Kind::Integer(..=24) | Kind::Float(32)),
            _kept: kept,
        };
        let mut file = File::create_new(&spool.path).map_err(wrong)?;
        let (mut block, mut bytes) = (Block::new(spool.channels), Vec::new());
        let mut left = facts.frames;
        while left > 0 {
            source.next(&mut block)?;
            block.truncate(size(left));
            if block.is_empty() {
                return Err(wrong(io::ErrorKind::UnexpectedEof.into()));
            }
            left -= count(block.frames());
            bytes.clear();
            for frame in 0..block.frames() {
                for channel in block.channels() {
                    spool.put(channel[frame], &mut bytes);
                }
            }
            file.write_all(&bytes).map_err(wrong)?;
        }
        Ok(spool)
    }

    fn sample_bytes(&self) -> usize {
        if self.narrow { 4 } else { 8 }
    }

    fn frame_bytes(&self) -> usize {
        self.channels * self.sample_bytes()
    }

    fn put(&self, sample: f64, bytes: &mut Vec<u8>) {
        match self.narrow {
            true => bytes.extend(single(sample).to_le_bytes()),
            false => bytes.extend(sample.to_le_bytes()),
        }
    }

    fn sample(&self, bytes: &[u8]) -> f64 {
        match self.narrow {
            true => bytes.try_into().map_or(0.0, |four| f64::from(f32::from_le_bytes(four))),
            false => bytes.try_into().map_or(0.0, f64::from_le_bytes),
        }
    }

    /// Its frames, in one order or the other.
    ///
    /// # Errors
    /// [`Error::Read`] where the file is gone.
    pub fn frames(
        self: &Arc<Self>,
        order: Order,
        facts: &Facts,
        name: &Path,
    ) -> Result<Box<dyn Source>> {
        let wrong = |source| Error::Read { path: name.to_owned(), source };
        Ok(Box::new(Spooled {
            rate: facts.format.rate,
            at: 0,
            frames: facts.frames,
            order,
            file: File::open(&self.path).map_err(wrong)?,
            bytes: Vec::new(),
            name: name.to_owned(),
            spool: Arc::clone(self),
        }))
    }
}

/// As a clip's own frames.
impl Body for Arc<Spool> {
    fn frames(&self, _: Handle, path: &Path, facts: &Facts) -> Result<Box<dyn Source>> {
        Spool::frames(self, Order::First, facts, path)
    }

    fn packets(&self, _: Handle, path: &Path) -> Result<Box<dyn Packets>> {
        Err(Error::Read { path: path.to_owned(), source: io::ErrorKind::Unsupported.into() })
    }
}

/// Reads them.
struct Spooled {
    rate: SampleRate,
    at: u64,
    frames: u64,
    order: Order,
    file: File,
    bytes: Vec<u8>,
    name: PathBuf,
    spool: Arc<Spool>,
}

impl Source for Spooled {
    fn rate(&self) -> SampleRate {
        self.rate
    }

    fn channels(&self) -> usize {
        self.spool.channels
    }

    fn next(&mut self, block: &mut Block) -> Result<()> {
        let left = self.frames - self.at;
        let frames = size(left).min(BLOCK);
        let (channels, wide) = (self.spool.channels, self.spool.sample_bytes());
        self.bytes.resize(frames * channels * wide, 0);
        let wrong = |source| Error::Read { path: self.name.clone(), source };
        let first = match self.order {
            Order::First => self.at,
            Order::Last => left - count(frames),
        };
        self.at += count(frames);
        let place = SeekFrom::Start(first * count(self.spool.frame_bytes()));
        self.file.seek(place).and_then(|_| self.file.read_exact(&mut self.bytes)).map_err(wrong)?;
        block.shape(channels, frames);
        for (channel, samples) in block.channels_mut().iter_mut().enumerate() {
            let places = self.bytes.chunks_exact(wide).skip(channel).step_by(channels);
            for (sample, bytes) in samples.iter_mut().zip(places) {
                *sample = self.spool.sample(bytes);
            }
            if self.order == Order::Last {
                samples.reverse();
            }
        }
        Ok(())
    }
}
