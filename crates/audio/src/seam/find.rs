//! Finding loops: where a clip loops by its form, or repeats itself, to the frame, and sounds best.

use super::beat::Beat;
use super::form::{Form, Reason};
use super::judge::{Judgement, Verdict};
use super::kept::Kept;
use super::listen::Heard;
use super::pair::{EXACT_DB, Pair, Search};
use super::repeats::{Bounds, repeats};
use super::smooth::{Smoothing, smooth_in};
use crate::block::Block;
use crate::error::{Error, Result};
use crate::num::{real, rounded};
use crate::observe::Observer;
use crate::read::Clip;
use crate::shape::windows::windows;
use crate::spec::Facts;
use crate::units::FrameRange;
use crate::unmet::Unmet;
use rustfft::FftPlanner;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;

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
/// Next to a loop that is worth more than this, what merely sounds alike is not looked for.
const SURE: f64 = 1.0;
/// Loops whose lengths differ by less are the same choice, in seconds.
const SAME_LENGTH: f64 = 0.02;

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

    /// That some length lies between the shortest and the longest that were asked for.
    ///
    /// # Errors
    /// [`Error::CannotMeet`] where none does.
    pub fn check(&self, facts: &Facts) -> Result<()> {
        let (FrameRange { start, end }, rate) = (self.lengths, facts.format.rate);
        // Where nothing but the clip bounds it, there may be no loop.
        match start < end || end > facts.frames {
            true => Ok(()),
            false => Err(Error::CannotMeet(Unmet::NoSuchLength {
                shortest: rate.seconds(start),
                longest: rate.seconds(end.saturating_sub(1)),
            })),
        }
    }
}

/// Finds loops, the best first; none whose seam is bad comes before one whose is not. The clip is read once, and then in
/// part: lossy clips from what was kept of the first time.
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
    let channels = facts.format.channels.count().into();
    let mut read = |ranges: &[FrameRange]| match kept.windows(channels, ranges) {
        Some(blocks) => Ok(blocks),
        None => windows(clip, ranges, observer),
    };
    let search = Search { heard: &heard, wanted, facts };
    let (mut found, mut beat) = (Vec::new(), None);
    if !heard.shapes.is_empty() {
        let form = Form::of(&heard, facts.frames, wanted);
        let proposals = form.proposals();
        let pairs: Vec<Pair> = proposals.iter().filter_map(|p| Pair::of(p, &search)).collect();
        beat = form.beat();
        found = examined(&pairs, &search, beat, &mut read)?;
    }
    if !found.iter().any(Candidate::is_sure) {
        let repeats = repeats(&heard, wanted, search.window(), LAGS);
        let alike = repeats.iter().filter_map(|repeat| Pair::alike(repeat, &search));
        let pairs: Vec<Pair> = alike.chain(Pair::short(&search)).collect();
        found.extend(examined(&pairs, &search, beat, &mut read)?);
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

/// The best loop of each pair, where it has one.
fn examined(
    pairs: &[Pair],
    search: &Search<'_>,
    beat: Option<Beat>,
    read: impl FnOnce(&[FrameRange]) -> Result<Vec<Block>>,
) -> Result<Vec<Candidate>> {
    let ranges: Vec<FrameRange> = pairs.iter().flat_map(|p| [p.early, p.late]).collect();
    let blocks = read(&ranges)?;
    let both: Vec<(&Pair, &[Block])> = pairs.iter().zip(blocks.chunks(2)).collect();
    // What runs to the frame tells how long several of its rounds are.
    let (fixed, runs): (Vec<_>, Vec<_>) = both.into_iter().partition(|both| both.0.fixed.is_some());
    let (mut exact, mut planner) = (BTreeMap::new(), FftPlanner::new());
    let mut found = Vec::new();
    for (pair, blocks) in runs.into_iter().chain(fixed) {
        let both = [&blocks[0], &blocks[1]];
        let Some(one) = pair.candidate(&mut planner, both, search, &exact) else { continue };
        if let Some(run) = pair.run.filter(|_| one.wave_db < EXACT_DB[1]) {
            exact.insert(run, one.seam.range.len());
        }
        let bars = beat.and_then(|beat| bars(beat, one.seam.range, search.facts));
        found.push(Candidate { bars, ..one });
    }
    Ok(found)
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

impl Candidate {
    /// Whether its form speaks for it, and nothing against it.
    fn is_sure(&self) -> bool {
        self.worth > SURE && self.reason != Reason::Whole && self.seam.verdict != Verdict::Bad
    }

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
