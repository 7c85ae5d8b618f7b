//! What a crossfade would make of a seam that is heard: the shortest that mends it, reckoned from the sound around
//! both ends, before anything is written.

use super::judge::{Judgement, Sides, Verdict, side};
use crate::block::Block;
use crate::error::Result;
use crate::num::{decibels, real_size, size};
use crate::observe::Observer;
use crate::read::Clip;
use crate::shape::crossfade::{Crossfade, likeness_by_band};
use crate::shape::windows::windows;
use crate::spec::Format;
use crate::units::{FrameRange, SampleRate};
use schemars::JsonSchema;
use serde::Serialize;

/// A crossfade, and how its seam would sound.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize)]
pub struct Smoothing {
    /// How long it is, in seconds.
    pub seconds: f64,
    /// How its seam would sound.
    pub verdict: Verdict,
}

/// Lengths that are tried, in seconds: the shortest keeps most of the sound as it is.
const LENGTHS: [f64; 8] = [0.02, 0.05, 0.1, 0.2, 0.4, 0.8, 1.5, 3.0];
/// A level that changes by more within the length of a side is heard, in dB.
const CHANGE: f64 = 6.0;

/// The shortest crossfade that leaves nothing to hear, else that which leaves the least; `None` where there is no room
/// for any before the loop's start.
///
/// # Errors
/// Those of reading; [`Error::Stopped`](crate::Error::Stopped).
pub fn smooth(
    clip: &Clip,
    judged: &Judgement,
    observer: &dyn Observer,
) -> Result<Option<Smoothing>> {
    smooth_in(judged, clip.facts().format, |parts| windows(clip, parts, observer))
}

/// The same out of what reads stretches of a clip.
pub fn smooth_in(
    judged: &Judgement,
    format: Format,
    read: impl FnOnce(&[FrameRange]) -> Result<Vec<Block>>,
) -> Result<Option<Smoothing>> {
    let FrameRange { start, end } = judged.range;
    let rate = format.rate;
    let room = start.min((end - start) / 2);
    let lengths = LENGTHS.map(|seconds| rate.frames(seconds));
    let Some(most) = lengths.into_iter().rev().find(|frames| *frames <= room) else {
        return Ok(None);
    };
    let behind = side(rate).min(end - start);
    let parts = [
        FrameRange { start: end - most.max(behind), end },
        FrameRange { start: start - most, end: start },
        FrameRange { start, end: start + behind },
    ];
    let blocks = read(&parts)?;
    let [own, before, after] = [&blocks[0], &blocks[1], &blocks[2]];
    let mut best: Option<Smoothing> = None;
    for frames in lengths.into_iter().filter(|frames| *frames <= most) {
        let faded = faded(own, before, judged.range, frames, rate);
        let sides = Sides {
            before: last(&faded, behind),
            after: after.clone(),
            lead: last(before, behind),
            follow: Block::new(own.channels().len()),
        };
        let Some(seam) = sides.judge(judged.range, format) else { continue };
        let verdict = match changes(&faded, frames.max(behind), behind) {
            true => seam.verdict.max(Verdict::Audible),
            false => seam.verdict,
        };
        if best.is_none_or(|best| verdict < best.verdict) {
            best = Some(Smoothing { seconds: rate.seconds(frames), verdict });
        }
    }
    Ok(best)
}

/// The last frames of a block.
fn last(block: &Block, frames: u64) -> Block {
    let from = block.frames().saturating_sub(size(frames));
    Block::from_channels(block.channels().iter().map(|c| c[from..].to_vec()).collect())
}

/// The end of the loop with the crossfade in it.
fn faded(own: &Block, before: &Block, range: FrameRange, frames: u64, rate: SampleRate) -> Block {
    let (end, before) = (last(own, frames), last(before, frames));
    let likeness = likeness_by_band(&end, &before, rate);
    let blended = Crossfade { range, frames, likeness }.blended(&end, &before, rate);
    let mut faded = own.clone();
    let first = own.frames() - size(frames);
    for (to, from) in faded.channels_mut().iter_mut().zip(blended.channels()) {
        to[first..].copy_from_slice(from);
    }
    faded
}

/// Whether the level jumps from one part of the last frames to the next.
fn changes(block: &Block, frames: u64, part: u64) -> bool {
    let parts = size(frames / part.max(1)).max(1);
    let level = |at: usize| {
        let from = block.frames() - (parts - at) * size(part);
        let part = block.channels().iter().map(|c| &c[from..from + size(part)]);
        let (sum, many) = part.fold((0.0, 0usize), |(sum, many), samples| {
            (sum + samples.iter().map(|s| s * s).sum::<f64>(), many + samples.len())
        });
        decibels((sum / real_size(many.max(1))).sqrt()).max(-96.0)
    };
    let levels: Vec<f64> = (0..parts).map(level).collect();
    levels.windows(2).any(|pair| pair[0] - pair[1] > CHANGE)
}
