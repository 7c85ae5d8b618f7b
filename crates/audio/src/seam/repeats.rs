//! Where a clip sounds as it does somewhere else: every stretch held against every other.

use super::bands::{BANDS, Bands};
use crate::num::{real_size, size};
use crate::units::FrameRange;
use std::ops::Range;

/// Lags must be tried closely, places need not be: every this many stretches will do.
const EVERY: usize = 4;

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

/// The best lags first, no two of which are neighbours. `window` stretches are held against each other
/// at a time.
pub fn repeats(bands: &Bands, wanted: &Bounds, window: usize, most: usize) -> Vec<Repeat> {
    let hop = bands.hop;
    let lags = wanted.lags(hop);
    let last = (*lags.end()).min(bands.levels.len().saturating_sub(2));
    let mut lag = Lag::new(bands, window);
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
    bands: &'a Bands,
    /// How many are held against each other at a time.
    window: usize,
    lag: usize,
    /// Distances added up, in dB squared: of the first stretch, of the first two, and so on.
    sums: Vec<f64>,
}

impl<'a> Lag<'a> {
    fn new(bands: &'a Bands, window: usize) -> Self {
        Self { bands, window: window / EVERY, lag: 0, sums: Vec::new() }
    }

    fn measure(&mut self, lag: usize) -> &Self {
        let Bands { levels, silent, .. } = self.bands;
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
