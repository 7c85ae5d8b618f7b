//! Where music loops by its form: as a whole, up to its last bar before a tail, from where it returns to its first
//! notes, or where a part is played again.
//!
//! What is left of the sound at the end of a file tells much of what its maker had in mind. Music that stops at full
//! level on a bar is cut to loop; music that dies away within a second or so is cut to loop before that; music that fades
//! or ends is not, and loops where it repeats, if it does.

use super::beat::Beat;
use super::listen::Heard;
use super::repeats::{Bounds, Run, dot_mean, runs};
use crate::num::{count, real, real_size, rounded, single, size};
use crate::units::FrameRange;
use schemars::JsonSchema;
use serde::Serialize;

/// Why a loop is offered.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Reason {
    /// The file stops at full level: all of it loops.
    Whole,
    /// Whole bars, up to where the file stops or begins to die away.
    Bars,
    /// The end of the file is the beginning of the loop once more.
    Return,
    /// A part is played again.
    Repeat,
    /// Both ends sound alike.
    Alike,
}

/// A loop that may be one.
#[derive(Debug, Clone, PartialEq)]
pub struct Proposal {
    /// Where, more or less.
    pub range: FrameRange,
    /// How likely, from 0 to about 3.
    pub worth: f64,
    /// Why.
    pub reason: Reason,
    /// How exactly it is known.
    pub fit: Fit,
    /// The lag of a run, in stretches, and how many rounds of it this is.
    pub rounds: Option<(usize, u64)>,
}

/// What is known of a proposal.
#[derive(Debug, Clone, PartialEq)]
pub enum Fit {
    /// Its length; both ends may move back together by this number of frames.
    Length(u64),
    /// That its end is that of the file.
    End,
    /// That its last frames are those at its start.
    Return {
        /// How far off the length may be.
        reach: u64,
        /// How many frames come again.
        again: u64,
    },
    /// That its music comes again, and where.
    Run(Run),
}

/// Sound this far below what is usual is not at full level, in dB.
const FULL: f32 = 9.0;
/// How long music may die away after its last bar, in seconds.
const DIES: f64 = 1.35;
/// How far a file may be from a whole number of beats that it is said to have, in seconds.
const ON_BEAT: f64 = 0.03;
/// What a doubling of the number of bars in a phrase is worth: as much as this part of the music.
const PHRASE: f64 = 0.16;
/// The most doublings that count: phrases of 32 bars.
const DOUBLINGS: u32 = 5;
/// Stretches at the end of the file that are looked for elsewhere, in seconds.
const LAST: [f64; 2] = [0.3, 0.6];
/// How long a run must last to be sure, in seconds.
const SURE_RUN: f64 = 6.0;
/// What is played after the last repeat at most, in seconds, for the repeats to be the whole of the music.
const REST: f64 = 1.6;
/// How many runs are looked at.
const RUNS: usize = 8;
/// How many proposals of whole bars.
const BARS: usize = 10;

/// How a clip ends.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Ending {
    /// At full level.
    cut: bool,
    /// How long after it was last at full level, in seconds.
    dies: f64,
    /// It grows quieter over seconds.
    fades: bool,
}

impl Ending {
    fn of(heard: &Heard) -> Self {
        let second = heard.rate.real() / real(heard.hop);
        let loud = &heard.loudness;
        let usual = part_of(loud, 0.6);
        let full = |level: &f32| *level > usual - FULL;
        let dies = loud.iter().rev().take_while(|level| !full(level)).count();
        let last = &loud[loud.len() - loud.len().min(3)..];
        // The loud ones of each of the last eight seconds.
        let tail = &loud[loud.len() - loud.len().min(size(rounded(8.0 * second)))..];
        let steps: Vec<f32> = (0..8)
            .map(|step| part_of(&tail[step * tail.len() / 8..(step + 1) * tail.len() / 8], 0.75))
            .collect();
        Self {
            cut: full(&(last.iter().sum::<f32>() / single(real_size(last.len().max(1))))),
            dies: real_size(dies) / second,
            fades: steps[4] - steps[6] > 3.0
                && steps[2] - steps[6] > 4.0
                && steps[6] - steps[7] > 3.0,
        }
    }
}

/// Of values in order the one that this part of them lies below.
fn part_of(values: &[f32], part: f64) -> f32 {
    let mut sorted = values.to_vec();
    sorted.sort_by(f32::total_cmp);
    let at = size(rounded(part * real_size(sorted.len())));
    sorted.get(at.min(sorted.len().saturating_sub(1))).copied().unwrap_or(-99.0)
}

/// Where the music may end by its bars.
struct BarEnd {
    /// In frames.
    frame: f64,
    /// How many beats come before it, and how many are a bar.
    beats: u64,
    bar: u64,
    /// How likely.
    worth: f64,
}

/// Everything that a clip's form tells.
pub struct Form<'a> {
    heard: &'a Heard,
    frames: u64,
    wanted: &'a Bounds,
    ending: Ending,
    beat: Option<Beat>,
    ends: Vec<BarEnd>,
}

impl<'a> Form<'a> {
    /// Listens for the beat and for the end.
    pub fn of(heard: &'a Heard, frames: u64, wanted: &'a Bounds) -> Self {
        let ending = Ending::of(heard);
        let beat = Beat::find(heard);
        let mut form = Self { heard, frames, wanted, ending, beat, ends: Vec::new() };
        form.ends = form.bar_ends();
        form
    }

    /// The beat, where there is a steady one.
    pub fn beat(&self) -> Option<Beat> {
        self.beat
    }

    /// All loops that its form speaks for.
    pub fn proposals(&self) -> Vec<Proposal> {
        let mut all = vec![self.whole()];
        all.extend(self.bars());
        all.extend(self.returns());
        all.extend(self.repeats());
        all
    }

    fn seconds(&self, frames: f64) -> f64 {
        frames / self.heard.rate.real()
    }

    /// Whether the music may end where its file does, or die away after that.
    fn may_loop(&self) -> bool {
        self.ending.cut || (self.ending.dies < DIES && !self.ending.fades)
    }

    /// Whether the file stops on a bar.
    fn stops_on_bar(&self) -> bool {
        let rest = |end: &BarEnd| self.seconds(real(self.frames) - end.frame).abs() < ON_BEAT;
        self.ending.cut && self.ends.iter().any(rest)
    }

    fn whole(&self) -> Proposal {
        let worth = match (self.ending.cut, self.beat) {
            (true, None) => 1.2,
            (true, Some(_)) if self.stops_on_bar() => 0.8,
            (true, Some(_)) => 0.5,
            (false, _) if self.may_loop() => 0.3,
            (false, _) => 0.05,
        };
        let range = FrameRange { start: 0, end: self.frames };
        Proposal { range, worth, reason: Reason::Whole, fit: Fit::End, rounds: None }
    }

    /// Whole bars from the file's first frame on, up to its end or to where it begins to die away.
    fn bar_ends(&self) -> Vec<BarEnd> {
        let Some(beat) = self.beat.filter(|_| self.may_loop()) else { return Vec::new() };
        let mut ends = Vec::new();
        for (bar, likely) in beat.bars {
            let last = size(rounded(real(self.frames) / beat.period + 0.5));
            for beats in (1..=count(last)).rev() {
                let frame = real(beats) * beat.period;
                let rest = self.seconds(real(self.frames) - frame);
                if rest > DIES {
                    break;
                }
                if rest < -ON_BEAT || beats % bar != 0 {
                    continue;
                }
                // A bar may end with a rest, but hardly with one of more than a beat.
                let rests = self.ending.dies < self.seconds(beat.period);
                let worth = match (self.ending.cut, rest < ON_BEAT) {
                    (true, true) => 1.0,
                    (true, false) => 0.0,
                    (false, true) if rests => 0.6,
                    (false, true) => -0.5,
                    (false, false) => 0.5 + 0.5 * self.falls(frame),
                };
                ends.push(BarEnd { frame, beats, bar, worth: worth + likely });
            }
        }
        ends
    }

    /// How much the level falls at a frame, from 0 to 1.
    fn falls(&self, frame: f64) -> f64 {
        let loud = &self.heard.loudness;
        let at = self.heard.stretch(rounded(frame));
        let some = size(rounded(0.2 * self.heard.rate.real() / real(self.heard.hop))).max(2);
        let before =
            &loud[at.saturating_sub(some + 1)..at.saturating_sub(1).max(1).min(loud.len())];
        let after = &loud[(at + 1).min(loud.len() - 1)..(at + 1 + some).min(loud.len())];
        f64::from((part_of(before, 0.5) - part_of(after, 0.5)) / 20.0).clamp(0.0, 1.0)
    }

    /// From some bar on to the last: as much as may be, in phrases of many bars.
    fn bars(&self) -> Vec<Proposal> {
        let Some(beat) = self.beat else { return Vec::new() };
        let mut all = Vec::new();
        for end in &self.ends {
            for start in (0..end.beats).step_by(size(end.bar)) {
                let bars = (end.beats - start) / end.bar;
                let doublings = bars.trailing_zeros().min(DOUBLINGS);
                let worth =
                    end.worth + PHRASE * f64::from(doublings) - real(start) / real(end.beats);
                all.push(self.bounded(real(start) * beat.period, end.frame, worth, Reason::Bars));
            }
        }
        all.retain(|proposal| self.wanted.allows(proposal.range));
        all.sort_by(|a, b| b.worth.total_cmp(&a.worth));
        all.truncate(BARS);
        all
    }

    /// A loop whose end is the file's where it is about there.
    fn bounded(&self, start: f64, end: f64, worth: f64, reason: Reason) -> Proposal {
        let at_end = self.seconds((real(self.frames) - end).abs()) < ON_BEAT;
        let start = rounded(start.max(0.0));
        let (end, fit) = match at_end {
            true => (self.frames, Fit::End),
            false => (rounded(end).min(self.frames), Fit::Length(self.heard.rate.frames(0.025))),
        };
        Proposal { range: FrameRange { start, end }, worth, reason, fit, rounds: None }
    }

    /// The last notes of the file, where they are heard before.
    fn returns(&self) -> Vec<Proposal> {
        if !self.ending.cut {
            return Vec::new();
        }
        let hop = real(self.heard.hop);
        let shapes = &self.heard.shapes;
        let mut all = Vec::new();
        for seconds in LAST {
            let again = size(rounded(seconds * self.heard.rate.real() / hop)).max(4);
            let Some(last) = shapes.len().checked_sub(again) else { continue };
            let least = size(self.wanted.lengths.start / self.heard.hop).max(again);
            let alike = |lag: usize| dot_mean(&shapes[last..], &shapes[last - lag..]);
            let lags: Vec<(usize, f64)> = (least..=last).map(|lag| (lag, alike(lag))).collect();
            let peak = |at: usize| {
                let beside =
                    |at: Option<usize>| at.and_then(|at| lags.get(at)).map_or(-1.0, |l| l.1);
                lags[at].1 >= beside(at.checked_sub(1)) && lags[at].1 > beside(Some(at + 1))
            };
            let mut best: Vec<(usize, f64)> =
                (0..lags.len()).filter(|at| peak(*at)).map(|at| lags[at]).collect();
            best.sort_by(|a, b| b.1.total_cmp(&a.1));
            let reach = 3 * self.heard.hop / 2;
            for (lag, alike) in best.into_iter().take(3).filter(|best| best.1 > 0.6) {
                let end = self.frames;
                let start = end.saturating_sub(count(lag) * self.heard.hop);
                let likely = if self.stops_on_bar() { 0.2 } else { 0.9 };
                all.push(Proposal {
                    range: FrameRange { start, end },
                    worth: alike + 0.3 * seconds + likely,
                    reason: Reason::Return,
                    fit: Fit::Return { reach, again: count(again) * self.heard.hop + reach },
                    rounds: None,
                });
            }
        }
        all
    }

    /// Where a part is played again; and, where that is all of the music, all of it.
    fn repeats(&self) -> Vec<Proposal> {
        let (heard, hop) = (self.heard, real(self.heard.hop));
        let runs = runs(heard, self.wanted, RUNS);
        let seconds = |stretches: f64| self.seconds(stretches * hop);
        let most = runs.first().map_or(0.0, |run| run.sum);
        let mean = |run: &Run| run.sum / real_size(run.stretches.len().max(1));
        let sure =
            |run: &&Run| seconds(real_size(run.stretches.len())) > 5.0 && run.sum > 0.05 * most;
        let alike = runs.iter().filter(sure).map(mean).fold(0.0, f64::max);
        let mut all = Vec::new();
        for run in runs {
            let lag = real_size(run.lag) * hop;
            let rounds = real_size(run.stretches.len()) / real_size(run.lag.max(1));
            let likely = 1.56
                * (seconds(run.sum) / SURE_RUN).min(1.0)
                * (mean(&run) / (0.75 * alike.max(1e-9))).min(1.0)
                * rounds.min(1.0);
            let worth = likely + 0.3 * lag / real(self.frames) + self.phrase(lag);
            let start = real_size(run.stretches.start) * hop;
            let behind = real_size(run.stretches.end + run.lag) * hop;
            let rest = self.seconds(real(self.frames) - behind);
            if rest < REST && self.may_loop() {
                all.extend(self.all_rounds(start, run.lag, worth));
            }
            let range = FrameRange { start: rounded(start), end: rounded(start + lag) };
            let (reason, fit) = (Reason::Repeat, Fit::Run(run));
            all.push(Proposal { range, worth, reason, fit, rounds: None });
        }
        all
    }

    /// What a length is worth for the phrases that it holds, where it is whole bars.
    fn phrase(&self, length: f64) -> f64 {
        let Some(beat) = self.beat else { return 0.0 };
        let beats = (length / beat.period).round();
        if self.seconds((length - beats * beat.period).abs()) > ON_BEAT {
            return 0.0;
        }
        let doublings = |bar: u64| match rounded(beats) {
            beats if beats.is_multiple_of(bar) => (beats / bar).trailing_zeros().min(DOUBLINGS),
            _ => 0,
        };
        let best = beat.bars.iter().max_by(|a, b| a.1.total_cmp(&b.1));
        0.5 * PHRASE * best.map_or(0.0, |(bar, _)| f64::from(doublings(*bar)))
    }

    /// From the first of the repeats to the end of the last.
    fn all_rounds(&self, start: f64, stretches: usize, worth: f64) -> Vec<Proposal> {
        let lag = real_size(stretches) * real(self.heard.hop);
        let rate = self.heard.rate.real();
        let Some(beat) = self.beat else { return Vec::new() };
        let beats = (lag / beat.period).round();
        let exact = match (lag - beats * beat.period).abs() < 0.06 * rate {
            true => beats * beat.period,
            false => lag,
        };
        let from = |end: &BarEnd| {
            // Where the repeats begin is known but roughly.
            let rounds = ((end.frame - start) / exact + 0.4).floor();
            (rounds >= 2.0).then(|| {
                let worth = worth + 0.2 + 0.5 * end.worth;
                let from = end.frame - rounds * exact;
                let proposal = self.bounded(from, end.frame, worth, Reason::Repeat);
                Proposal { rounds: Some((stretches, rounded(rounds))), ..proposal }
            })
        };
        self.ends.iter().filter_map(from).collect()
    }
}
