//! How a seam sounds: what happens there beside what the sound itself does around it.

use super::spectrum::apart;
use crate::block::Block;
use crate::error::{Error, Result};
use crate::masking::Ear;
use crate::num::{decibels, real_size, single, size};
use crate::observe::Unobserved;
use crate::read::Clip;
use crate::shape::windows::windows;
use crate::spec::Format;
use crate::units::{FrameRange, SampleRate};
use crate::unmet::Unmet;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::ops::Range;

/// What was found about a seam.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
pub struct Judgement {
    /// The loop, in frames of the clip.
    pub range: FrameRange,
    /// How far what the cut adds to the sound stands above what the sound masks, in dB: 0 dB is just heard; of the
    /// worst channel. −40 dB where it adds nothing.
    pub click_db: f64,
    /// The greatest step from the last sample to the first, of full scale.
    pub step: f64,
    /// By how much the greatest change of slope there, of full scale a sample.
    pub slope: f64,
    /// By how much the level jumps, in dB: the 50 ms after the seam beside the 50 ms before it, or
    /// less, where the sound itself does so at the loop's start or its end.
    pub level_db: f64,
    /// How far the spectra of the same lie apart, in dB.
    pub spectrum_db: f64,
    /// In words.
    pub verdict: Verdict,
    /// The samples of the first channel around the seam, the same number before and after it.
    pub around: Vec<f64>,
}

/// A seam in a word.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, JsonSchema, Serialize, Deserialize,
)]
#[serde(rename_all = "lowercase")]
pub enum Verdict {
    /// Nobody hears it.
    Good,
    /// Who listens for it hears it.
    Audible,
    /// It clicks, or jumps.
    Bad,
}

impl Verdict {
    /// The word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Good => "good",
            Self::Audible => "audible",
            Self::Bad => "bad",
        }
    }
}

/// How much is looked at on either side, in seconds.
const SIDE: f64 = 0.05;
/// The stretch in which a click sounds, in seconds.
const CLICK: f64 = 0.001;
/// How long the spectrum around the seam is, in seconds.
const FRAME: f64 = 0.02;
/// What the sound itself holds counts so much, as a power: a decibel of doubt.
const OWN: f32 = 1.26;
/// Bands of the ear in a Bark, which are heard together.
const BARK: usize = 4;
/// A wave begins at zero where its first sample is less than this part of its level.
const QUIET: f64 = 0.03;
/// What is told at least, in dB.
pub const UNHEARD: f64 = -40.0;
/// What is quieter is silence, in dBFS.
const SILENT: f64 = -60.0;
/// The quietest that 16 bits hold.
const FLOOR: f64 = -96.0;
/// How much of the wave is kept for drawing, in seconds on either side.
const DRAWN: f64 = 0.004;

/// Clicks above these, in dB, are heard, and are bad; so are drops in level and rises; rises at the start of a file,
/// where nobody can tell whether a note begins there; and other spectra.
const CLICKS: [f64; 2] = [5.0, 18.0];
const DROPS: [f64; 2] = [6.0, 15.0];
const RISES: [f64; 2] = [12.0, 40.0];
const COLOURS: [f64; 2] = [14.0, 26.0];
/// Where nothing is left before the start or behind the end, nobody can tell a jump from a note that
/// begins there: jumps and spectra count from this many times these limits.
const ALONE: f64 = 2.0;

/// The sound around both ends of a loop, as long as [`side`] says where there is so much.
#[derive(Debug, Clone)]
pub struct Sides {
    /// What lies before the loop's end.
    pub before: Block,
    /// What lies after the loop's start: what is heard next.
    pub after: Block,
    /// What lies before the loop's start.
    pub lead: Block,
    /// What lies after the loop's end.
    pub follow: Block,
}

/// Judges the seam of a loop.
///
/// # Errors
/// [`Error::CannotMeet`] for a loop that lies outside the clip or is shorter than 4 ms; those of
/// reading.
pub fn judge(clip: &Clip, range: FrameRange) -> Result<Judgement> {
    let facts = clip.facts();
    let rate = facts.format.rate;
    let least = rate.frames(4.0 * CLICK).max(8);
    if range.end > facts.frames || range.start >= range.end || range.len() < least {
        return Err(Error::CannotMeet(Unmet::NoSuchLoop {
            range,
            frames: facts.frames,
            least: 4.0 * CLICK,
        }));
    }
    let length = side(rate).min(range.len());
    let part = |start: u64, end: u64| FrameRange { start, end };
    let parts = [
        part(range.end - length, range.end),
        part(range.start, range.start + length),
        part(range.start.saturating_sub(length), range.start),
        part(range.end, (range.end + length).min(facts.frames)),
    ];
    let mut sides = windows(clip, &parts, &Unobserved)?.into_iter();
    let mut next = || sides.next().unwrap_or_default();
    let sides = Sides { before: next(), after: next(), lead: next(), follow: next() };
    sides.judge(range, facts.format).ok_or(Error::CannotMeet(Unmet::NoSoundAtSeam))
}

/// How many frames on either side are looked at.
pub fn side(rate: SampleRate) -> u64 {
    rate.frames(SIDE)
}

impl Sides {
    /// Judges; `None` where there is too little around the seam.
    pub fn judge(&self, range: FrameRange, format: Format) -> Option<Judgement> {
        let rate = format.rate;
        let (before, after) = (&self.before, &self.after);
        let stretch = size(rate.frames(CLICK)).max(4);
        if before.frames() < 2 * stretch || after.frames() < 2 * stretch {
            return None;
        }
        let pairs = before.channels().iter().zip(after.channels());
        let mut click = Click::new(rate, before.frames().min(after.frames()));
        let clicks = (0..before.channels().len()).map(|channel| {
            let of = |block: &Block| block.channels().get(channel).cloned().unwrap_or_default();
            let parts = [before, after, &self.lead, &self.follow].map(of);
            click.heard(parts.each_ref().map(Vec::as_slice))
        });
        let last = |samples: &[f64]| samples.last().copied().unwrap_or(0.0);
        let first = |samples: &[f64]| samples.first().copied().unwrap_or(0.0);
        let rise = |pair: &[f64]| pair.last().zip(pair.first()).map_or(0.0, |(b, a)| b - a);
        let steps = pairs.clone().map(|(a, b)| (first(b) - last(a)).abs());
        let slopes = pairs.map(|(a, b)| {
            (rise(&b[..2.min(b.len())]) - rise(&a[a.len().saturating_sub(2)..])).abs()
        });
        let click_db = clicks.fold(f64::NEG_INFINITY, f64::max);
        let level_db = self.least(|a, b| Some(level(b) - level(a)));
        let spectrum_db = self.least(|a, b| apart(a, b, rate));
        let drawn = size(rate.frames(DRAWN)).min(before.frames()).min(after.frames());
        let around = |block: &Block, from: usize| block.channels()[0][from..from + drawn].to_vec();
        let drawn = [around(before, before.frames() - drawn), around(after, 0)];
        let alone = self.lead.frames() == 0 && self.follow.frames() == 0;
        let limits = |own: [f64; 2]| if alone { own.map(|l| ALONE * l) } else { own };
        // What rises or falls by itself where the loop begins or ends does no more at the seam.
        let own = |a: &Block, b: &Block| {
            let long = a.frames().min(b.frames()) >= before.frames().min(after.frames());
            long.then(|| (level(b) - level(a), apart(a, b, rate).unwrap_or(0.0)))
        };
        let (begins, ends) = (own(&self.lead, after), own(before, &self.follow));
        // Out of silence a note begins as it does after any rest.
        let rested = level(before) < SILENT;
        let rise = level_db - begins.map_or(0.0, |own| own.0.max(0.0));
        let rise = if rested { 0.0 } else { rise };
        let rises = if begins.is_some() { DROPS } else { RISES };
        let drop = -level_db - ends.map_or(0.0, |own| (-own.0).max(0.0));
        let changes =
            [begins, ends].into_iter().flatten().fold(0.0, |most: f64, own| most.max(own.1));
        Some(Judgement {
            range,
            click_db,
            step: steps.fold(0.0, f64::max),
            slope: slopes.fold(0.0, f64::max),
            level_db,
            spectrum_db,
            verdict: verdict(&[
                (click_db, CLICKS),
                (drop, limits(DROPS)),
                (rise, limits(rises)),
                (if rested { 0.0 } else { spectrum_db - changes / 2.0 }, limits(COLOURS)),
            ]),
            around: drawn.concat(),
        })
    }

    /// The least of a difference across the seam, of that between the two ways into the start, and of
    /// that between the two ways out of the end. What is heard at the seam is no fault where the sound
    /// itself does the same at one of its ends.
    fn least(&self, differ: impl Fn(&Block, &Block) -> Option<f64>) -> f64 {
        let whole = self.before.frames().min(self.after.frames());
        let pairs =
            [(&self.before, &self.after), (&self.before, &self.lead), (&self.follow, &self.after)];
        let long = |(a, b): &(&Block, &Block)| a.frames().min(b.frames()) >= whole;
        pairs
            .into_iter()
            .filter(long)
            .filter_map(|(a, b)| differ(a, b))
            .min_by(|a, b| a.abs().total_cmp(&b.abs()))
            .unwrap_or(0.0)
    }
}

/// The level of a stretch in dBFS.
fn level(block: &Block) -> f64 {
    let powers = block.channels().iter().map(|channel| 10f64.powf(level_of(channel) / 10.0));
    let mean = powers.sum::<f64>() / real_size(block.channels().len().max(1));
    (10.0 * mean.max(1e-12).log10()).max(FLOOR)
}

/// The worst of all.
fn verdict(found: &[(f64, [f64; 2])]) -> Verdict {
    let heard = |(value, [audible, bad]): &(f64, [f64; 2])| match value {
        value if value > bad => Verdict::Bad,
        value if value > audible => Verdict::Audible,
        _ => Verdict::Good,
    };
    found.iter().map(heard).max().unwrap_or(Verdict::Good)
}

/// How far the seam is heard beside what the sound masks there, in dB: 0 dB is just heard.
///
/// A cut spreads over the spectrum. What the spectrum around the seam holds in each band of the ear above all that the
/// sound itself holds near it, on either side and on its own ways into the loop's start and out of its end, is what
/// the cut gave; the same stretches say what is masked. A note that begins at the start is no click: the sound holds
/// it, too.
struct Click {
    ear: Ear,
    length: usize,
    powers: Vec<f32>,
    masks: Vec<f32>,
}

impl Click {
    /// For sides of this many frames.
    fn new(rate: SampleRate, side: usize) -> Self {
        let most = 1 << (2 * side).max(2).ilog2();
        let length = size(rate.frames(FRAME)).next_power_of_two().min(most).max(16);
        let ear = Ear::new(rate.real(), length, length);
        let bands = ear.bands();
        Self { ear, length, powers: vec![0.0; bands], masks: vec![0.0; bands] }
    }

    fn heard(&mut self, [before, after, lead, follow]: [&[f64]; 4]) -> f64 {
        let half = self.length / 2;
        let mut powers = vec![0.0f32; self.powers.len()];
        let mut masks = powers.clone();
        for sound in [before.to_vec(), after.to_vec()] {
            self.own(&sound, 0..sound.len(), &mut powers, &mut masks);
        }
        for [first, second] in [[lead, after], [before, follow]] {
            if first.len() >= half && second.len() >= half {
                let near = first.len() - half..first.len() + half;
                self.own(&[first, second].concat(), near, &mut powers, &mut masks);
            }
        }
        // Where nothing comes before the start, or behind the end, the sound turned round stands for it: it joins
        // without a step or a bend, and a note that begins there is in it.
        if lead.is_empty() {
            let own = [turned(after), after.to_vec()].concat();
            self.own(&own, after.len() - half..after.len() + half, &mut powers, &mut masks);
            // From silence a note may begin as sharply as it will, where its wave begins at zero.
            if after[0].abs() < QUIET * 10f64.powf(level_of(after) / 20.0) {
                let own = [&vec![0.0; half], &after[..half]].concat();
                self.own(&own, half..half + 1, &mut powers, &mut masks);
            }
        }
        if follow.is_empty() {
            let back: Vec<f64> = before.iter().rev().copied().collect();
            let own = [turned(&back), back].concat();
            self.own(&own, before.len() - half..before.len() + half, &mut powers, &mut masks);
        }
        let seam = [&before[before.len() - half..], &after[..half]].concat();
        self.hear(&seam);
        let above = self.powers.iter().zip(&powers).zip(&masks);
        let above: Vec<f64> = above
            .map(|((seam, own), mask)| f64::from((seam - OWN * own).max(0.0) / mask.max(1e-12)))
            .collect();
        let bark = above.windows(BARK.min(above.len()).max(1));
        let most = bark.map(|bands| bands.iter().sum::<f64>() / real_size(bands.len()));
        (10.0 * most.fold(0.0, f64::max).max(1e-12).log10()).max(UNHEARD)
    }

    /// Takes in what a sound holds in every frame whose middle lies in a part of it.
    fn own(&mut self, sound: &[f64], near: Range<usize>, powers: &mut [f32], masks: &mut [f32]) {
        let last = sound.len().saturating_sub(self.length);
        let half = self.length / 2;
        for from in (0..=last).step_by((self.length / 8).max(1)) {
            if !near.contains(&(from + half)) || from + self.length > sound.len() {
                continue;
            }
            self.hear(&sound[from..from + self.length]);
            for (own, heard) in powers.iter_mut().zip(&self.powers) {
                *own = own.max(*heard);
            }
            for (own, heard) in masks.iter_mut().zip(&self.masks) {
                *own = own.max(*heard);
            }
        }
    }

    fn hear(&mut self, samples: &[f64]) {
        let samples: Vec<f32> = samples.iter().map(|s| single(*s)).collect();
        self.ear.hear(&samples, &mut self.powers, &mut self.masks);
    }
}

/// A sound turned round its first sample, so that it leads into itself.
fn turned(sound: &[f64]) -> Vec<f64> {
    let first = sound.first().copied().unwrap_or(0.0);
    sound.iter().rev().map(|sample| 2.0 * first - sample).collect()
}

/// The level of some samples in dBFS.
fn level_of(samples: &[f64]) -> f64 {
    let energy: f64 = samples.iter().map(|s| s * s).sum();
    decibels((energy / real_size(samples.len().max(1))).sqrt()).max(FLOOR)
}
