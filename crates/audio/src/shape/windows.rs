//! Several stretches of a clip, read in one go.

use crate::block::{Block, Source, each_block};
use crate::error::{Error, Result};
use crate::num::{count, size};
use crate::observe::Observer;
use crate::read::Clip;
use crate::shape::cut::Cut;
use crate::shape::finite::make_finite;
use crate::units::FrameRange;
use std::io;

/// As [`windows`], where every range must be whole: a clip may hold less than its header says.
///
/// # Errors
/// As [`windows`]; [`Error::Read`] where frames are missing.
pub fn whole_windows(
    clip: &Clip,
    ranges: &[FrameRange],
    observer: &dyn Observer,
) -> Result<Vec<Block>> {
    let found = windows(clip, ranges, observer)?;
    let whole = |(block, range): (&Block, &FrameRange)| count(block.frames()) == range.len();
    match found.iter().zip(ranges).all(whole) {
        true => Ok(found),
        false => Err(Error::Read {
            path: clip.input().name().to_owned(),
            source: io::ErrorKind::UnexpectedEof.into(),
        }),
    }
}

/// The frames of each range, in their order; ranges may overlap, and must lie in the clip.
///
/// # Errors
/// Those of reading; [`Error::Stopped`].
pub fn windows(clip: &Clip, ranges: &[FrameRange], observer: &dyn Observer) -> Result<Vec<Block>> {
    let end = ranges.iter().map(|r| r.end).max().unwrap_or(0);
    let mut source = Cut::new(clip.frames()?, FrameRange { start: 0, end });
    let mut found = vec![Block::new(source.channels()); ranges.len()];
    let mut at = 0;
    each_block(&mut source, observer, |block| {
        make_finite(block);
        let behind = at + count(block.frames());
        for (range, own) in ranges.iter().zip(&mut found) {
            let (from, to) = (range.start.max(at), range.end.min(behind));
            if from < to {
                let part = size(from - at)..size(to - at);
                for (own, channel) in own.channels_mut().iter_mut().zip(block.channels()) {
                    own.extend_from_slice(&channel[part.clone()]);
                }
            }
        }
        at = behind;
    })?;
    Ok(found)
}
