//! Taking out a constant.

use super::blocks::BlockStep;
use crate::block::Block;

/// Subtracts a constant from each channel.
pub struct WithoutDc {
    offsets: Vec<f64>,
}

impl WithoutDc {
    /// One constant a channel. Digital silence stays what it is: it has no offset.
    pub fn new(offsets: Vec<f64>) -> Self {
        Self { offsets }
    }
}

impl BlockStep for WithoutDc {
    fn work(&mut self, block: &mut Block) {
        for (samples, offset) in block.channels_mut().iter_mut().zip(&self.offsets) {
            for sample in samples {
                if *sample != 0.0 {
                    *sample -= offset;
                }
            }
        }
    }
}
