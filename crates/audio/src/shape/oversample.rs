//! Peaks between samples: short interpolation to eight times the rate.

use super::dot::dot;
use super::resample::{kaiser, kaiser_beta, sinc};
use crate::num::real_size;

/// Points looked at for every sample; the highest frequency is read at most 0.15 dB low, and what
/// lies below three quarters of Nyquist 0.1 dB.
const FACTOR: usize = 8;
/// Samples of each filter.
pub const TAPS: usize = 32;

/// Finds the greatest value around samples.
pub struct PeakFinder {
    phases: Vec<[f64; TAPS]>,
}

impl PeakFinder {
    /// Filters of 80 dB with a passband up to 0.92 of Nyquist.
    pub fn new() -> Self {
        let half = real_size(TAPS) / 2.0;
        let beta = kaiser_beta(80.0);
        let phases = (1..FACTOR)
            .map(|phase| {
                let position = real_size(phase) / real_size(FACTOR);
                let mut taps = [0.0; TAPS];
                for (index, tap) in taps.iter_mut().enumerate() {
                    let time = real_size(index) - (half - 1.0) - position;
                    *tap = sinc(time) * kaiser(time / half, beta);
                }
                taps
            })
            .collect();
        Self { phases }
    }

    /// The greatest value from sample `TAPS / 2 - 1` of the window up to the one after it.
    pub fn peak(&self, window: &[f64]) -> f64 {
        let sample = window[TAPS / 2 - 1].abs();
        let between = self.phases.iter().map(|taps| dot(window, taps).abs());
        between.fold(sample, f64::max)
    }
}
