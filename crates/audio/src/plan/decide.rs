//! The decisions of a plan.

use super::beside::{self, Known};
use super::form::{plan_block, plan_header, same_packets};
use super::steps::Given;
use super::target::{refuse_unencodable, target_format};
use super::{Decision, Output, Plan, Work};
use crate::error::{Error, Result};
use crate::spec::Facts;
use crate::spec::{Codec, Container, Demand, Looped};
use crate::unmet::Unmet;
use crate::write::wav;

/// The decisions themselves: a pure function of all that is known.
///
/// # Errors
/// Whatever cannot be met.
pub fn decide(given: Given<'_>) -> Result<Plan> {
    let Given { facts, demand, edits, selection, .. } = given;
    demand.validate()?;
    let shortfalls = demand.shortfalls(facts);
    let own = facts.format;
    // What players have to look for at the end, or in pieces, comes first in what is written here.
    let late = facts.described_late && own.container == Container::M4a;
    let as_it_is = edits.is_empty() && !facts.reversed;
    if shortfalls.is_empty() && as_it_is && !late {
        return Ok(nothing_to_do(facts, demand));
    }
    let mut decisions = selection.decisions.clone();
    let format = target_format(own, demand, edits)?;
    let steps = given.steps(format, &mut decisions)?;
    let renders = steps.change || !same_packets(own, format, demand, facts);
    if renders {
        refuse_unencodable(format)?;
    }
    let mut output = Output {
        header: plan_header(facts, demand, format, &shortfalls, &mut decisions),
        block_bytes: plan_block(facts, demand, format, renders)?,
        original: (format.encoding.codec == Codec::Opus && renders).then_some(own.rate),
        loop_tags: demand.loop_tags.clone().unwrap_or_default(),
        before: steps.around.before,
        beyond: steps.around.beyond,
        ..Output::plain(format, steps.frames)
    };
    // What no longer fits in 32 bits has its sizes in 64, where that is asked for as well.
    let roomy = demand.spec_for(own).container.accepts(Container::Rf64, |a, b| a == b);
    if format.container == Container::Wav && roomy && wav::file_bytes(&output) > wav::LARGEST_FILE {
        output.format.container = Container::Rf64;
    }
    let known = Known {
        facts,
        wanted: demand.chunks,
        looped: demand.looped,
        set: &edits.tags,
        guide: edits.guide,
        to: output.format,
        changed: renders,
        places: &steps.places,
        asked: selection.sets_loop.then_some(selection.points()),
        direction: edits.loop_direction,
        exact: steps.exact,
        loop_beside: demand.loop_beside,
        wraps: selection.wraps,
    };
    beside::fill(&mut output, &known, &mut decisions)?;
    if demand.looped == Looped::Required && output.looped().next().is_none() {
        return Err(Error::CannotMeet(Unmet::LoopRequired));
    }
    let tagged = output.tags != facts.tags && !edits.tags.is_empty();
    let asked = selection.sets_loop || edits.loop_direction.is_some();
    let looped = output.loops != facts.loops && asked && !demand.loop_beside;
    let work = if renders {
        Work::Render(steps.all)
    } else if shortfalls.is_empty() && !tagged && !looped && !late {
        return Ok(nothing_to_do(facts, demand));
    } else {
        decisions.push(Decision::SamplesCopied);
        Work::Rewrap
    };
    decisions.sort_by_key(Decision::subject);
    Ok(Plan { from: own, from_frames: facts.frames, to: output, work, decisions })
}

fn nothing_to_do(facts: &Facts, demand: &Demand) -> Plan {
    Plan {
        from: facts.format,
        from_frames: facts.frames,
        to: Output {
            header: facts.header,
            block_bytes: facts.block_bytes,
            loops: facts.loops.clone(),
            beside: facts.loops.first().copied().filter(|_| demand.loop_beside),
            markers: facts.markers.clone(),
            tags: facts.tags.clone(),
            ..Output::plain(facts.format, facts.frames)
        },
        work: Work::Nothing,
        decisions: vec![Decision::KeptWhole],
    }
}
