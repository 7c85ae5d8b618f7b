//! A loop out of two stretches that were read, with the sound around both of its ends.

use super::align::difference;
use super::judge::{Sides, side};
use crate::block::Block;
use crate::num::{real_size, size};
use crate::spec::Format;
use crate::units::FrameRange;

/// Waves are compared over this many seconds on either side.
const COMPARED: f64 = 0.25;
/// How much of a file's beginning must be quiet for it to begin quietly, in seconds.
const BEGINNING: f64 = 0.004;
/// A file that begins at less than this part of the level at which it ends does not go on from its end.
const QUIET: f64 = 0.18;

/// Frames of a clip that were read, and where they lie.
#[derive(Clone, Copy)]
pub struct Stretch<'a> {
    pub range: FrameRange,
    pub block: &'a Block,
}

impl Stretch<'_> {
    /// Frames of the clip, as far as they were read.
    fn cut(self, from: u64, to: u64) -> Block {
        let own = self.range;
        let (from, to) = (from.clamp(own.start, own.end), to.clamp(own.start, own.end));
        let part = size(from - own.start)..size(to - own.start);
        let cut = |c: &Vec<f64>| c[part.start.min(c.len())..part.end.min(c.len())].to_vec();
        Block::from_channels(self.block.channels().iter().map(cut).collect())
    }
}

/// A loop, which begins in the first stretch and ends in the second.
pub struct Around<'a> {
    pub early: Stretch<'a>,
    pub late: Stretch<'a>,
    pub range: FrameRange,
}

impl Around<'_> {
    /// What is judged.
    pub fn sides(&self, format: Format) -> Sides {
        let side = side(format.rate);
        let FrameRange { start, end } = self.range;
        Sides {
            before: self.late.cut(end.saturating_sub(side), end),
            after: self.early.cut(start, start + side),
            lead: self.early.cut(start.saturating_sub(side), start),
            follow: self.late.cut(end, end + side),
        }
    }

    /// How far the waves at the end differ from those at the start, in dB.
    pub fn wave_db(&self, format: Format) -> f64 {
        let FrameRange { start, end } = self.range;
        let (early, late) = (self.early.range, self.late.range);
        let reach = format.rate.frames(COMPARED);
        let back = reach.min(start - early.start).min(end - late.start);
        let on = reach.min(early.end - start).min(late.end - end);
        let a = self.early.cut(start - back, start + on);
        let b = self.late.cut(end - back, end + on);
        if a.is_empty() { 0.0 } else { difference(&a, &b) }
    }

    /// Whether the loop's first milliseconds are all but silent next to its last.
    pub fn begins_quietly(&self, format: Format) -> bool {
        let Sides { before, after, .. } = self.sides(format);
        let power = |block: &Block, frames: usize| {
            let squares =
                block.channels().iter().flat_map(|c| c.iter().take(frames).map(|s| s * s));
            squares.sum::<f64>() / real_size(frames.max(1))
        };
        let first = size(format.rate.frames(BEGINNING)).min(after.frames());
        let level = power(&after, first) / power(&before, before.frames()).max(1e-12);
        level.sqrt() < QUIET
    }
}
