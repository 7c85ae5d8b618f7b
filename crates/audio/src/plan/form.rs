//! The form of the file: packets that stay, blocks, the header, what it can hold.

use super::{Decision, HeaderReason, Output};
use crate::error::{Error, Result};
use crate::spec::Facts;
use crate::spec::{Codec, Container, Demand, Format, Header, Shortfall, usual_header};
use crate::unmet::Unmet;
use crate::write::codec::usual_block;
use crate::write::wav;

/// Whether the encoded samples can be copied as they are: the same encoding, in a container that
/// stores it alike.
pub fn same_packets(own: Format, to: Format, demand: &Demand, facts: &Facts) -> bool {
    let alike = match (own.container, to.container) {
        (a, b) if a == b => true,
        (a, b) if a.is_wave() && b.is_wave() => true,
        (Container::Mp4, Container::M4a) => true,
        (a, Container::Mp3) if a.is_wave() => true,
        _ => false,
    };
    let blocks = demand.block_bytes.is_none() || demand.block_bytes == facts.block_bytes;
    let (a, b) = (own.encoding, to.encoding);
    alike && blocks && a.codec == b.codec && a.order == b.order
}

/// The size of ADPCM blocks: as asked, as the clip has it, or as usual for the rate.
pub fn plan_block(
    facts: &Facts,
    demand: &Demand,
    to: Format,
    renders: bool,
) -> Result<Option<u32>> {
    if !renders {
        return Ok(facts.block_bytes);
    }
    let codec = to.encoding.codec;
    if to.unit().is_some() || !matches!(codec, Codec::ImaAdpcm | Codec::MsAdpcm) {
        return Ok(None);
    }
    if demand.header == Some(Header::Extensible) {
        return Err(Error::CannotMeet(Unmet::BlocksNeedPlainHeader));
    }
    let channels = to.channels.count();
    let bytes = demand.block_bytes.unwrap_or_else(|| usual_block(to.rate.hertz(), channels));
    // What a channel takes at a time, and what comes before the codes.
    let (group, head) = match codec {
        Codec::MsAdpcm => (u32::from(channels), 7 * u32::from(channels)),
        _ => (4 * u32::from(channels), 4 * u32::from(channels)),
    };
    let sound = bytes.is_multiple_of(group) && bytes > head && bytes <= u32::from(u16::MAX);
    if sound {
        return Ok(Some(bytes));
    }
    Err(Error::CannotMeet(Unmet::BlockSize { bytes, channels, group }))
}

pub fn plan_header(
    facts: &Facts,
    demand: &Demand,
    to: Format,
    shortfalls: &[Shortfall],
    decisions: &mut Vec<Decision>,
) -> Option<Header> {
    if shortfalls.iter().any(|s| s.what == "whole") {
        decisions.push(Decision::FramesHeld { frames: facts.frames });
    }
    let usual = usual_header(to)?;
    let same_form = facts.format.encoding == to.encoding
        && facts.format.channels == to.channels
        && facts.format.container == to.container;
    let header = match demand.header {
        Some(wanted) => wanted,
        // A header that was not complained of stays.
        None if same_form => facts.header.unwrap_or(usual),
        None => usual,
    };
    let reason = match (demand.header, header) {
        (Some(_), _) => HeaderReason::Required,
        (None, _) if same_form => HeaderReason::Kept,
        (None, Header::Plain) => HeaderReason::Plainest,
        (None, Header::Extensible) => HeaderReason::Needed,
    };
    if facts.header != Some(header) || facts.format.container != to.container {
        decisions.push(Decision::HeaderKind { header, reason });
    }
    Some(header)
}

/// RIFF and IFF count in 32 bits, and so does QOA.
pub(crate) fn refuse_too_large(to: &Output) -> Result<()> {
    let bytes = wav::file_bytes(to);
    let container = to.format.container;
    let most = match container {
        Container::Wav | Container::Aiff | Container::Aifc | Container::Au => wav::LARGEST_FILE,
        Container::Qoa if to.frames > u64::from(u32::MAX) => 0,
        _ => u64::MAX,
    };
    if bytes <= most {
        return Ok(());
    }
    let longest = crate::num::scaled(to.frames, most, bytes.max(1)).min(u32::MAX.into());
    let longest = to.format.rate.seconds(longest);
    let gib = |bytes: u64| crate::num::real(bytes) / f64::from(1 << 30);
    Err(Error::CannotMeet(Unmet::FileTooLarge {
        format: to.format.to_string(),
        gib: gib(bytes),
        container: container.to_string(),
        longest,
    }))
}
