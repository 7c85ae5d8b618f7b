//! A look-ahead limiter that holds true peaks below a ceiling.
//!
//! For every frame the gain that its peak allows is found; the smallest within the look-ahead counts,
//! rises again slowly, and is smoothed by a window as long as the look-ahead, so that it has arrived
//! when the peak comes and never steps.

use super::dot::dot;
use super::oversample::{PeakFinder, TAPS};
use crate::block::{Block, Source};
use crate::error::Result;
use crate::num::{count, decibels, real, real_size, size};
use crate::units::SampleRate;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::VecDeque;
use std::f64::consts::TAU;
use std::sync::{Arc, Mutex};

/// How far ahead peaks are seen, in seconds.
const LOOK_AHEAD: f64 = 0.0015;
/// How fast the gain rises again: to 1 − 1/e in this many seconds.
const RELEASE: f64 = 0.06;
/// What the reading of peaks and the moving gain may miss, in dB.
const MARGIN: f64 = 0.05;
/// A reduction below this is not counted as work, in dB.
const NOTABLE: f64 = 0.1;

/// What the limiter did.
#[derive(Debug, Clone, Copy, Default, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct Limited {
    /// The greatest reduction, in dB.
    pub most: f64,
    /// For how long it worked, in frames.
    pub frames: u64,
}

/// How many frames behind a place bear on it.
pub fn look_ahead(rate: SampleRate) -> u64 {
    rate.frames(LOOK_AHEAD).max(4) + count(TAPS)
}

/// Limits what a source gives.
pub struct Limiter<S> {
    source: S,
    ceiling: f64,
    finder: PeakFinder,
    look: usize,
    window: Vec<f64>,
    release: f64,
    /// Frames not yet given, channel by channel; the first `TAPS / 2` lie before the next one.
    waiting: Vec<Vec<f64>>,
    /// Gains that peaks allow, with their frames, rising: the sliding minimum.
    minima: VecDeque<(u64, f64)>,
    /// The last `look` gains after the release, for smoothing: a ring that is kept twice, so that
    /// they always lie in one piece.
    recent: Vec<f64>,
    turn: usize,
    /// How many frames have passed since a gain was below 1.
    resting: usize,
    released: f64,
    judged: u64,
    given: u64,
    taken: u64,
    ended: bool,
    pulled: Block,
    report: Arc<Mutex<Limited>>,
}

impl<S: Source> Limiter<S> {
    /// Holds peaks below `ceiling` dBTP, and writes what it did into `report`.
    pub fn new(source: S, ceiling: f64, report: Arc<Mutex<Limited>>) -> Self {
        let look = size(source.rate().frames(LOOK_AHEAD).max(4));
        let hann = |i: usize| 1.0 - (TAU * (real_size(i) + 0.5) / real_size(look)).cos();
        let sum: f64 = (0..look).map(hann).sum();
        let channels = source.channels();
        Self {
            ceiling: 10f64.powf((ceiling - MARGIN) / 20.0),
            finder: PeakFinder::new(),
            look,
            window: (0..look).map(|i| hann(i) / sum).collect(),
            release: 1.0 - (-1.0 / (RELEASE * source.rate().real())).exp(),
            waiting: vec![vec![0.0; TAPS / 2 - 1]; channels],
            minima: VecDeque::new(),
            recent: vec![1.0; 2 * look],
            turn: 0,
            resting: look,
            released: 1.0,
            judged: 0,
            given: 0,
            taken: 0,
            ended: false,
            pulled: Block::new(channels),
            source,
            report,
        }
    }

    fn pull(&mut self) -> Result<()> {
        self.source.next(&mut self.pulled)?;
        self.taken += count(self.pulled.frames());
        for (waiting, samples) in self.waiting.iter_mut().zip(self.pulled.channels()) {
            waiting.extend_from_slice(samples);
        }
        if self.pulled.is_empty() {
            self.ended = true;
            let silence = TAPS + 2 * self.look;
            for waiting in &mut self.waiting {
                waiting.extend(std::iter::repeat_n(0.0, silence));
            }
        }
        Ok(())
    }

    /// The gain that the peak of one waiting frame allows.
    fn allowed(&self, index: usize) -> f64 {
        let mut peak = 0.0f64;
        for waiting in &self.waiting {
            let window = &waiting[index..index + TAPS];
            // Between small samples there is nothing to find: an interpolated value is at most a few
            // times its neighbours.
            let near = window.iter().fold(0.0f64, |a, s| a.max(s.abs()));
            if near > self.ceiling / 2.5 {
                peak = peak.max(self.finder.peak(window));
            }
        }
        // Frames that stay below the ceiling allow all.
        (self.ceiling / peak.max(self.ceiling)).min(1.0)
    }

    /// Judges the next frame, and gives the gain for the frame `look - 1` before it.
    fn judge(&mut self) -> f64 {
        let index = size(self.judged - self.given);
        let allowed = self.allowed(index);
        while self.minima.back().is_some_and(|(_, gain)| *gain >= allowed) {
            self.minima.pop_back();
        }
        self.minima.push_back((self.judged, allowed));
        let oldest = self.judged.saturating_sub(count(self.look - 1));
        while self.minima.front().is_some_and(|(frame, _)| *frame < oldest) {
            self.minima.pop_front();
        }
        let smallest = self.minima.front().map_or(1.0, |(_, gain)| *gain);
        let risen = self.released + (1.0 - self.released) * self.release;
        // What nobody hears is nothing: it lets the limiter rest.
        let risen = if risen > 1.0 - 1e-7 { 1.0 } else { risen };
        self.released = smallest.min(risen);
        self.recent[self.turn] = self.released;
        self.recent[self.turn + self.look] = self.released;
        self.turn = (self.turn + 1) % self.look;
        self.judged += 1;
        self.resting = match self.released < 1.0 {
            true => 0,
            false => self.resting + 1,
        };
        if self.resting >= self.look {
            return 1.0;
        }
        dot(&self.recent[self.turn..self.turn + self.look], &self.window)
    }
}

impl<S: Source> Source for Limiter<S> {
    fn rate(&self) -> SampleRate {
        self.source.rate()
    }
    fn channels(&self) -> usize {
        self.source.channels()
    }
    fn next(&mut self, block: &mut Block) -> Result<()> {
        // What is given lies `look - 1` frames behind what is judged.
        let behind = self.look - 1;
        loop {
            let held = self.waiting.first().map_or(0, Vec::len);
            let ready = held.saturating_sub(TAPS + behind);
            let due = size(self.taken - self.given);
            let frames = ready.min(due);
            if frames > 0 {
                self.give(frames, block);
                return Ok(());
            }
            if self.ended {
                block.clear();
                return Ok(());
            }
            self.pull()?;
        }
    }
}

impl<S: Source> Limiter<S> {
    fn give(&mut self, frames: usize, block: &mut Block) {
        while self.judged < self.given + count(self.look - 1) {
            self.judge();
        }
        block.shape(self.waiting.len(), frames);
        let mut done = Limited::default();
        for frame in 0..frames {
            let gain = self.judge();
            let reduction = -decibels(gain);
            done.most = done.most.max(reduction);
            done.frames += u64::from(reduction > NOTABLE);
            for (samples, waiting) in block.channels_mut().iter_mut().zip(&self.waiting) {
                samples[frame] = waiting[TAPS / 2 - 1 + frame] * gain;
            }
        }
        for waiting in &mut self.waiting {
            waiting.drain(..frames);
        }
        self.given += count(frames);
        if let Ok(mut report) = self.report.lock() {
            report.most = report.most.max(done.most);
            report.frames += done.frames;
        }
    }
}

impl Limited {
    /// For how long it worked, in seconds.
    pub fn seconds(&self, rate: SampleRate) -> f64 {
        real(self.frames) / rate.real()
    }
}

#[cfg(test)]
mod tests;
