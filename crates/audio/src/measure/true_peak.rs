//! True peaks (ITU-R BS.1770-4, annex 2): what lies between the samples, found by interpolation.

use crate::num::single;
use std::f64::consts::PI;

/// Points at which the prototype of the interpolator is taken.
const POINTS: u16 = 48;
/// Samples that are interpolated side by side.
const CHUNK: usize = 64;

/// Watches one channel.
pub struct TruePeak {
    /// The filter of each place between two samples, the newest sample's factor first; none where the
    /// rate is so high that samples lie close enough.
    filters: Vec<Vec<f32>>,
    /// How far interpolation can rise above the samples around it.
    rise: f32,
    /// The last samples of what came before, then what comes.
    samples: Vec<f32>,
    peak: f32,
}

impl TruePeak {
    /// Four points for each sample, from 96 kHz on two, from 192 kHz on the samples alone.
    pub fn new(hertz: u32) -> Self {
        let factor: u16 = match hertz {
            0..96_000 => 4,
            96_000..192_000 => 2,
            _ => 1,
        };
        let taps = POINTS / factor;
        // A sinc under a Hann window.
        let value = |point: u16| {
            let window = 0.5 * (1.0 - (2.0 * PI * f64::from(point) / f64::from(POINTS)).cos());
            let at = PI * (f64::from(point) - f64::from(POINTS / 2)) / f64::from(factor);
            if at == 0.0 { window } else { window * at.sin() / at }
        };
        let filter = |place| (0..taps).map(|tap| single(value(tap * factor + place))).collect();
        let filters: Vec<Vec<f32>> = (1..factor).map(filter).collect();
        let sum = |filter: &Vec<f32>| filter.iter().map(|c| c.abs()).sum::<f32>();
        let rise = filters.iter().map(sum).fold(1.0, f32::max);
        let before = filters.first().map_or(0, |filter| filter.len() - 1);
        Self { filters, rise, samples: vec![0.0; before], peak: 0.0 }
    }

    /// Takes in samples.
    pub fn feed(&mut self, samples: &[f64]) {
        let before = self.filters.first().map_or(0, |filter| filter.len() - 1);
        self.samples.extend(samples.iter().map(|s| single(*s)));
        let mut from = before;
        while from < self.samples.len() {
            let end = (from + CHUNK).min(self.samples.len());
            let around = &self.samples[from - before..end];
            let highest = loudest(around);
            // Where nothing could rise above what was found, nothing is interpolated.
            if highest * self.rise > self.peak {
                let between = self.filters.iter().map(|filter| interpolated(filter, around));
                self.peak = between.fold(self.peak, f32::max).max(highest);
            }
            from = end;
        }
        let keep = self.samples.len() - before;
        self.samples.drain(..keep);
    }

    /// The highest so far.
    pub fn peak(&self) -> f64 {
        self.peak.into()
    }
}

fn loudest(samples: &[f32]) -> f32 {
    let mut lanes = [0.0f32; 8];
    let chunks = samples.chunks_exact(lanes.len());
    let rest = chunks.remainder();
    for chunk in chunks {
        for (lane, sample) in lanes.iter_mut().zip(chunk) {
            *lane = lane.max(sample.abs());
        }
    }
    rest.iter().map(|s| s.abs()).chain(lanes).fold(0.0, f32::max)
}

/// The highest of what a filter gives of samples that begin one filter's length before the first.
fn interpolated(filter: &[f32], samples: &[f32]) -> f32 {
    let mut sums = [0.0f32; CHUNK];
    let last = filter.len() - 1;
    for (tap, factor) in filter.iter().enumerate() {
        for (sum, sample) in sums.iter_mut().zip(&samples[last - tap..]) {
            *sum += factor * sample;
        }
    }
    // What lies behind the last sample was not filled by all factors.
    loudest(&sums[..samples.len() - last])
}
