//! A fast fingerprint of sample values, to hold what was written against what was meant.
//!
//! Not cryptographic: it guards against mistakes and bad disks, not against an adversary.

use crate::block::Block;

const ODD: u64 = 0x9E37_79B9_7F4A_7C15;

/// One running fingerprint a channel; depends on every value and on their order.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SampleDigest {
    lanes: Vec<u64>,
    frames: u64,
}

impl SampleDigest {
    /// Nothing seen yet, of so many channels.
    pub fn new(channels: usize) -> Self {
        Self {
            lanes: vec![ODD; channels],
            frames: 0,
        }
    }

    /// Takes in a block. Negative zero counts as zero.
    pub fn update(&mut self, block: &Block) {
        for (lane, samples) in self.lanes.iter_mut().zip(block.channels()) {
            let mut hash = *lane;
            for &sample in samples {
                hash = (hash.rotate_left(7) ^ (sample + 0.0).to_bits()).wrapping_mul(ODD);
            }
            *lane = hash;
        }
        self.frames += crate::num::count(block.frames());
    }

    /// How many frames went in.
    pub fn frames(&self) -> u64 {
        self.frames
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(channels: Vec<Vec<f64>>) -> SampleDigest {
        let mut digest = SampleDigest::new(channels.len());
        digest.update(&Block::from_channels(channels));
        digest
    }

    #[test]
    fn value_order_and_channel_count() {
        let base = of(vec![vec![0.1, 0.2], vec![0.3, 0.4]]);
        assert_eq!(base, of(vec![vec![0.1, 0.2], vec![0.3, 0.4]]));
        for other in [
            vec![vec![0.2, 0.1], vec![0.3, 0.4]],
            vec![vec![0.3, 0.4], vec![0.1, 0.2]],
            vec![vec![0.1, 0.2], vec![0.3, 0.4 + 1e-12]],
            vec![vec![0.1], vec![0.3]],
        ] {
            assert_ne!(base, of(other));
        }
        assert_eq!(of(vec![vec![0.0]]), of(vec![vec![-0.0]]));
    }
}
