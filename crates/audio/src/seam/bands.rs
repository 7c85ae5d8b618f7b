//! A clip as short-time spectra in bands: the coarse view in which repeats are sought.

use super::spectrum::edge_bin;
use crate::block::{Block, each_block};
use crate::error::Result;
use crate::num::{count, real_size, rounded, single, size};
use crate::observe::Observer;
use crate::read::Clip;
use crate::shape::finite::make_finite;
use rustfft::num_complex::Complex;
use rustfft::{Fft, FftPlanner};
use std::f64::consts::TAU;
use std::sync::Arc;

/// How many bands there are, spaced evenly by pitch.
pub const BANDS: usize = 16;
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

/// The coarse view of a clip.
#[derive(Debug)]
pub struct Bands {
    /// Frames from one stretch to the next.
    pub hop: u64,
    /// Stretch by stretch; each covers two hops.
    pub levels: Vec<Levels>,
    /// Whether a stretch is about silent: such are alike everywhere, and tell nothing.
    pub silent: Vec<bool>,
}

impl Bands {
    /// Reads the clip once.
    ///
    /// # Errors
    /// Those of reading; [`Error::Stopped`].
    pub fn measure(clip: &Clip, observer: &dyn Observer) -> Result<Self> {
        let facts = clip.facts();
        let rate = facts.format.rate;
        let [shortest, longest] = STEPS.map(|seconds| rate.frames(seconds).max(1));
        let step = (facts.frames / 1024).clamp(shortest, longest).max(facts.frames.div_ceil(MOST));
        let mut analyser = Analyser::new(rate.real(), size(step));
        each_block(&mut *clip.frames()?, observer, |block| {
            make_finite(block);
            analyser.feed(block);
            observer.advance(count(block.frames()));
        })?;
        let loudest = analyser.levels.iter().flatten();
        let loudest = loudest.fold(1e-12f32, |most, power| most.max(*power));
        for power in analyser.levels.iter_mut().flatten() {
            *power = 10.0 * (*power / loudest + FLOOR).log10();
        }
        let silent = |levels: &Levels| levels.iter().all(|level| *level < SILENT);
        Ok(Self {
            hop: step,
            silent: analyser.levels.iter().map(silent).collect(),
            levels: analyser.levels,
        })
    }
}

/// Two channels at a time: one is the real, the other the imaginary part.
struct Analyser {
    fft: Arc<dyn Fft<f32>>,
    window: Vec<f32>,
    /// The first bin of each band, and the bin after the last.
    edges: [usize; BANDS + 1],
    step: usize,
    waiting: Vec<Complex<f32>>,
    at: usize,
    spectrum: Vec<Complex<f32>>,
    scratch: Vec<Complex<f32>>,
    last: Levels,
    /// Powers, as long as the loudest is not known.
    levels: Vec<Levels>,
}

impl Analyser {
    fn new(rate: f64, step: usize) -> Self {
        let length = size(rounded(rate * WINDOW)).next_power_of_two().max(64);
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
            last: [0.0; BANDS],
            levels: Vec::new(),
        }
    }

    fn feed(&mut self, block: &Block) {
        self.waiting.drain(..self.at.min(self.waiting.len()));
        self.at = 0;
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
            self.analyse();
            self.at += self.step;
        }
    }

    fn analyse(&mut self) {
        let length = self.window.len();
        let from = &self.waiting[self.at..self.at + length];
        for ((to, sample), weight) in self.spectrum.iter_mut().zip(from).zip(&self.window) {
            *to = sample * weight;
        }
        self.fft.process_with_scratch(&mut self.spectrum, &mut self.scratch);
        let spectrum = &self.spectrum;
        // What both channels hold in a bin, whatever their phase.
        let powers: Levels = std::array::from_fn(|band| {
            let bins = self.edges[band]..self.edges[band + 1].min(length / 2);
            bins.map(|bin| spectrum[bin].norm_sqr() + spectrum[length - bin].norm_sqr()).sum()
        });
        let both = std::array::from_fn(|band| self.last[band] + powers[band]);
        self.levels.push(both);
        self.last = powers;
    }
}
