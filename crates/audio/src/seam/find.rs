//! Finding loops: where a clip goes round by its form, or repeats itself, to the frame, and sounds best doing so.

use super::align::{align, difference};
use super::beat::{Beat, fine_lag};
use super::form::{Fit, Form, Proposal, Reason};
use super::judge::{Judgement, Sides, Verdict, side};
use super::kept::Kept;
use super::listen::Heard;
use super::repeats::{Bounds, Repeat, Run, place_in, repeats};
use super::smooth::{Smoothing, smooth_in};
use super::windows::windows;
use crate::block::Block;
use crate::error::{Error, Result};
use crate::num::{count, real, real_size, rounded, size};
use crate::observe::Observer;
use crate::read::Clip;
use crate::spec::{Facts, Format};
use crate::units::FrameRange;
use crate::unmet::Unmet;
use rustfft::FftPlanner;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;
use std::ops::Range;

/// A loop that was found.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
pub struct Candidate {
    /// How its seam sounds.
    #[serde(flatten)]
    pub seam: Judgement,
    /// Why it is offered.
    pub reason: Reason,
    /// How many bars it has, and how many beats a minute, where the beat is steady and its length whole.
    pub bars: Option<Bars>,
    /// How much the waves at its end differ from those at its start, beside their power: 0 dB where they are
    /// unrelated, −99 dB where they are equal.
    pub wave_db: f64,
    /// The crossfade that would smooth the best one, where that is heard.
    #[serde(skip)]
    pub smoothing: Option<Smoothing>,
    /// By what candidates are put in order: how likely its maker, or a musician, would choose it.
    #[serde(skip)]
    pub worth: f64,
}

/// A length in bars.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize)]
pub struct Bars {
    /// How many.
    pub count: u64,
    /// How many beats each has.
    pub beats: u64,
    /// Beats a minute.
    pub tempo: f64,
}

/// How many lags are looked at closely where no form speaks.
const LAGS: usize = 18;
/// Beside a proposal that is worth so much, what merely sounds alike is not looked for.
const SURE: f64 = 1.0;
/// Frames of what is aligned, at most; the whole is a power of two.
const ALIGNED: u64 = 1 << 16;
/// What is held against each other at a time, in seconds.
const ALIKE: f64 = 2.0;
/// A seam is moved to where the waves are most alike over this many seconds.
const PLACE: f64 = 0.006;
/// How many places of a length are listened to.
const PLACES: usize = 4;
/// Waves are compared over this many seconds on either side.
const COMPARED: f64 = 0.25;
/// How far off the length of a run may be once all its notes have told it, in seconds.
const RUN_REACH: f64 = 0.006;
/// Loops whose lengths differ by less are the same choice, in seconds; and whose starts do, the same loop.
const SAME_LENGTH: f64 = 0.02;
/// A return is one where the waves differ by less, in dB.
const RETURNED: f64 = -6.0;
/// What equal waves are worth, and what differs so much is worth nothing, in dB.
const EXACT: f64 = 0.4;
const EXACT_DB: [f64; 2] = [-20.0, -6.0];
/// A file that begins at less than this part of the level at which it ends does not go on from its end.
const QUIET: f64 = 0.18;
const SILENT_START: f64 = 0.25;

impl Bounds {
    /// Any loop that is worth it: a quarter of the clip, or 10 s.
    pub fn any(facts: &Facts) -> Self {
        let all = FrameRange { start: 0, end: facts.frames + 1 };
        let rate = facts.format.rate;
        let least = (facts.frames / 4).min(rate.frames(10.0));
        Self {
            starts: all,
            ends: all,
            lengths: FrameRange {
                start: least.max(rate.frames(0.004)).max(16),
                end: facts.frames + 1,
            },
        }
    }
}

/// Finds loops, the best first; none whose seam is bad comes before one whose is not. The clip is read twice, but
/// for what was kept of the first time.
///
/// # Errors
/// [`Error::CannotMeet`] where the clip is too short for any; those of reading; [`Error::Stopped`].
pub fn find(
    clip: &Clip,
    wanted: &Bounds,
    most: usize,
    observer: &dyn Observer,
) -> Result<Vec<Candidate>> {
    let facts = clip.facts();
    let mut kept = Kept::of(facts);
    let heard = Heard::listen(clip, &mut kept, observer)?;
    let form = (!heard.shapes.is_empty()).then(|| Form::of(&heard, facts.frames, wanted));
    let beat = form.as_ref().and_then(Form::beat);
    let pairs = pairs(&heard, form.as_ref(), wanted, facts);
    let ranges: Vec<FrameRange> = pairs.iter().flat_map(|p| [p.early, p.late]).collect();
    let channels = facts.format.channels.count().into();
    let mut read = |ranges: &[FrameRange]| match kept.windows(channels, ranges) {
        Some(blocks) => Ok(blocks),
        None => windows(clip, ranges, observer),
    };
    let blocks = read(&ranges)?;
    let mut planner = FftPlanner::new();
    let mut found: Vec<Candidate> = Vec::new();
    // What runs to the frame tells how long several of its rounds are.
    let mut exact = BTreeMap::new();
    let of_runs = |pair: &&(&Pair, &[Block])| pair.0.fixed.is_none();
    let both: Vec<(&Pair, &[Block])> = pairs.iter().zip(blocks.chunks(2)).collect();
    let (runs, fixed): (Vec<_>, Vec<_>) = both.iter().partition(of_runs);
    for (pair, blocks) in runs.into_iter().chain(fixed) {
        let both = [&blocks[0], &blocks[1]];
        let Some(one) = pair.candidate(&mut planner, both, facts, wanted, &exact) else { continue };
        if let Some(run) = pair.run.filter(|_| one.wave_db < EXACT_DB[1]) {
            exact.insert(run, one.seam.range.len());
        }
        found.push(Candidate {
            bars: beat.and_then(|beat| bars(beat, one.seam.range, facts)),
            ..one
        });
    }
    found.sort_by(|a, b| b.order().total_cmp(&a.order()));
    let mut best = distinct(found, facts);
    best.truncate(most);
    let Some(first) = best.first_mut() else {
        return Err(Error::CannotMeet(Unmet::NoLoopFound { seconds: facts.seconds() }));
    };
    if first.seam.verdict != Verdict::Good {
        first.smoothing = smooth_in(&first.seam, facts.format, read)?;
    }
    Ok(best)
}

/// All that is looked at closely.
fn pairs(heard: &Heard, form: Option<&Form>, wanted: &Bounds, facts: &Facts) -> Vec<Pair> {
    let window =
        size(facts.format.rate.frames(ALIKE) / heard.hop).min(heard.levels.len() / 8).max(4);
    let proposals = form.map(Form::proposals).unwrap_or_default();
    let mut pairs: Vec<Pair> = proposals
        .iter()
        .filter_map(|proposal| match &proposal.fit {
            Fit::Run(run) => Pair::of_run(run, proposal, heard, window, wanted, facts),
            _ => Pair::of(proposal, facts),
        })
        .collect();
    let sure = proposals.iter().any(|proposal| proposal.worth > SURE && proposal.fit != Fit::End);
    if !sure {
        pairs.extend(repeats(heard, wanted, window, LAGS).into_iter().filter_map(|repeat| {
            let share = real_size(repeat.lag) * real(heard.hop) / real(facts.frames);
            let worth = repeat.worth(window, share);
            Pair::around(&repeat, heard, wanted, facts, worth)
        }));
    }
    if facts.frames <= ALIGNED / 4 {
        pairs.extend(Pair::short(wanted, facts));
    }
    pairs
}

/// The length in bars, where it is whole.
fn bars(beat: Beat, range: FrameRange, facts: &Facts) -> Option<Bars> {
    let beats = real(range.len()) / beat.period;
    let rate = facts.format.rate;
    let off = (beats - beats.round()).abs() * beat.period / rate.real();
    let (bar, _) = beat.bars.into_iter().max_by(|a, b| a.1.total_cmp(&b.1))?;
    let whole = rounded(beats);
    (off < SAME_LENGTH && whole > 0 && whole.is_multiple_of(bar)).then(|| Bars {
        count: whole / bar,
        beats: bar,
        tempo: 60.0 * rate.real() / beat.period,
    })
}

/// Choices that differ, in their order; of those of one length that whose ends are the most alike.
fn distinct(found: Vec<Candidate>, facts: &Facts) -> Vec<Candidate> {
    let rate = facts.format.rate;
    let near = rate.frames(SAME_LENGTH).min(facts.frames / 256).max(2);
    let mut best: Vec<Candidate> = Vec::new();
    for one in found {
        let length = one.seam.range.len();
        let same = |other: &&mut Candidate| other.seam.range.len().abs_diff(length) <= near;
        match best.iter_mut().find(same) {
            // What was reckoned from the beat gives way to what was found in the wave.
            Some(other)
                if one.wave_db < EXACT_DB[1]
                    && one.wave_db + 6.0 < other.wave_db
                    && one.seam.verdict <= other.seam.verdict =>
            {
                *other = one;
            }
            Some(_) => {}
            None => best.push(one),
        }
    }
    best
}

/// Two stretches of which one may follow the other.
struct Pair {
    early: FrameRange,
    /// As long, or longer than the early one on both sides, as far as the clip goes.
    late: FrameRange,
    /// Where the seam should lie.
    middle: u64,
    /// Where it is known already: the loop, and how far both of its ends may move back.
    fixed: Option<(FrameRange, u64)>,
    /// The run that it is of, by the stretches after which that comes again, and how many rounds of another.
    run: Option<usize>,
    rounds: Option<(usize, u64)>,
    worth: f64,
    reason: Reason,
}

impl Pair {
    /// What a form proposes, other than runs.
    fn of(proposal: &Proposal, facts: &Facts) -> Option<Self> {
        let FrameRange { start, end } = proposal.range;
        let Proposal { worth, reason, rounds, .. } = *proposal;
        let (run, frames) = (None, facts.frames);
        let slide = match proposal.fit {
            Fit::End => 0,
            Fit::Length(slide) => slide.min(start),
            Fit::Return { reach, again } => {
                let lag = end - start;
                let early =
                    FrameRange { start: start.checked_sub(again)?, end: start.checked_sub(reach)? };
                let late = FrameRange { start: (early.start + lag).checked_sub(reach)?, end };
                let usable = early.len() >= 64 && late.start > early.start;
                let middle = (early.start + early.end) / 2;
                let fixed = None;
                return usable.then_some(Self {
                    early,
                    late,
                    middle,
                    fixed,
                    run,
                    rounds,
                    worth,
                    reason,
                });
            }
            Fit::Run(_) => return None,
        };
        let side = side(facts.format.rate) + slide;
        let around =
            |at: u64| FrameRange { start: at.saturating_sub(side), end: (at + side).min(frames) };
        let fixed = Some((proposal.range, slide));
        let (early, late) = (around(start), around(end));
        let middle = start;
        (end - start > 2 * side).then_some(Self {
            early,
            late,
            middle,
            fixed,
            run,
            rounds,
            worth,
            reason,
        })
    }

    /// A run whose notes tell its lag.
    fn of_run(
        run: &Run,
        proposal: &Proposal,
        heard: &Heard,
        window: usize,
        wanted: &Bounds,
        facts: &Facts,
    ) -> Option<Self> {
        let repeat = place_in(heard, wanted, window, run)?;
        let lag = fine_lag(heard, run);
        let reach = facts.format.rate.frames(RUN_REACH);
        let mut pair = Self::lagged(heard.middle(repeat.at), lag, reach, wanted, facts)?;
        (pair.worth, pair.reason, pair.run) = (proposal.worth, proposal.reason, Some(run.lag));
        Some(pair)
    }

    fn around(
        repeat: &Repeat,
        heard: &Heard,
        wanted: &Bounds,
        facts: &Facts,
        worth: f64,
    ) -> Option<Self> {
        let lag = count(repeat.lag) * heard.hop;
        let reach = 2 * heard.hop.max(heard.window / 4);
        Some(Self { worth, ..Self::lagged(heard.middle(repeat.at), lag, reach, wanted, facts)? })
    }

    /// What lies around a place, and so much later, give or take `reach`.
    fn lagged(middle: u64, lag: u64, reach: u64, wanted: &Bounds, facts: &Facts) -> Option<Self> {
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
        (early.len() >= 64 && late.len() >= early.len()).then_some(Self {
            early,
            late,
            middle,
            fixed: None,
            run: None,
            rounds: None,
            worth: 0.0,
            reason: Reason::Alike,
        })
    }

    /// All of a clip that is short for spectra: its beginning, wherever it comes again.
    fn short(wanted: &Bounds, facts: &Facts) -> Option<Self> {
        let early = FrameRange { start: 0, end: (facts.frames / 3).min(ALIGNED / 4) };
        let late = FrameRange { start: wanted.lengths.start, end: facts.frames.min(ALIGNED) };
        (early.len() >= 64 && late.len() >= early.len()).then_some(Self {
            early,
            late,
            middle: early.end / 2,
            fixed: None,
            run: None,
            rounds: None,
            worth: 1.0,
            reason: Reason::Alike,
        })
    }

    /// The loop in them that sounds best.
    fn candidate(
        &self,
        planner: &mut FftPlanner<f32>,
        blocks: [&Block; 2],
        facts: &Facts,
        wanted: &Bounds,
        exact: &BTreeMap<usize, u64>,
    ) -> Option<Candidate> {
        let rate = facts.format.rate;
        let ranges = match self.fixed {
            Some((range, slide)) => {
                let (range, slide) = self.in_rounds(range, slide, exact, facts);
                vec![self.slid(range, slide, blocks, size(rate.frames(PLACE)))]
            }
            None => self.aligned(planner, blocks, facts, wanted)?,
        };
        let mut best: Option<(Judgement, Around)> = None;
        for range in ranges {
            if !wanted.allows(range) || range.end > facts.frames {
                continue;
            }
            let around = Around { early: blocks[0], late: blocks[1], pair: self, range };
            let Some(seam) = around.sides(size(side(rate))).judge(range, facts.format) else {
                continue;
            };
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
        let wave_db = around.wave_db(rate.frames(COMPARED));
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
                    && range.end == facts.frames
                    && around.begins_quietly(facts.format) =>
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
        let Some(length) =
            told.filter(|told| told.abs_diff(range.len()) <= facts.format.rate.frames(0.02))
        else {
            return (range, slide);
        };
        match range.end == facts.frames {
            true => (FrameRange { start: range.end.saturating_sub(length), ..range }, 0),
            false => (FrameRange { end: (range.start + length).min(facts.frames), ..range }, slide),
        }
    }

    /// Both ends moved back to where the waves on both sides differ least.
    fn slid(
        &self,
        range: FrameRange,
        slide: u64,
        [early, late]: [&Block; 2],
        window: usize,
    ) -> FrameRange {
        let cost = |back: u64| {
            let (mut apart, mut power) = (0.0, 1e-9);
            for (a, b) in early.channels().iter().zip(late.channels()) {
                for step in 0..window {
                    let at = |from: FrameRange, place: u64| {
                        (place + count(step)).checked_sub(back + count(window / 2) + from.start)
                    };
                    let at = at(self.early, range.start).zip(at(self.late, range.end));
                    let Some((a, b)) = at.and_then(|(i, j)| a.get(size(i)).zip(b.get(size(j))))
                    else {
                        continue;
                    };
                    apart += (a - b).powi(2);
                    power += a * a + b * b;
                }
            }
            // Of places that are alike the quieter.
            apart + 0.1 * power
        };
        let best = (0..=slide).step_by(8).map(|back| (back, cost(back)));
        let back = best.min_by(|a, b| a.1.total_cmp(&b.1)).map_or(0, |best| best.0);
        FrameRange { start: range.start - back, end: range.end - back }
    }

    /// The loop between two stretches that sound alike: their distance to the frame, and the best place.
    fn aligned(
        &self,
        planner: &mut FftPlanner<f32>,
        [early, late]: [&Block; 2],
        facts: &Facts,
        wanted: &Bounds,
    ) -> Option<Vec<FrameRange>> {
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

/// A loop, and the sound around both of its ends.
struct Around<'a> {
    early: &'a Block,
    late: &'a Block,
    pair: &'a Pair,
    range: FrameRange,
}

impl Around<'_> {
    /// Frames of the clip out of a block, as far as it goes.
    fn cut(block: &Block, own: FrameRange, from: u64, to: u64) -> Block {
        let (from, to) = (from.clamp(own.start, own.end), to.clamp(own.start, own.end));
        let part = size(from - own.start)..size(to - own.start);
        let cut = |c: &Vec<f64>| c[part.start.min(c.len())..part.end.min(c.len())].to_vec();
        Block::from_channels(block.channels().iter().map(cut).collect())
    }

    fn sides(&self, side: usize) -> Sides {
        let side = count(side);
        let FrameRange { start, end } = self.range;
        let early = |from, to| Self::cut(self.early, self.pair.early, from, to);
        let late = |from, to| Self::cut(self.late, self.pair.late, from, to);
        Sides {
            before: late(end.saturating_sub(side), end),
            after: early(start, start + side),
            lead: early(start.saturating_sub(side), start),
            follow: late(end, end + side),
        }
    }

    /// How far the waves at the end differ from those at the start.
    fn wave_db(&self, reach: u64) -> f64 {
        let FrameRange { start, end } = self.range;
        let (early, late) = (self.pair.early, self.pair.late);
        let back = reach.min(start - early.start).min(end - late.start);
        let on = reach.min(early.end - start).min(late.end - end);
        let a = Self::cut(self.early, early, start - back, start + on);
        let b = Self::cut(self.late, late, end - back, end + on);
        if a.is_empty() { 0.0 } else { difference(&a, &b) }
    }

    /// Whether the first milliseconds of a loop are all but silent beside its last.
    fn begins_quietly(&self, format: Format) -> bool {
        let sides = self.sides(size(side(format.rate)));
        let power = |block: &Block, frames: usize| {
            let squares =
                block.channels().iter().flat_map(|c| c.iter().take(frames).map(|s| s * s));
            squares.sum::<f64>() / real_size(frames.max(1))
        };
        let first = size(format.rate.frames(0.004)).min(sides.after.frames());
        let level =
            power(&sides.after, first) / power(&sides.before, sides.before.frames()).max(1e-12);
        level.sqrt() < QUIET
    }
}

impl Candidate {
    /// What is bad comes behind what is not; and a crossfade smooths a click, while nothing fixes a wrong length.
    fn order(&self) -> f64 {
        self.worth
            - match self.seam.verdict {
                Verdict::Good => 0.0,
                Verdict::Audible => 0.1,
                Verdict::Bad => 100.0,
            }
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

/// The frames at which both waves are most alike, beside what sounds there, the best first and none within `side` of
/// another; of equal ones the nearest to `middle`. Frames nearer to an end than `side` are left out where there are
/// others.
fn places(
    a: &Block,
    b: &Block,
    window: usize,
    side: usize,
    middle: usize,
    allowed: impl Fn(usize) -> bool,
) -> Vec<usize> {
    let frames = a.frames();
    let (mut apart, mut power) = (vec![0.0; frames + 1], vec![0.0; frames + 1]);
    for index in 0..frames {
        let pairs = a.channels().iter().zip(b.channels());
        let (mut d, mut p) = (0.0, 0.0);
        for (a, b) in pairs {
            d += (a[index] - b[index]).powi(2);
            p += a[index].powi(2) + b[index].powi(2);
        }
        apart[index + 1] = apart[index] + d;
        power[index + 1] = power[index] + p;
    }
    let mean = power[frames] / real_size(frames.max(1));
    // What is 40 dB below the rest is not heard beside it.
    let floor = (1e-4 * mean + 1e-12) * real_size(window);
    let cost = |at: usize| {
        let around = |reach: usize| (at.saturating_sub(reach), (at + reach).min(frames));
        let (from, to) = around(window / 2);
        let here = power[to] - power[from];
        // Of places that are alike the one in the quieter surroundings: a codec's noise is small there, too, and no
        // note begins right behind it.
        let (first, last) = around(4 * window);
        let loud = (power[last] - power[first]) / real_size((last - first).max(1));
        let loud = loud / (loud + mean + 1e-12);
        let far = real_size(at.abs_diff(middle)) / real_size(frames);
        (apart[to] - apart[from]) / (here + floor) + 1e-4 * loud + 1e-7 * far
    };
    let costs = |range: Range<usize>| -> Vec<(usize, f64)> {
        range.filter(|at| allowed(*at)).map(|at| (at, cost(at))).collect()
    };
    let mut left = costs(side..frames.saturating_sub(side));
    if left.is_empty() {
        left = costs(0..frames + 1);
    }
    let mut best = Vec::new();
    while let Some((at, _)) = left.iter().min_by(|a, b| a.1.total_cmp(&b.1)).copied() {
        best.push(at);
        if best.len() == PLACES {
            break;
        }
        left.retain(|other| other.0.abs_diff(at) > side);
    }
    best
}
