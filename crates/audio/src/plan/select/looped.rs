//! The loop that goes with the part of a clip that is used: named, found, moved to where the wave
//! matches, and faded into itself.

use super::{Selection, resolve, seconds_of};
use crate::clip::Direction;
use crate::edit::{Edits, LoopEdit, Moment, Tail, Time};
use crate::error::{Error, Result};
use crate::num::{count, size};
use crate::observe::Observer;
use crate::plan::stretch::stretched;
use crate::plan::{CutReason, Decision, FoundSeam, LeftOut, LoopReason};
use crate::read::Clip;
use crate::seam::{Bounds, align, find};
use crate::shape::crossfade::{Crossfade, likeness, likeness_by_band};
use crate::shape::stretches::Fold;
use crate::shape::windows::windows;
use crate::spec::Facts;
use crate::units::FrameRange;
use crate::unmet::Unmet;
use rustfft::FftPlanner;

/// How far a found point may lie from where it was to be, in seconds.
const NEAR: f64 = 0.05;
/// The longest crossfade, whose sides are kept in memory, in seconds.
const LONGEST_FADE: f64 = 30.0;
/// What is held against each other where an end snaps, in seconds on either side.
const SNAP: f64 = 0.025;

/// A loop is chosen for the part, and what lies behind it is kept or goes.
///
/// # Errors
/// [`Error::CannotMeet`] where the loop does not lie in the part, or cannot be faded; those of reading.
pub fn set_loop(
    clip: &Clip,
    edits: &Edits,
    selection: &mut Selection,
    observer: &dyn Observer,
) -> Result<()> {
    if edits.looped == Some(LoopEdit::None) {
        selection.sets_loop = true;
        return Ok(());
    }
    if stretched(edits, clip.facts(), selection.range.len())?.is_some() {
        return leave_out_loops(clip.facts(), edits, selection);
    }
    let smooths = edits.loop_snap.is_some() || edits.crossfade.is_some();
    let own = clip.facts().loops.first().filter(|_| edits.looped.is_none());
    let usual = own.map_or(Direction::Forward, |own| own.direction);
    selection.direction = edits.loop_direction.unwrap_or(usual);
    if !selection.direction.is_forward() && (smooths || edits.tail == Some(Tail::Wrap)) {
        let direction = selection.direction.to_string();
        return Err(Error::CannotMeet(Unmet::TurnsBack { direction }));
    }
    if let Some(direction) = edits.loop_direction {
        selection.decisions.push(Decision::LoopPlays { direction });
    }
    let Some(range) = chosen(clip, edits, selection, smooths, observer)? else {
        if selection.wraps {
            fade_whole(clip, edits, selection, observer)?;
        } else if smooths {
            return Err(Error::CannotMeet(Unmet::NoLoopToSmooth));
        } else if edits.tail == Some(Tail::Wrap) {
            return Err(Error::CannotMeet(Unmet::NoLoopToWrap));
        } else if let Some(direction) = edits.loop_direction.filter(|_| own.is_none()) {
            let direction = direction.to_string();
            return Err(Error::CannotMeet(Unmet::NoLoopToPlay { direction }));
        }
        return Ok(());
    };
    selection.wraps = edits.looped == Some(LoopEdit::All);
    selection.sets_loop = edits.looped.is_some() || smooths || edits.tail == Some(Tail::Wrap);
    let range = smoothed(clip, edits, range, selection, observer)?;
    // A fade at a seam would be heard each time round.
    if range.start == selection.range.start {
        selection.through_sound[0] = false;
    }
    if range.end == selection.range.end {
        selection.through_sound[1] = false;
    }
    Ok(())
}

/// The loop before it is smoothed: named, found, or the clip's own where something is to be done to it.
fn chosen(
    clip: &Clip,
    edits: &Edits,
    selection: &mut Selection,
    changed: bool,
    observer: &dyn Observer,
) -> Result<Option<FrameRange>> {
    let (facts, whole) = (clip.facts(), selection.range);
    Ok(match edits.looped {
        Some(LoopEdit::None) => None,
        Some(LoopEdit::All) => Some(whole),
        Some(LoopEdit::At(span)) => Some(resolve(span, facts)?),
        Some(LoopEdit::Auto { start, end }) => {
            Some(found(clip, edits, [start, end], selection, observer)?)
        }
        None if selection.wraps => None,
        None if changed || edits.tail.is_some() => facts.loops.first().map(|own| own.range),
        None => None,
    })
}

/// The loop where the wave matches, faded into itself, and what follows it kept or gone.
fn smoothed(
    clip: &Clip,
    edits: &Edits,
    mut range: FrameRange,
    selection: &mut Selection,
    observer: &dyn Observer,
) -> Result<FrameRange> {
    let (facts, whole) = (clip.facts(), selection.range);
    if !whole.contains(range) {
        return Err(Error::CannotMeet(Unmet::LoopOutside {
            looped: seconds_of(range, facts),
            used: seconds_of(whole, facts),
        }));
    }
    if matches!(edits.looped, Some(LoopEdit::All | LoopEdit::At(_))) {
        selection.set_loop(range, facts, LoopReason::Requested);
    }
    if let Some(reach) = edits.loop_snap {
        range = snapped(clip, range, whole, reach, selection, observer)?;
    }
    selection.looped = Some(range);
    if edits.tail == Some(Tail::Wrap) && edits.crossfade.is_none() {
        return wrap_tail(range, selection, facts);
    }
    cut_tail(edits, range, selection, facts)?;
    let Some(time) = edits.crossfade else { return Ok(range) };
    let moved = fade(clip, range, time, selection, observer)?;
    selection.looped = Some(moved);
    if range == selection.range || edits.looped == Some(LoopEdit::All) {
        selection.range.start = moved.start;
    }
    selection.range.end = moved.end;
    Ok(moved)
}

/// No seam stays exact where the sound is stretched.
fn leave_out_loops(facts: &Facts, edits: &Edits, selection: &mut Selection) -> Result<()> {
    let smooths = edits.loop_snap.is_some() || edits.crossfade.is_some();
    let wraps = selection.wraps || edits.tail == Some(Tail::Wrap);
    if edits.looped.is_some() || smooths || wraps {
        return Err(Error::CannotMeet(Unmet::LoopStretched));
    }
    if !facts.loops.is_empty() {
        selection.decisions.push(Decision::LoopsLeftOut(LeftOut::Stretched));
    }
    selection.sets_loop = true;
    Ok(())
}

/// What follows the loop goes on over its next round: over its start where the loop starts the file; else over a
/// round that is written out once more, so that the first is heard without it.
fn wrap_tail(range: FrameRange, selection: &mut Selection, facts: &Facts) -> Result<FrameRange> {
    /// What is kept in memory, in seconds.
    const MOST: f64 = 60.0;
    let (used, rate) = (selection.range, facts.format.rate);
    let tail = FrameRange { start: range.end, end: used.end };
    if tail.is_empty() {
        return Err(Error::CannotMeet(Unmet::NoTailToWrap));
    }
    let seconds = rate.seconds(tail.len());
    let most = rate.seconds(range.len()).min(MOST);
    if seconds > most {
        return Err(Error::CannotMeet(Unmet::TailTooLong { tail: seconds, most }));
    }
    let later = range.start > used.start;
    let head = range.start;
    selection.fold = Some(Fold { tail, head, onto_tail: later });
    selection.decisions.push(Decision::TailWrapped { seconds, later });
    let moved = if later { tail.len() } else { 0 };
    let range = FrameRange { start: range.start + moved, end: range.end + moved };
    selection.range.end = range.end;
    selection.looped = Some(range);
    selection.wraps = !later;
    Ok(range)
}

/// The sound behind a loop goes where the loop is set here, and where that was said.
fn cut_tail(
    edits: &Edits,
    range: FrameRange,
    selection: &mut Selection,
    facts: &Facts,
) -> Result<()> {
    let rate = facts.format.rate;
    let used = selection.range;
    let set_here = (edits.looped.is_some() || edits.crossfade.is_some()) && edits.tail.is_none();
    let cuts = set_here || edits.tail == Some(Tail::Cut);
    if !cuts && edits.crossfade.is_some() {
        return Err(Error::CannotMeet(Unmet::CrossfadeWithTail));
    }
    if cuts && range.end < used.end {
        selection.range.end = range.end;
        let seconds = rate.seconds(used.end - range.end);
        selection.decisions.push(Decision::TailCut { seconds, requested: !set_here });
    }
    Ok(())
}

/// Loops in the part that is used, near these places where they are named.
///
/// # Errors
/// [`Error::CannotMeet`] for a place outside the clip.
pub fn near(
    mut wanted: Bounds,
    places: [Option<Moment>; 2],
    used: FrameRange,
    facts: &Facts,
) -> Result<Bounds> {
    let rate = facts.format.rate;
    let places = match (facts.reversed, places) {
        (true, [start, end]) => [end, start],
        (false, places) => places,
    };
    for (place, range) in places.into_iter().zip([&mut wanted.starts, &mut wanted.ends]) {
        *range = FrameRange { start: used.start, end: used.end + 1 };
        if let Some(place) = place {
            let frame = place
                .frame(rate, facts.frames)
                .filter(|frame| *frame <= facts.frames)
                .ok_or_else(|| {
                    Error::CannotMeet(Unmet::PlaceOutside {
                        place: place.to_string(),
                        seconds: facts.seconds(),
                    })
                })?;
            let frame = facts.own(FrameRange { start: frame, end: frame }).start;
            let near = rate.frames(NEAR);
            range.start = range.start.max(frame.saturating_sub(near));
            range.end = range.end.min(frame + near + 1);
        }
    }
    Ok(wanted)
}

/// No shorter and no longer than a loop may be.
fn bound(wanted: &mut Bounds, edits: &Edits, facts: &Facts) -> Result<()> {
    let rate = facts.format.rate;
    let lengths = &mut wanted.lengths;
    if let Some(longest) =
        edits.loop_longest.into_iter().chain(edits.longest).map(|t| t.frames(rate)).min()
    {
        lengths.end = lengths.end.min(longest + 1);
        // What is worth it in a long clip may be more than may be.
        lengths.start = lengths.start.min(longest / 2).max(16);
    }
    if let Some(shortest) = edits.loop_shortest {
        lengths.start = shortest.frames(rate).max(16);
    }
    wanted.check(facts)
}

/// The best loop near these places.
fn found(
    clip: &Clip,
    edits: &Edits,
    places: [Option<Moment>; 2],
    selection: &mut Selection,
    observer: &dyn Observer,
) -> Result<FrameRange> {
    let facts = clip.facts();
    let rate = facts.format.rate;
    let used = selection.range;
    let mut wanted = near(Bounds::any(facts), places, used, facts)?;
    bound(&mut wanted, edits, facts)?;
    // What follows a loop goes: the end of the loop is that of the file.
    if let (Some(longest), true) = (edits.longest, edits.tail != Some(Tail::Keep)) {
        let most = used.start.saturating_add(longest.frames(rate));
        wanted.ends.end = wanted.ends.end.min(most + 1).max(wanted.ends.start);
    }
    let best = find(clip, &wanted, 1, observer)?.swap_remove(0);
    let range = best.seam.range;
    let found = FoundSeam { verdict: best.seam.verdict };
    selection.set_loop(range, facts, LoopReason::Found(found));
    Ok(range)
}

/// All of a clip but for what lies before and behind the best seam.
///
/// # Errors
/// Those of finding loops.
pub fn cut_at_seam(
    clip: &Clip,
    edits: &Edits,
    selection: &mut Selection,
    observer: &dyn Observer,
) -> Result<()> {
    let facts = clip.facts();
    let frames = facts.frames;
    let halves = Bounds {
        starts: FrameRange { start: 0, end: frames / 2 + 1 },
        ends: FrameRange { start: frames / 2, end: frames + 1 },
        ..Bounds::any(facts)
    };
    let rate = facts.format.rate;
    let most = edits.longest.map(|longest| longest.frames(rate)).filter(|most| *most < frames);
    // Where less than all may stay, it may lie anywhere.
    let mut wanted = if most.is_some() { Bounds::any(facts) } else { halves };
    bound(&mut wanted, edits, facts)?;
    if let Some(most) = most {
        wanted.lengths.end = wanted.lengths.end.min(most + 1).max(wanted.lengths.start + 1);
    }
    let best = find(clip, &wanted, 1, observer)?.swap_remove(0);
    selection.range = best.seam.range;
    selection.wraps = true;
    let found = FoundSeam { verdict: best.seam.verdict };
    selection.cut(facts, CutReason::Seam(found));
    Ok(())
}

/// A file that loops as a whole, faded into itself where that was asked.
fn fade_whole(
    clip: &Clip,
    edits: &Edits,
    selection: &mut Selection,
    observer: &dyn Observer,
) -> Result<()> {
    if let Some(time) = edits.crossfade {
        selection.range = fade(clip, selection.range, time, selection, observer)?;
    }
    selection.through_sound = [false; 2];
    Ok(())
}

/// The loop's end moves to where the wave goes on as it does at its start.
fn snapped(
    clip: &Clip,
    range: FrameRange,
    used: FrameRange,
    reach: Time,
    selection: &mut Selection,
    observer: &dyn Observer,
) -> Result<FrameRange> {
    let rate = clip.facts().format.rate;
    let reach = reach.frames(rate).min(range.len() / 2);
    let side = rate.frames(SNAP).max(32);
    let (before, after) = (side.min(range.start - used.start), side.min(used.end - range.end));
    let early = FrameRange { start: range.start - before, end: range.start + after };
    let late = FrameRange {
        start: (range.end - before).saturating_sub(reach),
        end: (range.end + after + reach).min(used.end),
    };
    let found = match early.len() < 64 {
        true => None,
        false => {
            let blocks = windows(clip, &[early, late], observer)?;
            let last = size(late.len() - early.len()) + 1;
            align(&mut FftPlanner::new(), &blocks[0], &blocks[1], rate, 0, last)
        }
    };
    let Some(offset) = found else {
        return Err(Error::CannotMeet(Unmet::NothingToMatch));
    };
    let end = late.start + count(offset) + before;
    let moved = crate::num::real(end) - crate::num::real(range.end);
    let seconds = moved / rate.real();
    selection.decisions.push(Decision::LoopEndMoved { frames: moved, seconds });
    Ok(FrameRange { start: range.start, end })
}

/// Makes room for a crossfade, and measures how alike its sides are. Gives the loop as it is then.
fn fade(
    clip: &Clip,
    range: FrameRange,
    time: Time,
    selection: &mut Selection,
    observer: &dyn Observer,
) -> Result<FrameRange> {
    let facts = clip.facts();
    let rate = facts.format.rate;
    let frames = time.frames(rate);
    let mut moved = range;
    let missing = frames.saturating_sub(range.start);
    if missing > 0 {
        // Where nothing comes before the start, both points move on; or the start alone.
        moved.start += missing;
        moved.end = (moved.end + missing).min(facts.frames);
    }
    let most = (moved.len() / 2).min(rate.frames(LONGEST_FADE));
    if frames == 0 || frames > most {
        return Err(Error::CannotMeet(Unmet::CrossfadeTooLong {
            crossfade: rate.seconds(frames),
            looped: rate.seconds(range.len()),
            most: rate.seconds(most),
        }));
    }
    let side = |end: u64| FrameRange { start: end - frames, end };
    let sides = windows(clip, &[side(moved.end), side(moved.start)], observer)?;
    let correlation = likeness(&sides[0], &sides[1]);
    let likeness = likeness_by_band(&sides[0], &sides[1], rate);
    selection.crossfade = Some(Crossfade { range: moved, frames, likeness });
    let seconds = rate.seconds(frames);
    selection.decisions.push(Decision::Crossfaded { seconds, correlation, bands: likeness });
    if moved != range {
        selection.set_loop(moved, facts, LoopReason::Crossfade);
    }
    Ok(moved)
}
