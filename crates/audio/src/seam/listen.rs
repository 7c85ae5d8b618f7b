//! A clip as it is heard from afar, in one pass: short-time spectra in bands, in which repeats are sought, and how
//! strongly notes begin, by which a beat is found.

use super::kept::Kept;
use super::spectrum::edge_bin;
use crate::block::{Block, each_block};
use crate::error::Result;
use crate::num::{count, real_size, rounded, single, size};
use crate::observe::Observer;
use crate::read::Clip;
use crate::shape::finite::make_finite;
use crate::units::SampleRate;
use rustfft::num_complex::Complex;
use rustfft::{Fft, FftPlanner};
use std::f64::consts::TAU;
use std::sync::Arc;

/// How many bands there are, spaced evenly by pitch.
pub const BANDS: usize = 24;
/// The levels of one stretch, band by band, in dB.
pub type Levels = [f32; BANDS];

/// How far below the loudest band of the clip sound still counts, as a ratio of powers: 45 dB.
const FLOOR: f32 = 3e-5;
/// What is silence beside the loudest band, in dB.
const SILENT: f32 = -40.0;
/// Stretches of a clip at most: many of them are held against every other.
const MOST: u64 = 1 << 14;
/// How long a spectrum's window is, and the longest and shortest steps between two, in seconds.
const WINDOW: f64 = 0.04;
const STEPS: [f64; 2] = [0.001, 0.02];
/// The same for music, which is longer than this: notes last, and their pitch tells more than their moment.
const MUSIC: f64 = 6.0;
const MUSIC_WINDOW: f64 = 0.08;
const MUSIC_STEP: f64 = 0.04;
/// A shape must stand out of the mean by this many dB, as a mean over the bands, to tell anything.
const OUTSTANDING: f32 = 1.5;
/// The window and the step in which beginnings of notes are sought, in seconds.
const ONSET_WINDOW: f64 = 0.02;
pub const ONSET_STEP: f64 = 0.0058;
/// What counts as sound there beside the loudest so far, as a ratio of powers.
const ONSET_FLOOR: f32 = 1e-4;

/// The clip from afar.
#[derive(Debug)]
pub struct Heard {
    /// Of the clip.
    pub rate: SampleRate,
    /// Frames from one stretch to the next.
    pub hop: u64,
    /// Frames of each stretch.
    pub window: u64,
    /// Stretch by stretch.
    pub levels: Vec<Levels>,
    /// Whether a stretch is about silent: such are alike everywhere, and tell nothing.
    pub silent: Vec<bool>,
    /// What is special about each stretch: its levels less their mean over the clip and over the bands, of length 1;
    /// zero where nothing is, and in clips too short for music.
    pub shapes: Vec<Levels>,
    /// How loud each is, in dB.
    pub loudness: Vec<f32>,
    /// How strongly notes begin, and the frames from one value to the next; empty in short clips.
    pub onsets: Vec<f32>,
    /// Frames from one of them to the next.
    pub onset_hop: u64,
}

impl Heard {
    /// Reads the clip once, and keeps it where it can be kept.
    ///
    /// # Errors
    /// Those of reading; [`Error::Stopped`](crate::Error::Stopped).
    pub fn listen(clip: &Clip, kept: &mut Kept, observer: &dyn Observer) -> Result<Self> {
        let facts = clip.facts();
        let rate = facts.format.rate;
        let music = facts.seconds() >= MUSIC;
        let [shortest, longest] = STEPS.map(|seconds| rate.frames(seconds).max(1));
        let (window, step) = match music {
            true => (MUSIC_WINDOW, rate.frames(MUSIC_STEP).max(1)),
            false => (WINDOW, (facts.frames / 1024).clamp(shortest, longest)),
        };
        let hop = step.max(facts.frames.div_ceil(MOST));
        let onset_hop = rate.frames(ONSET_STEP).max(1);
        let mut spectra = Spectra::new(rate.real(), window, size(hop));
        let mut fine = Spectra::new(rate.real(), ONSET_WINDOW, size(onset_hop));
        let (mut levels, mut onsets) = (Vec::new(), Onsets::default());
        let window = count(spectra.window.len());
        each_block(&mut *clip.frames()?, observer, |block| {
            make_finite(block);
            kept.keep(block);
            spectra.feed(block, |powers| levels.push(powers));
            if music {
                fine.feed(block, |powers| onsets.add(powers));
            }
            observer.advance(count(block.frames()));
        })?;
        let loudest = levels.iter().flatten().fold(1e-12f32, |most, power| most.max(*power));
        let all =
            |powers: &Levels| 10.0 * (powers.iter().sum::<f32>() / loudest + FLOOR * FLOOR).log10();
        let loudness = levels.iter().map(all).collect();
        for power in levels.iter_mut().flatten() {
            *power = 10.0 * (*power / loudest + FLOOR).log10();
        }
        Ok(Self {
            rate,
            hop,
            window,
            silent: levels.iter().map(is_silent).collect(),
            shapes: if music { shapes(&levels) } else { Vec::new() },
            levels,
            loudness,
            onsets: onsets.rises,
            onset_hop,
        })
    }

    /// The frame in the middle of a stretch.
    pub fn middle(&self, stretch: usize) -> u64 {
        count(stretch) * self.hop + self.window / 2
    }

    /// The stretch whose middle is nearest.
    pub fn stretch(&self, frame: u64) -> usize {
        let at = size((frame.saturating_sub(self.window / 2) + self.hop / 2) / self.hop);
        at.min(self.levels.len().saturating_sub(1))
    }
}

fn is_silent(levels: &Levels) -> bool {
    levels.iter().all(|level| *level < SILENT)
}

/// What is special about each stretch.
fn shapes(levels: &[Levels]) -> Vec<Levels> {
    let stretches = single(real_size(levels.len().max(1)));
    let mut means = [0.0f32; BANDS];
    for stretch in levels {
        for (mean, level) in means.iter_mut().zip(stretch) {
            *mean += level / stretches;
        }
    }
    let bands = single(real_size(BANDS));
    let shape = |stretch: &Levels| {
        let mut shape: Levels = std::array::from_fn(|band| stretch[band] - means[band]);
        let mean = shape.iter().sum::<f32>() / bands;
        shape.iter_mut().for_each(|level| *level -= mean);
        let length = shape.iter().map(|level| level * level).sum::<f32>().sqrt();
        // Silence is alike everywhere.
        let told = length > OUTSTANDING * bands.sqrt() && !is_silent(stretch);
        shape.map(|level| if told { level / length } else { 0.0 })
    };
    levels.iter().map(shape).collect()
}

/// How alike two shapes are, from −1 to 1.
pub fn dot(a: &Levels, b: &Levels) -> f32 {
    // In four sums, which a processor adds at once.
    let mut sums = [0.0f32; 8];
    for at in (0..BANDS).step_by(8) {
        for (lane, sum) in sums.iter_mut().enumerate() {
            *sum += a[at + lane] * b[at + lane];
        }
    }
    sums.iter().sum()
}

/// How strongly notes begin: by how much the level of each band rises, where it does.
#[derive(Default)]
struct Onsets {
    loudest: f32,
    last: Option<Levels>,
    rises: Vec<f32>,
}

impl Onsets {
    fn add(&mut self, powers: Levels) {
        self.loudest = powers.iter().fold(self.loudest.max(1e-12), |most, power| most.max(*power));
        let levels = powers.map(|power| (power / self.loudest + ONSET_FLOOR).ln());
        let last = self.last.replace(levels).unwrap_or(levels);
        self.rises.push(levels.iter().zip(&last).map(|(now, then)| (now - then).max(0.0)).sum());
    }
}

/// Short-time spectra in bands. Two channels at a time: one is the real, the other the imaginary part.
struct Spectra {
    fft: Arc<dyn Fft<f32>>,
    window: Vec<f32>,
    /// The first bin of each band, and the bin after the last.
    edges: [usize; BANDS + 1],
    step: usize,
    waiting: Vec<Complex<f32>>,
    at: usize,
    spectrum: Vec<Complex<f32>>,
    scratch: Vec<Complex<f32>>,
}

impl Spectra {
    fn new(rate: f64, seconds: f64, step: usize) -> Self {
        let length = size(rounded(rate * seconds)).next_power_of_two().max(64);
        let fft = FftPlanner::new().plan_fft_forward(length);
        let hann = |i: usize| 1.0 - (TAU * real_size(i) / real_size(length)).cos();
        Self {
            window: (0..length).map(|i| single(hann(i) / real_size(length))).collect(),
            scratch: vec![Complex::default(); fft.get_inplace_scratch_len()],
            spectrum: vec![Complex::default(); length],
            fft,
            edges: std::array::from_fn(|edge| edge_bin(edge, BANDS, rate, length)),
            step,
            waiting: Vec::new(),
            at: 0,
        }
    }

    fn feed(&mut self, block: &Block, mut each: impl FnMut(Levels)) {
        let gone = self.at.min(self.waiting.len());
        self.waiting.drain(..gone);
        self.at -= gone;
        let first = self.waiting.len();
        self.waiting.resize(first + block.frames(), Complex::default());
        for (index, channel) in block.channels().iter().enumerate() {
            for (to, sample) in self.waiting[first..].iter_mut().zip(channel) {
                match index % 2 {
                    0 => to.re += single(*sample),
                    _ => to.im += single(*sample),
                }
            }
        }
        while self.at + self.window.len() <= self.waiting.len() {
            each(self.powers());
            self.at += self.step;
        }
    }

    /// The power in each band of what comes next.
    fn powers(&mut self) -> Levels {
        let length = self.window.len();
        let from = &self.waiting[self.at..self.at + length];
        for ((to, sample), weight) in self.spectrum.iter_mut().zip(from).zip(&self.window) {
            *to = sample * weight;
        }
        self.fft.process_with_scratch(&mut self.spectrum, &mut self.scratch);
        let spectrum = &self.spectrum;
        // What both channels hold in a bin, whatever their phase.
        std::array::from_fn(|band| {
            let bins = self.edges[band]..self.edges[band + 1].min(length / 2);
            bins.map(|bin| spectrum[bin].norm_sqr() + spectrum[length - bin].norm_sqr()).sum()
        })
    }
}
