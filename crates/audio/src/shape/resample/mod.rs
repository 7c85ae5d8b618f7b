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
use crate::num::{common_divisor, count, real, rounded, scaled, size};
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
    /// This many frames in …
    from: u64,
    /// … give this many out.
    to: u64,
    stages: Stages,
    pulled: Block,
    /// Frames that come in before the first that counts.
    lead: u64,
    /// Frames out that are still to be dropped for them.
    dropped: u64,
    taken: u64,
    given: u64,
    ended: bool,
}

/// What the first of the engines does: alone, or towards a rate at which the second picks frames.
struct First {
    down: u64,
    up: u64,
    alone: bool,
}

/// How many frames on either side of a place bear on what it becomes where `from` frames give `to`,
/// as a whole number of steps of the first engine: a lead of this many keeps every frame in its place.
pub fn reach(from: u64, to: u64) -> u64 {
    /// The second engine's share, in samples of the lower rate.
    const PICKING: f64 = 8.0;
    let steep = (real(from) / real(to)).max(1.0);
    let frames = rounded(((prototype::half_length() + PICKING) * steep).ceil());
    frames.next_multiple_of(First::of(from, to).down)
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
            lead: 0,
            dropped: 0,
            taken: 0,
            given: 0,
            ended: false,
        }
    }

    /// The first `frames` frames only tell what came before the first that counts; a multiple of what
    /// [`reach`] gives.
    #[must_use]
    pub fn with_lead(mut self, frames: u64) -> Self {
        let First { down, up, .. } = First::of(self.from, self.to);
        let skipped = frames / down * up;
        self.lead = frames;
        match &mut self.stages.fine {
            Some(fine) => fine.skip(skipped),
            None => self.dropped = skipped,
        }
        self
    }

    /// Frames that are due once the source has ended: `round(n · to / from)`.
    fn total(&self) -> u64 {
        scaled(self.taken.saturating_sub(self.lead), self.to, self.from)
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

impl First {
    fn of(a: u64, b: u64) -> Self {
        let divisor = common_divisor(a, b);
        let (down, up) = (a / divisor, b / divisor);
        let alone = down.max(up) <= LARGEST_TERM
            && up <= STEEPEST * down
            && largest_prime(down).max(largest_prime(up)) <= LARGEST_PRIME;
        if alone {
            return Self { down, up, alone };
        }
        // In between: at least twice the lower rate, by the simplest ratio that gives it.
        let mut halvings = 1;
        while a >= halvings * 2 * a.min(b) {
            halvings *= 2;
        }
        let divisor = common_divisor(2, halvings);
        Self { down: halvings / divisor, up: 2 / divisor, alone }
    }
}

impl Stages {
    fn plan(a: u64, b: u64, channels: usize) -> Self {
        let First { down, up, alone } = First::of(a, b);
        // The lower of both rates as a fraction of the one that comes in.
        let divisor = common_divisor(a, b);
        let (lower, from) = (a.min(b) / divisor, a / divisor);
        Self {
            spectral: Spectral::new(down, up, lower, from, channels),
            fine: (!alone).then(|| Fine::new(a * up, b * down, channels)),
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
                let dropped = self.dropped.min(count(block.frames()));
                self.dropped -= dropped;
                block.skip(size(dropped));
                if block.is_empty() {
                    continue;
                }
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
