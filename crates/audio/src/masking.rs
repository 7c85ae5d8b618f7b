//! What a sound masks: the model of the ear of ITU-R BS.1387-1, basic version (its FFT ear model), by which lossy
//! encoders place their noise and seams are judged.
//!
//! A spectrum is weighted by the outer and middle ear, grouped into bands of a quarter Bark, spread to its
//! neighbours the further up the louder it is, and smeared in time. What lies under the result by a certain
//! distance is not heard.

use crate::num::{count, real, single, size};
use realfft::num_complex::Complex;
use realfft::{RealFftPlanner, RealToComplex};
use std::f32::consts::{LN_2, LOG2_E};
use std::f64::consts::PI;
use std::sync::Arc;

/// Width of a band in Bark (BS.1387-1, 2.1.5).
const WIDTH: f64 = 0.25;
/// The bands begin and end here, in hertz.
const RANGE: (f64, f64) = (80.0, 18_000.0);
/// What full scale is in dB SPL (BS.1387-1, 2.1.2).
const FULL_SCALE: f64 = 92.0;
/// Spreading downwards, in dB a Bark (BS.1387-1, 2.1.7).
const DOWNWARDS: f64 = 27.0;
/// Contributions are added as powers of this.
const ADDING: f32 = 0.4;
/// Contributions smaller than this, as such a power, are left out.
const NEGLIGIBLE: f32 = 1e-6;
/// For each dB the upward slope is 0.2 dB a Bark less steep: the same for a band, of powers of 2.
const LESS_STEEP: f32 = 0.05;

/// A band of the ear.
#[derive(Debug, Clone, Copy)]
struct Band {
    /// Lower and upper edge in hertz.
    edges: (f64, f64),
    /// What the ear hears of itself.
    internal: f32,
    /// How far the noise must lie below, as a factor of power.
    offset: f32,
    /// What is left of an excitation after one hop.
    decay: f32,
    /// What white noise of power 1 a frame gives in it.
    white: f32,
}

/// The ear at a rate, for frames of one length.
pub struct Ear {
    transform: Arc<dyn RealToComplex<f32>>,
    window: Vec<f32>,
    /// For each line of the spectrum its weight.
    weights: Vec<f32>,
    bands: Vec<Band>,
    /// For each band its lines and their shares.
    lines: Vec<(usize, Vec<f32>)>,
    /// The upward slope of silence from band to band, as a power of 2; it is less steep the louder the sound.
    slopes: Vec<f32>,
    /// How many bands lie above, with the band itself.
    above: Vec<f32>,
    /// What a band gives to those below it, and the sum of that before it is raised.
    below: Vec<f32>,
    lower: Vec<f32>,
    /// What spreading would make of equal powers, to be divided by.
    norm: Vec<f32>,
    input: Vec<f32>,
    spectrum: Vec<Complex<f32>>,
    scratch: Vec<Complex<f32>>,
    powers: Vec<f32>,
    ratios: Vec<f32>,
    parts: Vec<f32>,
    raised: Vec<f32>,
}

/// Hertz in Bark (BS.1387-1, 2.1.5).
fn bark(hertz: f64) -> f64 {
    7.0 * (hertz / 650.0).asinh()
}

fn hertz(bark: f64) -> f64 {
    650.0 * (bark / 7.0).sinh()
}

/// The outer and middle ear, in dB (BS.1387-1, 2.1.4).
fn ear_weight(hertz: f64) -> f64 {
    let k = (hertz / 1000.0).max(1e-9);
    let weight =
        -0.6 * 3.64 * k.powf(-0.8) + 6.5 * (-0.6 * (k - 3.3).powi(2)).exp() - 1e-3 * k.powf(3.6);
    weight.max(-200.0)
}

impl Ear {
    /// For frames of `length` samples, an even number, that follow each other after `hop` samples.
    pub fn new(rate: f64, length: usize, hop: usize) -> Self {
        let transform = RealFftPlanner::new().plan_fft_forward(length);
        let hann = |at: usize| {
            let turn = 2.0 * PI * real(count(at)) / real(count(length - 1));
            (8.0f64 / 3.0).sqrt() * 0.5 * (1.0 - turn.cos())
        };
        let shape: Vec<f64> = (0..length).map(hann).collect();
        // A sine of full scale peaks at half the window's sum.
        let scale = 10f64.powf(FULL_SCALE / 20.0) / (shape.iter().sum::<f64>() / 2.0);
        let step = rate / real(count(length));
        let half = length / 2;
        let weight = |line| 10f64.powf(ear_weight(real(count(line)) * step) / 10.0);
        let energy: f64 = shape.iter().map(|w| (w * scale).powi(2)).sum();
        let top = bark(RANGE.1.min(rate / 2.0));
        let mut bands = Vec::new();
        let (mut lines, mut slopes) = (Vec::new(), Vec::new());
        let mut low = bark(RANGE.0);
        while low < top - 1e-9 {
            let edges = (hertz(low), hertz((low + WIDTH).min(top)));
            let (first, shares) = shares(edges, step, half);
            let white = shares.iter().enumerate().map(|(at, share)| share * weight(first + at));
            let white: f64 = energy * white.sum::<f64>();
            let centre = hertz((low + (low + WIDTH).min(top)) / 2.0);
            let at = WIDTH * real(count(bands.len()));
            let offset = if at <= 12.0 { 3.0 } else { 0.25 * at };
            slopes.push(single((-24.0 - 230.0 / centre) * WIDTH / 10.0 * 10f64.log2()));
            let time = 0.008 + 100.0 / centre * (0.03 - 0.008);
            bands.push(Band {
                edges,
                internal: single(10f64.powf(0.4 * 0.364 * (centre / 1000.0).powf(-0.8))),
                offset: single(10f64.powf(offset / 10.0)),
                decay: single((-real(count(hop)) / rate / time).exp()),
                white: single(white),
            });
            lines.push((first, shares.iter().map(|share| single(*share)).collect()));
            low += WIDTH;
        }
        let step_down = 10f64.powf(-DOWNWARDS * WIDTH / 10.0);
        let down = step_down.powf(f64::from(ADDING));
        let mut ear = Self {
            input: transform.make_input_vec(),
            spectrum: transform.make_output_vec(),
            scratch: transform.make_scratch_vec(),
            transform,
            window: shape.iter().map(|w| single(w * scale)).collect(),
            weights: (0..=half).map(|line| single(weight(line))).collect(),
            below: (0..bands.len()).map(|n| single(down.powf(real(count(n))))).collect(),
            slopes,
            above: (0..bands.len()).map(|n| single(real(count(bands.len() - n)))).collect(),
            lower: (0..bands.len())
                .map(|n| {
                    single((1.0 - step_down.powf(real(count(n)))) / (1.0 - step_down) * step_down)
                })
                .collect(),
            norm: vec![1.0; bands.len()],
            powers: vec![0.0; bands.len()],
            ratios: vec![0.0; bands.len()],
            parts: vec![0.0; bands.len()],
            raised: vec![0.0; bands.len()],
            bands,
            lines,
        };
        ear.powers.fill(1.0);
        ear.spread();
        ear.norm = ear.raised.iter().map(|sum| 1.0 / lowered(*sum)).collect();
        ear
    }

    /// How many bands there are.
    pub fn bands(&self) -> usize {
        self.bands.len()
    }

    /// Lower and upper edge of a band in hertz.
    pub fn edges(&self, band: usize) -> (f64, f64) {
        self.bands[band].edges
    }

    /// For each band what it masks of the frame's noise, as the power that white noise would have which
    /// reached just as far. `memory` holds the excitation of the frames before, and is as long.
    pub fn masks(&mut self, samples: &[f32], memory: &mut [f32], masks: &mut [f32]) {
        self.listen(samples);
        self.spread();
        for (at, band) in self.bands.iter().enumerate() {
            let excitation = lowered(self.raised[at]) * self.norm[at];
            let last = &mut memory[at];
            *last = band.decay * *last + (1.0 - band.decay) * excitation;
            let smeared = last.max(excitation);
            masks[at] = smeared / (band.offset * band.white);
        }
    }

    /// For each band the power of the frame in it, and what the frame masks there.
    pub fn hear(&mut self, samples: &[f32], powers: &mut [f32], masks: &mut [f32]) {
        self.listen(samples);
        self.spread();
        powers.copy_from_slice(&self.powers);
        for (at, band) in self.bands.iter().enumerate() {
            masks[at] = lowered(self.raised[at]) * self.norm[at] / band.offset;
        }
    }

    /// The power in each band.
    fn listen(&mut self, samples: &[f32]) {
        for ((input, sample), window) in self.input.iter_mut().zip(samples).zip(&self.window) {
            *input = sample * window;
        }
        let Self { transform, input, spectrum, scratch, .. } = self;
        // The lengths are the transform's own.
        let done = transform.process_with_scratch(input, spectrum, scratch);
        debug_assert!(done.is_ok());
        for (at, (first, shares)) in self.lines.iter().enumerate() {
            let lines = self.spectrum[*first..].iter().zip(&self.weights[*first..]);
            let heard = lines.zip(shares).map(|((line, weight), share)| {
                share * weight * (line.re * line.re + line.im * line.im)
            });
            self.powers[at] = heard.sum::<f32>() + self.bands[at].internal;
        }
    }

    /// Spreads the powers to their neighbours, each with slopes that add up to 1 (BS.1387-1, 2.1.7): a step
    /// at a time from all bands at once.
    fn spread(&mut self) {
        let bands = self.bands.len();
        let Self { ratios, parts, raised, .. } = self;
        for at in 0..bands {
            let level = log2(self.powers[at]);
            // The slope as a power of 2: less steep the louder the band is.
            let slope = self.slopes[at] + LESS_STEEP * level;
            // Just as steep as flat would divide by nothing.
            let slope = if slope.abs() < 1e-4 { 1e-4 } else { slope };
            let sum = (1.0 - exp2(slope * self.above[at])) / (1.0 - exp2(slope));
            parts[at] = exp2(ADDING * (level - log2(sum + self.lower[at])));
            ratios[at] = exp2(ADDING * slope);
        }
        raised.copy_from_slice(parts);
        for (step, share) in self.below.iter().enumerate().skip(1) {
            if *share < NEGLIGIBLE {
                break;
            }
            for (raised, part) in raised.iter_mut().zip(&parts[step..]) {
                *raised += share * part;
            }
        }
        // After so many steps even the flattest slope has come down to nothing.
        let flattest = ratios.iter().fold(0.0f32, |most, ratio| most.max(*ratio)).min(0.99);
        let steps = (NEGLIGIBLE.ln() / flattest.ln()).ceil().min(single(real(count(bands))));
        for step in 1..size(crate::num::rounded(steps.into())) {
            let sources = parts.iter_mut().zip(&*ratios);
            for ((part, ratio), raised) in sources.zip(&mut raised[step..]) {
                *part *= ratio;
                *raised += *part;
            }
        }
    }
}

/// Takes back that contributions were raised to [`ADDING`].
fn lowered(sum: f32) -> f32 {
    sum * sum * sum.sqrt()
}

/// The logarithm to the base 2 of a positive number, to about a millionth.
fn log2(x: f32) -> f32 {
    let bits = x.to_bits().cast_signed();
    // Its mantissa between the square roots of a half and of 2.
    let exponent = (bits - 0x3F35_04F3) >> 23;
    let mantissa = f32::from_bits((bits - (exponent << 23)).cast_unsigned());
    let y = (mantissa - 1.0) / (mantissa + 1.0);
    let square = y * y;
    let series = 2.0 * LOG2_E * (1.0 + square * (1.0 / 3.0 + square * (0.2 + square / 7.0)));
    crate::num::single_signed(exponent) + y * series
}

/// 2 to the power of a number within what numbers can hold, to about a millionth.
fn exp2(x: f32) -> f32 {
    // Added to this, numbers lose what lies behind the point, and their last bits are their whole part.
    const POINT: f32 = 12_582_912.0;
    let x = x.clamp(-126.0, 126.0);
    let whole = x + POINT;
    let part = x - (whole - POINT);
    // Of e to the power of this, whose part is between -0.35 and 0.35.
    let part = part * LN_2;
    let series = 1.0
        + part
            * (1.0
                + part * (0.5 + part * (1.0 / 6.0 + part * (1.0 / 24.0 + part * (1.0 / 120.0)))));
    let exponent = whole.to_bits().wrapping_sub(POINT.to_bits()).wrapping_add(127);
    series * f32::from_bits(exponent << 23)
}

/// Which lines lie in a band, the first one and how much of each.
fn shares(edges: (f64, f64), step: f64, half: usize) -> (usize, Vec<f64>) {
    let share = |line: usize| {
        let middle = real(count(line)) * step;
        let (low, high) = (edges.0.max(middle - step / 2.0), edges.1.min(middle + step / 2.0));
        (high - low).max(0.0) / step
    };
    let first = size(crate::num::rounded(edges.0 / step)).min(half);
    let last = size(crate::num::rounded(edges.1 / step)).min(half);
    (first, (first..=last).map(share).collect())
}
