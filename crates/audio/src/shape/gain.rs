//! Louder or quieter.

use super::blocks::BlockStep;
use crate::block::Block;

/// Multiplies every sample.
pub struct Amplified {
    factor: f64,
}

impl Amplified {
    /// By this many decibels.
    pub fn new(decibels: f64) -> Self {
        Self { factor: 10f64.powf(decibels / 20.0) }
    }
}

impl BlockStep for Amplified {
    fn work(&mut self, block: &mut Block) {
        for samples in block.channels_mut() {
            samples.iter_mut().for_each(|sample| *sample *= self.factor);
        }
    }
}
