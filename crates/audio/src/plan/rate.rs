//! The sample rate, and the speed.

use super::Decision;
use crate::edit::Edits;
use crate::error::{Error, Result};
use crate::num::{common_divisor, scaled};
use crate::spec::Facts;
use crate::spec::{Format, convertible};

/// So many frames in give so many out, where either rate or speed changes.
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
        decisions.push(Decision {
            about: "speed",
            what: format!("{speed} times as fast, and as high"),
            why: "it was asked for".to_owned(),
        });
    }
    if own.rate == to.rate && speed.is_none() {
        return Ok(None);
    }
    if let Some(rate) = [own.rate, to.rate].into_iter().find(|r| !convertible(*r)) {
        return Err(Error::CannotMeet {
            what: format!("a sample rate of {rate} Hz cannot be converted"),
            instead: "ask for a rate from 1000 to 384000 Hz".to_owned(),
        });
    }
    let (a, b) = (u64::from(own.rate.hertz()), u64::from(to.rate.hertz()));
    let (num, den) = speed.map_or((1, 1), |s| (u64::from(s.num), u64::from(s.den)));
    let ratio = (a * num, b * den);
    if a == b {
        return Ok(Some(ratio));
    }
    let divisor = common_divisor(a, b);
    let after = scaled(frames, ratio.1, ratio.0);
    decisions.push(Decision {
        about: "sample rate",
        what: format!(
            "{a} to {b} Hz (by {}/{}): {frames} frames become {after}",
            b / divisor,
            a / divisor,
        ),
        why: if b < a {
            format!("the target wants {b} Hz; sound above {} Hz is lost", scaled(b, 475, 1000))
        } else {
            format!("the target wants {b} Hz")
        },
    });
    Ok(Some(ratio))
}
