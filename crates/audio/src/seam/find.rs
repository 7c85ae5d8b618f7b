//! Finding loops: where a clip repeats itself, to the frame, and sounds best looping.

use super::align::{align, difference};
use super::bands::Bands;
use super::judge::{Judgement, Sides, Verdict};
use super::repeats::{Bounds, Repeat, repeats};
use super::windows::windows;
use crate::block::Block;
use crate::error::{Error, Result};
use crate::num::{count, real, real_size, size};
use crate::observe::Observer;
use crate::read::Clip;
use crate::spec::Facts;
use crate::units::FrameRange;
use crate::unmet::Unmet;
use rustfft::FftPlanner;
use schemars::JsonSchema;
use serde::Serialize;

/// A loop that was found.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
pub struct Candidate {
    /// How its seam sounds.
    #[serde(flatten)]
    pub seam: Judgement,
    /// How far the spectra around its end differ from those around its start, in dB.
    pub differs_db: f64,
    /// How much the waves differ there, beside their power: 0 dB where they are unrelated, −99 dB
    /// where they are equal.
    pub wave_db: f64,
    /// By what candidates are put in order: from 100, a repeat to the last bit, down to 0.
    #[serde(skip)]
    pub score: f64,
}

/// How many lags are looked at closely.
const LAGS: usize = 18;
/// Frames of what is aligned, at most; the whole is a power of two.
const ALIGNED: u64 = 1 << 16;
/// What is held against each other at a time, in seconds.
const ALIKE: f64 = 2.0;
/// A seam is moved to where the waves are most alike over this many seconds.
const PLACE: f64 = 0.006;
/// Waves are compared over this many seconds on either side.
const COMPARED: f64 = 0.25;

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

/// Finds loops, the best first. The clip is read twice.
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
    let rate = facts.format.rate;
    let bands = Bands::measure(clip, observer)?;
    let hop = bands.hop;
    let window = size(rate.frames(ALIKE) / hop).min(bands.levels.len() / 8).max(4);
    let repeats = repeats(&bands, wanted, window, LAGS);
    let mut pairs: Vec<Pair> =
        repeats.into_iter().filter_map(|repeat| Pair::around(repeat, hop, wanted, facts)).collect();
    if facts.frames <= ALIGNED / 4 {
        pairs.extend(Pair::whole(wanted, facts));
    }
    let ranges: Vec<FrameRange> = pairs.iter().flat_map(|p| [p.early, p.late]).collect();
    let blocks = windows(clip, &ranges, observer)?;
    let mut planner = FftPlanner::new();
    let mut found: Vec<Candidate> = pairs
        .iter()
        .zip(blocks.chunks(2))
        .filter_map(|(pair, blocks)| {
            let both = [&blocks[0], &blocks[1]];
            pair.candidate(&mut planner, both, window, facts, wanted)
        })
        .collect();
    found.sort_by(|a, b| b.score.total_cmp(&a.score));
    let mut best: Vec<Candidate> = Vec::new();
    for candidate in found {
        let length = candidate.seam.range.len();
        let same = |other: &Candidate| other.seam.range.len().abs_diff(length) <= 2;
        if !best.iter().any(same) {
            best.push(candidate);
        }
    }
    best.truncate(most);
    if best.is_empty() {
        return Err(Error::CannotMeet(Unmet::NoLoopFound { seconds: facts.seconds() }));
    }
    Ok(best)
}

/// Two stretches that sound alike.
struct Pair {
    repeat: Repeat,
    hop: u64,
    early: FrameRange,
    /// Longer than the early one on both sides, as far as the clip goes.
    late: FrameRange,
}

impl Pair {
    fn around(repeat: Repeat, hop: u64, wanted: &Bounds, facts: &Facts) -> Option<Self> {
        let reach = 4 * hop;
        let lag = count(repeat.lag) * hop;
        let most = ALIGNED.saturating_sub(2 * reach).max(ALIGNED / 2);
        // The early stretch ends where the late one would leave the clip.
        let last = facts.frames.checked_sub(lag)?;
        let middle = (count(repeat.at) * hop + hop)
            .clamp(wanted.starts.start, wanted.starts.end.min(facts.frames))
            .min(last);
        let length = most.min(last);
        let start = middle.saturating_sub(length / 2).min(last - length);
        let early = FrameRange { start, end: start + length };
        let late = FrameRange {
            start: (early.start + lag).saturating_sub(reach).max(early.start + 1),
            end: (early.end + lag + reach).min(facts.frames),
        };
        (early.len() >= 64 && late.len() >= early.len()).then_some(Self {
            repeat,
            hop,
            early,
            late,
        })
    }

    /// All of a clip that is short for spectra: its beginning, wherever it comes again.
    fn whole(wanted: &Bounds, facts: &Facts) -> Option<Self> {
        let early = FrameRange { start: 0, end: (facts.frames / 3).min(ALIGNED / 4) };
        let late = FrameRange { start: wanted.lengths.start, end: facts.frames.min(ALIGNED) };
        (early.len() >= 64 && late.len() >= early.len()).then_some(Self {
            repeat: Repeat { lag: 0, at: size(early.end / 2), differs: 0.0, run: 0 },
            hop: 1,
            early,
            late,
        })
    }

    /// The loop in them that sounds best.
    fn candidate(
        &self,
        planner: &mut FftPlanner<f32>,
        [early, late]: [&Block; 2],
        window: usize,
        facts: &Facts,
        wanted: &Bounds,
    ) -> Option<Candidate> {
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
        let side = size(super::judge::side(rate)).min(early.frames() / 4);
        let middle = count(self.repeat.at) * self.hop + self.hop;
        let middle = size(middle.saturating_sub(self.early.start));
        let at = place(early, &late, size(rate.frames(PLACE)).max(4), side, middle, allowed)?;
        let start = self.early.start + count(at);
        let range = FrameRange { start, end: start + lag };
        let cut = |block: &Block, from: usize, to: usize| {
            let part = |c: &Vec<f64>| c[from..to.min(c.len())].to_vec();
            Block::from_channels(block.channels().iter().map(part).collect())
        };
        let sides = Sides {
            before: cut(&late, at.saturating_sub(side), at),
            after: cut(early, at, at + side),
            lead: cut(early, at.saturating_sub(side), at),
            follow: cut(&late, at, at + side),
        };
        let seam = sides.judge(range, facts.format)?;
        let reach = size(rate.frames(COMPARED));
        let around = at.saturating_sub(reach)..(at + reach).min(early.frames());
        let [a, b] = [early, &late].map(|block| cut(block, around.start, around.end));
        let mut candidate = Candidate {
            seam,
            differs_db: self.repeat.differs,
            wave_db: difference(&a, &b),
            score: 0.0,
        };
        candidate.score = candidate.score(&self.repeat, window, real(lag) / real(facts.frames));
        Some(candidate)
    }
}

impl Candidate {
    /// Points are taken off for what differs and for what clicks; long loops that stay alike for long
    /// are the likelier ones.
    fn score(&self, repeat: &Repeat, window: usize, share: f64) -> f64 {
        // A crossfade smooths a click, and nothing fixes a wrong length.
        let heard = match self.seam.verdict {
            Verdict::Good => 0.0,
            Verdict::Audible => 8.0,
            Verdict::Bad => 15.0,
        };
        // Equal waves are a sure sign; unrelated ones none.
        let wave = 15.0 * (1.0 + self.wave_db / 30.0).clamp(0.0, 1.0);
        let run = real_size(repeat.run) / real_size(window);
        let long = 6.0 * (1.0 - (1.0 + run).log2() / 5.0).clamp(0.0, 1.0);
        // An equal wave makes up for what the coarse view makes of places between two stretches.
        let spectra = (6.0 * self.differs_db).min(60.0) * (0.25 + 0.75 * wave / 15.0);
        (100.0 - heard - wave - long - spectra - 10.0 * (1.0 - share.sqrt())).max(0.0)
    }
}

/// The frame at which both waves are most alike, beside what sounds there; of equal ones the nearest to
/// `middle`. Frames nearer to an end than `side` are left out where there are others.
fn place(
    a: &Block,
    b: &Block,
    window: usize,
    side: usize,
    middle: usize,
    allowed: impl Fn(usize) -> bool,
) -> Option<usize> {
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
        let (from, to) = (at.saturating_sub(window / 2), (at + window / 2).min(frames));
        let here = power[to] - power[from];
        let far = real_size(at.abs_diff(middle)) / real_size(frames);
        // Of places that are alike the quieter: a codec's noise is small there, too.
        let loud = here / (here + real_size(window) * mean + 1e-12);
        (apart[to] - apart[from]) / (here + floor) + 1e-4 * loud + 1e-7 * far
    };
    let best = |range: std::ops::Range<usize>| {
        range.filter(|at| allowed(*at)).map(|at| (at, cost(at))).min_by(|a, b| a.1.total_cmp(&b.1))
    };
    let inner = side..frames.saturating_sub(side);
    best(inner).or_else(|| best(0..frames + 1)).map(|b| b.0)
}
