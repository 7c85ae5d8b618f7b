//! The steps of a plan, in their order, and what follows from them.

use super::around::{Around, around, faded_tail};
use super::depth::plan_depth;
use super::level::Levelled;
use super::places::Places;
use super::rate::plan_rate;
use super::rounds::{LoopAsk, Rounds};
use super::routing::plan_route;
use super::stretch::{stretched, told};
use super::{Decision, Step, shape};
use crate::edit::Edits;
use crate::error::Result;
use crate::num::scaled;
use crate::plan::select::Selection;
use crate::spec::Facts;
use crate::spec::{Demand, Format, Kind};
use crate::units::FrameRange;
use std::num::NonZeroU64;

/// Everything that decides.
#[derive(Clone, Copy)]
pub struct Given<'a> {
    /// The clip.
    pub facts: &'a Facts,
    /// What the file must be.
    pub demand: &'a Demand,
    /// What is done to it.
    pub edits: &'a Edits,
    /// The part that is used.
    pub selection: &'a Selection,
    /// How much louder or quieter.
    pub levelled: &'a Levelled,
}

/// The steps, with what the rest of the plan must know of them.
pub struct Steps {
    /// In their order; empty where nothing is asked but another encoding.
    pub all: Vec<Step>,
    /// Whether any of them changes more than the encoding.
    pub change: bool,
    /// Frames of the output.
    pub frames: u64,
    /// The loop.
    pub around: Around,
    /// Where the first loop lies in the output, where that was decided with its length.
    pub exact: Option<FrameRange>,
    /// Where places of the clip lie in the output.
    pub places: Places,
}

impl Given<'_> {
    /// Decides the steps towards a format.
    ///
    /// # Errors
    /// Whatever cannot be met.
    pub fn steps(self, format: Format, decisions: &mut Vec<Decision>) -> Result<Steps> {
        let Self { facts, edits, selection, levelled, .. } = self;
        let own = facts.format;
        let selected = shape::length(facts, format, edits, selection, decisions)?;
        let stretched = stretched(edits, facts, selected.len())?;
        let lasts = stretched.unwrap_or(selected.len());
        let route = plan_route(own, format, edits, decisions)?;
        let nominal = plan_rate(facts, format, edits, lasts, decisions)?;
        let pad = edits.pad.map_or(0, |pad| pad.head.frames(format.rate));
        let mut around = around(facts, self.demand, format, edits, selection, levelled);
        let ratio = nominal.unwrap_or((1, 1));
        let rounds = self.rounds(selected, &around, ratio, pad, format, decisions)?;
        let ratio = rounds.as_ref().map_or(ratio, |rounds| (rounds.from, rounds.to));
        let unrolled = rounds.as_ref().filter(|rounds| rounds.stretches.is_some());
        let frames = match unrolled {
            Some(rounds) => rounds.range.end - pad,
            None => scaled(lasts, ratio.1, ratio.0),
        };
        around.before = unrolled.map_or(0, |rounds| rounds.before);
        around.beyond = unrolled.map_or(0, |_| around.beyond);
        let resample = (nominal.is_some() || ratio.0 != ratio.1).then(|| Step::Resample {
            from: ratio.0,
            to: ratio.1,
            rate: format.rate,
            lead: rounds.as_ref().map_or(0, |rounds| rounds.lead),
        });
        let mut early = shape::before(edits, selection, selected, unrolled, facts);
        let places = Places::new(selected, ratio, pad, self.leaves_places(&early, selected));
        let places = places.stretched(lasts);
        early.extend(shape::separate(edits, own, decisions)?);
        let tone = shape::tone(edits, facts, decisions)?;
        let voice = shape::voice(edits, decisions);
        let longer = stretched.map(|after| {
            decisions.push(told(facts, selected.len(), after));
            Step::Lengthen { from: selected.len(), to: after }
        });
        let ends = shape::Ends {
            frames,
            cut: unrolled.map(|rounds| FrameRange {
                start: rounds.skip,
                end: rounds.skip + rounds.before + frames + around.beyond,
            }),
            tail: faded_tail(edits, selection, &places, frames + pad),
        };
        let late = shape::after(edits, ends, levelled, format, decisions)?;
        let coloured =
            edits.keep.is_some() || voice.is_some() || tone.is_some() || longer.is_some();
        let smoothed =
            selection.dc.is_some() || selection.crossfade.is_some() || selection.fold.is_some();
        let new_values = late.changes || coloured || smoothed || resample.is_some();
        let quantised = plan_depth(facts, format, route.as_ref(), new_values, decisions);
        let mut all = early;
        all.extend(route.map(|law| Step::Route { route: law.route }));
        all.extend(tone);
        all.extend(voice);
        all.extend(longer);
        all.extend(resample);
        all.extend(late.steps);
        let change = !all.is_empty();
        if matches!(own.encoding.codec.kind(), Kind::Float(_)) {
            all.insert(0, Step::Finite);
        }
        all.extend(quantised);
        Ok(Steps {
            all,
            change,
            frames: frames + late.padding,
            around,
            exact: rounds.map(|rounds| rounds.range),
            places,
        })
    }

    /// The loop as a whole number of frames of the output.
    fn rounds(
        &self,
        used: FrameRange,
        around: &Around,
        (from, to): (u64, u64),
        pad: u64,
        format: Format,
        decisions: &mut Vec<Decision>,
    ) -> Result<Option<Rounds>> {
        let Some(range) = around.range.filter(|range| used.contains(*range)) else {
            return Ok(None);
        };
        let asked = LoopAsk {
            range,
            used,
            from,
            to,
            pad,
            multiple: self.edits.loop_multiple.map_or(1, NonZeroU64::get),
            bend: self.edits.loop_bend,
            ahead: around.ahead,
            before: around.before,
            settle: around.settle,
        };
        asked.decide(format.rate, decisions)
    }

    /// Whether places are where they were, but for the sample rate.
    fn leaves_places(&self, early: &[Step], used: FrameRange) -> bool {
        let only_more = |step: &Step| match step {
            Step::Stretches { crossfade, fold, .. } => crossfade.is_none() && fold.is_none(),
            _ => false,
        };
        let whole = used.len() == self.facts.frames;
        let edits = self.edits;
        let paced = edits.speed.is_some() || edits.stretch.is_some() || edits.fit_length.is_some();
        whole && early.iter().all(only_more) && !paced && edits.pad.is_none()
    }
}
