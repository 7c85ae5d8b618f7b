//! Two stretches of a clip of which one may follow the other, and the loop between them that sounds best.

use super::align::align;
use super::around::{Around, Stretch};
use super::beat::fine_lag;
use super::find::Candidate;
use super::form::{Fit, Proposal, Reason};
use super::judge::{Judgement, Verdict, side};
use super::listen::Heard;
use super::place::{moved_back, places};
use super::repeats::{Bounds, Repeat, Run, place_in};
use crate::block::Block;
use crate::num::{count, real, real_size, size};
use crate::spec::Facts;
use crate::units::FrameRange;
use rustfft::FftPlanner;
use std::collections::BTreeMap;

/// Frames of what is aligned, at most; the whole is a power of two.
const ALIGNED: u64 = 1 << 16;
/// Frames that are enough to align.
const ENOUGH: u64 = 64;
/// What is held against each other at a time, in seconds.
const ALIKE: f64 = 2.0;
/// A seam is moved to where the waves are most alike over this many seconds.
const PLACE: f64 = 0.006;
/// How far off the length of a run may be once all its notes have told it, in seconds.
const RUN_REACH: f64 = 0.006;
/// How far off a length may be that was reckoned from the beat, in seconds.
const ROUNDS_REACH: f64 = 0.02;
/// A return is one where the waves differ by less, in dB.
const RETURNED: f64 = -6.0;
/// What equal waves are worth; they are equal and they are other waves where they differ by these, in dB.
const EXACT: f64 = 0.4;
pub const EXACT_DB: [f64; 2] = [-20.0, -6.0];
/// What sounds alike in music counts this part of what it does in a clip that has no form.
const MERELY_ALIKE: f64 = 0.5;
/// What is taken off where a file begins in silence.
const SILENT_START: f64 = 0.25;

/// What is sought, and in what.
#[derive(Clone, Copy)]
pub struct Search<'a> {
    pub heard: &'a Heard,
    pub wanted: &'a Bounds,
    pub facts: &'a Facts,
}

impl Search<'_> {
    /// How many of the clip's stretches are held against each other at a time.
    pub fn window(&self) -> usize {
        let window = size(self.facts.format.rate.frames(ALIKE) / self.heard.hop);
        window.min(self.heard.levels.len() / 8).max(4)
    }
}

/// Two stretches of which one may follow the other.
pub struct Pair {
    pub early: FrameRange,
    /// As long, or longer than the early one on both sides, as far as the clip goes.
    pub late: FrameRange,
    /// Where the seam should lie.
    middle: u64,
    /// Where it is known already: the loop, and how far both of its ends may move back.
    pub fixed: Option<(FrameRange, u64)>,
    /// The run that it is of, by the stretches after which that comes again.
    pub run: Option<usize>,
    /// Another run, and how many rounds of it this is.
    rounds: Option<(usize, u64)>,
    worth: f64,
    reason: Reason,
}

impl Pair {
    /// With nothing known of it.
    fn new(early: FrameRange, late: FrameRange, middle: u64) -> Self {
        let (fixed, run, rounds) = (None, None, None);
        Self { early, late, middle, fixed, run, rounds, worth: 0.0, reason: Reason::Alike }
    }

    /// Itself, where there is enough to align.
    fn if_long(self) -> Option<Self> {
        let long = self.early.len() >= ENOUGH && self.late.len() >= self.early.len();
        long.then_some(self)
    }

    /// What a form proposes.
    pub fn of(proposal: &Proposal, search: &Search<'_>) -> Option<Self> {
        let start = proposal.range.start;
        let pair = match &proposal.fit {
            Fit::End => Self::fixed(proposal.range, 0, search.facts),
            Fit::Length(slide) => Self::fixed(proposal.range, start.min(*slide), search.facts),
            Fit::Return { reach, again } => Self::returning(proposal.range, *reach, *again),
            Fit::Run(run) => Self::of_run(run, search),
        };
        let Proposal { worth, reason, rounds, .. } = *proposal;
        Some(Self { worth, reason, rounds, ..pair? })
    }

    /// A loop that is known but for a way back of `slide` frames.
    fn fixed(range: FrameRange, slide: u64, facts: &Facts) -> Option<Self> {
        let side = side(facts.format.rate) + slide;
        let around = |at: u64| FrameRange {
            start: at.saturating_sub(side),
            end: (at + side).min(facts.frames),
        };
        let pair = Self::new(around(range.start), around(range.end), range.start);
        (range.len() > 2 * side).then_some(Self { fixed: Some((range, slide)), ..pair })
    }

    /// The last `again` frames of a clip, and where they are heard before, give or take `reach`.
    fn returning(range: FrameRange, reach: u64, again: u64) -> Option<Self> {
        let FrameRange { start, end } = range;
        let early = FrameRange { start: start.checked_sub(again)?, end: start.checked_sub(reach)? };
        let late = FrameRange { start: (early.start + range.len()).checked_sub(reach)?, end };
        let pair = Self::new(early, late, early.start.midpoint(early.end)).if_long();
        pair.filter(|_| late.start > early.start)
    }

    /// A run, whose notes tell its lag.
    fn of_run(run: &Run, search: &Search<'_>) -> Option<Self> {
        let Search { heard, wanted, facts } = *search;
        let repeat = place_in(heard, wanted, search.window(), run)?;
        let reach = facts.format.rate.frames(RUN_REACH);
        let lag = fine_lag(heard, run);
        let pair = Self::lagged(heard.middle(repeat.at), lag, reach, search)?;
        Some(Self { run: Some(run.lag), ..pair })
    }

    /// Where spectra are alike.
    pub fn alike(repeat: &Repeat, search: &Search<'_>) -> Option<Self> {
        let Search { heard, facts, .. } = *search;
        let lag = count(repeat.lag) * heard.hop;
        let reach = 2 * heard.hop.max(heard.window / 4);
        let pair = Self::lagged(heard.middle(repeat.at), lag, reach, search)?;
        let share = if heard.shapes.is_empty() { 1.0 } else { MERELY_ALIKE };
        let worth = share * repeat.worth(search.window(), real(lag) / real(facts.frames));
        Some(Self { worth, ..pair })
    }

    /// What lies around a place, and `lag` frames later, give or take `reach`.
    fn lagged(middle: u64, lag: u64, reach: u64, search: &Search<'_>) -> Option<Self> {
        let Search { wanted, facts, .. } = *search;
        let most = ALIGNED.saturating_sub(2 * reach).max(ALIGNED / 2);
        // The early stretch ends where the late one would leave the clip.
        let last = facts.frames.checked_sub(lag)?;
        let middle =
            middle.clamp(wanted.starts.start, wanted.starts.end.min(facts.frames)).min(last);
        let length = most.min(last);
        let start = middle.saturating_sub(length / 2).min(last - length);
        let early = FrameRange { start, end: start + length };
        let late = FrameRange {
            start: (early.start + lag).saturating_sub(reach).max(early.start + 1),
            end: (early.end + lag + reach).min(facts.frames),
        };
        Self::new(early, late, middle).if_long()
    }

    /// All of a clip that is short for spectra: its beginning, wherever it comes again.
    pub fn short(search: &Search<'_>) -> Option<Self> {
        let frames = search.facts.frames;
        let early = FrameRange { start: 0, end: (frames / 3).min(ALIGNED / 4) };
        let late = FrameRange { start: search.wanted.lengths.start, end: frames.min(ALIGNED) };
        let pair = Self::new(early, late, early.end / 2).if_long()?;
        (frames <= ALIGNED / 4).then_some(Self { worth: 1.0, ..pair })
    }

    /// The loop in them that sounds best.
    pub fn candidate(
        &self,
        planner: &mut FftPlanner<f32>,
        blocks: [&Block; 2],
        search: &Search<'_>,
        exact: &BTreeMap<usize, u64>,
    ) -> Option<Candidate> {
        let format = search.facts.format;
        let early = Stretch { range: self.early, block: blocks[0] };
        let late = Stretch { range: self.late, block: blocks[1] };
        let ranges = match self.fixed {
            Some((range, slide)) => {
                let (range, slide) = self.in_rounds(range, slide, exact, search.facts);
                let window = size(format.rate.frames(PLACE));
                vec![moved_back(range, slide, [early, late], window)]
            }
            None => self.aligned(planner, blocks, search)?,
        };
        let mut best: Option<(Judgement, Around)> = None;
        for range in ranges {
            if !search.wanted.allows(range) || range.end > search.facts.frames {
                continue;
            }
            let around = Around { early, late, range };
            let Some(seam) = around.sides(format).judge(range, format) else { continue };
            let rank = |seam: &Judgement| (seam.verdict, seam.click_db);
            if best.as_ref().is_none_or(|(best, _)| rank(&seam) < rank(best)) {
                best = Some((seam, around));
            }
            // Where nobody hears the best place, others are not asked.
            if best.as_ref().is_some_and(|(best, _)| best.verdict == Verdict::Good) {
                break;
            }
        }
        let (seam, around) = best?;
        let range = seam.range;
        let wave_db = around.wave_db(format);
        if self.reason == Reason::Return && wave_db > RETURNED {
            return None;
        }
        let mut found = Candidate {
            seam,
            reason: self.reason,
            bars: None,
            wave_db,
            smoothing: None,
            worth: self.worth,
        };
        match self.reason {
            // Silence before the first note is no part of a sound that goes on.
            Reason::Whole | Reason::Bars
                if range.start == 0
                    && range.end == search.facts.frames
                    && around.begins_quietly(format) =>
            {
                found.worth -= SILENT_START;
            }
            Reason::Repeat | Reason::Alike | Reason::Return => {
                let exact = (EXACT_DB[1] - wave_db) / (EXACT_DB[1] - EXACT_DB[0]);
                found.worth += EXACT * exact.clamp(0.0, 1.0);
            }
            _ => {}
        }
        Some(found)
    }

    /// A loop of several rounds of a run whose length is known to the frame by now.
    fn in_rounds(
        &self,
        range: FrameRange,
        slide: u64,
        exact: &BTreeMap<usize, u64>,
        facts: &Facts,
    ) -> (FrameRange, u64) {
        let told = self.rounds.and_then(|(run, rounds)| Some(exact.get(&run)? * rounds));
        let Some(length) = told
            .filter(|told| told.abs_diff(range.len()) <= facts.format.rate.frames(ROUNDS_REACH))
        else {
            return (range, slide);
        };
        match range.end == facts.frames {
            true => (FrameRange { start: range.end.saturating_sub(length), ..range }, 0),
            false => (FrameRange { end: (range.start + length).min(facts.frames), ..range }, slide),
        }
    }

    /// The loop between two stretches that sound alike: their distance to the frame, and the best place.
    fn aligned(
        &self,
        planner: &mut FftPlanner<f32>,
        [early, late]: [&Block; 2],
        search: &Search<'_>,
    ) -> Option<Vec<FrameRange>> {
        let Search { wanted, facts, .. } = *search;
        let rate = facts.format.rate;
        let base = self.late.start - self.early.start;
        let first = wanted.lengths.start.saturating_sub(base);
        let end = wanted.lengths.end.saturating_sub(base);
        let offset = align(planner, early, late, rate, size(first), size(end))?;
        let lag = base + count(offset);
        // From here on, both have the same length and lie `lag` apart.
        let mut late = late.clone();
        late.skip(offset);
        late.truncate(early.frames());
        let allowed = |at: usize| {
            let start = self.early.start + count(at);
            wanted.allows(FrameRange { start, end: start + lag }) && start + lag <= facts.frames
        };
        let side = size(side(rate)).min(early.frames() / 4);
        let middle = size(self.middle.saturating_sub(self.early.start));
        let window = size(rate.frames(PLACE)).max(4);
        let places = places(early, &late, window, side, middle, allowed);
        let range = |at: usize| {
            let start = self.early.start + count(at);
            FrameRange { start, end: start + lag }
        };
        Some(places.into_iter().map(range).collect())
    }
}

impl Repeat {
    /// How likely it is a loop, from 0 to 1: alike, for long, and long.
    fn worth(&self, window: usize, share: f64) -> f64 {
        let run = real_size(self.run) / real_size(window);
        let long = 0.06 * (1.0 - (1.0 + run).log2() / 5.0).clamp(0.0, 1.0);
        let spectra = (0.06 * self.differs).min(0.6);
        (1.0 - long - spectra - 0.1 * (1.0 - share.sqrt())).max(0.0)
    }
}
