//! Several stretches of a clip, read in one go.

use crate::block::{Block, Source};
use crate::error::{Error, Result};
use crate::num::{count, size};
use crate::observe::Observer;
use crate::read::Clip;
use crate::units::FrameRange;

/// The frames of each range, in their order; ranges may overlap, and must lie in the clip.
///
/// # Errors
/// Those of reading; [`Error::Stopped`].
pub fn windows(clip: &Clip, ranges: &[FrameRange], observer: &dyn Observer) -> Result<Vec<Block>> {
    let mut source = clip.frames()?;
    let channels = source.channels();
    let mut found = vec![Block::new(channels); ranges.len()];
    let end = ranges.iter().map(|r| r.end).max().unwrap_or(0);
    let mut block = Block::new(channels);
    let mut at = 0;
    while at < end {
        if observer.stopped() {
            return Err(Error::Stopped);
        }
        source.next(&mut block)?;
        if block.is_empty() {
            break;
        }
        crate::survey::make_finite(&mut block);
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
    }
    Ok(found)
}
