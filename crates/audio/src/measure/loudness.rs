//! Loudness and true peak (ITU-R BS.1770-4, EBU Tech 3341).

use super::Ask;
use super::true_peak::TruePeak;
use crate::block::Block;
use crate::num::{count, decibels, real, size};
use crate::units::SampleRate;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::f64::consts::PI;

/// Clips shorter than this, in seconds, are measured at their loudest moment.
const SHORT: f64 = 3.0;
/// Steps of 100 ms in one momentary measurement.
const STEPS: usize = 4;
/// What is quieter does not count, in LUFS.
const ABSOLUTE_GATE: f64 = -70.0;
/// Nor what lies this far below the loudness of the rest, in LU.
const RELATIVE_GATE: f64 = -10.0;

/// How a loudness was measured.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Measure {
    /// Gated, over the whole clip.
    Integrated,
    /// The greatest of 400 ms, since the clip is shorter than 3 s.
    Momentary,
    /// As momentary, with silence added to make 400 ms.
    Padded,
    /// Not asked for.
    None,
}

/// A loudness, in LUFS.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize)]
pub struct Loudness {
    /// Negative infinity for silence, which is null as data.
    #[schemars(with = "Option<f64>")]
    pub lufs: f64,
    /// How it was measured.
    pub measure: Measure,
    /// The greatest of 400 ms, with silence added where there are fewer.
    #[schemars(with = "Option<f64>")]
    pub momentary: f64,
    /// Gated, over all of it; negative infinity below 400 ms.
    #[schemars(with = "Option<f64>")]
    pub integrated: f64,
}

impl Loudness {
    /// Nothing was measured.
    const NONE: Self = Self {
        lufs: f64::NEG_INFINITY,
        measure: Measure::None,
        momentary: f64::NEG_INFINITY,
        integrated: f64::NEG_INFINITY,
    };

    /// Of a signal whose 400 ms have these energies, with a gain in dB.
    pub(super) fn of(measure: Measure, moments: &[f64], gain: f64) -> Self {
        let power = 10f64.powf(gain / 10.0);
        let moments: Vec<f64> = moments.iter().map(|moment| moment * power).collect();
        let momentary = lufs(moments.iter().fold(0.0, |a, b| a.max(*b)));
        let (integrated, lufs) = match measure {
            Measure::None => return Self::NONE,
            Measure::Integrated => (lufs(gated(&moments)), lufs(gated(&moments))),
            Measure::Momentary => (lufs(gated(&moments)), momentary),
            Measure::Padded => (f64::NEG_INFINITY, momentary),
        };
        Self { lufs, measure, momentary, integrated }
    }

    /// This one and another, both measured alike: over all, or at their loudest moments where either is short. A
    /// short sound that is held against a long one over all of it would come out too quiet.
    pub fn beside(&self, other: &Self) -> (Measure, [f64; 2]) {
        match (self.measure, other.measure) {
            (Measure::Integrated, Measure::Integrated) => {
                (Measure::Integrated, [self.integrated, other.integrated])
            }
            _ => (Measure::Momentary, [self.momentary, other.momentary]),
        }
    }
}

/// Weighs what it is fed, and keeps the energy of each 100 ms.
pub struct LoudnessMeter {
    ask: Ask,
    rate: SampleRate,
    weighting: Weighting,
    /// How much each channel counts.
    shares: Vec<f64>,
    /// The filters' memory, two channels side by side.
    pairs: Vec<[[f64; 2]; 4]>,
    true_peaks: Vec<TruePeak>,
    frames: u64,
    /// Of the step that is under way.
    energy: f64,
    steps: Vec<f64>,
}

impl LoudnessMeter {
    pub fn new(rate: SampleRate, channels: usize, ask: Ask) -> Self {
        let peaks = if ask.true_peak { channels } else { 0 };
        Self {
            ask,
            rate,
            weighting: Weighting::at(rate),
            shares: (0..channels).map(|channel| share(channel, channels)).collect(),
            pairs: vec![[[0.0; 2]; 4]; channels.div_ceil(2)],
            true_peaks: (0..peaks).map(|_| TruePeak::new(rate.hertz())).collect(),
            frames: 0,
            energy: 0.0,
            steps: Vec::new(),
        }
    }

    /// Frames of a step.
    fn step(&self) -> u64 {
        self.rate.frames(0.1).max(1)
    }

    /// Frames of a moment.
    fn moment(&self) -> u64 {
        self.step() * count(STEPS)
    }

    /// Takes in a block, whose channels have these peaks.
    pub fn feed(&mut self, block: &Block, peaks: &[f64]) {
        for ((meter, channel), peak) in self.true_peaks.iter_mut().zip(block.channels()).zip(peaks)
        {
            meter.feed(channel, *peak);
        }
        if self.ask.loudness {
            self.weigh(block);
        }
    }

    fn weigh(&mut self, block: &Block) {
        let (step, mut from) = (self.step(), 0);
        while from < block.frames() {
            let left = size(step - self.frames % step).min(block.frames() - from);
            let pairs = block.channels().chunks(2).zip(self.shares.chunks(2)).zip(&mut self.pairs);
            for ((channels, shares), memory) in pairs {
                let first = &channels[0][from..from + left];
                let second = channels.last().map_or(first, |last| &last[from..from + left]);
                let sums = self.weighting.energy(memory, first, second);
                let counted = shares.iter().zip(sums).map(|(share, sum)| share * sum);
                self.energy += counted.sum::<f64>();
            }
            self.frames += count(left);
            from += left;
            if self.frames.is_multiple_of(step) {
                self.steps.push(std::mem::take(&mut self.energy));
            }
        }
    }

    /// How loudness is to be told, the energies of every 400 ms, and the true peak in dBTP.
    pub fn finish(mut self) -> (Measure, Vec<f64>, f64) {
        let true_peak = self.true_peaks.iter().map(TruePeak::peak).fold(0.0, f64::max);
        let measure = match self.frames {
            _ if !self.ask.loudness => Measure::None,
            n if n >= self.rate.frames(SHORT) => Measure::Integrated,
            n if n >= self.moment() => Measure::Momentary,
            _ => Measure::Padded,
        };
        if measure == Measure::Padded {
            let mut silence = Block::default();
            let missing = self.moment().saturating_sub(self.frames);
            silence.shape(self.shares.len(), size(missing));
            self.weigh(&silence);
        }
        let frames = real(self.moment());
        let moments = self.steps.windows(STEPS).map(|steps| steps.iter().sum::<f64>() / frames);
        (measure, moments.collect(), decibels(true_peak))
    }
}

fn lufs(energy: f64) -> f64 {
    10.0 * energy.log10() - 0.691
}

fn energy_of(lufs: f64) -> f64 {
    10f64.powf((lufs + 0.691) / 10.0)
}

/// The mean of those moments that count (BS.1770-4, annex 1).
fn gated(moments: &[f64]) -> f64 {
    let mean_above = |gate: f64| {
        let counted = moments.iter().filter(|moment| **moment >= gate);
        let (sum, number) = counted.fold((0.0, 0u64), |(sum, n), moment| (sum + moment, n + 1));
        if number == 0 { 0.0 } else { sum / real(number) }
    };
    let absolute = energy_of(ABSOLUTE_GATE);
    let relative = mean_above(absolute) * 10f64.powf(RELATIVE_GATE / 10.0);
    mean_above(absolute.max(relative))
}

/// How much a channel counts: those at the sides more, the one for low frequencies not at all
/// (BS.1770-4, table 3).
const fn share(channel: usize, channels: usize) -> f64 {
    match (channels, channel) {
        (4, 2 | 3) | (5, 3 | 4) | (6.., 4 | 5) => 1.41,
        (6.., 3) => 0.0,
        (_, 0..=4) => 1.0,
        _ => 0.0,
    }
}

/// The two filters of the K weighting (BS.1770-4, annex 1): a shelf for the head, and a high pass.
#[derive(Debug, Clone, Copy)]
struct Weighting {
    shelf: Section,
    /// What it feeds back; what it takes in is 1, −2, 1.
    high_pass: [f64; 2],
}

/// `y = b0 x + s0; s0 = b1 x - a1 y + s1; s1 = b2 x - a2 y`.
#[derive(Debug, Clone, Copy)]
struct Section {
    b: [f64; 3],
    a: [f64; 2],
}

impl Weighting {
    /// The standard gives the coefficients at 48 kHz; these are the analogue filters behind them, made anew
    /// for each rate.
    fn at(rate: SampleRate) -> Self {
        let warped = |hertz: f64| (PI * hertz / f64::from(rate.hertz())).tan();
        let (k, q) = (warped(1_681.974_450_955_533), 0.707_175_236_955_419_6);
        let high = 10f64.powf(3.999_843_853_973_347 / 20.0);
        let band = high.powf(0.499_666_774_154_541_6);
        let norm = 1.0 + k / q + k * k;
        let shelf = Section {
            b: [
                (high + band * k / q + k * k) / norm,
                2.0 * (k * k - high) / norm,
                (high - band * k / q + k * k) / norm,
            ],
            a: [2.0 * (k * k - 1.0) / norm, (1.0 - k / q + k * k) / norm],
        };
        let (k, q) = (warped(38.135_470_876_024_44), 0.500_327_037_323_877_3);
        let norm = 1.0 + k / q + k * k;
        let high_pass = [2.0 * (k * k - 1.0) / norm, (1.0 - k / q + k * k) / norm];
        Self { shelf, high_pass }
    }

    /// The energies of two channels, side by side so that the processor need not wait for either. What a filter will
    /// remember is worked out from what it remembers and from what comes, not from what it gives: a shorter way.
    fn energy(&self, memory: &mut [[f64; 2]; 4], first: &[f64], second: &[f64]) -> [f64; 2] {
        let (Section { b, a }, c) = (self.shelf, self.high_pass);
        let [b1, b2] = [b[1] - a[0] * b[0], b[2] - a[1] * b[0]];
        let [d1, d2] = [-2.0 - c[0], 1.0 - c[1]];
        let [mut s0, mut s1, mut t0, mut t1] = *memory;
        let mut sums = [0.0; 2];
        for (first, second) in first.iter().zip(second) {
            let x = [*first, *second];
            for lane in 0..2 {
                let (s, t) = (s0[lane], t0[lane]);
                let y = b[0] * x[lane] + s;
                s0[lane] = (b1 * x[lane] + s1[lane]) - a[0] * s;
                s1[lane] = b2 * x[lane] - a[1] * s;
                let z = y + t;
                t0[lane] = (d1 * y + t1[lane]) - c[0] * t;
                t1[lane] = d2 * y - c[1] * t;
                sums[lane] += z * z;
            }
        }
        // Numbers too small to be normal would slow down what follows.
        *memory = [s0, s1, t0, t1].map(|pair| pair.map(|s| if s.abs() < 1e-30 { 0.0 } else { s }));
        sums
    }
}
