//! True peaks (ITU-R BS.1770-4, annex 2): what lies between the samples, found by interpolation.

use crate::num::single;
use crate::shape::oversample::{CHUNK, HELD, between, greater, loudest};
use std::f64::consts::PI;

/// Points at which the prototype of the interpolator is taken.
const POINTS: u16 = 48;

/// Watches one channel.
pub struct TruePeak {
    /// The filter of each place between two samples, the oldest sample's factor first; none where the
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
        let filter =
            |place| (0..taps).rev().map(|tap| single(value(tap * factor + place))).collect();
        let filters: Vec<Vec<f32>> = (1..factor).map(filter).collect();
        let sum = |filter: &Vec<f32>| filter.iter().map(|c| c.abs()).sum::<f32>();
        let rise = filters.iter().map(sum).fold(1.0, f32::max);
        let before = filters.first().map_or(0, |filter| filter.len() - 1);
        Self { filters, rise, samples: vec![0.0; before], peak: 0.0 }
    }

    /// Takes in samples, of which `peak` is the highest.
    pub fn feed(&mut self, samples: &[f64], peak: f64) {
        let before = self.filters.first().map_or(0, |filter| filter.len() - 1);
        let highest = single(peak).max(loudest(&self.samples));
        if highest * self.rise <= self.peak {
            // Nothing here can rise above what was found: only what the next block begins with counts.
            let last = &samples[samples.len().saturating_sub(before)..];
            self.samples.extend(last.iter().map(|s| single(*s)));
        } else {
            self.samples.extend(samples.iter().map(|s| single(*s)));
            self.interpolate(before);
        }
        let keep = self.samples.len() - before;
        self.samples.drain(..keep);
    }

    fn interpolate(&mut self, before: usize) {
        let mut from = before;
        while from < self.samples.len() {
            let end = (from + CHUNK).min(self.samples.len());
            let around = &self.samples[from - before..end];
            let highest = loudest(around);
            if highest * self.rise > self.peak {
                let mut held = [0.0; HELD];
                held[..around.len()].copy_from_slice(around);
                // What lies behind the last sample was not filled by all factors.
                let peaks = self.filters.iter().map(|f| loudest(&between(f, &held)[..end - from]));
                self.peak = peaks.fold(self.peak, greater).max(highest);
            }
            from = end;
        }
    }

    /// The highest so far.
    pub fn peak(&self) -> f64 {
        self.peak.into()
    }
}
