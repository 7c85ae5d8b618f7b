//! Taking out a constant.

use crate::block::{Block, Source};
use crate::error::Result;
use crate::units::SampleRate;

/// Subtracts a constant from each channel.
pub struct WithoutDc<S> {
    source: S,
    offsets: Vec<f64>,
}

impl<S: Source> WithoutDc<S> {
    /// One constant a channel. Digital silence stays what it is: it has no offset.
    pub fn new(source: S, offsets: Vec<f64>) -> Self {
        Self { source, offsets }
    }
}

impl<S: Source> Source for WithoutDc<S> {
    fn rate(&self) -> SampleRate {
        self.source.rate()
    }
    fn channels(&self) -> usize {
        self.source.channels()
    }
    fn next(&mut self, block: &mut Block) -> Result<()> {
        self.source.next(block)?;
        for (samples, offset) in block.channels_mut().iter_mut().zip(&self.offsets) {
            for sample in samples {
                if *sample != 0.0 {
                    *sample -= offset;
                }
            }
        }
        Ok(())
    }
}
