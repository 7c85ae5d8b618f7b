//! Conversion by overlap-save: a block's spectrum is filtered, cut or extended, and folded.

use super::prototype;
use super::silence::SilentRuns;
use crate::block::Block;
use crate::num::{count, real, rounded, size};
use realfft::num_complex::Complex;
use realfft::{ComplexToReal, RealFftPlanner, RealToComplex};
use std::sync::Arc;

/// Blocks of about this many frames at the lower rate: longer ones leave the fast caches.
const BLOCK: u64 = 4096;
/// At the higher rate no longer than this where the guards allow it, which bounds memory.
const LONGEST_BLOCK: u64 = 1 << 17;

/// Converts by `up / down`, block by block.
pub struct Spectral {
    forward: Arc<dyn RealToComplex<f64>>,
    inverse: Arc<dyn ComplexToReal<f64>>,
    gains: Vec<f64>,
    guard_in: usize,
    guard_out: usize,
    hop_in: usize,
    hop_out: usize,
    channels: Vec<Channel>,
    silence: SilentRuns,
    window: usize,
    spectrum: Vec<Complex<f64>>,
    folded: Vec<Complex<f64>>,
    scratch: Vec<Complex<f64>>,
    work: Vec<f64>,
    result: Vec<f64>,
}

/// What a channel has been given and not yet passed on; the first samples are a guard.
struct Channel {
    waiting: Vec<f64>,
}

impl Spectral {
    /// `lower / from` is the lower of the two rates whose Nyquist frequency counts, as a fraction
    /// of the rate that comes in.
    pub fn new(down: u64, up: u64, lower: u64, from: u64, channels: usize) -> Self {
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
        let mut planner = RealFftPlanner::<f64>::new();
        let forward = planner.plan_fft_forward(window);
        let inverse = planner.plan_fft_inverse(out);
        let scale = 1.0 / real(count(window));
        let gains = prototype::spectrum(real(count(window)) * ratio)
            .into_iter()
            .map(|gain| gain * scale)
            .collect();
        let hop = blocks - 2 * guards;
        let [guard_in, guard_out] = [down, up].map(|term| size(guards * term));
        let scratch = forward.get_scratch_len().max(inverse.get_scratch_len());
        Self {
            gains,
            guard_in,
            guard_out,
            hop_in: size(hop * down),
            hop_out: size(hop * up),
            channels: (0..channels)
                .map(|_| Channel {
                    waiting: vec![0.0; guard_in],
                })
                .collect(),
            silence: SilentRuns::new(size(half)),
            window,
            spectrum: forward.make_output_vec(),
            folded: inverse.make_input_vec(),
            scratch: vec![Complex::default(); scratch],
            work: vec![0.0; window],
            result: vec![0.0; out],
            forward,
            inverse,
        }
    }

    /// Takes in frames.
    pub fn put(&mut self, block: &Block) {
        for (channel, samples) in self.channels.iter_mut().zip(block.channels()) {
            channel.waiting.extend_from_slice(samples);
        }
    }

    /// Gives the next frames; none where more must be put in first. Once the source has `ended`,
    /// silence follows without end.
    pub fn take(&mut self, out: &mut Block, ended: bool) {
        out.shape(self.channels.len(), 0);
        let waiting = self.channels.first().map_or(0, |c| c.waiting.len());
        if waiting < self.window && !ended {
            return;
        }
        out.shape(self.channels.len(), self.hop_out);
        let mut channels = std::mem::take(&mut self.channels);
        for (channel, samples) in channels.iter_mut().zip(out.channels_mut()) {
            if channel.waiting.len() < self.window {
                channel.waiting.resize(self.window, 0.0);
            }
            self.convert(&channel.waiting[..self.window], samples);
            channel.waiting.drain(..self.hop_in);
        }
        self.channels = channels;
    }

    fn convert(&mut self, window: &[f64], out: &mut [f64]) {
        self.silence.find(window);
        if self.silence.is_everything(window.len()) {
            out.fill(0.0);
            return;
        }
        self.work.copy_from_slice(window);
        let forward = self.forward.process_with_scratch(
            &mut self.work,
            &mut self.spectrum,
            &mut self.scratch[..self.forward.get_scratch_len()],
        );
        self.fold();
        let inverse = self.inverse.process_with_scratch(
            &mut self.folded,
            &mut self.result,
            &mut self.scratch[..self.inverse.get_scratch_len()],
        );
        debug_assert!(forward.is_ok() && inverse.is_ok(), "lengths are as planned");
        out.copy_from_slice(&self.result[self.guard_out..self.guard_out + self.hop_out]);
        self.silence
            .restore(out, self.guard_in, count(self.hop_in), count(self.hop_out));
    }

    /// Filters the spectrum of what came in, which repeats beyond Nyquist, and folds it around the
    /// Nyquist frequency of what goes out.
    fn fold(&mut self) {
        let (size_in, size_out) = (self.window, self.result.len());
        let (half_in, half_out) = (size_in / 2, size_out / 2);
        let plain = self.gains.len().min(half_in + 1).min(half_out);
        let filtered = self.spectrum.iter().zip(&self.gains);
        for (target, (bin, gain)) in self.folded[..plain].iter_mut().zip(filtered) {
            *target = bin * gain;
        }
        self.folded[plain..].fill(Complex::default());
        for (bin, gain) in self.gains.iter().enumerate().skip(plain) {
            let mirrored = bin % size_in;
            let value = if mirrored <= half_in {
                self.spectrum[mirrored]
            } else {
                self.spectrum[size_in - mirrored].conj()
            } * gain;
            match bin % size_out {
                place if place == half_out => self.folded[place] += value + value.conj(),
                place if place < half_out => self.folded[place] += value,
                place => self.folded[size_out - place] += value.conj(),
            }
        }
        // What a real signal has at 0 and at Nyquist is real.
        self.folded[0].im = 0.0;
        self.folded[half_out].im = 0.0;
    }
}
