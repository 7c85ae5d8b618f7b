//! What a user should know of a swap, and that keeps nothing from being done.

use super::swap::Side;
use deft_needle_audio::edit::{CutEdit, LoopEdit};
use deft_needle_audio::render::Outcome;
use deft_needle_audio::seam::{Judged, Verdict, judge};
use deft_needle_audio::spec::Kind;
use deft_needle_audio::units::{Duration, FrameRange, SampleRate};
use deft_needle_audio::{Clip, Edits};
use serde::Serialize;
use std::fmt;

/// Louder or quieter than the stock by this is worth a warning, in LU.
const LEVEL_APART: f64 = 6.0;
/// So many times the stock's length is worth a warning.
const TIMES_LONG: f64 = 4.0;

/// Something that the user should know, and that keeps nothing from being done.
#[derive(Debug, Clone, PartialEq, Serialize)]
#[serde(tag = "kind", rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Warning {
    /// The target takes turns between this slot and others that stay stock.
    VariantsStayStock {
        /// The other slots.
        slots: Vec<String>,
    },
    /// The stock loops, the clip does not.
    LoopLost,
    /// Much louder or quieter than the stock.
    Level {
        /// By so much, in LU.
        by: f64,
    },
    /// Much longer than the stock.
    Long {
        /// So many times.
        times: f64,
    },
    /// The vendor or somebody else has put another file there since it was installed.
    ChangedSince {
        /// How many generations of stock are kept now.
        kept: usize,
    },
    /// Samples beyond full scale were held there.
    Overs {
        /// How many.
        samples: u64,
    },
    /// Samples that were no numbers became silence.
    NotNumbers {
        /// How many.
        samples: u64,
    },
    /// Much of left and right cancels in the mono fold.
    Cancels {
        /// How alike they are: 1 is equal, −1 opposite.
        correlation: f64,
    },
    /// The loop that was set is heard where it goes round.
    Seam(Judged),
    /// The limiter worked.
    Limited {
        /// By so many dB at most.
        most: f64,
        /// For so long, in seconds.
        seconds: f64,
    },
}

/// Below this correlation a mono fold loses most of what it is made of.
const OPPOSED: f64 = -0.3;

impl Warning {
    /// What rendering found that the user should know.
    pub fn of_outcome(outcome: &Outcome, rate: SampleRate) -> Vec<Self> {
        let mut all = Vec::new();
        if outcome.overs > 0 {
            let samples = outcome.overs;
            all.push(Self::Overs { samples });
        }
        if outcome.not_numbers > 0 {
            let samples = outcome.not_numbers;
            all.push(Self::NotNumbers { samples });
        }
        if let Some(correlation) = outcome.correlation.filter(|c| *c < OPPOSED) {
            all.push(Self::Cancels { correlation });
        }
        if outcome.limited.frames > 0 {
            all.push(Self::Limited {
                most: outcome.limited.most,
                seconds: outcome.limited.seconds(rate),
            });
        }
        all
    }

    /// A seam that is heard, where the edits set the loop of the written file.
    ///
    /// # Errors
    /// Those of reading.
    pub fn of_seam(
        written: &Clip,
        edits: &Edits,
    ) -> Result<Option<Self>, deft_needle_audio::Error> {
        let named = !matches!(edits.looped, None | Some(LoopEdit::None));
        let mended = edits.crossfade.is_some() || edits.loop_snap.is_some();
        if !named && !mended && edits.cut != Some(CutEdit::Seam) {
            return Ok(None);
        }
        let facts = written.facts();
        let whole = FrameRange { start: 0, end: facts.frames };
        let range = facts.loops.first().map_or(whole, |own| own.range);
        // What is too short for an ear is left to the player.
        let judged = match judge(written, range) {
            Err(deft_needle_audio::Error::CannotMeet { .. }) => return Ok(None),
            judged => judged?,
        };
        // A codec's own noise is another one on each side of a seam.
        let heard = match facts.format.encoding.codec.kind() {
            Kind::Lossy => judged.verdict == Verdict::Bad,
            _ => judged.verdict != Verdict::Good,
        };
        Ok(heard.then_some(Self::Seam(judged)))
    }
}

impl fmt::Display for Warning {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::VariantsStayStock { slots } => {
                write!(f, "these look like variants of it and stay stock: {}", slots.join(", "))
            }
            Self::LoopLost => f.write_str("the stock loops, this clip has no loop points"),
            Self::Level { by } if *by > 0.0 => write!(f, "{by:.1} LU louder than the stock"),
            Self::Level { by } => write!(f, "{:.1} LU quieter than the stock", by.abs()),
            Self::Long { times } => write!(f, "{times:.1} times as long as the stock"),
            Self::ChangedSince { kept } => write!(
                f,
                "the file was changed since it was installed; it counts as the stock now, and all {kept} generations are kept"
            ),
            Self::NotNumbers { samples } => {
                write!(f, "{samples} samples are no numbers and became silence")
            }
            Self::Cancels { correlation } => write!(
                f,
                "left and right are opposed (correlation {correlation:.2}) and cancel in mono: \
                 --route L takes the left channel alone"
            ),
            Self::Seam(Judged { verdict, click_db, level_db, spectrum_db, .. }) => write!(
                f,
                "its seam is {} (click {click_db:.0} dB, level {level_db:+.0} dB, spectrum \
                 {spectrum_db:.0} dB): `seam` finds a better loop, --crossfade mends this one",
                verdict.word()
            ),
            Self::Limited { most, seconds } => write!(
                f,
                "the limiter took up to {most:.1} dB off, for {} in all",
                Duration(*seconds)
            ),
            Self::Overs { samples } => write!(
                f,
                "{samples} samples lie beyond full scale and were clipped: lower the clip's level"
            ),
        }
    }
}

/// What differs so much from the stock that the user should know.
pub(super) fn warnings_of(before: Option<&Side>, after: &Side) -> Vec<Warning> {
    let mut warnings = Vec::new();
    let Some(before) = before else {
        return warnings;
    };
    if before.loops && !after.loops {
        warnings.push(Warning::LoopLost);
    }
    let by = after.survey.loudness.lufs - before.survey.loudness.lufs;
    if by.is_finite() && by.abs() >= LEVEL_APART {
        warnings.push(Warning::Level { by });
    }
    let times = after.seconds / before.seconds;
    if times.is_finite() && times >= TIMES_LONG {
        warnings.push(Warning::Long { times });
    }
    warnings
}
