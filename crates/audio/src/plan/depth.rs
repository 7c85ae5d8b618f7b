//! How samples are rounded to what the encoding holds.

use super::{Decision, Step};
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
        let (how, why) = match (dither, kind) {
            _ if lossy && coarse => ("", "the target wants it"),
            (Dither::Triangular, _) if lossy => {
                (" with triangular dither", "it is encoded from 16 bits")
            }
            _ if lossy => ("", "the target wants it"),
            (Dither::Triangular, _) => (" with triangular dither", "bits are lost"),
            (Dither::Shaped, _) => (
                " with triangular dither, its noise moved to where it is least heard",
                "bits are lost, and 8 are few",
            ),
            (Dither::None, Kind::Integer(_)) => (" without dither", "no bits are lost"),
            (Dither::None, _) => (" without dither", "floating point needs none"),
        };
        decisions.push(Decision {
            about: if lossy { "encoding" } else { "bit depth" },
            what: match own == codec {
                true if lossy => format!("encoded as {} again{how}", to.encoding),
                true => format!("rounded to {} again{how}", codec.facts().word),
                false if lossy => format!("{} to {}{how}", own.facts().word, to.encoding),
                false => format!("{} to {}{how}", own.facts().word, codec.facts().word),
            },
            why: why.to_owned(),
        });
    }
    Some(Step::Quantise { codec, dither })
}
