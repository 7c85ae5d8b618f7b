//! Peaks between samples: short interpolation to eight times the rate.

use super::resample::{kaiser, kaiser_beta, sinc};
use crate::num::{real_size, single};

/// Points looked at for every sample; the highest frequency is read at most 0.15 dB low, and what
/// lies below three quarters of Nyquist 0.1 dB.
const FACTOR: usize = 8;
/// Samples of each filter.
pub const TAPS: usize = 32;

/// Frames that are read side by side, …
pub const CHUNK: usize = 64;
/// … and the samples that this takes, zeros where there are no more.
pub const HELD: usize = CHUNK + TAPS;
/// Between samples the wave rises above those around it by no more than this.
const RISE: f32 = 2.5;

/// Finds the greatest values around samples.
pub struct PeakFinder {
    phases: Vec<[f32; TAPS]>,
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
                    *tap = single(sinc(time) * kaiser(time / half, beta));
                }
                taps
            })
            .collect();
        Self { phases }
    }

    /// For each frame the greatest value from sample `TAPS / 2 - 1` behind it up to the one after that, where it may lie
    /// above `least`; `samples` go on for `TAPS - 1` more. What is there already stays where it is greater.
    pub fn peaks(&self, samples: &[f32], least: f32, peaks: &mut [f32]) {
        for (chunk, peaks) in peaks.chunks_mut(CHUNK).enumerate() {
            let around = &samples[chunk * CHUNK..][..peaks.len() + TAPS - 1];
            // Between small samples there is nothing to find.
            if loudest(around) * RISE <= least {
                continue;
            }
            for (peak, sample) in peaks.iter_mut().zip(&around[TAPS / 2 - 1..]) {
                *peak = greater(*peak, sample.abs());
            }
            let mut held = [0.0; HELD];
            held[..around.len()].copy_from_slice(around);
            for taps in &self.phases {
                for (peak, value) in peaks.iter_mut().zip(&between(taps, &held)) {
                    *peak = greater(*peak, value.abs());
                }
            }
        }
    }
}

/// What a filter of up to [`TAPS`] factors gives at each of a chunk of samples, the oldest sample's factor first. Sums of
/// many samples at once stay in the processor's registers.
pub fn between(taps: &[f32], samples: &[f32; HELD]) -> [f32; CHUNK] {
    const LANES: usize = 32;
    let mut values = [0.0; CHUNK];
    for (group, values) in values.chunks_exact_mut(LANES).enumerate() {
        let mut sums = [0.0f32; LANES];
        for (at, tap) in taps.iter().enumerate() {
            let Some(samples) = samples[group * LANES + at..].first_chunk::<LANES>() else { break };
            for (sum, sample) in sums.iter_mut().zip(samples) {
                *sum += tap * sample;
            }
        }
        values.copy_from_slice(&sums);
    }
    values
}

/// The greater of two numbers; the first where the second is none. One instruction, which `max` is not.
pub fn greater(a: f32, b: f32) -> f32 {
    if b > a { b } else { a }
}

/// The greatest magnitude of all.
pub fn loudest(samples: &[f32]) -> f32 {
    let mut lanes = [0.0f32; 16];
    let chunks = samples.chunks_exact(lanes.len());
    let rest = chunks.remainder();
    for chunk in chunks {
        for (lane, sample) in lanes.iter_mut().zip(chunk) {
            *lane = greater(*lane, sample.abs());
        }
    }
    rest.iter().map(|s| s.abs()).chain(lanes).fold(0.0, greater)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Beside a sum of sines, whose value is known everywhere: between its samples, frame by frame.
    #[test]
    fn peaks_are_those_of_the_wave_between_the_samples() {
        let wave = |t: f64| 0.6 * (0.31 * t).sin() + 0.5 * (1.57 * t + 0.4).sin();
        let samples: Vec<f32> = (0..700u16).map(|n| single(wave(f64::from(n)))).collect();
        let mut peaks = vec![0.0; samples.len() + 1 - TAPS];
        PeakFinder::new().peaks(&samples, 0.0, &mut peaks);
        for (frame, peak) in (0..).map(f64::from).zip(&peaks) {
            let from = frame + real_size(TAPS / 2 - 1);
            let between = (0..8u8).map(|k| wave(from + f64::from(k) / 8.0).abs());
            let want = between.fold(0.0, f64::max);
            assert!((f64::from(*peak) - want).abs() < 1e-3, "{frame}: {peak} beside {want}");
        }
        // What may be left out lies below what is asked for, and nothing above it changes.
        let mut above = vec![0.0; peaks.len()];
        PeakFinder::new().peaks(&samples, 0.9, &mut above);
        let missed = peaks.iter().zip(&above).filter(|(all, some)| **all > 0.9 && all != some);
        assert_eq!(missed.count(), 0);
        let mut none = vec![0.0; peaks.len()];
        PeakFinder::new().peaks(&samples, 5.0, &mut none);
        assert!(none.iter().all(|peak| *peak == 0.0));
    }
}
