//! Digital silence stays digital silence: where the filter touches nothing but zeros, the rounding
//! noise of the transforms is taken out again.

use crate::num::{count, size};

/// Finds stretches of zeros that are longer than the filter.
pub struct SilentRuns {
    half: usize,
    runs: Vec<(usize, usize)>,
}

impl SilentRuns {
    /// `half` is half the filter's length, in frames that come in.
    pub fn new(half: usize) -> Self {
        Self { half, runs: Vec::new() }
    }

    /// Looks through a window of frames. A run that is long enough covers one of every `half`
    /// frames, so that few need to be looked at.
    pub fn find(&mut self, window: &[f64]) {
        self.runs.clear();
        let mut at = 0;
        while at < window.len() {
            if window[at] != 0.0 {
                at += self.half;
                continue;
            }
            let before = window[..at].iter().rev().take_while(|s| **s == 0.0);
            let start = at - before.count();
            let behind = window[at..].iter().take_while(|s| **s == 0.0);
            let end = at + behind.count();
            if end - start > 2 * self.half || end - start == window.len() {
                self.runs.push((start, end));
            }
            at = end + self.half;
        }
    }

    /// Whether the whole window is silent.
    pub fn is_everything(&self, length: usize) -> bool {
        self.runs.first() == Some(&(0, length))
    }

    /// Sets to zero what comes out of silence: `out` begins at frame `guard` of the window, and
    /// every `step_in` frames in give `step_out` out.
    pub fn restore(&self, out: &mut [f64], guard: usize, step_in: u64, step_out: u64) {
        for &(start, end) in &self.runs {
            let first = (start + self.half).saturating_sub(guard);
            let last = (end - self.half).saturating_sub(guard);
            let [first, last] = [first, last]
                .map(|frame| size((count(frame) * step_out).div_ceil(step_in)).min(out.len()));
            if first < last {
                out[first..last].fill(0.0);
            }
        }
    }
}
