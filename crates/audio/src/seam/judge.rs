//! How a seam sounds: what happens there beside what the sound itself does around it.

use super::predict::{Predictor, energies};
use crate::block::{Block, collect};
use crate::error::{Error, Result};
use crate::num::{decibels, real_size, size};
use crate::read::Clip;
use crate::shape::cut::Cut;
use crate::units::{Duration, FrameRange};
use serde::Serialize;

/// What was found about a seam.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Judged {
    /// The loop, in frames of the clip.
    pub range: FrameRange,
    /// How far the surprise at the seam stands above what the sound itself does within 50 ms of it,
    /// in dB; of the worst channel.
    pub click_db: f64,
    /// The greatest step from the last sample to the first, of full scale.
    pub step: f64,
    /// By how much the greatest change of slope there, of full scale a sample.
    pub slope: f64,
    /// The level of the 50 ms after the seam beside that of the 50 ms before, in dB.
    pub level_db: f64,
    /// In words.
    pub verdict: Verdict,
    /// The samples of the first channel around the seam, the same number before and after it.
    pub around: Vec<f64>,
}

/// A seam in a word.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
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
/// What lies so far below the sound around it is masked by it, in dB.
const MASKED: f64 = -60.0;
/// The quietest that 16 bits hold.
const FLOOR: f64 = -96.0;
/// How much of the wave is kept for drawing, in seconds on either side.
const DRAWN: f64 = 0.004;

/// Clicks above these, in dB, and jumps in level, are heard, and are bad.
const CLICKS: [f64; 2] = [4.0, 18.0];
const JUMPS: [f64; 2] = [6.0, 15.0];

/// Judges the seam of a loop.
///
/// # Errors
/// [`Error::CannotMeet`] for a loop that does not lie in the clip or is shorter than 4 ms; those of
/// reading.
pub fn judge(clip: &Clip, range: FrameRange) -> Result<Judged> {
    let facts = clip.facts();
    let rate = facts.format.rate;
    let least = rate.frames(4.0 * CLICK).max(8);
    if range.end > facts.frames || range.start >= range.end || range.len() < least {
        return Err(Error::CannotMeet {
            what: format!(
                "there is no loop from frame {} up to {} in a clip of {} frames",
                range.start, range.end, facts.frames
            ),
            instead: format!("a loop lasts {} at least", Duration(4.0 * CLICK)),
        });
    }
    let side = rate.frames(SIDE).min(range.len());
    let before = part(clip, range.end - side, range.end)?;
    let after = part(clip, range.start, range.start + side)?;
    let stretch = size(rate.frames(CLICK)).max(4);
    let pairs = before.channels().iter().zip(after.channels());
    let clicks = pairs.clone().map(|(a, b)| click(a, b, stretch));
    let last = |samples: &[f64]| samples.last().copied().unwrap_or(0.0);
    let first = |samples: &[f64]| samples.first().copied().unwrap_or(0.0);
    let rise = |pair: &[f64]| pair.last().zip(pair.first()).map_or(0.0, |(b, a)| b - a);
    let steps = pairs.clone().map(|(a, b)| (first(b) - last(a)).abs());
    let slopes = pairs
        .map(|(a, b)| (rise(&b[..2.min(b.len())]) - rise(&a[a.len().saturating_sub(2)..])).abs());
    let level = |block: &Block| {
        let energy: f64 = block.channels().iter().flatten().map(|s| s * s).sum();
        let rms = (energy / real_size(block.frames().max(1) * block.channels().len())).sqrt();
        decibels(rms).max(FLOOR)
    };
    let level_db = level(&after) - level(&before);
    let click_db = clicks.fold(f64::NEG_INFINITY, f64::max);
    let drawn = size(rate.frames(DRAWN)).min(before.frames());
    let around = |block: &Block, from: usize| block.channels()[0][from..from + drawn].to_vec();
    Ok(Judged {
        range,
        click_db,
        step: steps.fold(0.0, f64::max),
        slope: slopes.fold(0.0, f64::max),
        level_db,
        verdict: verdict(click_db, level_db.abs()),
        around: [around(&before, before.frames() - drawn), around(&after, 0)].concat(),
    })
}

fn verdict(click: f64, jump: f64) -> Verdict {
    let heard = |value: f64, [audible, bad]: [f64; 2]| match value {
        value if value > bad => Verdict::Bad,
        value if value > audible => Verdict::Audible,
        _ => Verdict::Good,
    };
    heard(click, CLICKS).max(heard(jump, JUMPS))
}

fn part(clip: &Clip, start: u64, end: u64) -> Result<Block> {
    let range = FrameRange { start, end };
    let channels = collect(&mut Cut::new(clip.frames()?, range))?;
    Ok(Block::from_channels(channels))
}

/// The surprise at the seam beside the greatest that the sound gives on either side, in dB. A change of
/// sound is no click: the seam is read forwards by what came before, and backwards by what comes after,
/// and the lesser surprise counts.
fn click(before: &[f64], after: &[f64], stretch: usize) -> f64 {
    let joined = [before, after].concat();
    let backwards: Vec<f64> = joined.iter().rev().copied().collect();
    let mirrored: Vec<f64> = after.iter().rev().copied().collect();
    let one_way = |own: &[f64], whole: &[f64]| {
        let predictor = Predictor::burg(own, ORDER.min(own.len() / 3));
        let surprises = predictor.surprises(whole);
        let seam = own.len() - predictor.order();
        let at = energies(
            &surprises[seam..(seam + stretch).min(surprises.len())],
            stretch,
        );
        let around = energies(&surprises[..seam], stretch);
        let usual = around.into_iter().fold(0.0, f64::max);
        (at.first().copied().unwrap_or(0.0), usual)
    };
    let (forth, usual) = one_way(before, &joined);
    let (back, usual_after) = one_way(&mirrored, &backwards);
    let energy = energies(&joined, joined.len())[0];
    let masked = energy * 10f64.powf(MASKED / 10.0);
    let floor = 10f64.powf(FLOOR / 10.0);
    let usual = usual.max(usual_after).max(masked).max(floor);
    10.0 * (forth.min(back).max(floor * 1e-3) / usual).log10()
}
