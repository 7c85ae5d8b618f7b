//! Where a clip sounds as it does somewhere else: every stretch held against every other.

use super::listen::{BANDS, Heard, Levels, dot};
use crate::num::{real_size, size};
use crate::units::FrameRange;
use std::ops::Range;

/// Lags must be tried closely, places need not be: every this many stretches will do.
const EVERY: usize = 4;

/// The same for runs, which are long.
const RUN_EVERY: usize = 3;

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
pub struct Bounds {
    /// Their first frames.
    pub starts: FrameRange,
    /// The first frames that they no longer play.
    pub ends: FrameRange,
    /// Their lengths.
    pub lengths: FrameRange,
}

impl Bounds {
    /// Whether this loop is one of them.
    pub fn allows(&self, range: FrameRange) -> bool {
        let within = |place: u64, range: FrameRange| range.start <= place && place < range.end;
        within(range.start, self.starts)
            && within(range.end, self.ends)
            && within(range.len(), self.lengths)
    }

    /// Lags, in stretches of `hop` frames, some of which may do.
    fn lags(&self, hop: u64) -> std::ops::RangeInclusive<usize> {
        let least = self.lengths.start.max(self.ends.start.saturating_sub(self.starts.end));
        let most = self.lengths.end.min(self.ends.end.saturating_sub(self.starts.start));
        size(least / hop).max(1)..=size(most.div_ceil(hop))
    }

    /// First places for a lag, in stretches.
    fn places(&self, lag: usize, hop: u64) -> Range<usize> {
        let [starts, ends] =
            [self.starts, self.ends].map(|r| (size(r.start / hop), size(r.end.div_ceil(hop))));
        starts.0.max(ends.0.saturating_sub(lag))..starts.1.min(ends.1.saturating_sub(lag))
    }
}

/// How alike two stretches must be to be of the same music, from −1 to 1: a melody over the same chords comes to
/// less, the same one played anew to more.
const SAME_MUSIC: f32 = 0.45;

/// A stretch of music that comes again.
#[derive(Debug, Clone, PartialEq)]
pub struct Run {
    /// After so many stretches.
    pub lag: usize,
    /// Where it lies the first time.
    pub stretches: Range<usize>,
    /// By how much it is more alike than other music, added up.
    pub sum: f64,
}

/// How alike two rows of stretches are, as long as the first.
pub fn dot_mean(a: &[Levels], b: &[Levels]) -> f64 {
    let sum: f32 = a.iter().zip(b).map(|(a, b)| dot(a, b)).sum();
    f64::from(sum) / real_size(a.len().max(1))
}

/// For the lags at which most music comes again, where it does; the most first.
pub fn runs(heard: &Heard, wanted: &Bounds, most: usize) -> Vec<Run> {
    let shapes = &heard.shapes;
    let lags = wanted.lags(heard.hop);
    let last = (*lags.end()).min(shapes.len().saturating_sub(1));
    let run = |lag: usize| {
        // The stretch whose sum is the greatest.
        let mut best = Run { lag, stretches: 0..0, sum: 0.0 };
        let (mut from, mut sum) = (0, 0.0);
        let pairs = shapes.iter().zip(&shapes[lag..]).enumerate();
        for (at, (a, b)) in pairs.step_by(RUN_EVERY) {
            if sum <= 0.0 {
                (from, sum) = (at, 0.0);
            }
            sum += real_size(RUN_EVERY) * f64::from(dot(a, b) - SAME_MUSIC);
            if sum > best.sum {
                best = Run { lag, stretches: from..at + 1, sum };
            }
        }
        best
    };
    let all: Vec<Run> = (*lags.start()..=last).map(run).collect();
    let sum = |at: Option<usize>| at.and_then(|at| all.get(at)).map_or(0.0, |run| run.sum);
    let peak = |at: &usize| {
        let here = sum(Some(*at));
        here > 0.0 && here >= sum(at.checked_sub(1)) && here > sum(Some(at + 1))
    };
    let mut peaks: Vec<&Run> = (0..all.len()).filter(peak).map(|at| &all[at]).collect();
    peaks.sort_by(|a, b| b.sum.total_cmp(&a.sum));
    peaks.into_iter().take(most).cloned().collect()
}

/// The best place of a lag within a run, and how far it differs there.
pub fn place_in(heard: &Heard, wanted: &Bounds, window: usize, run: &Run) -> Option<Repeat> {
    let places = wanted.places(run.lag, heard.hop);
    let from = places.start.max(run.stretches.start);
    let to = places.end.min(run.stretches.end);
    let mut lag = Lag::new(heard, window);
    let best = lag.measure(run.lag).best(from..to.max(from))?;
    Some(lag.first(&best, from..to.max(from)))
}

/// The best lags first, no two of which are neighbours. `window` stretches are held against each other
/// at a time.
pub fn repeats(heard: &Heard, wanted: &Bounds, window: usize, most: usize) -> Vec<Repeat> {
    let hop = heard.hop;
    let lags = wanted.lags(hop);
    let last = (*lags.end()).min(heard.levels.len().saturating_sub(2));
    let mut lag = Lag::new(heard, window);
    let at = |lag: usize| wanted.places(lag, hop);
    let mut order: Vec<Repeat> =
        (*lags.start()..=last).filter_map(|frames| lag.measure(frames).best(at(frames))).collect();
    order.sort_by(|a, b| a.cost(window).total_cmp(&b.cost(window)));
    let mut chosen: Vec<Repeat> = Vec::new();
    for repeat in order {
        let near = |other: &&Repeat| other.lag.abs_diff(repeat.lag) <= 4;
        if chosen.iter().find(near).is_none() {
            let first = lag.measure(repeat.lag).first(&repeat, at(repeat.lag));
            chosen.push(first);
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

/// How far a clip is from itself at one lag.
struct Lag<'a> {
    heard: &'a Heard,
    /// How many are held against each other at a time.
    window: usize,
    lag: usize,
    /// Distances added up, in dB squared: of the first stretch, of the first two, and so on.
    sums: Vec<f64>,
}

impl<'a> Lag<'a> {
    fn new(heard: &'a Heard, window: usize) -> Self {
        Self { heard, window: window / EVERY, lag: 0, sums: Vec::new() }
    }

    fn measure(&mut self, lag: usize) -> &Self {
        let Heard { levels, silent, .. } = self.heard;
        let length = (levels.len() - lag) / EVERY;
        self.lag = lag;
        self.sums.clear();
        self.sums.push(0.0);
        let mut sum = 0.0;
        let pairs = levels.iter().zip(&levels[lag..]).step_by(EVERY);
        let silent = silent.iter().zip(&silent[lag..]).step_by(EVERY);
        for ((a, b), (s, t)) in pairs.zip(silent).take(length) {
            let squares: f32 = a.iter().zip(b).map(|(a, b)| (a - b) * (a - b)).sum();
            sum += match *s && *t {
                true => real_size(BANDS) * SILENCE,
                false => f64::from(squares),
            };
            self.sums.push(sum);
        }
        self
    }

    /// How many places there are.
    fn length(&self) -> usize {
        self.sums.len() - 1
    }

    /// As [`Lag::mean`] but for a factor, for places with a whole window around them.
    fn inside(&self, at: usize) -> f64 {
        let from = at - self.window / 2;
        self.sums[from + self.window] - self.sums[from]
    }

    /// The mean distance around a place, in dB squared.
    fn mean(&self, at: usize) -> f64 {
        let from = at.saturating_sub(self.window / 2);
        let to = (at + self.window.div_ceil(2)).min(self.length());
        (self.sums[to] - self.sums[from]) / real_size((to - from) * BANDS)
    }

    /// Places that may be chosen; near the ends there is less to hold against each other, so that these
    /// are taken only where there are no others.
    fn places(&self, wanted: Range<usize>) -> Range<usize> {
        let length = self.length();
        let margin = (self.window / 4).min(length / 4);
        let wanted = wanted.start / EVERY..(wanted.end / EVERY).min(length);
        let inner = wanted.start.max(margin)..wanted.end.min(length - margin);
        if inner.is_empty() { wanted } else { inner }
    }

    /// The place where both sides are most alike.
    fn best(&self, wanted: Range<usize>) -> Option<Repeat> {
        let least = |places: Range<usize>, cost: fn(&Self, usize) -> f64| {
            let pairs = places.map(|at| (at, cost(self, at)));
            pairs.min_by(|a, b| a.1.total_cmp(&b.1)).map(|(at, _)| at)
        };
        let places = self.places(wanted);
        let half = self.window.div_ceil(2);
        let whole = places.start.max(half)..places.end.min(self.length().saturating_sub(half));
        // Most places have a whole window around them, and are the cheaper to compare.
        let inside = least(whole.clone(), Self::inside);
        let edges =
            [places.start..whole.start.min(places.end), whole.end.max(places.start)..places.end];
        let edges = edges.into_iter().filter_map(|part| least(part, Self::mean));
        let (at, best) = inside
            .into_iter()
            .chain(edges)
            .map(|at| (at, self.mean(at)))
            .min_by(|a, b| a.1.total_cmp(&b.1))?;
        let alike = |at: &usize| self.mean(*at) < 1.5 * best + 2.0;
        let before = (0..at).rev().take_while(alike).count();
        let after = (at..self.length()).take_while(alike).count();
        Some(Repeat {
            lag: self.lag,
            at: at * EVERY,
            differs: best.sqrt(),
            run: (before + after) * EVERY,
        })
    }

    /// Of places that are about as good the first: it leaves the shortest way into the loop.
    fn first(&self, repeat: &Repeat, wanted: Range<usize>) -> Repeat {
        let most = 1.1 * repeat.differs.powi(2) + 0.05;
        let first = self.places(wanted).find(|at| self.mean(*at) <= most);
        Repeat { at: first.map_or(repeat.at, |at| at * EVERY), ..*repeat }
    }
}
