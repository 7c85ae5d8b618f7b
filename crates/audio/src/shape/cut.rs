//! Keeping a part of the clip.

use crate::block::{Block, Source};
use crate::error::Result;
use crate::num::{count, size};
use crate::units::{FrameRange, SampleRate};

/// Lets only the frames of a range through, bit for bit.
pub struct Cut<S> {
    source: S,
    range: FrameRange,
    at: u64,
}

impl<S: Source> Cut<S> {
    /// Frames are counted from the source's first.
    pub fn new(source: S, range: FrameRange) -> Self {
        Self { source, range, at: 0 }
    }
}

impl<S: Source> Source for Cut<S> {
    fn rate(&self) -> SampleRate {
        self.source.rate()
    }
    fn channels(&self) -> usize {
        self.source.channels()
    }
    fn next(&mut self, block: &mut Block) -> Result<()> {
        while self.at < self.range.end {
            self.source.next(block)?;
            let (start, frames) = (self.at, block.frames());
            if frames == 0 {
                return Ok(());
            }
            self.at += count(frames);
            let from = size(self.range.start.saturating_sub(start)).min(frames);
            let to = size(self.range.end - start).min(frames);
            if from < to {
                for samples in block.channels_mut() {
                    samples.truncate(to);
                    samples.drain(..from);
                }
                return Ok(());
            }
        }
        block.clear();
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::block::{Samples, collect};
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn any_range_is_kept_as_it_is(n in 0usize..200, a in 0u64..220, b in 0u64..220, step in 1usize..90) {
            let samples: Vec<f64> = (0..n).map(|i| i as f64).collect();
            let source = Samples::new(SampleRate::new(8000).unwrap(), vec![samples.clone()]).in_blocks_of(step);
            let out = collect(&mut Cut::new(source, FrameRange { start: a, end: b })).unwrap().remove(0);
            let clamp = |x: u64| (x as usize).min(n);
            let want = if a < b { samples[clamp(a)..clamp(b)].to_vec() } else { Vec::new() };
            prop_assert_eq!(out, want);
        }
    }
}
