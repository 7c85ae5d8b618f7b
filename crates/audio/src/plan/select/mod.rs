//! What of a clip is wanted: the part that a cut names, a piece, or what is left without silence.

mod looped;
mod texture;

pub use looped::near;

use super::{CutReason, Decision, LoopReason, Stretch};
use crate::block::{Block, each_block};
use crate::clip::{Direction, Loop};
use crate::edit::{CutEdit, Edits, Ends, Moment, SilenceLevel, Span, SpanEnd, TooLong, Trim};
use crate::error::{Error, Result};
use crate::measure::{Ask, SILENCE_DBFS, Silence, SilenceFinder, Surveyor};
use crate::num::{count, size};
use crate::observe::Observer;
use crate::read::Clip;
use crate::shape::crossfade::Crossfade;
use crate::shape::cut::Cut;
use crate::shape::stretches::Fold;
use crate::shape::texture::Texture;
use crate::spec::Facts;
use crate::units::{FrameRange, SampleRate};
use crate::unmet::Unmet;

/// A DC offset beyond this share of full scale is taken out wherever the clip is measured at all.
const DC_WORTH_REMOVING: f64 = 0.002;
/// How far a snapping end may move, in seconds.
const SNAP: f64 = 0.02;
/// The window in which a loudest passage is sought, in seconds.
const LOUDEST_WINDOW: f64 = 0.02;

/// The part of a clip that is used, and what was found on the way.
#[derive(Debug, Clone, PartialEq)]
pub struct Selection {
    /// Frames of the clip.
    pub range: FrameRange,
    /// Whether the start, and the end, were cut through sound.
    pub through_sound: [bool; 2],
    /// The offset of each channel, where it is worth removing.
    pub dc: Option<Vec<f64>>,
    /// The loop that is asked for, in frames of the clip; or its own, where something is done to it.
    pub looped: Option<FrameRange>,
    /// Which way it plays.
    pub direction: Direction,
    /// Whether that takes the place of the clip's own; so does none.
    pub sets_loop: bool,
    /// Whether the whole part loops without any loop points.
    pub wraps: bool,
    /// What is done at the loop's end.
    pub crossfade: Option<Crossfade>,
    /// What follows the loop, and over what it goes on.
    pub fold: Option<Fold>,
    /// The pieces that take the clip's place; all else is said of what comes of them.
    pub texture: Option<Texture>,
    /// What was decided, and why.
    pub decisions: Vec<Decision>,
}

impl Selection {
    /// All of a clip, with nothing measured.
    pub fn whole(facts: &Facts) -> Self {
        Self {
            range: FrameRange { start: 0, end: facts.frames },
            through_sound: [false; 2],
            dc: None,
            looped: None,
            direction: Direction::Forward,
            sets_loop: false,
            wraps: false,
            crossfade: None,
            fold: None,
            texture: None,
            decisions: Vec::new(),
        }
    }

    /// The loop as it is written.
    pub fn points(&self) -> Option<Loop> {
        self.looped.map(|range| Loop { direction: self.direction, ..Loop::endless(range) })
    }

    /// Decides for the part that is selected now.
    fn cut(&mut self, facts: &Facts, reason: CutReason) {
        let part = Stretch::of(self.range, facts);
        self.decisions.push(Decision::Cut { part, reason });
    }

    /// Decides where the loop lies.
    fn set_loop(&mut self, range: FrameRange, facts: &Facts, reason: LoopReason) {
        let part = Stretch::of(range, facts);
        self.decisions.push(Decision::LoopSet { part, reason });
    }
}

/// Finds the part that the edits ask for. Nothing asked: the clip is not read at all.
///
/// # Errors
/// [`Error::CannotMeet`] where the part lies outside the clip or nothing is left; those of reading.
pub fn select(clip: &Clip, edits: &Edits, observer: &dyn Observer) -> Result<Selection> {
    let facts = clip.facts();
    let mut selection = Selection::whole(facts);
    if facts.reversed {
        selection.decisions.push(Decision::Reversed);
    }
    match edits.cut {
        None => {}
        Some(CutEdit::Seam) => looped::cut_at_seam(clip, edits, &mut selection, observer)?,
        Some(CutEdit::At(span)) => {
            selection.range = resolve(span, facts)?;
            selection.cut(facts, CutReason::Requested);
        }
    }
    if let Some(piece) = edits.piece {
        selection.range = piece_of(clip, selection.range, piece, observer)?;
        selection.cut(facts, CutReason::Piece { number: piece });
    }
    if edits.snap {
        snap(clip, &mut selection)?;
    }
    let measures =
        edits.trim_silence.is_some() || edits.level.is_some() || loudest(edits).is_some();
    if measures {
        measure(clip, edits, &mut selection, observer)?;
    }
    if selection.range.is_empty() && facts.frames > 0 {
        return Err(Error::CannotMeet(Unmet::NothingLeft));
    }
    if edits.texture.is_some() {
        return texture::set_texture(clip, edits, selection, observer);
    }
    let all = [0, facts.frames];
    let ends = [selection.range.start, selection.range.end];
    for side in 0..2 {
        if ends[side] != all[side] {
            selection.through_sound[side] = sounds_at(clip, ends[side])?;
        }
    }
    looped::set_loop(clip, edits, &mut selection, observer)?;
    Ok(selection)
}

fn loudest(edits: &Edits) -> Option<crate::edit::Time> {
    edits.longest.filter(|_| edits.too_long == TooLong::Loudest)
}

/// Both ends of a range in seconds of the clip.
fn seconds_of(range: FrameRange, facts: &Facts) -> [f64; 2] {
    let Stretch { start, end } = Stretch::of(range, facts);
    [start, end]
}

/// A span of the clip's own time, in frames as they are played.
///
/// # Errors
/// [`Error::CannotMeet`] where it lies outside the clip.
pub fn resolve(span: Span, facts: &Facts) -> Result<FrameRange> {
    let (rate, frames) = (facts.format.rate, facts.frames);
    let outside = || {
        Error::CannotMeet(Unmet::RangeOutside {
            range: span.to_string(),
            seconds: facts.seconds(),
            frames,
        })
    };
    let place = |moment: Moment| moment.frame(rate, frames).ok_or_else(outside);
    let start = span.start.map_or(Ok(0), place)?;
    let end = match span.end {
        SpanEnd::Open => frames,
        SpanEnd::At(moment) => place(moment)?,
        SpanEnd::After(length) => start.saturating_add(length.frames(rate)),
    };
    if end <= start && start < frames {
        return Err(Error::CannotMeet(Unmet::RangeBackwards { range: span.to_string() }));
    }
    match start < end && end <= frames {
        true => Ok(facts.own(FrameRange { start, end })),
        false => Err(outside()),
    }
}

fn piece_of(
    clip: &Clip,
    within: FrameRange,
    piece: u32,
    observer: &dyn Observer,
) -> Result<FrameRange> {
    let mut finder = finder(clip, SilenceLevel::Below(SILENCE_DBFS));
    for_blocks(clip, within, observer, |block| finder.feed(block))?;
    let sounds = finder.finish().sounds;
    let index = piece.checked_sub(1).map(|index| size(index.into()));
    let index = match clip.facts().reversed {
        true => index.and_then(|index| (sounds.len()).checked_sub(index + 1)),
        false => index,
    };
    let chosen = index.and_then(|index| sounds.get(index));
    let found =
        chosen.ok_or(Error::CannotMeet(Unmet::NoSuchPiece { piece, sounds: sounds.len() }))?;
    Ok(FrameRange { start: within.start + found.start, end: within.start + found.end })
}

fn finder(clip: &Clip, level: SilenceLevel) -> SilenceFinder {
    let format = clip.facts().format;
    SilenceFinder::at(format.rate, format.channels.count().into(), level)
}

/// Measures silence, offset and loudness of the selected part in one pass.
fn measure(
    clip: &Clip,
    edits: &Edits,
    selection: &mut Selection,
    observer: &dyn Observer,
) -> Result<()> {
    let (facts, range) = (clip.facts(), selection.range);
    let rate = facts.format.rate;
    let level = edits.trim_silence.unwrap_or(SilenceLevel::Below(SILENCE_DBFS));
    let mut finder = finder(clip, level);
    let mut passages = Passages::new(rate);
    let kind = facts.format.encoding.codec.kind();
    let mut surveyor = Surveyor::new(&*clip.frames()?, kind, Ask::default());
    for_blocks(clip, range, observer, |block| {
        finder.feed(block);
        surveyor.feed(block);
        passages.feed(block);
    })?;
    let dc = surveyor.finish().dc;
    if dc.iter().any(|offset| offset.abs() > DC_WORTH_REMOVING) {
        let worst = dc.iter().fold(0.0f64, |a, b| a.max(b.abs())) * 100.0;
        selection.decisions.push(Decision::OffsetRemoved { percent: worst });
        selection.dc = Some(dc);
    }
    if let Some(trim) = edits.trim() {
        let found = finder.finish();
        if found.sounds.is_empty() {
            return Err(Error::CannotMeet(Unmet::AllSilent { below: found.below }));
        }
        trim_silence(trim, &found, rate, selection);
    }
    if let Some(longest) = loudest(edits) {
        let length = longest.frames(rate);
        if selection.range.len() > length {
            let offset = range.start;
            selection.range = passages.loudest(selection.range, offset, length);
            selection.cut(facts, CutReason::Loudest { longest: longest.seconds(rate) });
        }
    }
    Ok(())
}

fn trim_silence(trim: Trim, found: &Silence, rate: SampleRate, selection: &mut Selection) {
    let range = selection.range;
    let take = |silent: u64, breath: crate::edit::Time, wanted: bool| match wanted {
        true => silent.saturating_sub(breath.frames(rate)),
        false => 0,
    };
    let head = take(found.head, trim.head, trim.ends != Ends::Tail);
    let tail = take(found.tail, trim.tail, trim.ends != Ends::Head);
    selection.range = FrameRange { start: range.start + head, end: range.end - tail };
    let seconds = [rate.seconds(head), rate.seconds(tail)];
    let (below, noise) = (found.below, found.noise);
    selection.decisions.push(Decision::SilenceTrimmed { seconds, below, noise });
}

/// Energy in short windows, for finding where it is greatest.
struct Passages {
    window: u64,
    energies: Vec<f32>,
    sum: f64,
    filled: u64,
}

impl Passages {
    fn new(rate: SampleRate) -> Self {
        Self {
            window: rate.frames(LOUDEST_WINDOW).max(1),
            energies: Vec::new(),
            sum: 0.0,
            filled: 0,
        }
    }

    fn feed(&mut self, block: &Block) {
        for frame in 0..block.frames() {
            let energy = block.channels().iter().map(|c| c[frame] * c[frame]);
            self.sum += energy.sum::<f64>();
            self.filled += 1;
            if self.filled == self.window {
                self.energies.push(crate::num::single(self.sum));
                (self.sum, self.filled) = (0.0, 0);
            }
        }
    }

    /// The range of `length` frames within `range` where most energy lies; what was fed began at
    /// frame `offset`.
    fn loudest(&self, range: FrameRange, offset: u64, length: u64) -> FrameRange {
        let windows = size(length / self.window).max(1);
        let first = size((range.start - offset) / self.window);
        let mut best = (f64::NEG_INFINITY, first);
        let mut sum = 0.0;
        for (index, energy) in self.energies.iter().enumerate().skip(first) {
            sum += f64::from(*energy);
            if index >= first + windows {
                sum -= f64::from(self.energies[index - windows]);
            }
            let start = (index + 1).saturating_sub(windows).max(first);
            if sum > best.0 + 1e-9 {
                best = (sum, start);
            }
        }
        let start = offset + count(best.1) * self.window;
        let start = start.clamp(range.start, range.end - length);
        FrameRange { start, end: start + length }
    }
}

fn for_blocks(
    clip: &Clip,
    range: FrameRange,
    observer: &dyn Observer,
    mut take: impl FnMut(&Block),
) -> Result<()> {
    each_block(&mut Cut::new(clip.frames()?, range), observer, |block| {
        crate::shape::finite::make_finite(block);
        take(block);
    })
}

/// A few frames around a place, mixed to one channel.
fn around(clip: &Clip, frame: u64, reach: u64) -> Result<(u64, Vec<f64>)> {
    let range = FrameRange {
        start: frame.saturating_sub(reach),
        end: (frame + reach).min(clip.facts().frames),
    };
    let mut source = Cut::new(clip.frames()?, range);
    let all = crate::block::collect(&mut source)?;
    let frames = all.first().map_or(0, Vec::len);
    let mixed = (0..frames).map(|i| all.iter().map(|c| c[i]).sum()).collect();
    Ok((range.start, mixed))
}

/// Moves both ends to the nearest place where the sum of all channels changes its sign.
fn snap(clip: &Clip, selection: &mut Selection) -> Result<()> {
    let rate = clip.facts().format.rate;
    let reach = rate.frames(SNAP).max(1);
    let nearest = |frame: u64| -> Result<u64> {
        let (start, samples) = around(clip, frame, reach)?;
        let crossings = samples.windows(2).zip(start + 1..);
        let crossing = crossings
            .filter(|(pair, _)| (pair[0] < 0.0) != (pair[1] < 0.0))
            .map(|(_, at)| at)
            .min_by_key(|at| at.abs_diff(frame));
        Ok(crossing.unwrap_or(frame))
    };
    let before = selection.range;
    if before.start > 0 {
        selection.range.start = nearest(before.start)?;
    }
    if before.end < clip.facts().frames {
        selection.range.end = nearest(before.end)?;
    }
    let moved =
        [selection.range.start.abs_diff(before.start), selection.range.end.abs_diff(before.end)];
    selection.decisions.push(Decision::EndsSnapped { frames: moved });
    Ok(())
}

/// Whether there is sound at a place, in 5 ms around it.
fn sounds_at(clip: &Clip, frame: u64) -> Result<bool> {
    let rate = clip.facts().format.rate;
    let (_, samples) = around(clip, frame, rate.frames(0.0025).max(1))?;
    let power =
        samples.iter().map(|s| s * s).sum::<f64>() / crate::num::real_size(samples.len().max(1));
    Ok(10.0 * power.log10() > SILENCE_DBFS)
}
