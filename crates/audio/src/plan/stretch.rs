//! How long a sound lasts that is stretched.

use super::Decision;
use crate::edit::{Edits, Factor};
use crate::error::{Error, Result};
use crate::num::{real, rounded};
use crate::spec::Facts;
use crate::unmet::Unmet;

/// Beyond four times, nothing sounds like what it was.
const MOST: f64 = 4.0;

/// Frames of a part once it is stretched, before its speed and rate change; `None` where it is not.
///
/// # Errors
/// [`Error::CannotMeet`] beyond what can be stretched.
pub fn stretched(edits: &Edits, facts: &Facts, frames: u64) -> Result<Option<u64>> {
    let rate = facts.format.rate;
    let after = match (edits.stretch, edits.fit_length) {
        (None, None) => return Ok(None),
        (Some(_), Some(_)) => return Err(Error::CannotMeet(Unmet::TwoLengths)),
        (Some(factor), None) => real(frames) * factor.value(),
        (None, Some(length)) => {
            let pad = edits.pad.map_or(0.0, |pad| pad.head.seconds(rate) + pad.tail.seconds(rate));
            let speed = edits.speed.map_or(1.0, Factor::value);
            (length.seconds(rate) - pad).max(0.0) * speed * rate.real()
        }
    };
    if frames == 0 {
        return Ok(None);
    }
    let factor = after / real(frames);
    if !(1.0 / MOST..=MOST).contains(&factor) {
        let (from, to) = (rate.seconds(frames), after / rate.real());
        let (least, most) = (from / MOST, from * MOST);
        return Err(Error::CannotMeet(Unmet::StretchTooFar { from, to, least, most }));
    }
    Ok(Some(rounded(after)).filter(|after| *after != frames))
}

/// The decision for that.
pub fn told(facts: &Facts, frames: u64, after: u64) -> Decision {
    let [from, to] = [frames, after].map(|frames| facts.format.rate.seconds(frames));
    Decision::Stretched { from, to }
}
