//! How samples are rounded to what the encoding holds.

use super::{Decision, DepthReason, Step};
use crate::shape::quantise::Dither;
use crate::shape::route::Law;
use crate::spec::Facts;
use crate::spec::{Codec, Format, Kind};

/// How many bits the samples fill after routing; `None` where every bit may count.
fn bits_in_use(facts: &Facts, route: Option<&Law>, resampled: bool) -> Option<u32> {
    let stored = facts.format.encoding.codec.facts().decoded_bits?;
    if resampled {
        return None;
    }
    let bits = facts.valid_bits.map_or(stored, u32::from);
    let gains = route.iter().flat_map(|law| law.route.0.iter().flatten());
    let mut extra = 0;
    for (_, gain) in gains {
        // A gain of 1/2^k takes k more bits; any other gain may take all.
        let halvings = (0..16).find(|&k| *gain == 0.5f64.powi(k))?;
        extra = extra.max(halvings.unsigned_abs());
    }
    Some(bits + extra)
}

pub fn plan_depth(
    facts: &Facts,
    to: Format,
    route: Option<&Law>,
    resampled: bool,
    decisions: &mut Vec<Decision>,
) -> Option<Step> {
    let (own, codec) = (facts.format.encoding.codec, to.encoding.codec);
    let kind = codec.grid();
    // Noise beneath the steps of a coarse codec does no good; AAC hides less than a bit of 16.
    let coarse = codec.kind() == Kind::Lossy && codec != Codec::Aac;
    let dither = match kind {
        Kind::Integer(bits) => match bits_in_use(facts, route, resampled) {
            Some(used) if used <= bits => Dither::None,
            _ if coarse => Dither::None,
            _ if bits <= 8 => Dither::Shaped,
            _ => Dither::Triangular,
        },
        Kind::Float(_) | Kind::Lossy => Dither::None,
    };
    let lossy = codec.kind() == Kind::Lossy;
    if own != codec || dither != Dither::None {
        let reason = match (dither, kind) {
            (Dither::Triangular, _) if lossy && !coarse => DepthReason::SixteenBitInput,
            _ if lossy => DepthReason::Required,
            (Dither::Triangular, _) => DepthReason::BitsLost,
            (Dither::Shaped, _) => DepthReason::EightBits,
            (Dither::None, Kind::Integer(_)) => DepthReason::NothingLost,
            (Dither::None, _) => DepthReason::Float,
        };
        let to = match lossy {
            true => to.encoding.to_string(),
            false => codec.facts().word.to_owned(),
        };
        decisions.push(Decision::Encoded {
            from: own.facts().word.to_owned(),
            to,
            lossy,
            dither,
            reason,
        });
    }
    Some(Step::Quantise { codec, dither })
}
