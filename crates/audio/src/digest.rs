//! A fast fingerprint of sample values, to hold what was written against what was meant.
//!
//! Not cryptographic: it guards against mistakes and bad disks, not against an adversary.

use crate::block::Block;
use crate::num::{count, size};

const ODD: u64 = 0x9E37_79B9_7F4A_7C15;

/// Sums that run side by side in each channel, so that the processor need not wait for each.
const LANES: usize = 4;

/// Running fingerprints of every channel; they depend on every value and on their order.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SampleDigest {
    lanes: Vec<[u64; LANES]>,
    frames: u64,
}

impl SampleDigest {
    /// Nothing seen yet, of this many channels.
    pub fn new(channels: usize) -> Self {
        Self { lanes: vec![[ODD; LANES]; channels], frames: 0 }
    }

    /// Takes in a block; how the samples are dealt out to blocks makes no difference. Negative zero
    /// counts as zero.
    pub fn update(&mut self, block: &Block) {
        let turn = size(self.frames % count(LANES));
        for (lanes, samples) in self.lanes.iter_mut().zip(block.channels()) {
            // Whichever lane is due comes first, and goes back to its place in the end.
            lanes.rotate_left(turn);
            let mut groups = samples.chunks_exact(LANES);
            for group in &mut groups {
                for (lane, sample) in lanes.iter_mut().zip(group) {
                    *lane = mixed(*lane, *sample);
                }
            }
            for (lane, sample) in lanes.iter_mut().zip(groups.remainder()) {
                *lane = mixed(*lane, *sample);
            }
            lanes.rotate_right(turn);
        }
        self.frames += count(block.frames());
    }

    /// How many frames went in.
    pub fn frames(&self) -> u64 {
        self.frames
    }
}

fn mixed(hash: u64, sample: f64) -> u64 {
    (hash.rotate_left(7) ^ (sample + 0.0).to_bits()).wrapping_mul(ODD)
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

    #[test]
    fn blocks_make_no_difference() {
        let samples: Vec<f64> = (0..103).map(f64::from).collect();
        let whole = of(vec![samples.clone()]);
        for step in [1, 2, 3, 5, 64] {
            let mut digest = SampleDigest::new(1);
            for piece in samples.chunks(step) {
                digest.update(&Block::from_channels(vec![piece.to_vec()]));
            }
            assert_eq!(digest, whole, "{step}");
        }
    }
}
