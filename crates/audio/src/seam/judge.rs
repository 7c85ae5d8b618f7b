//! How a seam sounds: what happens there beside what the sound itself does around it.

use super::predict::{Predictor, energies};
use super::spectrum::apart;
use super::windows::windows;
use crate::block::Block;
use crate::error::{Error, Result};
use crate::num::{decibels, real_size, size};
use crate::observe::Unobserved;
use crate::read::Clip;
use crate::spec::{Format, Kind};
use crate::units::{FrameRange, SampleRate};
use crate::unmet::Unmet;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What was found about a seam.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
pub struct Judgement {
    /// The loop, in frames of the clip.
    pub range: FrameRange,
    /// How far the surprise at the seam stands above what the sound itself does within 50 ms of it,
    /// in dB; of the worst channel.
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
/// Samples that a prediction looks back.
const ORDER: usize = 32;
/// What lies so far below the sound around it is masked by it, in dB; and below the sound of a lossy
/// encoding, whose own noise is another one on each side of any seam.
const MASKED: f64 = -60.0;
const LOSSY_MASKED: f64 = -35.0;
/// The quietest that 16 bits hold.
const FLOOR: f64 = -96.0;
/// How much of the wave is kept for drawing, in seconds on either side.
const DRAWN: f64 = 0.004;

/// Clicks above these, in dB, jumps in level, and other spectra, are heard, and are bad.
const CLICKS: [f64; 2] = [4.0, 18.0];
const JUMPS: [f64; 2] = [6.0, 15.0];
const COLOURS: [f64; 2] = [12.0, 20.0];
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
        let masked = match format.encoding.codec.kind() {
            Kind::Lossy => LOSSY_MASKED,
            _ => MASKED,
        };
        let (before, after) = (&self.before, &self.after);
        let stretch = size(rate.frames(CLICK)).max(4);
        if before.frames() < 2 * stretch || after.frames() < 2 * stretch {
            return None;
        }
        let pairs = before.channels().iter().zip(after.channels());
        let clicks = (0..before.channels().len()).map(|channel| {
            let of = |block: &Block| block.channels().get(channel).cloned().unwrap_or_default();
            let parts = [before, after, &self.lead, &self.follow].map(of);
            click(parts.each_ref().map(Vec::as_slice), stretch, masked)
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
        Some(Judgement {
            range,
            click_db,
            step: steps.fold(0.0, f64::max),
            slope: slopes.fold(0.0, f64::max),
            level_db,
            spectrum_db,
            verdict: verdict(&[
                (click_db, CLICKS),
                (level_db.abs(), limits(JUMPS)),
                (spectrum_db, limits(COLOURS)),
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
    let energy: f64 = block.channels().iter().flatten().map(|s| s * s).sum();
    let rms = (energy / real_size(block.frames().max(1) * block.channels().len())).sqrt();
    decibels(rms).max(FLOOR)
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

/// What a signal does where two parts of it meet, by how much it surprises a predictor that was fitted to
/// the first part.
struct Meeting {
    /// The mean power of the surprise in the first stretch behind the place.
    there: f64,
    /// The greatest in the part before it.
    usual: f64,
}

fn meet(first: &[f64], second: &[f64], stretch: usize) -> Meeting {
    let predictor = Predictor::burg(first, ORDER.min(first.len() / 3));
    let behind = &second[..stretch.min(second.len())];
    let surprises = predictor.surprises(&[first, behind].concat());
    let place = first.len() - predictor.order();
    let [around, there] = [&surprises[..place], &surprises[place..]];
    Meeting {
        there: energies(there, stretch).first().copied().unwrap_or(0.0),
        usual: energies(around, stretch).into_iter().fold(0.0, f64::max),
    }
}

/// The surprise at the seam beside the greatest that the sound gives around it, in dB.
///
/// A change of sound is no click: the seam is read forwards by what came before, and backwards by what
/// comes after, and the lesser surprise counts. Nor is a note that begins there: the surprise counts
/// beside that of the sound's own ways into the loop's start and out of its end.
fn click([before, after, lead, follow]: [&[f64]; 4], stretch: usize, masked: f64) -> f64 {
    let mirrored = |samples: &[f64]| -> Vec<f64> { samples.iter().rev().copied().collect() };
    let [m_before, m_after, m_lead, m_follow] = [before, after, lead, follow].map(mirrored);
    let long = |samples: &[f64]| samples.len() >= 2 * stretch;
    let own = |first: &[f64], second: &[f64]| match long(first) && long(second) {
        true => meet(first, second, stretch).there,
        false => 0.0,
    };
    let forth = meet(before, after, stretch);
    let back = meet(&m_after, &m_before, stretch);
    let own_forth = own(before, follow).max(own(lead, after));
    let own_back = own(&m_after, &m_lead).max(own(&m_follow, &m_before));
    let power = energies(&[before, after].concat(), before.len() + after.len())[0];
    let floor = 10f64.powf(FLOOR / 10.0);
    let usual = forth.usual.max(back.usual).max(power * 10f64.powf(masked / 10.0)).max(floor);
    let above = |there: f64, own: f64| there.max(floor * 1e-3) / usual.max(own);
    10.0 * above(forth.there, own_forth).min(above(back.there, own_back)).log10()
}
