//! Steps that work on one block at a time, in place: as many frames come out as went in, at the same rate and in the
//! same channels.

use crate::block::{Block, Source};
use crate::error::Result;
use crate::units::SampleRate;

/// Such a step.
pub trait BlockStep: Sized {
    /// Learns what will come, before the first block.
    fn begin(&mut self, _rate: SampleRate, _channels: usize) {}

    /// Works on the next block.
    fn work(&mut self, block: &mut Block);

    /// The step as a source that pulls from another one.
    fn on<S: Source>(mut self, source: S) -> OnBlocks<S, Self> {
        self.begin(source.rate(), source.channels());
        OnBlocks { source, step: self }
    }
}

/// A source with a step behind it.
pub struct OnBlocks<S, W> {
    source: S,
    step: W,
}

impl<S: Source, W: BlockStep + Send> Source for OnBlocks<S, W> {
    fn rate(&self) -> SampleRate {
        self.source.rate()
    }
    fn channels(&self) -> usize {
        self.source.channels()
    }
    fn next(&mut self, block: &mut Block) -> Result<()> {
        self.source.next(block)?;
        self.step.work(block);
        Ok(())
    }
}
