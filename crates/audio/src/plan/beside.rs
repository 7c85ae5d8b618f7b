//! What goes into the file beside the samples: loop points, markers, texts, chunks.

use super::carry;
use super::places::Places;
use super::{Decision, LeftOut, Output};
use crate::clip::{Direction, Loop, Marker, Tag};
use crate::error::{Error, Result};
use crate::spec::Facts;
use crate::spec::{Chunks, Container, Demand, Format, Looped};
use crate::tags::TAGS;
use crate::units::FrameRange;
use crate::unmet::Unmet;

/// What the plan knows when this is decided.
pub struct Known<'a> {
    /// The clip.
    pub facts: &'a Facts,
    /// What the target lets in.
    pub wanted: Option<Chunks>,
    /// Whether it has to loop.
    pub looped: Looped,
    /// Texts that are set.
    pub set: &'a [Tag],
    /// Whether it is only a guide, and says so.
    pub guide: bool,
    /// What it becomes.
    pub to: Format,
    /// Whether samples become others.
    pub changed: bool,
    /// Where the places that loops and markers name lie now.
    pub places: &'a Places,
    /// The loop that was asked for, if any was: it takes the place of the clip's own.
    pub asked: Option<Option<Loop>>,
    /// Which way the clip's own loops are to play.
    pub direction: Option<Direction>,
    /// Where the first loop lies in the output, where that was decided with its length.
    pub exact: Option<FrameRange>,
    /// Whether a loop stands in a file of its own beside this one.
    pub loop_beside: bool,
    /// Whether the whole file loops, which needs no loop points.
    pub wraps: bool,
}

/// Whether loop points come along at all, or are set.
pub fn lets_loops(demand: &Demand, container: Container, asked: bool) -> bool {
    let held = container.most_loops() > 0 && demand.looped != Looped::Forbidden;
    demand.loop_beside || (held && (asked || demand.chunks != Some(Chunks::Bare)))
}

/// Whether a container holds a text of this name.
fn holds(container: Container, tag: &Tag) -> bool {
    match container {
        Container::Wav | Container::Rf64 => tag.info_id().is_some(),
        Container::Aiff | Container::Aifc => tag.names().is_some_and(|names| names.aiff.is_some()),
        Container::M4a => tag.names().is_some(),
        Container::Ogg | Container::Flac | Container::Mp3 | Container::Caf => true,
        _ => false,
    }
}

/// Decides, and fills in the output.
///
/// # Errors
/// [`Error::CannotMeet`] where a text is set that the container has no place for.
pub fn fill(output: &mut Output, known: &Known<'_>, decisions: &mut Vec<Decision>) -> Result<()> {
    let looped = known.wanted != Some(Chunks::Bare) || known.asked.is_some();
    let places = !matches!(known.wanted, Some(Chunks::Bare | Chunks::Loops));
    let texts = match known.wanted {
        Some(Chunks::Bare | Chunks::Loops) => false,
        Some(Chunks::Kept) => true,
        None => !known.changed,
    };
    output.loops = loops(known, looped, decisions)?;
    if known.loop_beside {
        output.beside = std::mem::take(&mut output.loops).into_iter().next();
    }
    output.markers = markers(known, places, decisions);
    let (carried, left) = carry::choose(known, &output.loops, places, texts);
    output.carried = carried;
    output.tags = tags(known, texts, decisions)?;
    decisions.extend(left);
    Ok(())
}

fn loops(known: &Known<'_>, wanted: bool, decisions: &mut Vec<Decision>) -> Result<Vec<Loop>> {
    let facts = known.facts;
    let own = || facts.loops_played(known.direction);
    let loops: Vec<Loop> = known.asked.map_or_else(own, |asked| asked.into_iter().collect());
    if loops.is_empty() {
        return Ok(Vec::new());
    }
    let container = known.to.container;
    let (most, wanted) = match known.loop_beside {
        true => (1, true),
        false => (container.most_loops(), wanted),
    };
    let forbidden = known.looped == Looped::Forbidden && !known.loop_beside;
    if known.wraps && most == 0 && !forbidden {
        decisions.push(Decision::LoopsWhole { container: container.to_string() });
        return Ok(Vec::new());
    }
    if known.asked.is_some() && (forbidden || most == 0) {
        return Err(Error::CannotMeet(Unmet::LoopRefused {
            container: (!forbidden).then(|| container.to_string()),
        }));
    }
    let no_place = || LeftOut::NoPlace { container: container.to_string() };
    if forbidden || !wanted || most == 0 {
        decisions.push(Decision::LoopsLeftOut(match (forbidden, most) {
            (true, _) => LeftOut::Forbidden,
            (_, 0) => no_place(),
            _ => LeftOut::OnlySamples,
        }));
        return Ok(Vec::new());
    }
    let place = |(index, l): (usize, &Loop)| {
        let exact = known.exact.filter(|_| index == 0);
        let range = exact.or_else(|| known.places.range(l.range))?;
        let plays = if most == usize::MAX { l.plays } else { 0 };
        Some((l.range, Loop { range, plays, ..*l }))
    };
    let moved: Vec<(FrameRange, Loop)> = loops.iter().enumerate().filter_map(place).collect();
    if moved.is_empty() && known.asked.is_some() {
        return Err(Error::CannotMeet(Unmet::LoopNotUsed));
    }
    if moved.len() < loops.len() {
        decisions.push(Decision::LoopsLeftOut(LeftOut::NotUsed));
    }
    if moved.len() > most {
        decisions.push(Decision::FirstLoops { most, container: container.to_string() });
    }
    let inexact = moved.iter().skip(usize::from(known.exact.is_some()));
    let excess = inexact.map(|(range, _)| known.places.excess(*range));
    if let Some(most) = excess.filter(|e| e.abs() > 1e-6).max_by(|a, b| a.abs().total_cmp(&b.abs()))
    {
        decisions.push(Decision::LoopsRounded { excess: most });
    }
    let loops = moved.into_iter().map(|(_, l)| l).take(most).collect();
    Ok(as_held(loops, container, decisions))
}

/// The loops as a container tells them: which way they play, and which is for the release.
fn as_held(mut loops: Vec<Loop>, container: Container, decisions: &mut Vec<Decision>) -> Vec<Loop> {
    let name = || container.to_string();
    for l in &mut loops {
        if !container.directions().contains(&l.direction) {
            let direction = std::mem::take(&mut l.direction);
            decisions.push(Decision::PlaysForward { direction, container: name() });
        }
        if l.release && !container.tells_release() {
            l.release = false;
            decisions.push(Decision::ReleaseUntold { container: name() });
        }
    }
    if container.tells_release() && loops.len() == 2 {
        // One of each is held: of two alike the second is for the release.
        let [first, second] = [loops[0].release, loops[1].release];
        if first == second {
            (loops[0].release, loops[1].release) = (false, true);
            decisions.push(Decision::SecondForRelease { container: name() });
        }
        loops.sort_by_key(|l| l.release);
    }
    loops
}

fn markers(known: &Known<'_>, places: bool, decisions: &mut Vec<Decision>) -> Vec<Marker> {
    let facts = known.facts;
    let held = known.to.container.holds_markers();
    if facts.markers.is_empty() {
        return Vec::new();
    }
    if !places || !held {
        if places {
            let container = known.to.container.to_string();
            decisions.push(Decision::MarkersLeftOut(LeftOut::NoPlace { container }));
        }
        return Vec::new();
    }
    let moved = |marker: &Marker| {
        Some(Marker { frame: known.places.frame(marker.frame)?, name: marker.name.clone() })
    };
    facts.markers.iter().filter_map(moved).collect()
}

/// The clip's texts where they come along, and those that are set in their place.
fn tags(known: &Known<'_>, texts: bool, decisions: &mut Vec<Decision>) -> Result<Vec<Tag>> {
    let container = known.to.container;
    let mut tags = match texts {
        true => known.facts.tags.clone(),
        false => Vec::new(),
    };
    let comment = Tag::guide();
    let says = known.guide && !matches!(known.wanted, Some(Chunks::Bare | Chunks::Loops));
    if known.guide && !says {
        let (names, reason) = (vec![comment.name.clone()], LeftOut::Forbidden);
        decisions.push(Decision::TagsLeftOut { names, reason });
    }
    if says && holds(container, &comment) {
        tags.retain(|tag| tag.name != comment.name);
        tags.push(comment);
    }
    let is_set = |tag: &Tag| known.set.iter().any(|set| set.name.eq_ignore_ascii_case(&tag.name));
    tags.retain(|tag| !is_set(tag));
    let (mut held, lost): (Vec<Tag>, Vec<Tag>) =
        tags.into_iter().partition(|tag| holds(container, tag));
    if !lost.is_empty() {
        let names = lost.iter().map(|tag| tag.name.clone()).collect();
        let reason = LeftOut::NoPlace { container: container.to_string() };
        decisions.push(Decision::TagsLeftOut { names, reason });
    }
    for set in known.set.iter().filter(|set| !set.value.is_empty()) {
        if !holds(container, set) {
            let usual = TAGS.iter().map(|row| Tag::new(row.name, ""));
            let usual = usual.filter(|tag| holds(container, tag)).map(|tag| tag.name).collect();
            return Err(Error::CannotMeet(Unmet::TagRefused {
                container: container.to_string(),
                name: set.name.clone(),
                holds: usual,
            }));
        }
        held.push(set.clone());
    }
    Ok(held)
}
