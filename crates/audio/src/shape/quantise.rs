//! Rounding to the grid of an encoding, with dither where bits are lost.

use super::blocks::BlockStep;
use super::noise::{ORDER, Random, feedback};
use crate::block::Block;
use crate::num::{count, nearest, single};
use crate::spec::Kind;
use crate::units::SampleRate;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

/// How rounding errors are kept from following the signal.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Dither {
    /// Not at all: no bits are lost.
    None,
    /// Triangular noise of ±1 step (Lipshitz, Wannamaker, Vanderkooy, "Quantization and Dither", 1992).
    Triangular,
    /// The same, its spectrum moved to where it is least heard.
    Shaped,
}

/// This many zeros in a row are digital silence and stay it; fewer are a signal passing through.
const SILENT_RUN: usize = 32;

/// Samples that get their dither together.
const PIECE: usize = 128;

/// Rounds to what `kind` can hold.
pub struct Quantiser {
    kind: Kind,
    dither: Dither,
    channels: Vec<Channel>,
    taps: [f64; ORDER],
    overs: Arc<AtomicU64>,
}

struct Channel {
    random: Random,
    errors: [f64; ORDER],
    zeros: usize,
}

impl Quantiser {
    /// Counts samples beyond full scale, which integers cannot hold, into `overs`.
    pub fn new(kind: Kind, dither: Dither, overs: Arc<AtomicU64>) -> Self {
        Self { kind, dither, channels: Vec::new(), taps: [0.0; ORDER], overs }
    }
}

impl BlockStep for Quantiser {
    fn begin(&mut self, rate: SampleRate, channels: usize) {
        if self.dither == Dither::Shaped {
            self.taps = feedback(rate);
        }
        self.channels = (0..channels)
            .map(|index| Channel { random: Random::new(index), errors: [0.0; ORDER], zeros: 0 })
            .collect();
    }

    fn work(&mut self, block: &mut Block) {
        match self.kind {
            Kind::Float(32) => round_to_single(block),
            Kind::Float(_) | Kind::Lossy => {}
            Kind::Integer(bits) => {
                let steps = 2f64.powi(i32::try_from(bits).unwrap_or(32) - 1);
                let mut overs = 0;
                for (state, samples) in self.channels.iter_mut().zip(block.channels_mut()) {
                    overs += match self.dither {
                        Dither::None => round(samples, steps),
                        Dither::Triangular => state.dithered(samples, steps),
                        Dither::Shaped => state.shaped(samples, steps, &self.taps),
                    };
                }
                self.overs.fetch_add(overs, Ordering::Relaxed);
            }
        }
    }
}

fn round_to_single(block: &mut Block) {
    for channel in block.channels_mut() {
        for sample in channel {
            *sample = f64::from(single(*sample));
        }
    }
}

fn overs_in(samples: &[f64]) -> u64 {
    count(samples.iter().filter(|s| s.abs() > 1.0).count())
}

/// The nearest code, ties to even, full scale held instead of wrapped.
fn code(value: f64, steps: f64) -> f64 {
    nearest(value.clamp(-steps, steps - 1.0))
}

fn round(samples: &mut [f64], steps: f64) -> u64 {
    let overs = overs_in(samples);
    // A power of two, so that multiplying by it is as exact as dividing.
    let step = 1.0 / steps;
    for sample in samples {
        *sample = code(*sample * steps, steps) * step;
    }
    overs
}

impl Channel {
    fn dithered(&mut self, samples: &mut [f64], steps: f64) -> u64 {
        let overs = overs_in(samples);
        let step = 1.0 / steps;
        for_sounding_runs(&mut self.zeros, samples, |run| {
            // Numbers first: rounding then goes several samples at once.
            for piece in run.chunks_mut(PIECE) {
                let mut noise = [0.0; PIECE];
                self.random.fill(&mut noise[..piece.len()]);
                for (sample, noise) in piece.iter_mut().zip(noise) {
                    *sample = code(*sample * steps + noise, steps) * step;
                }
            }
        });
        overs
    }

    fn shaped(&mut self, samples: &mut [f64], steps: f64, taps: &[f64; ORDER]) -> u64 {
        let overs = overs_in(samples);
        let step = 1.0 / steps;
        let (errors, random) = (&mut self.errors, &mut self.random);
        for_sounding_runs(&mut self.zeros, samples, |run| {
            for sample in run {
                let fed: f64 = errors.iter().zip(taps).map(|(e, t)| e * t).sum();
                let wanted = *sample * steps - fed;
                let written = code(wanted + random.triangular(), steps);
                // At full scale the error is the clipping's, not the rounding's: it must not run away.
                let error = (written - wanted).clamp(-2.0, 2.0);
                errors.rotate_right(1);
                errors[0] = error;
                *sample = written * step;
            }
        });
        overs
    }
}

/// Calls `act` on all stretches but digital silence, which stays as it is. `zeros` carries how many
/// zeros the samples before ended with; a run that may go on after the last sample counts as silence.
fn for_sounding_runs(zeros: &mut usize, samples: &mut [f64], mut act: impl FnMut(&mut [f64])) {
    let mut rest = samples;
    loop {
        let sounding = sounding_length(*zeros, rest);
        let (run, behind) = rest.split_at_mut(sounding);
        if !run.is_empty() {
            *zeros = run.iter().rev().take_while(|s| **s == 0.0).count();
            act(run);
        }
        let silent = behind.iter().take_while(|s| **s == 0.0).count();
        if silent > 0 {
            *zeros += silent;
        }
        rest = &mut behind[silent..];
        if rest.is_empty() {
            return;
        }
    }
}

/// How many samples there are up to the next digital silence.
fn sounding_length(zeros_before: usize, samples: &[f64]) -> usize {
    // A silence that begins here holds one of these; most blocks have none, and no more needs to be looked at.
    let probed = samples.iter().skip(SILENT_RUN - 1).step_by(SILENT_RUN);
    let leading = samples.iter().take(SILENT_RUN).take_while(|s| **s == 0.0).count();
    if zeros_before + leading < SILENT_RUN && probed.into_iter().all(|s| *s != 0.0) {
        return samples.len() - samples.iter().rev().take_while(|s| **s == 0.0).count();
    }
    let mut zeros = zeros_before;
    let mut start = 0;
    for (at, sample) in samples.iter().enumerate() {
        if *sample != 0.0 {
            zeros = 0;
            start = at + 1;
        } else {
            zeros += 1;
            if zeros >= SILENT_RUN {
                return start;
            }
        }
    }
    start
}

#[cfg(test)]
mod tests {
    use super::super::noise::a_weighting;
    use super::*;
    use crate::block::{Samples, collect};
    use std::f64::consts::TAU;

    fn quantised(samples: Vec<f64>, rate: u32, bits: u32, dither: Dither) -> (Vec<f64>, u64) {
        let overs = Arc::new(AtomicU64::new(0));
        let source = Samples::new(SampleRate::new(rate).unwrap(), vec![samples]);
        let mut quantiser =
            Quantiser::new(Kind::Integer(bits), dither, Arc::clone(&overs)).on(source);
        let out = collect(&mut quantiser).unwrap().remove(0);
        (out, overs.load(Ordering::Relaxed))
    }

    fn sine(n: usize, amplitude: f64) -> Vec<f64> {
        (0..n).map(|i| amplitude * (TAU * 0.01237 * i as f64).sin()).collect()
    }

    #[test]
    fn full_scale_is_held_and_counted() {
        let (out, overs) = quantised(vec![1.0, 1.5, -1.0, -1.5, 0.5], 48_000, 16, Dither::None);
        let top = 32_767.0 / 32_768.0;
        assert_eq!(out, [top, top, -1.0, -1.0, 0.5]);
        assert_eq!(overs, 2);
        for dither in [Dither::Triangular, Dither::Shaped] {
            let (out, _) = quantised(sine(10_000, 1.2), 18_900, 8, dither);
            assert!(out.iter().all(|s| (-1.0..=127.0 / 128.0).contains(s)));
            let tame = out
                .iter()
                .zip(sine(10_000, 1.2))
                .all(|(a, b)| (a - b.clamp(-1.0, 1.0)).abs() < 0.2);
            assert!(tame, "{dither:?} runs away at full scale");
        }
    }

    #[test]
    fn digital_silence_stays_digital_silence() {
        for dither in [Dither::Triangular, Dither::Shaped] {
            let clip = [vec![0.0; 5000], sine(5000, 0.3), vec![0.0; 9000]].concat();
            let (out, _) = quantised(clip, 44_100, 8, dither);
            assert!(out[..5000].iter().all(|s| *s == 0.0), "{dither:?}");
            assert!(out[10_000..].iter().all(|s| *s == 0.0), "{dither:?}");
            let (out, _) = quantised(vec![0.0; 7], 44_100, 8, dither);
            assert_eq!(out, [0.0; 7]);
        }
    }

    /// With triangular dither the error's mean and power do not depend on the signal: a constant
    /// between two codes comes out right on average, with a noise power of 1/4 step².
    #[test]
    fn dither_shifts_no_mean() {
        for (dither, power) in [(Dither::Triangular, Some(0.25)), (Dither::Shaped, None)] {
            for value in [0.3, 0.5, 0.77] {
                let n = 400_000;
                let (out, _) = quantised(vec![value / 128.0; n], 44_100, 8, dither);
                let errors: Vec<f64> = out.iter().map(|s| s * 128.0 - value).collect();
                let mean = errors.iter().sum::<f64>() / n as f64;
                assert!(mean.abs() < 0.02, "{dither:?}, {value}: mean {mean}");
                if let Some(power) = power {
                    let found = errors.iter().map(|e| e * e).sum::<f64>() / n as f64;
                    assert!((found - power).abs() < 0.01, "{value}: power {found}");
                }
            }
        }
    }

    /// A-weighted noise of an 8-bit quantiser in dB of full scale.
    fn weighted_noise(rate: u32, dither: Dither) -> f64 {
        let n = 1 << 16;
        let clip = sine(n, 0.5);
        let (out, _) = quantised(clip.clone(), rate, 8, dither);
        let mut errors: Vec<f64> = out.iter().zip(&clip).map(|(a, b)| a - b).collect();
        let fft = realfft::RealFftPlanner::<f64>::new().plan_fft_forward(n);
        let mut spectrum = fft.make_output_vec();
        fft.process(&mut errors, &mut spectrum).unwrap();
        let power: f64 = spectrum
            .iter()
            .enumerate()
            .map(|(bin, value)| {
                let hertz = bin as f64 * f64::from(rate) / n as f64;
                value.norm_sqr() * a_weighting(hertz)
            })
            .sum();
        10.0 * (2.0 * power / (n as f64 * n as f64)).log10()
    }

    #[test]
    fn shaping_makes_the_noise_of_eight_bits_less_audible() {
        for (rate, least) in
            [(9_450, 0.5), (18_900, 0.2), (22_050, 0.2), (44_100, 1.2), (48_000, 1.5)]
        {
            let plain = weighted_noise(rate, Dither::Triangular);
            let shaped = weighted_noise(rate, Dither::Shaped);
            assert!(plain - shaped > least, "{rate} Hz: {plain:.1} to {shaped:.1}");
        }
    }
}
