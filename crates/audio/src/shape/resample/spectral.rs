//! Conversion by overlap-save: a block's spectrum is filtered, cut or extended, and folded.

use super::prototype;
use super::silence::SilentRuns;
use crate::block::Block;
use crate::num::{count, real, rounded, size};
use rustfft::num_complex::Complex;
use rustfft::{Fft, FftPlanner};
use std::sync::{Arc, Mutex, PoisonError};

/// Blocks of about this many frames at the lower rate: longer ones leave the fast caches.
const BLOCK: u64 = 4096;
/// At the higher rate no longer than this where the guards allow it, which bounds memory.
const LONGEST_BLOCK: u64 = 1 << 17;

/// Converts by `up / down`, two blocks at a time: one is the real, one the imaginary part of what
/// is transformed. The filter has no delay, so that its spectrum is real and keeps them apart.
pub struct Spectral {
    design: Arc<Design>,
    /// What each channel has been given and not yet passed on; the first samples are a guard.
    waiting: Vec<Vec<f64>>,
    silence: SilentRuns,
    spectrum: Vec<Complex<f64>>,
    folded: Vec<Complex<f64>>,
    scratch: Vec<Complex<f64>>,
}

/// What is the same for all clips of a ratio: transforms, the filter, lengths.
struct Design {
    forward: Arc<dyn Fft<f64>>,
    inverse: Arc<dyn Fft<f64>>,
    gains: Vec<f64>,
    guard_in: usize,
    guard_out: usize,
    hop_in: usize,
    hop_out: usize,
    /// Frames of half the filter.
    half: u64,
    /// Frames of both transforms.
    window: usize,
    out: usize,
}

/// The ratio, and the lower rate as a part of the one that comes in.
type Ratio = [u64; 4];

/// Designs that were made last: working one out takes as long as converting a second of sound.
static KNOWN: Mutex<Vec<(Ratio, Arc<Design>)>> = Mutex::new(Vec::new());
/// How many are kept.
const MOST_KNOWN: usize = 8;

impl Design {
    fn of(ratio: Ratio) -> Arc<Self> {
        let known = || KNOWN.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((_, design)) = known().iter().find(|(own, _)| *own == ratio) {
            return Arc::clone(design);
        }
        let design = Arc::new(Self::new(ratio));
        let mut all = known();
        if all.len() == MOST_KNOWN {
            all.remove(0);
        }
        all.push((ratio, Arc::clone(&design)));
        design
    }

    fn new([down, up, lower, from]: Ratio) -> Self {
        let ratio = real(lower) / real(from);
        let half = rounded((prototype::half_length() / ratio).ceil());
        let guards = half.div_ceil(down);
        let longest = LONGEST_BLOCK * down / down.max(up);
        let usual = rounded(real(BLOCK) / ratio).min(longest);
        let least = usual.max(4 * guards * down);
        let mut blocks = 2;
        while blocks * down < least {
            blocks *= 2;
        }
        let [window, out] = [down, up].map(|term| size(blocks * term));
        let mut planner = FftPlanner::new();
        let forward = planner.plan_fft_forward(window);
        let inverse = planner.plan_fft_inverse(out);
        let scale = 1.0 / real(count(window));
        let gains = prototype::spectrum(real(count(window)) * ratio)
            .into_iter()
            .map(|gain| gain * scale)
            .collect();
        let hop = blocks - 2 * guards;
        let [guard_in, guard_out] = [down, up].map(|term| size(guards * term));
        Self {
            gains,
            guard_in,
            guard_out,
            hop_in: size(hop * down),
            hop_out: size(hop * up),
            half,
            window,
            out,
            forward,
            inverse,
        }
    }
}

impl Spectral {
    /// `lower / from` is the lower of the two rates whose Nyquist frequency counts, as a fraction
    /// of the rate that comes in.
    pub fn new(down: u64, up: u64, lower: u64, from: u64, channels: usize) -> Self {
        let design = Design::of([down, up, lower, from]);
        let (forward, inverse) = (&design.forward, &design.inverse);
        let scratch = forward.get_inplace_scratch_len().max(inverse.get_inplace_scratch_len());
        Self {
            waiting: vec![vec![0.0; design.guard_in]; channels],
            silence: SilentRuns::new(size(design.half)),
            spectrum: vec![Complex::default(); design.window],
            folded: vec![Complex::default(); design.out],
            scratch: vec![Complex::default(); scratch],
            design,
        }
    }

    /// Takes in frames.
    pub fn put(&mut self, block: &Block) {
        for (waiting, samples) in self.waiting.iter_mut().zip(block.channels()) {
            waiting.extend_from_slice(samples);
        }
    }

    /// Gives the next frames; none where more must be put in first. Once the source has `ended`,
    /// silence follows without end.
    pub fn take(&mut self, out: &mut Block, ended: bool) {
        let needed = self.spectrum.len() + self.design.hop_in;
        let held = self.waiting.first().map_or(0, Vec::len);
        if held < needed && !ended {
            out.clear();
            return;
        }
        out.shape(self.waiting.len(), 2 * self.design.hop_out);
        let mut waiting = std::mem::take(&mut self.waiting);
        for (samples, out) in waiting.iter_mut().zip(out.channels_mut()) {
            if samples.len() < needed {
                samples.resize(needed, 0.0);
            }
            self.convert(&samples[..needed], out);
            samples.drain(..2 * self.design.hop_in);
        }
        self.waiting = waiting;
    }

    /// Converts two overlapping windows to two stretches of output.
    fn convert(&mut self, samples: &[f64], out: &mut [f64]) {
        self.silence.find(samples);
        if self.silence.is_everything(samples.len()) {
            out.fill(0.0);
            return;
        }
        let both = samples.iter().zip(&samples[self.design.hop_in..]);
        for (bin, (&re, &im)) in self.spectrum.iter_mut().zip(both) {
            *bin = Complex { re, im };
        }
        self.design.forward.process_with_scratch(&mut self.spectrum, &mut self.scratch);
        self.fold();
        self.design.inverse.process_with_scratch(&mut self.folded, &mut self.scratch);
        let valid =
            &self.folded[self.design.guard_out..self.design.guard_out + self.design.hop_out];
        let (first, second) = out.split_at_mut(self.design.hop_out);
        for ((first, second), bin) in first.iter_mut().zip(second).zip(valid) {
            *first = bin.re;
            *second = bin.im;
        }
        let (step_in, step_out) = (count(self.design.hop_in), count(self.design.hop_out));
        self.silence.restore(out, self.design.guard_in, step_in, step_out);
    }

    /// Filters the spectrum of what came in, which repeats beyond Nyquist, and folds it around the
    /// Nyquist frequency of what goes out.
    fn fold(&mut self) {
        let (size_in, size_out) = (self.spectrum.len(), self.folded.len());
        // As far as nothing repeats and nothing folds, bins go straight to their places.
        let plain = self.design.gains.len().min(size_in / 2).min(size_out / 2);
        self.folded[0] = self.spectrum[0] * self.design.gains[0];
        for bin in 1..plain {
            self.folded[bin] = self.spectrum[bin] * self.design.gains[bin];
            self.folded[size_out - bin] = self.spectrum[size_in - bin] * self.design.gains[bin];
        }
        self.folded[plain..=size_out - plain].fill(Complex::default());
        for (bin, gain) in self.design.gains.iter().enumerate().skip(plain) {
            let up = self.spectrum[bin % size_in] * gain;
            let down = self.spectrum[(size_in - bin % size_in) % size_in] * gain;
            self.folded[bin % size_out] += up;
            self.folded[(size_out - bin % size_out) % size_out] += down;
        }
    }
}
