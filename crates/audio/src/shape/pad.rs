//! Silence before and after.

use crate::block::{BLOCK_FRAMES, Block, Source};
use crate::error::Result;
use crate::num::{count, size};
use crate::units::SampleRate;

/// Adds silence at both ends.
pub struct Padded<S> {
    source: S,
    head: u64,
    tail: u64,
    ended: bool,
}

impl<S: Source> Padded<S> {
    /// This many frames before and after.
    pub fn new(source: S, head: u64, tail: u64) -> Self {
        Self { source, head, tail, ended: false }
    }
}

impl<S: Source> Source for Padded<S> {
    fn rate(&self) -> SampleRate {
        self.source.rate()
    }
    fn channels(&self) -> usize {
        self.source.channels()
    }
    fn next(&mut self, block: &mut Block) -> Result<()> {
        if self.head == 0 && !self.ended {
            self.source.next(block)?;
            self.ended = block.is_empty();
            if !self.ended {
                return Ok(());
            }
        }
        let left = if self.ended { &mut self.tail } else { &mut self.head };
        let frames = size(*left).min(BLOCK_FRAMES);
        *left -= count(frames);
        block.clear();
        block.shape(self.source.channels(), frames);
        Ok(())
    }
}
