//! Floating point clips may hold samples that are not numbers; they become silence, and are counted.

use super::blocks::BlockStep;
use crate::block::Block;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

/// Lets only numbers through.
pub struct Finite {
    replaced: Arc<AtomicU64>,
}

impl Finite {
    /// Counts what it replaces into `replaced`.
    pub fn new(replaced: Arc<AtomicU64>) -> Self {
        Self { replaced }
    }
}

impl BlockStep for Finite {
    fn work(&mut self, block: &mut Block) {
        self.replaced.fetch_add(make_finite(block), Ordering::Relaxed);
    }
}

/// Turns samples that are not numbers into silence and those beyond any use into a huge level;
/// returns how many there were.
pub(crate) fn make_finite(block: &mut Block) -> u64 {
    /// Far beyond what any clip means, far within what sums of squares can hold.
    const HUGE: f64 = 1e9;
    let mut found = 0;
    for channel in block.channels_mut() {
        // Without a branch a sample, many are looked at at once.
        let sound = channel.iter().fold(true, |ok, s| ok & (s.abs() <= HUGE));
        if !sound {
            found += repair(channel, HUGE);
        }
    }
    found
}

fn repair(samples: &mut [f64], huge: f64) -> u64 {
    let mut found = 0;
    for sample in samples {
        if !sample.is_finite() {
            *sample = 0.0;
            found += 1;
        } else if sample.abs() > huge {
            *sample = huge.copysign(*sample);
            found += 1;
        }
    }
    found
}
