//! What the benches share.

use deft_needle_audio::block::{Block, Source};
use std::hint::black_box;

/// White noise of ±0.5.
pub fn noise(frames: usize) -> Vec<f64> {
    let mut state = 1u64;
    let next = |_| {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
        (state >> 11) as f64 / (1u64 << 53) as f64 - 0.5
    };
    (0..frames).map(next).collect()
}

/// Reads all of a source.
pub fn drain(mut source: impl Source) {
    let mut block = Block::new(source.channels());
    loop {
        source.next(&mut block).expect("memory can be read");
        if black_box(&block).is_empty() {
            return;
        }
    }
}
