//! What two channels share, or what they do not, by short-time spectra.
//!
//! With left = S + A and right = S + B, where A and B have nothing in common, the mean of left times
//! the conjugate of right is the power of S. Its share in the power of the middle is a Wiener gain for
//! every bin (after C. Avendano and J.-M. Jot, "A frequency-domain approach to multichannel upmix",
//! 2004). Low frequencies are treated like all others, so a voice keeps its bass.

use crate::block::{Block, Source};
use crate::error::Result;
use crate::num::{count, real_size, rounded, size};
use crate::units::SampleRate;
use rustfft::num_complex::Complex;
use rustfft::{Fft, FftPlanner};
use std::f64::consts::TAU;
use std::sync::Arc;

/// Which part is kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Keep {
    /// What both channels share, in both.
    Shared,
    /// What each channel has for itself.
    Different,
}

crate::invalid::words!(Keep, "part", "shared" => Self::Shared, "different" => Self::Different);
crate::invalid::as_word!(Keep);

/// A window, in seconds: long enough to tell tones apart, short enough for speech.
const WINDOW: f64 = 0.085;
/// Windows that overlap at any place.
const OVERLAP: usize = 4;
/// How much of the past counts in the means, per window.
const MEMORY: f64 = 0.55;
/// The gain's exponent: shares well below 1 are mostly something else.
const STEEPNESS: i32 = 6;

/// Separates what a source of two channels gives; other sources pass as they are.
pub struct Separated<S> {
    source: S,
    keep: Keep,
    forward: Arc<dyn Fft<f64>>,
    inverse: Arc<dyn Fft<f64>>,
    window: Vec<f64>,
    waiting: [Vec<f64>; 2],
    built: [Vec<f64>; 2],
    means: Vec<Means>,
    /// How much of each bin's middle is shared, 0 to 1.
    shares: Vec<f64>,
    spectrum: Vec<Complex<f64>>,
    scratch: Vec<Complex<f64>>,
    taken: u64,
    given: u64,
    ended: bool,
    pulled: Block,
}

/// Means over time of one bin: the common power, and that of the middle.
#[derive(Debug, Clone, Copy, Default)]
struct Means {
    common: f64,
    middle: f64,
}

impl<S: Source> Separated<S> {
    /// Keeps one part.
    pub fn new(source: S, keep: Keep) -> Self {
        let length = size(rounded(WINDOW * source.rate().real())).next_power_of_two();
        let mut planner = FftPlanner::new();
        let (forward, inverse) =
            (planner.plan_fft_forward(length), planner.plan_fft_inverse(length));
        let scratch = forward.get_inplace_scratch_len().max(inverse.get_inplace_scratch_len());
        let sine = |i: usize| (TAU / 2.0 * (real_size(i) + 0.5) / real_size(length)).sin();
        // Silence before the start, so that the first frame lies in as many windows as any other.
        let before = length - length / OVERLAP;
        Self {
            keep,
            window: (0..length).map(sine).collect(),
            waiting: [vec![0.0; before], vec![0.0; before]],
            built: [vec![0.0; length], vec![0.0; length]],
            means: vec![Means::default(); length / 2 + 1],
            shares: vec![0.0; length / 2 + 1],
            spectrum: vec![Complex::default(); length],
            scratch: vec![Complex::default(); scratch],
            forward,
            inverse,
            taken: 0,
            given: 0,
            ended: false,
            pulled: Block::new(source.channels()),
            source,
        }
    }

    /// Transforms the next window.
    fn analyse(&mut self) {
        let [left, right] = &self.waiting;
        for (i, bin) in self.spectrum.iter_mut().enumerate() {
            *bin = Complex::new(left[i], right[i]) * self.window[i];
        }
        self.forward.process_with_scratch(&mut self.spectrum, &mut self.scratch);
    }

    /// Left is the real and right the imaginary part of what was transformed: they are told apart by
    /// the symmetry of the spectra of real signals.
    fn sides(&self, bin: usize) -> (Complex<f64>, Complex<f64>) {
        let mirror = (self.spectrum.len() - bin) % self.spectrum.len();
        let (z, m) = (self.spectrum[bin], self.spectrum[mirror].conj());
        ((z + m) * 0.5, (z - m) * Complex::new(0.0, -0.5))
    }

    /// Finds how much of each bin both channels share.
    fn learn(&mut self) {
        for bin in 0..self.shares.len() {
            let (left, right) = self.sides(bin);
            let middle = ((left + right) * 0.5).norm_sqr();
            let common = (left * right.conj()).re;
            let means = &mut self.means[bin];
            means.common += (common - means.common) * (1.0 - MEMORY);
            means.middle += (middle - means.middle) * (1.0 - MEMORY);
            let share = match means.middle > 0.0 {
                true => (means.common / means.middle).clamp(0.0, 1.0),
                false => 0.0,
            };
            self.shares[bin] = share.powi(STEEPNESS);
        }
    }

    /// Keeps the wanted part, transforms back, and adds it to what is built.
    fn build(&mut self) {
        let length = self.spectrum.len();
        for bin in 0..self.shares.len() {
            let (left, right) = self.sides(bin);
            let shared = (left + right) * 0.5 * self.shares[bin];
            let (l, r) = match self.keep {
                Keep::Shared => (shared, shared),
                Keep::Different => (left - shared, right - shared),
            };
            let i = Complex::new(0.0, 1.0);
            self.spectrum[bin] = l + i * r;
            self.spectrum[(length - bin) % length] = l.conj() + i * r.conj();
        }
        self.inverse.process_with_scratch(&mut self.spectrum, &mut self.scratch);
        // Squared sine windows at a quarter's distance add up to half their number.
        let scale = 2.0 / real_size(OVERLAP) / real_size(length);
        for (i, bin) in self.spectrum.iter().enumerate() {
            let gain = self.window[i] * scale;
            self.built[0][i] += bin.re * gain;
            self.built[1][i] += bin.im * gain;
        }
        for waiting in &mut self.waiting {
            waiting.drain(..length / OVERLAP);
        }
    }
}

impl<S: Source> Source for Separated<S> {
    fn rate(&self) -> SampleRate {
        self.source.rate()
    }
    fn channels(&self) -> usize {
        self.source.channels()
    }
    fn next(&mut self, block: &mut Block) -> Result<()> {
        if self.source.channels() != 2 {
            return self.source.next(block);
        }
        let length = self.window.len();
        let hop = length / OVERLAP;
        let before = count(length - hop);
        loop {
            if self.ended && self.given >= self.taken + before {
                block.clear();
                return Ok(());
            }
            if self.waiting[0].len() < length {
                if self.ended {
                    self.waiting.iter_mut().for_each(|w| w.resize(length, 0.0));
                } else {
                    self.source.next(&mut self.pulled)?;
                    self.ended = self.pulled.is_empty();
                    self.taken += count(self.pulled.frames());
                    for (waiting, samples) in self.waiting.iter_mut().zip(self.pulled.channels()) {
                        waiting.extend_from_slice(samples);
                    }
                }
                continue;
            }
            self.analyse();
            self.learn();
            self.build();
            // The first frames belong to the silence before the start, the last ones to that after.
            let skip = size(before.saturating_sub(self.given)).min(hop);
            let left = match self.ended {
                true => size((self.taken + before).saturating_sub(self.given)).min(hop),
                false => hop,
            };
            self.given += count(hop);
            block.shape(2, left.saturating_sub(skip));
            for (samples, built) in block.channels_mut().iter_mut().zip(&mut self.built) {
                if skip < left {
                    samples.copy_from_slice(&built[skip..left]);
                }
                built.drain(..hop);
                built.resize(length, 0.0);
            }
            if !block.is_empty() {
                return Ok(());
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::block::{Samples, collect};

    const RATE: f64 = 44_100.0;

    fn separated(left: Vec<f64>, right: Vec<f64>, keep: Keep) -> Vec<Vec<f64>> {
        let rate = SampleRate::new(44_100).unwrap();
        let source = Samples::new(rate, vec![left, right]).in_blocks_of(1234);
        collect(&mut Separated::new(source, keep)).unwrap()
    }

    /// A voice-like sound: harmonics of a gliding pitch, syllable by syllable, bass included.
    fn voice(n: usize) -> Vec<f64> {
        let mut phase = 0.0;
        (0..n)
            .map(|i| {
                let t = i as f64 / RATE;
                phase += TAU * (110.0 + 25.0 * (TAU * 0.7 * t).sin()) / RATE;
                let open = (TAU * 1.9 * t).sin().max(0.0).powf(0.5);
                open * (1..=18).map(|h| (phase * f64::from(h)).sin() / f64::from(h)).sum::<f64>()
                    * 0.25
            })
            .collect()
    }

    /// Plucked chords of one side of a band.
    fn band(n: usize, root: f64) -> Vec<f64> {
        (0..n)
            .map(|i| {
                let t = i as f64 / RATE;
                let beat = t % 0.5;
                let step = [1.0, 1.189, 1.335, 1.498][(t / 0.5) as usize % 4];
                let notes = [1.0, 1.26, 1.5].map(|ratio| {
                    (1..=5)
                        .map(|h| {
                            (TAU * root * step * ratio * f64::from(h) * t).sin() / f64::from(h * h)
                        })
                        .sum::<f64>()
                });
                (-3.0 * beat).exp() * notes.iter().sum::<f64>() * 0.2
            })
            .collect()
    }

    fn power(samples: &[f64]) -> f64 {
        samples.iter().map(|s| s * s).sum()
    }

    /// What becomes of two channels when the shares are learnt from two others, in power.
    fn replayed(mix: [&[f64]; 2], part: [&[f64]; 2]) -> f64 {
        let rate = SampleRate::new(44_100).unwrap();
        let empty = || Samples::new(rate, vec![vec![]; 2]);
        let [mut guide, mut follower] =
            [Separated::new(empty(), Keep::Shared), Separated::new(empty(), Keep::Shared)];
        for (who, channels) in [(&mut guide, mix), (&mut follower, part)] {
            for (waiting, samples) in who.waiting.iter_mut().zip(channels) {
                waiting.extend_from_slice(samples);
            }
        }
        let (length, mut sum) = (guide.window.len(), 0.0);
        while guide.waiting[0].len() >= length {
            guide.analyse();
            guide.learn();
            guide.waiting.iter_mut().for_each(|w| drop(w.drain(..length / OVERLAP)));
            follower.shares.clone_from(&guide.shares);
            follower.analyse();
            follower.build();
            sum += power(&follower.built[0][..length / OVERLAP]);
            for built in &mut follower.built {
                built.drain(..length / OVERLAP);
                built.resize(length, 0.0);
            }
        }
        sum
    }

    #[test]
    fn a_voice_in_the_middle_stands_out_from_its_band() {
        let n = 6 * 44_100;
        let voice = voice(n);
        let add = |a: &[f64], b: &[f64]| a.iter().zip(b).map(|(x, y)| x + y).collect::<Vec<f64>>();
        for level in [0.5, 1.0] {
            let [left, right] = [233.0, 311.0]
                .map(|root| band(n, root).iter().map(|s| s * level).collect::<Vec<f64>>());
            let (l, r) = (add(&voice, &left), add(&voice, &right));
            let fold = add(&left, &right).iter().map(|s| s / 2.0).collect::<Vec<f64>>();
            let wanted = replayed([&l, &r], [&voice, &voice]);
            let unwanted = replayed([&l, &r], [&left, &right]);
            let gain = 10.0 * ((wanted / unwanted) / (power(&voice) / power(&fold))).log10();
            let kept = 10.0 * (wanted / power(&voice)).log10();
            assert!(
                gain > 15.0 && kept > -2.0,
                "band at {level}: {gain:.1} dB, voice {kept:.1} dB"
            );

            // Both parts add up to the whole, so nothing is ever lost by separating.
            let shared = separated(l.clone(), r.clone(), Keep::Shared);
            let different = separated(l.clone(), r, Keep::Different);
            let back = add(&shared[0], &different[0]);
            let lost: f64 = back.iter().zip(&l).map(|(a, b)| (a - b).powi(2)).sum();
            assert!(lost < 1e-20 * power(&l), "{lost:e}");
        }
        // Shared by both, the voice alone passes whole, its bass too.
        let alone = separated(voice.clone(), voice.clone(), Keep::Shared);
        assert!(alone[0].iter().zip(&voice).all(|(a, b)| (a - b).abs() < 1e-9));
    }

    #[test]
    fn lengths_and_other_channel_counts() {
        for n in [0, 1, 100, 5_000, 44_100] {
            assert_eq!(separated(vec![0.3; n], vec![0.3; n], Keep::Shared)[0].len(), n);
        }
        let one = Samples::new(SampleRate::new(8_000).unwrap(), vec![vec![0.5; 9]]);
        assert_eq!(collect(&mut Separated::new(one, Keep::Shared)).unwrap(), [vec![0.5; 9]]);
    }
}
