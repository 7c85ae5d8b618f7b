//! Louder or quieter.

use crate::block::{Block, Source};
use crate::error::Result;
use crate::units::SampleRate;

/// Multiplies every sample.
pub struct Amplified<S> {
    source: S,
    factor: f64,
}

impl<S: Source> Amplified<S> {
    /// By so many decibels.
    pub fn new(source: S, decibels: f64) -> Self {
        Self { source, factor: 10f64.powf(decibels / 20.0) }
    }
}

impl<S: Source> Source for Amplified<S> {
    fn rate(&self) -> SampleRate {
        self.source.rate()
    }
    fn channels(&self) -> usize {
        self.source.channels()
    }
    fn next(&mut self, block: &mut Block) -> Result<()> {
        self.source.next(block)?;
        for samples in block.channels_mut() {
            samples.iter_mut().for_each(|sample| *sample *= self.factor);
        }
        Ok(())
    }
}
