//! What noise each band of a granule may have, and where sounds begin so suddenly that noise before them would be heard.

use super::filter::{FilterBank, Shape};
use super::spectrum::{Layout, MOST_BANDS};
use crate::masking::Ear;
use crate::num::{real_size, single};

/// Samples that the ear hears at once for a long block, and for each window of a short one.
const LONG: usize = 1024;
const SHORT: usize = 256;
/// Samples between windows of a short block.
const APART: usize = 192;
/// Length of the parts whose energies are compared, in samples.
const PART: usize = 64;
/// Ratio of energies from which a part counts as an attack.
const ATTACK: f32 = 10.0;
/// Parts that are compared with.
const PAST: usize = 6;
/// What is quieter is no attack: 70 dB below full scale.
const QUIET: f32 = 1e-7;

/// Whether a sound begins in a granule, and whether right at its beginning.
#[derive(Debug, Clone, Copy, Default)]
pub struct Attack {
    pub found: bool,
    pub early: bool,
}

impl Attack {
    /// In either of two channels.
    pub fn join(&mut self, other: Self) {
        self.found |= other.found;
        self.early |= other.early;
    }
}

/// One channel's ear.
pub struct Hearing {
    long: Ear,
    short: Ear,
    /// Of each layout's bands: bands of the ear that lie in it, and how far.
    shares: [Vec<Vec<(usize, f32)>>; 2],
    memory: Vec<f32>,
    short_memory: Vec<f32>,
    masks: Vec<f32>,
    noise_gain: f32,
    /// Energies of the last parts, and the samples before them, the last one first.
    energies: Vec<f32>,
    last: [f32; 2],
}

/// Which bands of the ear lie in a band of lines, and how much of each.
fn shares(ear: &Ear, layout: &Layout, rate: f64) -> Vec<Vec<(usize, f32)>> {
    let line = rate / 1152.0;
    let of_range = |(from, to): &(u16, u16)| {
        let (low, high) = (f64::from(*from) * line, f64::from(*to) * line);
        let share = |band: usize| {
            let (bottom, top) = ear.edges(band);
            // What lies below the ear's lowest band counts with it.
            let bottom = if band == 0 { 0.0 } else { bottom };
            (top.min(high) - bottom.max(low)).max(0.0) / (top - bottom)
        };
        let all = (0..ear.bands()).map(|band| (band, single(share(band))));
        all.filter(|(_, share)| *share > 0.0).collect()
    };
    layout.ranges.iter().map(of_range).collect()
}

impl Hearing {
    pub fn new(rate: f64, layouts: &[Layout; 2]) -> Self {
        let long = Ear::new(rate, LONG, super::filter::GRANULE);
        let short = Ear::new(rate, SHORT, APART);
        Self {
            shares: [shares(&long, &layouts[0], rate), shares(&short, &layouts[1], rate)],
            memory: vec![0.0; long.bands()],
            short_memory: vec![0.0; short.bands()],
            masks: vec![0.0; long.bands()],
            noise_gain: FilterBank::noise_gain(),
            energies: vec![0.0; PAST],
            last: [0.0; 2],
            long,
            short,
        }
    }

    /// How much noise in each band is heard, of a granule whose windows lie around `middle`.
    pub fn weights(&mut self, samples: &[f32], middle: usize, shape: Shape) -> [f32; MOST_BANDS] {
        let mut weights = [0.0; MOST_BANDS];
        let around = |at: usize, length: usize| &samples[at - length / 2..at + length / 2];
        self.long.masks(around(middle, LONG), &mut self.memory, &mut self.masks);
        if shape != Shape::Short {
            self.weigh(0, (0, 1), &mut weights);
            return weights;
        }
        for window in 0..3 {
            let at = middle + APART * window - APART;
            self.short.masks(around(at, SHORT), &mut self.short_memory, &mut self.masks);
            self.weigh(1, (window, 3), &mut weights);
        }
        weights
    }

    /// Noise in a band of lines goes into several bands of the ear: what it is there is added up.
    fn weigh(&self, layout: usize, (from, by): (usize, usize), weights: &mut [f32; MOST_BANDS]) {
        // A line of a short window is a third of the time, and three times as wide.
        for (band, shares) in self.shares[layout].iter().enumerate().skip(from).step_by(by) {
            let heard = shares.iter().map(|(at, share)| share / self.masks[*at].max(1e-30));
            weights[band] = self.noise_gain * heard.sum::<f32>();
            if shares.is_empty() {
                // Beyond what is heard.
                weights[band] = 0.0;
            }
        }
    }

    /// Whether a sound begins within some samples.
    pub fn attack(&mut self, samples: &[f32]) -> Attack {
        let mut attack = Attack::default();
        for (at, part) in samples.chunks_exact(PART).enumerate() {
            // Low tones swell slowly, however loud they are.
            let mut energy = 0.0;
            for sample in part {
                let high = sample - 2.0 * self.last[0] + self.last[1];
                self.last = [*sample, self.last[0]];
                energy += high * high;
            }
            energy /= single(real_size(PART));
            let past = &self.energies[self.energies.len() - PAST..];
            let mean = past.iter().sum::<f32>() / single(real_size(PAST));
            if energy > QUIET && energy > ATTACK * mean {
                attack.found = true;
                attack.early |= at < 2;
            }
            self.energies.push(energy);
        }
        let keep = self.energies.len() - PAST;
        self.energies.drain(..keep);
        attack
    }
}
