//! The steps that edits ask for, before and after routing and resampling.

use super::level::Levelled;
use super::rounds::Rounds;
use super::{Decision, Step};
use crate::edit::{Edits, Factor, Time, TooLong};
use crate::error::{Error, Result};
use crate::plan::select::Selection;
use crate::shape::biquad::HIGHEST;
use crate::spec::Facts;
use crate::spec::Format;
use crate::units::FrameRange;
use crate::unmet::Unmet;

/// Fades where a cut goes through sound, and nothing else is said.
const EDGE_FADE: Time = Time::Seconds(0.002);
/// The fade at the end of a clip that was cut to its longest, in seconds.
const SHORTENED_FADE: f64 = 0.03;

/// The part of the clip that is used: what was selected, or less where that is too long.
pub fn length(
    facts: &Facts,
    to: Format,
    edits: &Edits,
    selection: &Selection,
    decisions: &mut Vec<Decision>,
) -> Result<FrameRange> {
    let mut range = selection.range;
    let Some(longest) = edits.longest else {
        return Ok(range);
    };
    let own = facts.format.rate;
    let slower = edits.stretch.map_or(1.0, Factor::value) / edits.speed.map_or(1.0, Factor::value);
    let seconds = |frames: u64| own.seconds(frames) * slower;
    let padding = edits.pad.map_or(0.0, |pad| pad.head.seconds(own) + pad.tail.seconds(own));
    let limit = longest.seconds(own);
    let now = match edits.fit_length {
        Some(length) => length.seconds(own),
        None => seconds(range.len()) + padding,
    };
    // To the frame of the output: rounding must not refuse what fits.
    if now * to.rate.real() < limit * to.rate.real() + 1.0 {
        return Ok(range);
    }
    let fixed = edits.fit_length.is_some();
    if edits.too_long == TooLong::Refuse || limit <= padding || fixed {
        return Err(Error::CannotMeet(Unmet::TooLong { seconds: now, longest: limit }));
    }
    let frames = own.frames((limit - padding) / slower);
    range.end = range.start + frames.min(range.len());
    decisions.push(Decision::Shortened { from: now, to: limit });
    Ok(range)
}

/// Steps on the clip's own frames: cut or unrolled loop, offset, fades at cut edges.
pub fn before(
    edits: &Edits,
    selection: &Selection,
    range: FrameRange,
    unrolled: Option<&Rounds>,
    facts: &Facts,
) -> Vec<Step> {
    let rate = facts.format.rate;
    let mut steps = Vec::new();
    if facts.reversed {
        steps.push(Step::Reverse);
    }
    steps.extend(selection.texture.clone().map(Step::Texture));
    let (crossfade, fold) = (selection.crossfade, selection.fold);
    let stretches = unrolled.and_then(|rounds| rounds.stretches.clone());
    let mut frames = range.len();
    if stretches.is_some() || crossfade.is_some() || fold.is_some() {
        let ranges = stretches.unwrap_or_else(|| vec![range]);
        frames = ranges.iter().map(|range| range.len()).sum();
        steps.push(Step::Stretches { ranges, crossfade, fold });
    } else if range.start > 0 || range.end < facts.frames {
        steps.push(Step::Cut { range });
    }
    if let Some(offsets) = selection.dc.clone() {
        steps.push(Step::Dc { offsets });
    }
    let edge = edits.edge_fade.unwrap_or(EDGE_FADE).frames(rate);
    let shortened = range.end < selection.range.end;
    let head = match selection.through_sound[0] || (edits.trim_silence.is_some() && range.start > 0)
    {
        true => edge,
        false => 0,
    };
    let trimmed = edits.trim_silence.is_some() && range.end < facts.frames;
    let tail = match selection.through_sound[1] || trimmed {
        _ if shortened => rate.frames(SHORTENED_FADE),
        true => edge,
        false => 0,
    };
    if head > 0 || tail > 0 {
        steps.push(Step::EdgeFade { frames, head, tail });
    }
    steps
}

/// What two channels share, or do not.
pub fn separate(edits: &Edits, own: Format, decisions: &mut Vec<Decision>) -> Result<Option<Step>> {
    let Some(keep) = edits.keep else {
        return Ok(None);
    };
    if own.channels.count() != 2 {
        return Err(Error::CannotMeet(Unmet::NotStereo { channels: own.channels.to_string() }));
    }
    decisions.push(Decision::Separated { keep });
    Ok(Some(Step::Separate { keep }))
}

/// Low and high frequencies taken away; nothing where the clip has none of them.
pub fn tone(edits: &Edits, facts: &Facts, decisions: &mut Vec<Decision>) -> Result<Option<Step>> {
    let highest = facts.format.rate.real() * HIGHEST;
    let [low, high] = [edits.low_cut, edits.high_cut].map(|cut| cut.map(|cut| cut.0));
    let high = high.filter(|high| *high < highest);
    let above = high.unwrap_or(highest);
    match (low, high) {
        (None, None) => Ok(None),
        (Some(low), None) if low >= above => {
            let highest = facts.format.rate.real() / 2.0;
            Err(Error::CannotMeet(Unmet::NothingAbove { low, highest }))
        }
        (Some(low), _) if low >= above => {
            Err(Error::CannotMeet(Unmet::NothingBetween { low, high: above }))
        }
        (low, high) => {
            decisions.push(Decision::ToneCut { low, high });
            Ok(Some(Step::CutTone { low, high }))
        }
    }
}

/// The colour of a loudspeaker.
pub fn voice(edits: &Edits, decisions: &mut Vec<Decision>) -> Option<Step> {
    let voicing = edits.voicing?;
    decisions.push(Decision::Voiced { voicing });
    Some(Step::Voice { voicing })
}

/// Steps behind the rate: level, limit, fades, silence.
pub struct After {
    pub steps: Vec<Step>,
    /// Frames that silence adds.
    pub padding: u64,
    /// Whether samples take other values than before.
    pub changes: bool,
}

/// What lies at the end.
#[derive(Debug, Clone, Copy)]
pub struct Ends {
    /// Frames of the result, without silence.
    pub frames: u64,
    /// Which of the frames go on, where some have done their work once peaks are held.
    pub cut: Option<FrameRange>,
    /// This many fade out, where they lie behind a loop.
    pub tail: Option<u64>,
}

/// Decides them at the target's rate.
pub fn after(
    edits: &Edits,
    ends: Ends,
    levelled: &Levelled,
    to: Format,
    decisions: &mut Vec<Decision>,
) -> Result<After> {
    let rate = to.rate;
    let frames = ends.frames;
    let mut steps = levelled.steps.clone();
    let levels = !steps.is_empty();
    steps.extend(ends.cut.map(|range| Step::Cut { range }));
    decisions.extend(levelled.decisions.iter().cloned());
    let mut fades = [edits.fade_in, edits.fade_out].map(|time| time.map_or(0, |t| t.frames(rate)));
    // What was meant is not known: a shorter fade, or a longer clip.
    if let Some(fade) = fades.into_iter().find(|fade| *fade > frames) {
        let [fade, used] = [fade, frames].map(|frames| rate.seconds(frames));
        return Err(Error::CannotMeet(Unmet::FadeTooLong { fade, used }));
    }
    fades[1] = ends.tail.unwrap_or(fades[1]);
    if fades != [0, 0] {
        let [head, tail] = fades;
        steps.push(Step::Fade { frames, head, tail, curve: edits.fade_curve });
        let seconds = fades.map(|frames| rate.seconds(frames));
        decisions.push(Decision::Faded { seconds });
    }
    let changes = levels || fades != [0, 0];
    let pads = edits.pad.map_or([0, 0], |pad| [pad.head, pad.tail].map(|t| t.frames(rate)));
    if pads != [0, 0] {
        let seconds = pads.map(|frames| rate.seconds(frames));
        decisions.push(Decision::Padded { seconds });
    }
    let [head, mut tail] = pads;
    let unit = to.whole_frames();
    let whole = (frames + head + tail).next_multiple_of(unit);
    let fill = whole - (frames + head + tail);
    if fill > 0 {
        tail += fill;
        decisions.push(Decision::FilledUp { frames: fill, unit });
    }
    if head + tail > 0 {
        steps.push(Step::Pad { head, tail });
    }
    Ok(After { steps, padding: head + tail, changes })
}
