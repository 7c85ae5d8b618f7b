//! What is noticed of a job or a file.

use super::fitting::Side;
use crate::notice::Notice;
use crate::target::Aim;
use deft_needle_audio::clip::Loop;
use deft_needle_audio::edit::{CutEdit, LoopEdit, Request};
use deft_needle_audio::plan::{Decision, LeftOut};
use deft_needle_audio::render::Outcome;
use deft_needle_audio::seam::{Verdict, judge};
use deft_needle_audio::spec::CONTAINERS;
use deft_needle_audio::spec::{Format, Kind};
use deft_needle_audio::units::{FrameRange, SampleRate};
use deft_needle_audio::{Clip, Edits, Error as AudioError};
use deft_needle_audio::{Plan, Spec};

/// Louder or quieter than the stock by this is worth a notice, in LU.
const LEVEL_APART: f64 = 6.0;
/// This many times the stock's length is worth a notice.
const TIMES_LONG: f64 = 4.0;
/// Below this correlation a mono fold loses most of what it is made of.
const OPPOSED: f64 = -0.3;

impl Notice {
    /// What rendering found.
    pub(super) fn of_outcome(outcome: &Outcome, rate: SampleRate) -> Vec<Self> {
        let mut all = Vec::new();
        if outcome.overs > 0 {
            all.push(Self::Overs { samples: outcome.overs });
        }
        if outcome.not_numbers > 0 {
            all.push(Self::NotNumbers { samples: outcome.not_numbers });
        }
        if let Some(correlation) = outcome.correlation.filter(|c| *c < OPPOSED) {
            all.push(Self::Cancels { correlation });
        }
        if outcome.limited.frames > 0 {
            let (most, seconds) = (outcome.limited.most, outcome.limited.seconds(rate));
            let distortion = outcome.limited.distortion;
            all.push(Self::Limited { most, seconds, distortion });
        }
        all
    }

    /// What a plan has to leave out.
    pub(super) fn of_plan(plan: &Plan) -> Option<Self> {
        plan.decisions.iter().find_map(|decision| match decision {
            Decision::LoopsLeftOut(LeftOut::NoPlace { container }) => Some(Self::LoopsNotHeld {
                container: container.clone(),
                holders: CONTAINERS
                    .iter()
                    .filter(|row| row.loops.0 > 0 && !row.writes.is_empty())
                    .map(|row| row.word.to_owned())
                    .collect(),
            }),
            _ => None,
        })
    }

    /// A seam that is heard, where the edits set the loop of the written file.
    pub(super) fn of_seam(written: &Clip, edits: &Edits) -> Result<Option<Self>, AudioError> {
        let named = !matches!(edits.looped, None | Some(LoopEdit::None));
        let smoothed = edits.crossfade.is_some() || edits.loop_snap.is_some();
        if !named && !smoothed && edits.cut != Some(CutEdit::Seam) {
            return Ok(None);
        }
        let facts = written.facts();
        let whole = FrameRange { start: 0, end: facts.frames };
        let own = facts.loops.first().copied().unwrap_or(Loop::endless(whole));
        // What turns back has no seam.
        if !own.direction.is_forward() {
            return Ok(None);
        }
        let range = own.range;
        // What is too short for an ear is left to the player.
        let judged = match judge(written, range) {
            Err(AudioError::CannotMeet(_)) => return Ok(None),
            judged => judged?,
        };
        // A codec's own noise is another one on each side of a seam.
        let heard = match facts.format.encoding.codec.kind() {
            Kind::Lossy => judged.verdict == Verdict::Bad,
            _ => judged.verdict != Verdict::Good,
        };
        let crossfaded = edits.crossfade.is_some();
        Ok(heard.then_some(Self::Seam { judged, crossfaded }))
    }

    /// Another format than the listed stock's, where nobody asked for it on the command line or in a job.
    pub fn of_format(aim: &Aim<'_>, asked: &Request, made: Format) -> Option<Self> {
        let stock = aim.listed?.format()?;
        // A quality is how it is made, and no property that a listed file tells.
        let same = Spec::exactly(made).accepts(stock) || Spec::exactly(stock).accepts(made);
        (!same && asked.spec.is_none()).then_some(Self::OtherFormat { stock, made })
    }

    /// In what the new file differs much from the stock.
    pub(super) fn of_difference(before: &Side, after: &Side) -> Vec<Self> {
        let mut all = Vec::new();
        if before.loops && !after.loops {
            all.push(Self::LoopLost);
        }
        if let (Some(before), Some(after)) = (before.lufs, after.lufs)
            && (after - before).abs() >= LEVEL_APART
        {
            all.push(Self::Level { by: after - before });
        }
        let times = after.seconds / before.seconds;
        if times.is_finite() && times >= TIMES_LONG {
            all.push(Self::Long { times });
        }
        all
    }
}
