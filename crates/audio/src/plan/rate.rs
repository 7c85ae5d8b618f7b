//! The sample rate, and the speed.

use super::Decision;
use crate::edit::Edits;
use crate::error::{Error, Result};
use crate::num::scaled;
use crate::spec::Facts;
use crate::spec::{Format, convertible};
use crate::unmet::Unmet;

/// This many frames in give this many out, where either rate or speed changes.
pub fn plan_rate(
    facts: &Facts,
    to: Format,
    edits: &Edits,
    frames: u64,
    decisions: &mut Vec<Decision>,
) -> Result<Option<(u64, u64)>> {
    let own = facts.format;
    let speed = edits.speed.filter(|speed| speed.num != speed.den);
    if let Some(speed) = speed {
        let factor = f64::from(speed.num) / f64::from(speed.den);
        decisions.push(Decision::SpeedChanged { factor });
    }
    if own.rate == to.rate && speed.is_none() {
        return Ok(None);
    }
    if let Some(rate) = [own.rate, to.rate].into_iter().find(|r| !convertible(*r)) {
        return Err(Error::CannotMeet(Unmet::RateNotConvertible { hertz: rate.hertz() }));
    }
    let (a, b) = (u64::from(own.rate.hertz()), u64::from(to.rate.hertz()));
    let (num, den) = speed.map_or((1, 1), |s| (u64::from(s.num), u64::from(s.den)));
    let ratio = (a * num, b * den);
    if a == b {
        return Ok(Some(ratio));
    }
    let after = scaled(frames, ratio.1, ratio.0);
    decisions.push(Decision::Resampled {
        from: own.rate.hertz(),
        to: to.rate.hertz(),
        frames,
        become_frames: after,
    });
    Ok(Some(ratio))
}
