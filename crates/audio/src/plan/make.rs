//! Making a plan: what is measured first, and what is told afterwards.

use super::decide::decide;
use super::form::refuse_too_large;
use super::level::{self, Levelled, Reference};
use super::steps::Given;
use super::{Decision, Plan, Step, Subject, Work};
use crate::clip::Direction;
use crate::edit::Edits;
use crate::error::Result;
use crate::observe::Observer;
use crate::plan::select::{Selection, select};
use crate::read::Clip;
use crate::seam::kept_tail::seam_error;
use crate::spec::Demand;
use crate::spec::Facts;
use tracing::debug;

/// Decides what turns a clip with these facts into a file that meets the demand, with no edits.
///
/// # Errors
/// [`Error::CannotMeet`] where no usual way leads there; [`Error::BadSpec`] where the demand
/// contradicts itself or names what is not written here.
pub fn plan(facts: &Facts, demand: &Demand) -> Result<Plan> {
    let plan = plan_of_any_size(facts, demand)?;
    refuse_too_large_work(&plan)?;
    Ok(plan)
}

/// As [`plan`], for what never becomes a file of its own.
pub(crate) fn plan_of_any_size(facts: &Facts, demand: &Demand) -> Result<Plan> {
    let edits = Edits::default();
    decide(Given {
        facts,
        demand,
        edits: &edits,
        selection: &Selection::whole(facts),
        levelled: &Levelled::default(),
    })
}

/// Decides what turns a clip into a file that meets the demand, with all edits made. Reads the clip
/// only where the edits need something measured.
///
/// # Errors
/// As [`plan`], and those of reading.
pub fn plan_clip(
    clip: &Clip,
    demand: &Demand,
    edits: &Edits,
    reference: Reference<'_>,
    observer: &dyn Observer,
) -> Result<Plan> {
    let facts = clip.facts();
    if edits.is_empty() && !facts.reversed {
        let mut plan = plan(facts, demand)?;
        tell_seam_error(clip, &Selection::whole(facts), None, &mut plan, observer)?;
        told(&plan);
        return Ok(plan);
    }
    let selection = select(clip, edits, observer)?;
    let textured = match &selection.texture {
        Some(texture) => Some(texture.of(clip, observer)?),
        None => None,
    };
    let frames = facts.frames;
    let clip = textured.as_ref().unwrap_or(clip);
    let facts = clip.facts();
    let given =
        Given { facts, demand, edits, selection: &selection, levelled: &Levelled::default() };
    let plain = decide(given)?;
    let levelled = &level::measure(clip, &plain, edits, reference, observer)?;
    let mut plan = decide(Given { levelled, ..given })?;
    refuse_too_large_work(&plan)?;
    tell_seam_error(clip, &selection, edits.loop_direction, &mut plan, observer)?;
    plan.from_frames = frames;
    told(&plan);
    Ok(plan)
}

/// Where the sound behind a loop stays, its points stay, too, and the filter sees what it should not:
/// how much that is, is measured.
fn tell_seam_error(
    clip: &Clip,
    selection: &Selection,
    direction: Option<Direction>,
    plan: &mut Plan,
    observer: &dyn Observer,
) -> Result<()> {
    let own = || clip.facts().loops_played(direction).first().copied();
    let found = selection.points().or_else(own).filter(|l| l.direction.is_forward());
    let range = found.map(|l| l.range);
    let ratio = plan.steps().iter().find_map(|step| match step {
        Step::Resample { from, to, .. } => Some((*from, *to)),
        _ => None,
    });
    let used = selection.range;
    let (Some(range), Some(ratio), false) = (range, ratio, plan.to.loops.is_empty()) else {
        return Ok(());
    };
    if range.end >= used.end || !used.contains(range) {
        return Ok(());
    }
    let error = seam_error(clip, used, range, ratio, observer)?;
    let place = plan.decisions.iter().rposition(|d| d.subject() == Subject::Loop);
    let decision = Decision::SeamError { decibels: error };
    let place = place.map_or(plan.decisions.len(), |place| place + 1);
    plan.decisions.insert(place, decision);
    Ok(())
}

fn refuse_too_large_work(plan: &Plan) -> Result<()> {
    // What is not touched cannot become too large.
    match plan.work {
        Work::Nothing => Ok(()),
        _ => refuse_too_large(&plan.to),
    }
}

fn told(plan: &Plan) {
    debug!(from = %plan.from, to = %plan.to.format, frames = plan.to.frames, "planned");
    for step in plan.steps() {
        debug!(?step, "step");
    }
}
