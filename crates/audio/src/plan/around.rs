//! The loop in the output, and what must be seen around it.

use super::level::Levelled;
use super::places::Places;
use super::{Step, beside};
use crate::edit::{Edits, Tail};
use crate::plan::select::Selection;
use crate::shape::limit;
use crate::spec::Facts;
use crate::spec::{Codec, Demand, Format};
use crate::units::FrameRange;

/// The loop in the output, and what must be seen behind its end.
pub struct Around {
    /// Frames of the clip.
    pub range: Option<FrameRange>,
    /// Frames of the output that some step looks ahead.
    pub ahead: u64,
    /// Those of them that the encoder sees.
    pub beyond: u64,
    /// Frames that it sees before the first.
    pub before: u64,
    /// Frames that filters see before those, until they have settled.
    pub settle: u64,
}

pub fn around(
    facts: &Facts,
    demand: &Demand,
    to: Format,
    edits: &Edits,
    selection: &Selection,
    levelled: &Levelled,
) -> Around {
    /// More than the longest blocks of any codec reach.
    const LOSSY_SEES: u64 = 3 * 8192;
    /// Packets of AAC and MP3 overlap with the one before.
    const AAC_SEES: u64 = 2 * 1024;
    const MP3_SEES: u64 = 2 * 1152;
    /// RFC 7845, 4.2: 80 ms until a decoder has settled.
    const OPUS_SEES: u64 = 3840;
    let asked = selection.sets_loop;
    let carried = beside::lets_loops(demand, to.container, asked);
    let own = || facts.loops_played(edits.loop_direction).first().copied().filter(|_| !asked);
    let points = selection.points().or_else(own).filter(|_| carried);
    // What turns back has no seam.
    let turns = points.is_some_and(|l| !l.direction.is_forward());
    let points = points.map(|l| l.range);
    let range = points.or(selection.wraps.then_some(selection.range)).filter(|_| !turns);
    let limits = levelled.steps.iter().any(|step| matches!(step, Step::Limit { .. }));
    let padded = edits.pad.is_some_and(|pad| pad.tail.frames(to.rate) > 0);
    let beyond = match to.encoding.codec {
        Codec::Vorbis | Codec::Opus | Codec::Aac | Codec::Mp3 if !padded => LOSSY_SEES,
        _ => 0,
    };
    // Only AAC in MP4, the info frame of MP3 and the header of Opus have a place for what is decoded and not played.
    let faded = edits.fade_in.is_some() || edits.fade_out.is_some();
    let before = match to.encoding.codec {
        Codec::Aac if !faded => AAC_SEES,
        Codec::Mp3 if !faded => MP3_SEES,
        Codec::Opus if !faded => OPUS_SEES,
        _ => 0,
    };
    let limiter = if limits { limit::look_ahead(to.rate) } else { 0 };
    // Filters ring for this long at most, in seconds.
    const SETTLED: f64 = 0.25;
    let filters = edits.voicing.is_some() || edits.low_cut.is_some() || edits.high_cut.is_some();
    let settle = if filters { to.rate.frames(SETTLED) } else { 0 };
    Around { range, ahead: beyond.max(limiter), beyond, before, settle }
}

/// How many frames of the output the tail of a loop fades over, where it is to.
pub fn faded_tail(
    edits: &Edits,
    selection: &Selection,
    places: &Places,
    frames: u64,
) -> Option<u64> {
    let range = selection.looped.filter(|_| edits.tail == Some(Tail::Fade))?;
    let end = places.range(range)?.end;
    Some(frames.saturating_sub(end)).filter(|tail| *tail > 0)
}
