//! A loop that stays exact: how often it plays in the output, by how little the rate bends for
//! that, and where its points lie then.
//!
//! A loop of `L` frames lasts `L · to / from` frames of the output, which is rarely a whole number. The
//! ratio is bent so that it is, or, where that could be heard, so that a few rounds of it are. Whatever
//! looks ahead or back then sees the loop itself on both sides of the seam.

use super::Decision;
use crate::error::{Error, Result};
use crate::num::{real, rounded};
use crate::shape::resample::reach;
use crate::units::{FrameRange, SampleRate};
use crate::unmet::Unmet;

/// Bends up to this many cents are not heard: tones must differ by about five (B. C. J. Moore, "An
/// Introduction to the Psychology of Hearing", chapter 6).
const UNHEARD: f64 = 1.0;
/// Rounds beyond this would only make large files.
const MOST_ROUNDS: u64 = 4096;

/// What is known of a loop.
#[derive(Debug, Clone, Copy)]
pub struct LoopAsk {
    /// The loop, in frames of the clip.
    pub range: FrameRange,
    /// The part of the clip that is used.
    pub used: FrameRange,
    /// This many frames in …
    pub from: u64,
    /// … give this many out; both 1 where the rate stays.
    pub to: u64,
    /// Frames of silence before.
    pub pad: u64,
    /// Start and length are to be multiples of this.
    pub multiple: u64,
    /// The most that the pitch may bend, in cents, where that was said.
    pub bend: Option<f64>,
    /// Frames of the output that follow the end for whoever looks ahead.
    pub ahead: u64,
    /// Frames of the output that an encoder is shown before the first, where the loop begins there.
    pub before: u64,
    /// Frames of the output before those that filters settle in, where the loop begins there.
    pub settle: u64,
}

/// What is done to it.
#[derive(Debug, Clone, PartialEq)]
pub struct Rounds {
    /// This many frames in …
    pub from: u64,
    /// … give this many out.
    pub to: u64,
    /// The loop, in frames of the output, silence before it included.
    pub range: FrameRange,
    /// What is read of the clip, stretch by stretch; `None` where it is the part that is used.
    pub stretches: Option<Vec<FrameRange>>,
    /// Frames that come in before the first that the filter gives.
    pub lead: u64,
    /// Frames of the output that are dropped before those that the encoder is shown.
    pub skip: u64,
    /// Frames that the encoder is shown before the first that counts.
    pub before: u64,
}

/// One way to make the length whole.
#[derive(Debug, Clone, Copy)]
struct Way {
    rounds: u64,
    frames: u64,
    cents: f64,
}

impl LoopAsk {
    /// Whether anything comes after the loop.
    fn has_tail(&self) -> bool {
        self.range.end < self.used.end
    }

    /// The nearest that this many rounds come to.
    fn way(&self, rounds: u64) -> Way {
        let exact = real(rounds * self.range.len()) * real(self.to) / real(self.from);
        let multiple = real(self.multiple);
        let frames = self.multiple * rounded(exact / multiple).max(1);
        // More frames than there should be play lower.
        let cents = -1200.0 * (real(frames) / exact).log2();
        Way { rounds, frames, cents: if cents.abs() < 1e-9 { 0.0 } else { cents } }
    }

    /// The fewest rounds that bend no more than this.
    fn fewest(&self, most: f64) -> Option<Way> {
        let most_rounds = if self.has_tail() { 1 } else { MOST_ROUNDS };
        (1..=most_rounds).map(|rounds| self.way(rounds)).find(|way| way.cents.abs() <= most)
    }

    /// Decides.
    ///
    /// # Errors
    /// [`Error::CannotMeet`] where the multiple cannot be had without what was not asked for.
    pub fn decide(
        &self,
        rate: SampleRate,
        decisions: &mut Vec<Decision>,
    ) -> Result<Option<Rounds>> {
        let resampled = self.from != self.to;
        let Some(way) = self.choose(resampled)? else {
            return Ok(None);
        };
        let bent = way.cents != 0.0;
        let ratio = match bent {
            true => (way.rounds * self.range.len(), way.frames),
            false => (self.from, self.to),
        };
        let resampled = resampled || bent;
        match self.has_tail() {
            true => self.before_tail(way, ratio, resampled, decisions),
            false => Ok(self.at_end(way, ratio, resampled, rate, decisions)),
        }
    }

    /// Where a frame of the clip lies in the output, before the silence at its start.
    fn place(&self, frame: u64, (from, to): (u64, u64)) -> u64 {
        crate::num::scaled(frame - self.used.start, to, from)
    }

    /// A loop that something follows: one round, at its place.
    fn before_tail(
        &self,
        way: Way,
        (from, to): (u64, u64),
        resampled: bool,
        decisions: &mut Vec<Decision>,
    ) -> Result<Option<Rounds>> {
        let start = self.pad + self.place(self.range.start, (from, to));
        if !start.is_multiple_of(self.multiple) {
            return Err(self.pinned());
        }
        self.tell(&way, resampled, decisions);
        Ok(resampled.then(|| Rounds {
            from,
            to,
            range: FrameRange { start, end: start + way.frames },
            stretches: None,
            lead: 0,
            skip: 0,
            before: 0,
        }))
    }

    /// A loop that ends the file: whole rounds, whose start is moved to a multiple. `None` where nothing changes.
    fn at_end(
        &self,
        way: Way,
        (from, to): (u64, u64),
        resampled: bool,
        rate: SampleRate,
        decisions: &mut Vec<Decision>,
    ) -> Option<Rounds> {
        let reach = if resampled { reach(from, to) } else { 0 };
        let intro = self.range.start > self.used.start;
        let unfolded = self.range.start - self.used.start + if intro { reach } else { 0 };
        let earliest = (u128::from(unfolded) * u128::from(to)).div_ceil(u128::from(from));
        let earliest = self.pad + u64::try_from(earliest).unwrap_or(u64::MAX / 4);
        let start = earliest.next_multiple_of(self.multiple);
        let lead = if intro { 0 } else { reach };
        let before = if intro || self.pad > 0 { 0 } else { self.before };
        // Whole rounds come before, so that every frame keeps its place between those of the clip.
        let settle = if intro || self.pad > 0 { 0 } else { self.settle };
        let again = (before + settle).div_ceil(way.frames);
        let earlier = again * way.rounds * self.range.len();
        let once = way.rounds == 1 && self.ahead == 0 && before + settle == 0;
        if !resampled && start == earliest && once {
            return None;
        }
        let out = start - self.pad + way.frames + self.ahead;
        let needed = needed(out, (from, to), reach);

        self.tell(&way, resampled, decisions);
        let moved = start - self.pad - self.place(self.range.start, (from, to));
        if moved > 0 {
            let (seconds, multiple) = (rate.seconds(moved), self.multiple);
            decisions.push(Decision::LoopMoved { frames: moved, seconds, multiple });
        }
        Some(Rounds {
            from,
            to,
            range: FrameRange { start, end: start + way.frames },
            stretches: Some(self.stretches(lead + earlier, needed)),
            lead,
            skip: again * way.frames - before,
            before,
        })
    }

    /// `None` where the points stay, and the loop is as long as it can be.
    fn choose(&self, resampled: bool) -> Result<Option<Way>> {
        let most = self.bend.unwrap_or(UNHEARD);
        let Some(way) = self.fewest(most) else {
            let once = self.way(1);
            if self.has_tail() && self.multiple == 1 && self.bend.is_none() {
                return Ok(None);
            }
            if self.has_tail() && self.multiple > 1 {
                return Err(self.pinned());
            }
            return Err(Error::CannotMeet(Unmet::NoMultiple {
                multiple: self.multiple,
                most,
                once: once.cents.abs(),
            }));
        };
        if resampled || way.cents == 0.0 || self.bend.is_some() {
            return Ok(Some(way));
        }
        Err(Error::CannotMeet(Unmet::NotMultiple {
            frames: self.range.len(),
            multiple: self.multiple,
            rounds: way.rounds,
            cents: way.cents,
            usual: UNHEARD,
            exact: self.fewest(0.0).map(|exact| exact.rounds),
        }))
    }

    /// A tail that stays keeps the points where they are.
    fn pinned(&self) -> Error {
        Error::CannotMeet(Unmet::LoopPinned { multiple: self.multiple })
    }

    fn tell(&self, way: &Way, resampled: bool, decisions: &mut Vec<Decision>) {
        if !resampled && way.rounds == 1 {
            return;
        }
        decisions.push(Decision::LoopLength {
            frames: way.frames,
            multiple: self.multiple,
            rounds: way.rounds,
            cents: way.cents,
            once: self.way(1).cents,
        });
    }

    /// The loop before the first frame, the part up to the loop's end, and the loop again and again.
    fn stretches(&self, lead: u64, needed: u64) -> Vec<FrameRange> {
        let looped = self.range;
        let mut all = Vec::new();
        let rest = lead % looped.len();
        all.push(FrameRange { start: looped.end - rest, end: looped.end });
        all.extend(std::iter::repeat_n(looped, crate::num::size(lead / looped.len())));
        let first = FrameRange { start: self.used.start, end: looped.end };
        all.push(first);
        let mut left = needed.saturating_sub(first.len());
        while left > 0 {
            let length = left.min(looped.len());
            all.push(FrameRange { start: looped.start, end: looped.start + length });
            left -= length;
        }
        all.retain(|range| !range.is_empty());
        all
    }
}

/// How many frames have to come in for this many to go out.
fn needed(out: u64, (from, to): (u64, u64), reach: u64) -> u64 {
    let needed = u128::from(out) * u128::from(from) / u128::from(to) + 1 + u128::from(reach);
    u64::try_from(needed).unwrap_or(u64::MAX / 4)
}
