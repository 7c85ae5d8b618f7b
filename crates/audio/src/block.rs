//! Blocks of frames, and what gives them.

use crate::error::{Error, Result};
use crate::observe::Observer;
use crate::units::SampleRate;
use std::io::{self, Read};

/// How many frames a block holds at most where nothing else is asked.
pub const BLOCK_FRAMES: usize = 4096;

/// Some frames in a row, channel by channel; full scale is ±1.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Block {
    channels: Vec<Vec<f64>>,
}

impl Block {
    /// An empty block of this many channels.
    pub fn new(channels: usize) -> Self {
        Self { channels: vec![Vec::new(); channels] }
    }

    /// A block of the given channels, which must be of one length.
    pub fn from_channels(channels: Vec<Vec<f64>>) -> Self {
        debug_assert!(channels.windows(2).all(|w| w[0].len() == w[1].len()));
        Self { channels }
    }

    /// How many frames it holds.
    pub fn frames(&self) -> usize {
        self.channels.first().map_or(0, Vec::len)
    }

    /// Whether it holds no frame.
    pub fn is_empty(&self) -> bool {
        self.frames() == 0
    }

    /// The samples of every channel.
    pub fn channels(&self) -> &[Vec<f64>] {
        &self.channels
    }

    /// The samples of every channel, to change; keep them of one length.
    pub fn channels_mut(&mut self) -> &mut [Vec<f64>] {
        &mut self.channels
    }

    /// Makes it hold `frames` frames in `channels` channels, zeros where new.
    pub fn shape(&mut self, channels: usize, frames: usize) {
        self.channels.resize_with(channels, Vec::new);
        for channel in &mut self.channels {
            channel.resize(frames, 0.0);
        }
    }

    /// Cuts every channel to the length of the shortest; what decoders of broken blocks leave.
    pub fn level_out(&mut self) {
        let shortest = self.channels.iter().map(Vec::len).min().unwrap_or(0);
        self.truncate(shortest);
    }

    /// Keeps only the first `frames` frames.
    pub fn truncate(&mut self, frames: usize) {
        self.channels.iter_mut().for_each(|c| c.truncate(frames));
    }

    /// Takes the first `frames` frames away.
    pub fn skip(&mut self, frames: usize) {
        for channel in &mut self.channels {
            channel.drain(..frames.min(channel.len()));
        }
    }

    /// Empties it; the memory stays.
    pub fn clear(&mut self) {
        self.channels.iter_mut().for_each(Vec::clear);
    }
}

/// Something that gives frames, block by block.
pub trait Source: Send {
    /// Frames a second of what it gives.
    fn rate(&self) -> SampleRate;

    /// How many channels it gives, at least 1.
    fn channels(&self) -> usize;

    /// Fills `block` with the next frames; an empty block means the end, and so it stays.
    ///
    /// # Errors
    /// Whatever stops the frames from coming: an unreadable file, a stop by the user.
    fn next(&mut self, block: &mut Block) -> Result<()>;
}

impl<S: Source + ?Sized> Source for Box<S> {
    fn rate(&self) -> SampleRate {
        (**self).rate()
    }
    fn channels(&self) -> usize {
        (**self).channels()
    }
    fn next(&mut self, block: &mut Block) -> Result<()> {
        (**self).next(block)
    }
}

impl<S: Source + ?Sized> Source for &mut S {
    fn rate(&self) -> SampleRate {
        (**self).rate()
    }
    fn channels(&self) -> usize {
        (**self).channels()
    }
    fn next(&mut self, block: &mut Block) -> Result<()> {
        (**self).next(block)
    }
}

/// Samples in memory as a source; what tests and the demo feed from.
#[derive(Debug)]
pub struct Samples {
    rate: SampleRate,
    channels: Vec<Vec<f64>>,
    at: usize,
    step: usize,
}

impl Samples {
    /// Gives these channels, which must be of one length, in blocks of [`BLOCK_FRAMES`].
    pub fn new(rate: SampleRate, channels: Vec<Vec<f64>>) -> Self {
        Self { rate, channels, at: 0, step: BLOCK_FRAMES }
    }

    /// The same in blocks of `step` frames.
    #[must_use]
    pub fn in_blocks_of(mut self, step: usize) -> Self {
        self.step = step.max(1);
        self
    }
}

impl Source for Samples {
    fn rate(&self) -> SampleRate {
        self.rate
    }
    fn channels(&self) -> usize {
        self.channels.len()
    }
    fn next(&mut self, block: &mut Block) -> Result<()> {
        let length = self.channels.first().map_or(0, Vec::len);
        let end = (self.at + self.step).min(length);
        block.shape(self.channels.len(), end - self.at);
        for (to, from) in block.channels_mut().iter_mut().zip(&self.channels) {
            to.copy_from_slice(&from[self.at..end]);
        }
        self.at = end;
        Ok(())
    }
}

/// Reads a source to its end, block by block.
///
/// # Errors
/// Those of the source; [`Error::Stopped`] where the observer says so.
pub fn each_block(
    source: &mut dyn Source,
    observer: &dyn Observer,
    mut see: impl FnMut(&mut Block),
) -> Result<()> {
    let mut block = Block::new(source.channels());
    loop {
        if observer.stopped() {
            return Err(Error::Stopped);
        }
        source.next(&mut block)?;
        if block.is_empty() {
            return Ok(());
        }
        see(&mut block);
    }
}

/// Reads a source to its end into one vector a channel; for short clips only.
///
/// # Errors
/// Those of the source.
pub fn collect(source: &mut dyn Source) -> Result<Vec<Vec<f64>>> {
    let mut all = vec![Vec::new(); source.channels()];
    let mut block = Block::new(source.channels());
    loop {
        source.next(&mut block)?;
        if block.is_empty() {
            return Ok(all);
        }
        for (to, from) in all.iter_mut().zip(block.channels()) {
            to.extend_from_slice(from);
        }
    }
}
/// Reads until the buffer is full or the end is reached.
pub(crate) fn fill(bytes: &mut impl Read, buffer: &mut [u8]) -> io::Result<usize> {
    let mut filled = 0;
    while filled < buffer.len() {
        match bytes.read(&mut buffer[filled..]) {
            Ok(0) => break,
            Ok(n) => filled += n,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) => return Err(error),
        }
    }
    Ok(filled)
}
