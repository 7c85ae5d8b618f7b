//! The form of the file: packets that stay, blocks, the header, what it can hold.

use super::{Decision, Output};
use crate::error::{Error, Result};
use crate::spec::Facts;
use crate::spec::{Codec, Container, Demand, Format, Header, Shortfall, usual_header};
use crate::units::Duration;
use crate::write::codec::usual_block;
use crate::write::wav;

/// Whether the encoded samples can be copied as they are: the same encoding, in a container that
/// stores it alike.
pub fn same_packets(own: Format, to: Format, demand: &Demand, facts: &Facts) -> bool {
    let alike = match (own.container, to.container) {
        (a, b) if a == b => true,
        (Container::Rf64, Container::Wav) | (Container::Mp4, Container::M4a) => true,
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
    if to.encoding.codec != Codec::ImaAdpcm {
        return Ok(None);
    }
    if demand.header == Some(Header::Extensible) {
        return Err(Error::CannotMeet {
            what: "an extensible header has no place for the blocks of IMA ADPCM".to_owned(),
            instead: "ask for --header plain".to_owned(),
        });
    }
    let channels = to.channels.count();
    let bytes = demand.block_bytes.unwrap_or_else(|| usual_block(to.rate.hertz(), channels));
    let group = 4 * u32::from(channels);
    let sound = bytes.is_multiple_of(group) && bytes > group && bytes <= u32::from(u16::MAX);
    if sound {
        return Ok(Some(bytes));
    }
    Err(Error::CannotMeet {
        what: format!("blocks of {bytes} bytes cannot hold IMA ADPCM of {channels} channels"),
        instead: format!("ask for a multiple of {group} bytes from {} to 65532", 2 * group),
    })
}

pub fn plan_header(
    facts: &Facts,
    demand: &Demand,
    to: Format,
    shortfalls: &[Shortfall],
    decisions: &mut Vec<Decision>,
) -> Option<Header> {
    if shortfalls.iter().any(|s| s.what == "whole") {
        decisions.push(Decision {
            about: "length",
            what: format!("{} frames, as many as there are", facts.frames),
            why: "the clip is cut short: its header promises more".to_owned(),
        });
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
    let why = match (demand.header, header) {
        (Some(_), _) => "the target's files have it",
        (None, _) if same_form => "the clip has it",
        (None, Header::Plain) => "every loader knows it",
        (None, Header::Extensible) => "more than 2 channels or 16 bits ask for it",
    };
    if facts.header != Some(header) || facts.format.container != to.container {
        decisions.push(Decision { about: "header", what: header.to_string(), why: why.to_owned() });
    }
    Some(header)
}

/// RIFF and IFF count in 32 bits, and so does QOA.
pub(crate) fn refuse_too_large(to: &Output) -> Result<()> {
    let bytes = wav::file_bytes(to);
    let container = to.format.container;
    let most = match container {
        Container::Wav | Container::Aiff | Container::Aifc => wav::LARGEST_FILE,
        Container::Qoa if to.frames > u64::from(u32::MAX) => 0,
        _ => u64::MAX,
    };
    if bytes <= most {
        return Ok(());
    }
    let longest = crate::num::scaled(to.frames, most, bytes.max(1)).min(u32::MAX.into());
    let longest = Duration(to.format.rate.seconds(longest));
    let gib = |bytes: u64| crate::num::real(bytes) / f64::from(1 << 30);
    Err(Error::CannotMeet {
        what: format!(
            "{} would take {:.2} GiB; {container} holds at most 4 GiB",
            to.format,
            gib(bytes)
        ),
        instead: format!(
            "ask for fewer bits, channels or a lower rate, or cut the clip to {longest} at most"
        ),
    })
}
