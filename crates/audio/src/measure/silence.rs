//! Silence at both ends, and the sounds that lie between silences.

use crate::block::Block;
use crate::num::{count, real, size};
use crate::units::{FrameRange, SampleRate};
use schemars::JsonSchema;
use serde::Serialize;

/// What counts as silence: windows whose RMS in every channel is below this.
pub const SILENCE_DBFS: f64 = -60.0;
/// The window, in seconds: short enough to place an edge, long enough not to mind single samples.
const WINDOW: f64 = 0.005;
/// Two sounds are one where less silence than this lies between them, in seconds.
const SHORTEST_GAP: f64 = 0.3;

/// What was found, in frames.
#[derive(Debug, Clone, Default, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Silence {
    /// Silent frames at the start; all of them where nothing sounds.
    pub head: u64,
    /// Silent frames at the end.
    pub tail: u64,
    /// The sounds, in order.
    pub sounds: Vec<FrameRange>,
}

/// Measures windows as they come.
#[derive(Debug)]
pub struct SilenceFinder {
    window: u64,
    gap: u64,
    threshold: f64,
    energies: Vec<f64>,
    filled: u64,
    at: u64,
    sounds: Vec<FrameRange>,
}

impl SilenceFinder {
    pub fn new(rate: SampleRate, channels: usize) -> Self {
        Self::below(rate, channels, SILENCE_DBFS)
    }

    /// With another idea of silence, in dBFS.
    pub fn below(rate: SampleRate, channels: usize, level: f64) -> Self {
        Self {
            window: rate.frames(WINDOW).max(1),
            gap: rate.frames(SHORTEST_GAP),
            threshold: 10f64.powf(level / 10.0),
            energies: vec![0.0; channels],
            filled: 0,
            at: 0,
            sounds: Vec::new(),
        }
    }

    pub fn feed(&mut self, block: &Block) {
        let mut from = 0;
        while from < block.frames() {
            let take = size(self.window - self.filled).min(block.frames() - from);
            for (energy, samples) in self.energies.iter_mut().zip(block.channels()) {
                *energy += energy_of(&samples[from..from + take]);
            }
            from += take;
            self.filled += count(take);
            if self.filled == self.window {
                self.close_window();
            }
        }
    }

    fn close_window(&mut self) {
        let frames = real(self.filled.max(1));
        let loudest = self.energies.iter().fold(0.0, |a: f64, &b| a.max(b)) / frames;
        let (start, end) = (self.at, self.at + self.filled);
        if loudest >= self.threshold {
            match self.sounds.last_mut() {
                Some(last) if start - last.end < self.gap => last.end = end,
                _ => self.sounds.push(FrameRange { start, end }),
            }
        }
        self.at = end;
        self.filled = 0;
        self.energies.fill(0.0);
    }

    pub fn finish(mut self) -> Silence {
        if self.filled > 0 {
            self.close_window();
        }
        Silence {
            head: self.sounds.first().map_or(self.at, |first| first.start),
            tail: self.sounds.last().map_or(self.at, |last| self.at - last.end),
            sounds: self.sounds,
        }
    }
}

fn energy_of(samples: &[f64]) -> f64 {
    const LANES: usize = 4;
    let mut sums = [0.0; LANES];
    let chunks = samples.chunks_exact(LANES);
    let rest: f64 = chunks.remainder().iter().map(|s| s * s).sum();
    for chunk in chunks {
        for lane in 0..LANES {
            sums[lane] += chunk[lane] * chunk[lane];
        }
    }
    rest + sums.iter().sum::<f64>()
}
