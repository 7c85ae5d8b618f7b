//! Picking frames at any rational step from a signal that fills only half of its band.

use super::prototype::{kaiser, kaiser_beta, kaiser_length, sinc};
use crate::block::{BLOCK_FRAMES, Block};
use crate::dot::dot;
use crate::num::{real, real_size, size};

/// The filter's stop-band in dB: the signal ends at 0.505 of Nyquist, its first image begins at 1.495.
const ATTENUATION: f64 = 160.0;
const TRANSITION: f64 = 0.99;
/// Samples of the filter; [`kaiser_length`] asks for 21.4 (a test holds them together).
const TAPS: usize = 24;
/// Positions between two samples for which the filter is kept; between them it is interpolated by
/// a cubic, whose error is below −190 dB.
const PHASES: usize = 256;

/// Converts by any rational step.
pub struct Fine {
    /// Frames in for every frame out: `whole + part / parts`.
    whole: usize,
    part: u64,
    parts: u64,
    /// The next frame out lies `at` frames behind the first one waiting, and `phase / parts` more.
    at: usize,
    phase: u64,
    table: Vec<[f64; TAPS]>,
    waiting: Vec<Vec<f64>>,
}

impl Fine {
    /// Gives `to` frames for every `from` frames.
    pub fn new(from: u64, to: u64, channels: usize) -> Self {
        debug_assert!(kaiser_length(ATTENUATION, TRANSITION) < real_size(TAPS));
        Self {
            whole: size(from / to),
            part: from % to,
            parts: to,
            at: 0,
            phase: 0,
            table: table(),
            // The filter reaches TAPS / 2 - 1 frames back.
            waiting: vec![vec![0.0; TAPS / 2 - 1]; channels],
        }
    }

    /// Begins this many frames in later.
    pub fn skip(&mut self, frames: u64) {
        self.at += size(frames);
    }

    /// Takes in frames.
    pub fn put(&mut self, block: &Block) {
        for (waiting, samples) in self.waiting.iter_mut().zip(block.channels()) {
            waiting.extend_from_slice(samples);
        }
    }

    /// Gives the next frames; none where more must be put in first.
    pub fn take(&mut self, out: &mut Block) {
        out.shape(self.waiting.len(), BLOCK_FRAMES);
        let held = self.waiting.first().map_or(0, Vec::len);
        let mut made = 0;
        while made < BLOCK_FRAMES && self.at + TAPS <= held {
            let taps = self.filter();
            for (waiting, samples) in self.waiting.iter().zip(out.channels_mut()) {
                samples[made] = dot(&waiting[self.at..self.at + TAPS], &taps);
            }
            made += 1;
            self.at += self.whole;
            self.phase += self.part;
            if self.phase >= self.parts {
                self.phase -= self.parts;
                self.at += 1;
            }
        }
        let done = self.at.min(held);
        self.at -= done;
        for waiting in &mut self.waiting {
            waiting.drain(..done);
        }
        out.shape(self.waiting.len(), made);
    }

    /// The filter for this position, by Lagrange's cubic through four neighbours in the table.
    fn filter(&self) -> [f64; TAPS] {
        let place = real(self.phase) / real(self.parts) * real_size(PHASES);
        let index = size(crate::num::rounded(place.floor())).min(PHASES - 1);
        let x = place - real_size(index);
        let [below, above, beyond] = [x + 1.0, x - 1.0, x - 2.0];
        let weights = [
            -x * above * beyond / 6.0,
            below * above * beyond / 2.0,
            -below * x * beyond / 2.0,
            below * x * above / 6.0,
        ];
        let mut taps = [0.0; TAPS];
        for (row, weight) in self.table[index..index + 4].iter().zip(weights) {
            for (tap, value) in taps.iter_mut().zip(row) {
                *tap += weight * value;
            }
        }
        taps
    }
}

/// Row `p` holds the filter for a position of `(p − 1) / PHASES`; each row adds up to exactly 1, and
/// so does every mixture of rows.
fn table() -> Vec<[f64; TAPS]> {
    let beta = kaiser_beta(ATTENUATION);
    let half = real_size(TAPS) / 2.0;
    (0..PHASES + 3)
        .map(|row| {
            let position = (real_size(row) - 1.0) / real_size(PHASES);
            let mut taps = [0.0; TAPS];
            for (index, tap) in taps.iter_mut().enumerate() {
                let time = real_size(index) - (half - 1.0) - position;
                *tap = sinc(time) * kaiser(time / half, beta);
            }
            let sum: f64 = taps.iter().sum();
            taps.map(|tap| tap / sum)
        })
        .collect()
}
