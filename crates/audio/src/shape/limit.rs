//! A look-ahead limiter that holds true peaks below a ceiling.
//!
//! For every frame the gain that its peak allows is found; the smallest within the look-ahead counts,
//! rises again slowly, and is smoothed by a window as long as the look-ahead, so that it has arrived
//! when the peak comes and never steps.

use super::oversample::{PeakFinder, TAPS};
use crate::block::{Block, Source};
use crate::dot::dot;
use crate::error::Result;
use crate::num::{count, decibels, real, real_size, single, size};
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
/// Gains that move within so many seconds are heard as distortion: slower ones as another level.
const RIDE: f64 = 0.03;

/// What the limiter did.
#[derive(Debug, Clone, Copy, Default, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct Limited {
    /// The greatest reduction, in dB.
    pub most: f64,
    /// For how long it worked, in frames.
    pub frames: u64,
    /// What it adds to the sound while it works: all that is not the sound itself, made quieter, beside the sound.
    pub distortion: f64,
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
    /// The peaks of waiting frames, from the next to be judged on.
    peaks: VecDeque<f32>,
    singles: Vec<f32>,
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
    /// A gain below this is work.
    notable: f64,
    riding: Riding,
    /// Frames of a stretch of it.
    ride: u64,
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
            peaks: VecDeque::new(),
            singles: Vec::new(),
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
            notable: 10f64.powf(-NOTABLE / 20.0),
            riding: Riding::default(),
            ride: source.rate().frames(RIDE).max(1),
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
        self.read_peaks();
        Ok(())
    }

    /// Reads the peaks of all frames that enough has come behind.
    fn read_peaks(&mut self) {
        let first = size(self.judged - self.given) + self.peaks.len();
        let held = self.waiting.first().map_or(0, Vec::len);
        let Some(frames) = (held + 1).checked_sub(first + TAPS) else { return };
        let from = self.peaks.len();
        self.peaks.resize(from + frames, 0.0);
        for waiting in &self.waiting {
            self.singles.clear();
            self.singles.extend(waiting[first..].iter().map(|sample| single(*sample)));
            let least = single(self.ceiling);
            self.finder.peaks(&self.singles, least, &mut self.peaks.make_contiguous()[from..]);
        }
    }

    /// Judges the next frame, and gives the gain for the frame `look - 1` before it.
    fn judge(&mut self) -> f64 {
        // Frames that stay below the ceiling allow all.
        let peak = self.peaks.pop_front().map_or(0.0, f64::from);
        let allowed = (self.ceiling / peak.max(self.ceiling)).min(1.0);
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
        let (mut least, mut worked) = (1.0f64, 0);
        for frame in 0..frames {
            let gain = self.judge();
            least = least.min(gain);
            let mut power = 0.0;
            for (samples, waiting) in block.channels_mut().iter_mut().zip(&self.waiting) {
                let sample = waiting[TAPS / 2 - 1 + frame];
                power += sample * sample;
                samples[frame] = sample * gain;
            }
            if gain < self.notable {
                worked += 1;
                self.riding.add(gain, power);
            }
            if (self.given + count(frame)).is_multiple_of(self.ride) {
                self.riding.close();
            }
        }
        for waiting in &mut self.waiting {
            waiting.drain(..frames);
        }
        self.given += count(frames);
        if let Ok(mut report) = self.report.lock() {
            report.most = report.most.max(-decibels(least));
            report.frames += worked;
            report.distortion = self.riding.distortion();
        }
    }
}

/// How much the gain moves within stretches so short that the ear takes it for another sound, no longer for another
/// level.
#[derive(Debug, Default)]
struct Riding {
    /// Of the stretch under way: the sound's power, as it is, under the gain, and under its square.
    sums: [f64; 3],
    /// Of all before.
    added: f64,
    kept: f64,
}

impl Riding {
    fn add(&mut self, gain: f64, power: f64) {
        let [plain, once, twice] = &mut self.sums;
        *plain += power;
        *once += gain * power;
        *twice += gain * gain * power;
    }

    /// What the mean gain of the stretch does not explain was added; the rest is the sound.
    fn stretch(&self) -> [f64; 2] {
        let [plain, once, twice] = self.sums;
        let added = if plain > 0.0 { (twice - once * once / plain).max(0.0) } else { 0.0 };
        [added, twice]
    }

    fn close(&mut self) {
        let [added, kept] = self.stretch();
        self.added += added;
        self.kept += kept;
        self.sums = [0.0; 3];
    }

    /// As a part of what is heard meanwhile.
    fn distortion(&self) -> f64 {
        let [added, kept] = self.stretch();
        ((self.added + added) / (self.kept + kept).max(1e-30)).sqrt()
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
