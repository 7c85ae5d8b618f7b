//! Clipped places: several samples in a row at full scale.

use crate::block::Block;
use crate::num::count;
use crate::spec::Kind;
use crate::units::FrameRange;
use schemars::JsonSchema;
use serde::Serialize;

/// How many samples in a row at full scale count as clipped; fewer are ordinary peaks.
pub const SHORTEST_RUN: u64 = 3;
/// How many places are listed.
const MOST_LISTED: usize = 32;

/// What was found.
#[derive(Debug, Clone, Default, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Clipped {
    /// How many places, over all channels.
    pub runs: u64,
    /// How many samples in them.
    pub samples: u64,
    /// The first of them.
    pub first: Vec<FrameRange>,
}

/// Full scale: the largest positive code of integers, 1 otherwise.
pub fn full_scale(kind: Kind) -> f64 {
    match kind {
        Kind::Integer(bits) => 1.0 - 0.5f64.powi(i32::try_from(bits).unwrap_or(32) - 1),
        Kind::Float(_) | Kind::Lossy => 1.0,
    }
}

/// Looks for runs in every channel.
#[derive(Debug)]
pub struct ClipFinder {
    full_scale: f64,
    at: u64,
    runs: Vec<u64>,
    found: Clipped,
}

impl ClipFinder {
    pub fn new(channels: usize, kind: Kind) -> Self {
        Self {
            full_scale: full_scale(kind),
            at: 0,
            runs: vec![0; channels],
            found: Clipped::default(),
        }
    }

    /// Takes in a block, whose channels have these peaks.
    pub fn feed(&mut self, block: &Block, peaks: &[f64]) {
        for ((run, samples), peak) in self.runs.iter_mut().zip(block.channels()).zip(peaks) {
            // Most blocks have nothing.
            if *run == 0 && *peak < self.full_scale {
                continue;
            }
            for (at, sample) in (self.at..).zip(samples) {
                if sample.abs() >= self.full_scale {
                    *run += 1;
                } else if *run > 0 {
                    self.found.take(at, *run);
                    *run = 0;
                }
            }
        }
        self.at += count(block.frames());
    }

    pub fn finish(mut self) -> Clipped {
        for run in self.runs {
            self.found.take(self.at, run);
        }
        self.found.first.sort_by_key(|range| range.start);
        self.found
    }
}

impl Clipped {
    fn take(&mut self, end: u64, run: u64) {
        if run < SHORTEST_RUN {
            return;
        }
        self.runs += 1;
        self.samples += run;
        if self.first.len() < MOST_LISTED {
            self.first.push(FrameRange { start: end - run, end });
        }
    }
}
