//! A sound that lasts longer or shorter at the pitch that it has: overlapping pieces of it are laid further apart or
//! closer together, each taken from where the wave goes on most as the piece before it would have (W. Verhelst and
//! M. Roelands, "An overlap-add technique based on waveform similarity", ICASSP 1993).

use crate::block::{Block, Source};
use crate::dot::dot;
use crate::error::Result;
use crate::num::{count, real, real_size, rounded, scaled, size};
use crate::units::SampleRate;
use std::f64::consts::PI;

/// From one piece to the next, in seconds: a few periods of a voice, shorter than a syllable.
const HOP: f64 = 0.02;
/// How far a piece may be taken from its place, in seconds: half a period of the lowest tones.
const REACH: f64 = 0.0125;
/// Likeness is looked for at about this rate first, in hertz.
const COARSE: f64 = 8000.0;
/// What a piece at the end of its reach must be more alike than one at its place: periods are all alike.
const FAR: f64 = 0.02;

/// Makes `to` frames out of the first `from` of a source, whose rate stays.
pub struct Lengthened<S> {
    source: S,
    from: u64,
    to: u64,
    hop: usize,
    reach: u64,
    /// How a piece comes in.
    rise: Vec<f64>,
    /// What came in and may still be needed, from this frame on.
    held: Block,
    start: u64,
    ended: bool,
    /// Where the last piece would go on.
    follows: u64,
    given: u64,
}

impl<S: Source> Lengthened<S> {
    /// By any ratio; 1/4 to 4 still sound like what they were.
    pub fn new(source: S, from: u64, to: u64) -> Self {
        let rate = source.rate();
        let hop = size(rate.frames(HOP)).max(2);
        let held = Block::new(source.channels());
        Self {
            source,
            from,
            to,
            hop,
            reach: rate.frames(REACH).max(1),
            rise: rise(hop),
            held,
            start: 0,
            ended: false,
            follows: 0,
            given: 0,
        }
    }

    /// Lets everything up to a frame come in, and what lies before another go.
    fn hold(&mut self, from: u64, to: u64) -> Result<()> {
        let gone = from.saturating_sub(self.start).min(count(self.held.frames()));
        self.held.skip(size(gone));
        self.start += gone;
        let mut block = Block::new(self.held.channels().len());
        while !self.ended && self.start + count(self.held.frames()) < to {
            self.source.next(&mut block)?;
            let came = self.start + count(self.held.frames());
            block.truncate(size(self.from.saturating_sub(came)));
            self.ended = block.is_empty();
            for (held, new) in self.held.channels_mut().iter_mut().zip(block.channels()) {
                held.extend_from_slice(new);
            }
        }
        Ok(())
    }

    /// Frames of a channel, silence where there are none.
    fn frames(&self, channel: usize, from: u64, length: usize) -> Vec<f64> {
        let held = &self.held.channels()[channel];
        let at = size(from.saturating_sub(self.start)).min(held.len());
        let mut out = held[at..(at + length).min(held.len())].to_vec();
        out.resize(length, 0.0);
        out
    }

    /// Where the piece is taken from that belongs at `place`.
    fn alike(&self, place: u64) -> u64 {
        let earliest = place.saturating_sub(self.reach);
        let width = size(place + self.reach - earliest);
        let step = size(rounded(self.source.rate().real() / COARSE)).max(1);
        let channels = 0..self.held.channels().len();
        let pairs: Vec<[Vec<f64>; 2]> = channels
            .map(|channel| {
                let wanted = self.frames(channel, self.follows, self.hop);
                [wanted, self.frames(channel, earliest, width + self.hop)]
            })
            .collect();
        let coarse: Vec<_> =
            pairs.iter().map(|pair| pair.each_ref().map(|s| thin(s, step))).collect();
        let middle = real(place - earliest);
        let score = |pairs: &[[Vec<f64>; 2]], offset: usize, step: usize| {
            let far = (real_size(offset * step) - middle) / real(self.reach);
            likeness(pairs, offset) - FAR * far * far
        };
        let best = |pairs: &[[Vec<f64>; 2]], offsets: std::ops::Range<usize>, step: usize| {
            let scores = offsets.map(|offset| (score(pairs, offset, step), offset));
            scores.max_by(|a, b| a.0.total_cmp(&b.0)).map_or(0, |(_, offset)| offset)
        };
        let near = step * best(&coarse, 0..width / step + 1, step);
        let fine = near.saturating_sub(step)..(near + step + 1).min(width + 1);
        earliest + count(best(&pairs, fine, 1))
    }
}

/// From 0 up to 1; what falls meanwhile is 1 less it.
fn rise(frames: usize) -> Vec<f64> {
    (0..frames).map(|i| 0.5 - 0.5 * (PI * real_size(i) / real_size(frames)).cos()).collect()
}

/// Sums of `step` samples each.
fn thin(samples: &[f64], step: usize) -> Vec<f64> {
    samples.chunks_exact(step).map(|some| some.iter().sum::<f64>()).collect()
}

/// How alike what is wanted and what lies at an offset are, over all channels, from −1 to 1; 0 of silence.
fn likeness(pairs: &[[Vec<f64>; 2]], offset: usize) -> f64 {
    let (mut product, mut powers) = (0.0, [0.0; 2]);
    for [wanted, found] in pairs {
        let found = &found[offset.min(found.len())..];
        let length = wanted.len().min(found.len());
        let (wanted, found) = (&wanted[..length], &found[..length]);
        product += dot(wanted, found);
        powers[0] += dot(wanted, wanted);
        powers[1] += dot(found, found);
    }
    let power = (powers[0] * powers[1]).sqrt();
    if power > 0.0 { product / power } else { 0.0 }
}

impl<S: Source> Source for Lengthened<S> {
    fn rate(&self) -> SampleRate {
        self.source.rate()
    }

    fn channels(&self) -> usize {
        self.source.channels()
    }

    fn next(&mut self, block: &mut Block) -> Result<()> {
        let channels = self.channels();
        block.shape(channels, 0);
        let left = self.to - self.given;
        if left == 0 {
            return Ok(());
        }
        let hop = count(self.hop);
        let place = scaled(self.given, self.from, self.to);
        // The last piece may lie a hop before its place.
        let (early, late) = (place.saturating_sub(self.reach.max(hop)), place + self.reach);
        self.hold(early.min(self.follows), late.max(self.follows) + 2 * hop)?;
        let piece = match (self.given, left) {
            (0, _) => 0,
            // The end is the end.
            (_, left) if left <= hop => {
                self.rise = rise(size(left));
                self.from.saturating_sub(left)
            }
            _ => self.alike(place),
        };
        self.hold(self.start, piece.max(self.follows) + hop)?;
        let frames = size(left.min(hop));
        block.shape(channels, frames);
        for channel in 0..channels {
            let goes = self.frames(channel, self.follows, frames);
            let comes = self.frames(channel, piece, frames);
            let pairs = goes.iter().zip(&comes).zip(&self.rise);
            let out = &mut block.channels_mut()[channel];
            for (sample, ((goes, comes), rise)) in out.iter_mut().zip(pairs) {
                *sample = goes + (comes - goes) * rise;
            }
        }
        self.follows = piece + hop;
        self.given += count(frames);
        Ok(())
    }
}
