//! How loud the bands of a sound are over time: enough to tell whether a file that an unknown encoder made holds the
//! sound that it was fed, whatever it did to phase, level and rate.

use crate::block::{Block, each_block};
use crate::error::Result;
use crate::num::{real_size, rounded, single, size};
use crate::observe::Observer;
use crate::read::Clip;
use crate::shape::finite::make_finite;
use realfft::num_complex::Complex;
use realfft::{RealFftPlanner, RealToComplex};
use std::f64::consts::TAU;
use std::sync::Arc;

/// Hops in a second; a window is two of them.
const HOPS: f64 = 50.0;
/// Bands of half an octave, from this frequency in hertz.
const BANDS: usize = 16;
const LOWEST: f64 = 50.0;
/// How far an encoder may move a sound, in hops.
const REACH: usize = 10;

/// The bands of a sound, hop by hop.
#[derive(Debug, Clone, PartialEq)]
pub struct Contour {
    hops: Vec<[f32; BANDS]>,
    /// Bands that its rate can hold.
    bands: usize,
}

impl Contour {
    /// Listens to a clip.
    ///
    /// # Errors
    /// Those of reading; [`crate::Error::Stopped`].
    pub fn of(clip: &Clip, observer: &dyn Observer) -> Result<Self> {
        let mut ear = Ear::new(clip.facts().format.rate.real());
        each_block(&mut *clip.frames()?, observer, |block| {
            make_finite(block);
            ear.hear(block);
        })?;
        Ok(ear.finish())
    }

    /// From 0 to 1, how much of one sound's shape is in the other one, at the place where they fit best; 1 where
    /// there is nothing to compare.
    pub fn likeness(&self, other: &Self) -> f64 {
        let bands = self.bands.min(other.bands);
        let power = |contour: &Self| {
            contour.hops.iter().flat_map(|hop| &hop[..bands]).map(|v| f64::from(v * v)).sum::<f64>()
        };
        let powers = (power(self) * power(other)).sqrt();
        if powers == 0.0 {
            return 1.0;
        }
        let at = |early: &Self, late: &Self, lag: usize| {
            let pairs = early.hops.iter().zip(late.hops.iter().skip(lag));
            pairs.map(|(a, b)| product(&a[..bands], &b[..bands])).sum::<f64>()
        };
        let lags = 0..=REACH;
        let both = lags.flat_map(|lag| [at(self, other, lag), at(other, self, lag)]);
        both.fold(0.0, f64::max) / powers
    }
}

fn product(a: &[f32], b: &[f32]) -> f64 {
    a.iter().zip(b).map(|(a, b)| f64::from(a * b)).sum()
}

/// What listens, window by window.
struct Ear {
    fft: Arc<dyn RealToComplex<f64>>,
    window: Vec<f64>,
    edges: Vec<usize>,
    waiting: Vec<Vec<f64>>,
    hops: Vec<[f32; BANDS]>,
}

impl Ear {
    fn new(rate: f64) -> Self {
        let length = 2 * size(rounded(rate / HOPS)).max(8);
        let window = |at| 0.5 - 0.5 * (TAU * (real_size(at) + 0.5) / real_size(length)).cos();
        let edges = (0..=BANDS).map(|edge| LOWEST * (real_size(edge) / 2.0).exp2());
        let inside = edges.take_while(|edge| *edge <= 0.45 * rate);
        let bin = |edge: f64| size(rounded(edge / rate * real_size(length)));
        Self {
            fft: RealFftPlanner::new().plan_fft_forward(length),
            window: (0..length).map(window).collect(),
            edges: inside.map(bin).collect(),
            waiting: Vec::new(),
            hops: Vec::new(),
        }
    }

    fn hear(&mut self, block: &Block) {
        self.waiting.resize(block.channels().len(), Vec::new());
        for (waiting, samples) in self.waiting.iter_mut().zip(block.channels()) {
            waiting.extend_from_slice(samples);
        }
        while self.waiting.first().is_some_and(|waiting| waiting.len() >= self.window.len()) {
            self.step();
        }
    }

    fn step(&mut self) {
        let mut powers = [0.0; BANDS];
        let mut bins: Vec<Complex<f64>> = self.fft.make_output_vec();
        for waiting in &mut self.waiting {
            let mut windowed: Vec<f64> =
                waiting.iter().zip(&self.window).map(|(s, w)| s * w).collect();
            // Lengths are those of the plan: it cannot refuse them.
            let _ = self.fft.process(&mut windowed, &mut bins);
            for (power, edges) in powers.iter_mut().zip(self.edges.windows(2)) {
                *power += bins[edges[0]..edges[1]].iter().map(|b| b.norm_sqr()).sum::<f64>();
            }
            waiting.drain(..self.window.len() / 2);
        }
        // Seven digits are plenty for a likeness.
        self.hops.push(powers.map(|power| single(power.sqrt())));
    }

    fn finish(mut self) -> Contour {
        let length = self.window.len();
        if self.waiting.first().is_some_and(|waiting| !waiting.is_empty()) {
            self.waiting.iter_mut().for_each(|waiting| waiting.resize(length, 0.0));
            self.step();
        }
        Contour { hops: self.hops, bands: self.edges.len().saturating_sub(1) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Tones that change every tenth of a second, as `seed` has it.
    fn tune(seed: u32, rate: f64, seconds: f64, level: f64) -> Contour {
        let mut ear = Ear::new(rate);
        let frames = size(rounded(rate * seconds));
        let tone = |time: f64| {
            let turn = size(rounded((time * 10.0).floor()));
            let step =
                (u32::try_from(turn).unwrap() + seed * 977).wrapping_mul(2_654_435_761) >> 28;
            150.0 * f64::from(step).exp2().powf(0.35)
        };
        let samples = (0..frames).map(|n| real_size(n) / rate);
        let samples = samples.map(|time| level * (TAU * tone(time) * time).sin()).collect();
        ear.hear(&Block::from_channels(vec![samples]));
        ear.finish()
    }

    #[test]
    fn a_sound_is_like_itself_at_another_rate_level_and_place() {
        let own = tune(1, 44_100.0, 1.5, 0.5);
        assert!(own.likeness(&tune(1, 22_050.0, 1.5, 0.1)) > 0.95);
        let late = Contour { hops: [&[[0.0; BANDS]; 4], &own.hops[..]].concat(), bands: own.bands };
        assert!(own.likeness(&late) > 0.99 && late.likeness(&own) > 0.99);
        // A few notes may fall on the same places by chance.
        let others = (2..22).map(|seed| own.likeness(&tune(seed, 44_100.0, 1.5, 0.5)));
        let others: Vec<f64> = others.filter(|likeness| *likeness > 0.75).collect();
        assert!(others.len() < 4, "{others:?}");
        assert_eq!(own.likeness(&tune(1, 44_100.0, 1.5, 0.0)), 1.0);
    }
}
