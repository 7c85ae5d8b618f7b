//! Which pieces of a clip make a loop without an end: those that sound as the rest of it does, each beginning as the
//! one before ends, and none of them heard twice as long as there are others.

use super::align;
use super::kept::Kept;
use super::listen::{Heard, Levels};
use crate::block::Block;
use crate::error::{Error, Result};
use crate::num::{count, real, real_size, scaled, size};
use crate::observe::Observer;
use crate::read::Clip;
use crate::shape::crossfade::likeness_by_band;
use crate::shape::texture::{Piece, Texture};
use crate::shape::windows::whole_windows;
use crate::spec::Facts;
use crate::units::FrameRange;
use crate::unmet::Unmet;
use rustfft::FftPlanner;

/// The longest fade between two pieces, in seconds; in short loops an eighth of the loop, a quarter of what there is.
const LONGEST_FADE: f64 = 1.5;
/// A piece lasts so many fades where there is room for that.
const FADES: u64 = 4;
/// More than so often what there is to choose from, and the same sounds come back within one round.
const MOST_ROUNDS: u64 = 2;
/// The shortest loop, in seconds: less is a tone.
const SHORTEST: f64 = 0.2;
/// The longest where none is named, in seconds.
const USUAL: f64 = 20.0;
/// All pieces are kept in memory: samples of them, over all channels.
const MOST_SAMPLES: u64 = 1 << 23;
/// How far a piece may move to fall in step with the one before, in seconds; up to three times as much shorter is the
/// loop, so that the first is in step with the last.
const STEP: f64 = 0.025;
/// What it costs to hear the same sound again, in dB of difference between pieces that are not alike.
const AGAIN: f64 = 12.0;
/// How much more than usual a moment may be before it would be known again each time round, in dB.
const OUTSTANDING: f64 = 4.0;

/// The pieces for a loop of as many frames as are asked for, out of a part of the clip; where none are, of half the part
/// or less, and no more than the longest.
///
/// # Errors
/// [`Error::CannotMeet`] where the part is too short for that, or the loop too long for memory; those of reading;
/// [`Error::Stopped`].
pub fn texture(
    clip: &Clip,
    part: FrameRange,
    asked: Option<u64>,
    longest: Option<u64>,
    observer: &dyn Observer,
) -> Result<Texture> {
    let facts = clip.facts();
    let shape = Shape::of(facts, part, asked, longest)?;
    let mut kept = Kept::of(facts);
    let heard = Heard::listen(clip, &mut kept, observer)?;
    let starts = Chooser::new(&heard, part, &shape).choose();
    let slack = facts.format.rate.frames(STEP).min(shape.fade / 4);
    let ends: Vec<FrameRange> = starts
        .iter()
        .enumerate()
        .flat_map(|(at, start)| shape.sides(at, *start, slack, part))
        .collect();
    let channels = facts.format.channels.count().into();
    let blocks = match kept.windows(channels, &ends) {
        Some(blocks) => blocks,
        None => whole_windows(clip, &ends, observer)?,
    };
    Ok(shape.in_step(&starts, &ends, &blocks, facts))
}

/// How many pieces, and how long they are.
struct Shape {
    frames: u64,
    pieces: u64,
    fade: u64,
}

impl Shape {
    fn of(
        facts: &Facts,
        part: FrameRange,
        asked: Option<u64>,
        longest: Option<u64>,
    ) -> Result<Self> {
        let rate = facts.format.rate;
        let channels = u64::from(facts.format.channels.count());
        let most = part.len().saturating_mul(MOST_ROUNDS);
        let frames = asked.unwrap_or_else(|| {
            let usual = rate.frames(USUAL).min(part.len() / 2);
            usual.min(longest.unwrap_or(u64::MAX))
        });
        let room = MOST_SAMPLES / channels / 2;
        let least = rate.frames(SHORTEST);
        let most = most.min(room);
        if frames < least || frames > most {
            let [texture, least, most] = [frames, least, most].map(|frames| rate.seconds(frames));
            return Err(Error::CannotMeet(Unmet::NoTexture { texture, least, most }));
        }
        let fade = rate.frames(LONGEST_FADE).min(frames / 8).min(part.len() / 4).max(1);
        let pieces = (frames.div_ceil(FADES * fade)).max((2 * frames).div_ceil(part.len())).max(2);
        Ok(Self { frames, pieces, fade })
    }

    /// Frames of a piece, the fade at its start included.
    fn length(&self, piece: usize) -> u64 {
        let place = |at: u64| scaled(at, self.frames, self.pieces);
        place(count(piece) + 1) - place(count(piece)) + self.fade
    }

    /// The start and the end of a piece, with room to move them.
    fn sides(&self, piece: usize, start: u64, slack: u64, part: FrameRange) -> [FrameRange; 2] {
        let end = start + self.length(piece);
        let within = |from: u64, to: u64| FrameRange {
            start: from.max(part.start),
            end: (to + slack).min(part.end),
        };
        [
            within(start.saturating_sub(slack), start + self.fade),
            // The last one may end earlier as well.
            within(end - self.fade - 3 * slack, end),
        ]
    }

    /// Moves every piece but the first to where its wave goes on as that of the one before ends, and the end of the
    /// last to where it goes on as the first one begins: the loop is shorter by that.
    fn in_step(
        &self,
        starts: &[u64],
        sides: &[FrameRange],
        blocks: &[Block],
        facts: &Facts,
    ) -> Texture {
        let rate = facts.format.rate;
        let mut planner = FftPlanner::new();
        // Where in a block, from one place on up to another, a fade begins as this one.
        let mut like = |fade: &Block, at: usize, from: u64, to: u64| {
            let place = |frame: u64| size(frame.saturating_sub(sides[at].start));
            let found = align(&mut planner, fade, &blocks[at], rate, place(from), place(to) + 1);
            found.map(|offset| sides[at].start + count(offset))
        };
        let cut = |at: usize, from: u64| {
            let from = size(from - sides[at].start);
            let part = from..from + size(self.fade);
            let channels = blocks[at].channels().iter();
            Block::from_channels(channels.map(|c| c[part.clone()].to_vec()).collect())
        };
        let end_of = |piece: usize, range: FrameRange| cut(2 * piece + 1, range.end - self.fade);
        let mut pieces: Vec<Piece> = Vec::new();
        for (piece, start) in starts.iter().enumerate() {
            let (mut start, length) = (*start, self.length(piece));
            if let Some(before) = pieces.last() {
                let before = end_of(piece - 1, before.range);
                // No further than both of its own ends were read.
                let body = length - self.fade;
                let [head, tail] = [sides[2 * piece], sides[2 * piece + 1]];
                let least = head.start.max(tail.start.saturating_sub(body));
                let most = (head.end - self.fade).min(tail.end - length);
                start = like(&before, 2 * piece, least, most).unwrap_or(start);
            }
            let range = FrameRange { start, end: start + length };
            pieces.push(Piece { range, likeness: [0.0; 3] });
        }
        let last = pieces.len() - 1;
        let (first, range) = (cut(0, pieces[0].range.start), pieces[last].range);
        let least = sides[2 * last + 1].start.max(range.start + self.fade);
        if let Some(fade) = like(&first, 2 * last + 1, least, range.end - self.fade) {
            pieces[last].range.end = fade + self.fade;
        }
        for piece in 0..pieces.len() {
            let before = (piece + last) % pieces.len();
            let own = cut(2 * piece, pieces[piece].range.start);
            let before = end_of(before, pieces[before].range);
            pieces[piece].likeness = likeness_by_band(&before, &own, rate);
        }
        Texture { pieces, fade: self.fade }
    }
}

/// Chooses where pieces begin.
struct Chooser<'a> {
    heard: &'a Heard,
    part: FrameRange,
    shape: &'a Shape,
    /// Levels of all stretches up to each, band by band.
    sums: Vec<[f64; BANDS]>,
    /// By how much each stretch stands out from what is usual, in dB.
    outstanding: Vec<f64>,
}

const BANDS: usize = super::listen::BANDS;

impl<'a> Chooser<'a> {
    fn new(heard: &'a Heard, part: FrameRange, shape: &'a Shape) -> Self {
        let mut sums = vec![[0.0; BANDS]];
        for levels in &heard.levels {
            let last = sums[sums.len() - 1];
            sums.push(std::array::from_fn(|band| last[band] + f64::from(levels[band])));
        }
        let end = (heard.stretch(part.end) + 1).min(heard.levels.len());
        let usual = medians(&heard.levels[heard.stretch(part.start).min(end)..end]);
        let outstanding = heard.levels.iter().map(|levels| {
            let bands = levels.iter().zip(&usual);
            bands.map(|(level, usual)| f64::from((level - usual).abs())).sum::<f64>()
                / real_size(BANDS)
        });
        Self { heard, part, shape, sums, outstanding: outstanding.collect() }
    }

    /// Mean levels of some frames.
    fn mean(&self, range: FrameRange) -> [f64; BANDS] {
        let (from, to) = self.stretches(range);
        let many = real_size(to - from);
        std::array::from_fn(|band| (self.sums[to][band] - self.sums[from][band]) / many)
    }

    /// The stretches whose middles lie in it, one at least.
    fn stretches(&self, range: FrameRange) -> (usize, usize) {
        let all = self.heard.levels.len();
        let from = self.heard.stretch(range.start).min(all.saturating_sub(1));
        (from, self.heard.stretch(range.end).clamp(from + 1, all.max(1)))
    }

    /// What speaks against a piece by itself, in dB: what is not usual in it would be known again.
    fn stands_out(&self, range: FrameRange) -> f64 {
        let (from, to) = self.stretches(range);
        let most = self.outstanding[from..to].iter().fold(0.0f64, |most, db| most.max(*db));
        let mean = self.outstanding[from..to].iter().sum::<f64>() / real_size(to - from);
        mean + (most - mean - OUTSTANDING).max(0.0)
    }

    fn choose(&self) -> Vec<u64> {
        let Self { part, shape, .. } = self;
        if self.heard.levels.is_empty() {
            // Too short for a spectrum: one after another.
            return (0..size(shape.pieces))
                .map(|piece| part.start.min(part.end - shape.length(piece)))
                .collect();
        }
        let mut chosen: Vec<FrameRange> = Vec::new();
        let (fade, last) = (shape.fade, size(shape.pieces) - 1);
        for piece in 0..=last {
            let length = shape.length(piece);
            let room = part.end - length;
            let steps = (room - part.start) / self.heard.hop;
            let range = |step: u64| {
                let start = part.start + step * self.heard.hop;
                FrameRange { start, end: start + length }
            };
            let head =
                |range: FrameRange| self.mean(FrameRange { end: range.start + fade, ..range });
            let tail =
                |range: FrameRange| self.mean(FrameRange { start: range.end - fade, ..range });
            let before = chosen.last().map(|before| tail(*before));
            let after = chosen.first().filter(|_| piece == last).map(|first| head(*first));
            let cost = |range: FrameRange| {
                let join = before.map_or(0.0, |before| apart(&before, &head(range)));
                let close = after.map_or(0.0, |after| apart(&tail(range), &after));
                let again: f64 = chosen.iter().map(|other| overlap(*other, range)).sum();
                join + close + self.stands_out(range) + AGAIN * again
            };
            let costs = (0..=steps).map(|step| (range(step), cost(range(step))));
            let best = costs.min_by(|a, b| a.1.total_cmp(&b.1)).map(|best| best.0);
            chosen.extend(best);
        }
        chosen.into_iter().map(|range| range.start).collect()
    }
}

/// How much of a piece is in another, of 1.
fn overlap(a: FrameRange, b: FrameRange) -> f64 {
    let shared = FrameRange { start: a.start.max(b.start), end: a.end.min(b.end) };
    real(shared.len()) / real(a.len().min(b.len()).max(1))
}

/// By how much levels differ, as a mean over the bands, in dB.
fn apart(a: &[f64; BANDS], b: &[f64; BANDS]) -> f64 {
    a.iter().zip(b).map(|(a, b)| (a - b).abs()).sum::<f64>() / real_size(BANDS)
}

/// What is usual, band by band.
fn medians(levels: &[Levels]) -> Levels {
    std::array::from_fn(|band| {
        let mut all: Vec<f32> = levels.iter().map(|levels| levels[band]).collect();
        all.sort_by(f32::total_cmp);
        all.get(all.len() / 2).copied().unwrap_or(0.0)
    })
}
