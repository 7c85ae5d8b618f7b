//! Where a clip sounds as it does somewhere else: every stretch held against every other.

use super::bands::{BANDS, Bands};
use crate::num::{real_size, size};
use crate::units::FrameRange;

/// Stretches overlap: it is enough to look at every second one, at every lag.
const EVERY: usize = 2;

/// How far silence counts as apart from itself, in dB, squared.
const SILENCE: f64 = 36.0;

/// A lag at which the clip repeats itself, in stretches.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Repeat {
    /// From one place to the other.
    pub lag: usize,
    /// The first place: the middle of where both are most alike.
    pub at: usize,
    /// How much they differ there, in dB over all bands.
    pub differs: f64,
    /// For how many stretches they stay about as alike.
    pub run: usize,
}

/// Where loops may begin, may end, and how long they may be, in frames; ranges are half-open.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Wanted {
    /// Their first frames.
    pub starts: FrameRange,
    /// The first frames that they no longer play.
    pub ends: FrameRange,
    /// Their lengths.
    pub lengths: FrameRange,
}

impl Wanted {
    /// Whether this loop is one of them.
    pub fn allows(&self, range: FrameRange) -> bool {
        let within = |place: u64, range: FrameRange| range.start <= place && place < range.end;
        within(range.start, self.starts)
            && within(range.end, self.ends)
            && within(range.len(), self.lengths)
    }

    /// Lags, in stretches of `hop` frames, some of which may do.
    fn lags(&self, hop: u64) -> std::ops::RangeInclusive<usize> {
        let least = self
            .lengths
            .start
            .max(self.ends.start.saturating_sub(self.starts.end));
        let most = self
            .lengths
            .end
            .min(self.ends.end.saturating_sub(self.starts.start));
        size(least / hop).max(1)..=size(most.div_ceil(hop))
    }

    /// First places for a lag, in stretches.
    fn places(&self, lag: usize, hop: u64) -> std::ops::Range<usize> {
        let [starts, ends] =
            [self.starts, self.ends].map(|r| (size(r.start / hop), size(r.end.div_ceil(hop))));
        starts.0.max(ends.0.saturating_sub(lag))..starts.1.min(ends.1.saturating_sub(lag))
    }
}

/// The best lags first, no two of which are neighbours. `window` stretches are held against each other
/// at a time.
pub fn repeats(bands: &Bands, wanted: &Wanted, window: usize, most: usize) -> Vec<Repeat> {
    let hop = bands.hop;
    let lags = wanted.lags(hop);
    let last = (*lags.end()).min(bands.levels.len().saturating_sub(2));
    let mut sums = Vec::new();
    let all: Vec<Option<Repeat>> = (0..=last)
        .map(|lag| match lags.contains(&lag) {
            true => at_lag(bands, lag, wanted.places(lag, hop), window, &mut sums),
            false => None,
        })
        .collect();
    let mut order: Vec<Repeat> = all.iter().flatten().copied().collect();
    order.sort_by(|a, b| a.cost(window).total_cmp(&b.cost(window)));
    let mut chosen: Vec<Repeat> = Vec::new();
    for repeat in order {
        let near = |other: &&Repeat| other.lag.abs_diff(repeat.lag) <= 4;
        if chosen.iter().find(near).is_none() {
            chosen.push(repeat);
        }
        if chosen.len() == most {
            break;
        }
    }
    chosen
}

impl Repeat {
    /// What tells a true repeat: it is alike, for long; and long loops are the better ones.
    pub fn cost(&self, window: usize) -> f64 {
        let run = real_size(self.run) / real_size(window.max(1));
        self.differs - 0.6 * (1.0 + run).log2() - 0.3 * real_size(self.lag).log2()
    }
}

/// The place where both sides of one lag are most alike.
fn at_lag(
    bands: &Bands,
    lag: usize,
    places: std::ops::Range<usize>,
    window: usize,
    sums: &mut Vec<f64>,
) -> Option<Repeat> {
    let Bands { levels, silent, .. } = bands;
    let length = (levels.len() - lag) / EVERY;
    let (places, window) = (places.start / EVERY..places.end / EVERY, window / EVERY);
    sums.clear();
    sums.push(0.0);
    let mut sum = 0.0;
    let pairs = levels.iter().zip(&levels[lag..]).step_by(EVERY);
    let silent = silent.iter().zip(&silent[lag..]).step_by(EVERY);
    for ((a, b), (s, t)) in pairs.zip(silent).take(length) {
        let squares: f32 = a.iter().zip(b).map(|(a, b)| (a - b) * (a - b)).sum();
        sum += match *s && *t {
            true => real_size(BANDS) * SILENCE,
            false => f64::from(squares),
        };
        sums.push(sum);
    }
    let mean = |at: usize| {
        let from = at.saturating_sub(window / 2);
        let to = (at + window.div_ceil(2)).min(length);
        (sums[to] - sums[from]) / real_size(to - from) / real_size(BANDS)
    };
    // Near the ends there is less to hold against each other.
    let margin = (window / 4).min(length / 4);
    let inner = margin..length - margin;
    let clamped = places.start.max(inner.start)..places.end.min(inner.end);
    let candidates = match clamped.is_empty() {
        true => places.start.min(length)..places.end.min(length),
        false => clamped,
    };
    let (at, best) = candidates
        .map(|at| (at, mean(at)))
        .min_by(|a, b| a.1.total_cmp(&b.1))?;
    let alike = |at: &usize| mean(*at) < 1.5 * best + 2.0;
    let before = (0..at).rev().take_while(alike).count();
    let after = (at..length).take_while(alike).count();
    let run = before + after;
    Some(Repeat {
        lag,
        at: at * EVERY,
        differs: best.sqrt(),
        run: run * EVERY,
    })
}
