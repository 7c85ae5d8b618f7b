//! Sample rate conversion by any ratio of two whole numbers: linear phase, no delay.
//!
//! Ratios with small terms go through one pair of Fourier transforms a block ([`spectral`]). Others
//! go through a transform to about twice the lower rate, where a short interpolator ([`fine`])
//! picks the frames. `docs/quality.md` has the figures.

mod fine;
mod prototype;
mod silence;
mod spectral;

use crate::block::{Block, Source};
use crate::error::Result;
use crate::num::{common_divisor, count, scaled, size};
use crate::units::SampleRate;
use fine::Fine;
pub(super) use prototype::{kaiser, kaiser_beta, sinc};
use spectral::Spectral;

/// Reduced terms beyond this make blocks too long to be worth it.
const LARGEST_TERM: u64 = 2048;
/// Transforms of lengths with larger prime factors are slow.
const LARGEST_PRIME: u64 = 31;
/// Blocks that grow by more than this take too much memory.
const STEEPEST: u64 = 32;

/// Converts what a source gives to another rate.
pub struct Resampler<S> {
    source: S,
    out_rate: SampleRate,
    /// So many frames in …
    from: u64,
    /// … give so many out.
    to: u64,
    stages: Stages,
    pulled: Block,
    taken: u64,
    given: u64,
    ended: bool,
}

/// One or two engines in a row.
struct Stages {
    spectral: Spectral,
    fine: Option<Fine>,
    between: Block,
}

impl<S: Source> Resampler<S> {
    /// Converts to `out_rate`; the same rate again only costs time.
    pub fn new(source: S, out_rate: SampleRate) -> Self {
        let (from, to) = (source.rate().hertz().into(), out_rate.hertz().into());
        Self::by(source, from, to, out_rate)
    }

    /// Makes `to` frames of every `from`, whatever the rates say: what comes out is called
    /// `out_rate`, and so plays faster or slower. Both must be above 0.
    pub fn by(source: S, from: u64, to: u64, out_rate: SampleRate) -> Self {
        let channels = source.channels();
        Self {
            pulled: Block::new(channels),
            stages: Stages::plan(from, to, channels),
            source,
            out_rate,
            from,
            to,
            taken: 0,
            given: 0,
            ended: false,
        }
    }

    /// Frames that are due once the source has ended: `round(n · to / from)`.
    fn total(&self) -> u64 {
        scaled(self.taken, self.to, self.from)
    }
}

fn largest_prime(mut n: u64) -> u64 {
    let (mut largest, mut factor) = (1, 2);
    while factor * factor <= n {
        if n.is_multiple_of(factor) {
            largest = factor;
            n /= factor;
        } else {
            factor += 1;
        }
    }
    largest.max(n)
}

impl Stages {
    fn plan(a: u64, b: u64, channels: usize) -> Self {
        let divisor = common_divisor(a, b);
        let (down, up) = (a / divisor, b / divisor);
        let simple = down.max(up) <= LARGEST_TERM
            && up <= STEEPEST * down
            && largest_prime(down).max(largest_prime(up)) <= LARGEST_PRIME;
        if simple {
            return Self {
                spectral: Spectral::new(down, up, down.min(up), down, channels),
                fine: None,
                between: Block::new(channels),
            };
        }
        // In between: at least twice the lower rate, by the simplest ratio that gives it.
        let mut halvings = 1;
        while a >= halvings * 2 * a.min(b) {
            halvings *= 2;
        }
        let divisor = common_divisor(2, halvings);
        let (up_first, down_first) = (2 / divisor, halvings / divisor);
        Self {
            spectral: Spectral::new(down_first, up_first, a.min(b), a, channels),
            fine: Some(Fine::new(a * up_first, b * down_first, channels)),
            between: Block::new(channels),
        }
    }

    fn put(&mut self, block: &Block) {
        self.spectral.put(block);
    }

    fn take(&mut self, out: &mut Block, ended: bool) {
        let Some(fine) = &mut self.fine else {
            self.spectral.take(out, ended);
            return;
        };
        loop {
            fine.take(out);
            if !out.is_empty() {
                return;
            }
            self.spectral.take(&mut self.between, ended);
            if self.between.is_empty() {
                return;
            }
            fine.put(&self.between);
        }
    }
}

impl<S: Source> Source for Resampler<S> {
    fn rate(&self) -> SampleRate {
        self.out_rate
    }

    fn channels(&self) -> usize {
        self.source.channels()
    }

    fn next(&mut self, block: &mut Block) -> Result<()> {
        loop {
            if self.ended && self.given >= self.total() {
                block.clear();
                return Ok(());
            }
            self.stages.take(block, self.ended);
            if !block.is_empty() {
                if self.ended {
                    let left = size(self.total() - self.given);
                    let keep = block.frames().min(left);
                    block.shape(self.source.channels(), keep);
                }
                self.given += count(block.frames());
                return Ok(());
            }
            self.source.next(&mut self.pulled)?;
            self.ended = self.pulled.is_empty();
            self.taken += count(self.pulled.frames());
            self.stages.put(&self.pulled);
        }
    }
}

#[cfg(test)]
mod tests;
