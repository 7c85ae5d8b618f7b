//! A clip that is played from its last frame to its first.
//!
//! No container can be decoded backwards, so the frames are written to a private file when they are asked for the
//! first time, and read from its end. A length that a header promises is not trusted with any room.

use super::{Body, Handle, Opened, Packets, Private, Stream};
use crate::block::{Block, Source};
use crate::error::{Error, Result};
use crate::num::{count, single, size};
use crate::spec::{Facts, Kind};
use crate::units::SampleRate;
use std::fs::File;
use std::io::{self, Read as _, Seek as _, SeekFrom, Write as _};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};

/// Frames that are read at once.
const BLOCK: usize = 4096;

/// The same clip the other way round: its loops and markers lie where their sound lies then.
pub fn reversed(opened: Opened) -> Opened {
    let Opened { mut facts, body } = opened;
    let frames = facts.frames;
    for looped in &mut facts.loops {
        looped.range = looped.range.reversed(frames);
    }
    facts.loops.sort_by_key(|looped| looped.range.start);
    facts.markers.retain(|marker| marker.frame <= frames);
    for marker in &mut facts.markers {
        marker.frame = frames - marker.frame;
    }
    facts.markers.sort_by_key(|marker| marker.frame);
    facts.reversed = true;
    Opened { facts, body: Box::new(Reversed { body, spool: Mutex::new(None) }) }
}

/// What lies behind it.
#[derive(Debug)]
struct Reversed {
    body: Box<dyn Body>,
    spool: Mutex<Option<Arc<Spool>>>,
}

impl Body for Reversed {
    fn frames(&self, file: Handle, path: &Path, facts: &Facts) -> Result<Box<dyn Source>> {
        let wrong = |source| Error::Read { path: path.to_owned(), source };
        let mut spool = self.spool.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        let spool = match &*spool {
            Some(spool) => Arc::clone(spool),
            None => {
                let made = Spool::of(&mut *self.body.frames(file, path, facts)?, facts, wrong)?;
                Arc::clone(spool.insert(Arc::new(made)))
            }
        };
        let file = File::open(&spool.path).map_err(wrong)?;
        Ok(Box::new(Back {
            rate: facts.format.rate,
            left: facts.frames,
            file,
            bytes: Vec::new(),
            name: path.to_owned(),
            spool,
        }))
    }

    fn packets(&self, file: Handle, path: &Path) -> Result<Box<dyn Packets>> {
        self.body.packets(file, path)
    }

    fn stream(&self) -> Stream {
        self.body.stream()
    }
}

/// Frames in a private file, gone with it.
#[derive(Debug)]
struct Spool {
    path: PathBuf,
    channels: usize,
    /// Whether numbers of 32 bits hold every sample.
    narrow: bool,
    _kept: Private,
}

impl Spool {
    fn of(
        source: &mut dyn Source,
        facts: &Facts,
        wrong: impl Fn(io::Error) -> Error + Copy,
    ) -> Result<Self> {
        let kept = Private::new().map_err(wrong)?;
        let spool = Self {
            path: kept.path().join("reversed"),
            channels: source.channels(),
            narrow: matches!(
                facts.format.encoding.codec.grid(),
                Kind::Integer(..=24) | Kind::Float(32)
            ),
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
}

/// Reads them.
struct Back {
    rate: SampleRate,
    left: u64,
    file: File,
    bytes: Vec<u8>,
    name: PathBuf,
    spool: Arc<Spool>,
}

impl Source for Back {
    fn rate(&self) -> SampleRate {
        self.rate
    }

    fn channels(&self) -> usize {
        self.spool.channels
    }

    fn next(&mut self, block: &mut Block) -> Result<()> {
        let frames = size(self.left).min(BLOCK);
        let (channels, wide) = (self.spool.channels, self.spool.sample_bytes());
        self.bytes.resize(frames * channels * wide, 0);
        let wrong = |source| Error::Read { path: self.name.clone(), source };
        self.left -= count(frames);
        let at = SeekFrom::Start(self.left * count(self.spool.frame_bytes()));
        self.file.seek(at).and_then(|_| self.file.read_exact(&mut self.bytes)).map_err(wrong)?;
        block.shape(channels, frames);
        for (channel, samples) in block.channels_mut().iter_mut().enumerate() {
            let places = self.bytes.chunks_exact(wide).skip(channel).step_by(channels);
            for (sample, bytes) in samples.iter_mut().rev().zip(places) {
                *sample = self.spool.sample(bytes);
            }
        }
        Ok(())
    }
}
