//! What a clip becomes: its own values where they are accepted, else the first alternatives that can
//! be written.

use crate::edit::Edits;
use crate::error::{Error, Result};
use crate::spec::{
    ByteOrder, Channels, Choice, Codec, Container, Demand, Encoding, Format, Kind, MOST_CHANNELS,
    Quality, Spec, limit,
};
use crate::units::SampleRate;
use crate::unmet::Unmet;
use crate::write::encodes;

/// Decides the format.
pub fn target_format(own: Format, demand: &Demand, edits: &Edits) -> Result<Format> {
    let spec = demand.spec_for(own);
    let mut format = spec.pick(own);
    if let Some(route) = &edits.route {
        let routed = u16::try_from(route.0.len()).ok().and_then(Channels::new);
        let routed =
            routed.ok_or(Error::CannotMeet(Unmet::RouteTooLong { most: MOST_CHANNELS }))?;
        if !spec.channels.accepts(routed, Channels::accepts) {
            return Err(Error::CannotMeet(Unmet::RouteMismatch {
                makes: routed.to_string(),
                wants: spec.channels.to_string(),
            }));
        }
        if format.channels.count() != routed.count() {
            format.channels = routed;
        }
    }
    (format.container, format.encoding) = container_and_encoding(own, spec)?;
    let codec = format.encoding.codec;
    format.channels = match codec {
        Codec::Vorbis | Codec::Opus if without_places(&spec.channels, format.channels) => {
            Channels::new(format.channels.count()).unwrap_or(format.channels)
        }
        _ => stated(format),
    };
    // Opus counts in 48 kHz, whatever went in.
    if format.encoding.codec == Codec::Opus && spec.rate.accepts(SampleRate::STUDIO, |a, b| a == b)
    {
        format.rate = SampleRate::STUDIO;
    }
    Ok(format)
}

/// Whether channels are asked for by their number alone.
fn without_places(asked: &Choice<Channels>, found: Channels) -> bool {
    let same = |channels: &&Channels| channels.count() == found.count();
    match asked {
        Choice::Any => false,
        Choice::OneOf(all) => all.iter().filter(same).all(|channels| channels.layout().is_none()),
    }
}

/// Some containers give every number of channels its places, some none.
fn stated(format: Format) -> Channels {
    let channels = format.channels;
    let plain = || Channels::new(channels.count()).unwrap_or(channels);
    let alac = matches!(format.encoding.codec, Codec::Alac16 | Codec::Alac24);
    match format.container {
        // A centre and one behind are among its four.
        _ if alac && channels.count() == 4 => plain(),
        _ if alac => channels.likely_layout().map_or(channels, Channels::of),
        container if container.is_wave() || container == Container::Caf => channels,
        Container::Ogg | Container::Flac => channels.likely_layout().map_or(channels, Channels::of),
        _ => plain(),
    }
}

/// Refuses what cannot be encoded, naming the nearest that can; only where something is encoded.
pub fn refuse_unencodable(format: Format) -> Result<()> {
    if let Some(unmet) = limit(format) {
        return Err(Error::CannotMeet(unmet));
    }
    if encodes(format) {
        return Ok(());
    }
    // Average bit rates go by tables for each rate; the nearest that has one is found by asking.
    let with = |kilobits: u16| {
        let mut tried = format;
        tried.encoding.quality = Some(Quality::BitRate(kilobits));
        encodes(tried)
    };
    let (kilobits, nearest) = match format.encoding.quality {
        Some(Quality::BitRate(kilobits)) => {
            let mut near = (1..=1000u16)
                .flat_map(|off| [kilobits.saturating_sub(off), kilobits.saturating_add(off)]);
            (kilobits, near.find(|near| *near > 0 && with(*near)))
        }
        _ => (0, None),
    };
    Err(Error::CannotMeet(Unmet::BitRateOutside {
        codec: "vorbis".to_owned(),
        hertz: format.rate.hertz(),
        channels: format.channels.count(),
        kilobits,
        nearest,
    }))
}

/// The first container, the clip's own before all, that can hold one of the encodings.
fn container_and_encoding(own: Format, spec: &Spec) -> Result<(Container, Encoding)> {
    let mut containers = match &spec.container {
        Choice::OneOf(all) => all.clone(),
        Choice::Any => vec![usual_container(own, spec)],
    };
    if let Some(at) = containers.iter().position(|c| *c == own.container) {
        containers.swap(0, at);
    }
    for container in &containers {
        if let Some(encoding) = encoding_in(*container, own, &spec.encoding) {
            return Ok((*container, ordered(*container, encoding, own, spec)?));
        }
    }
    let first = containers.first().copied().unwrap_or(Container::Wav);
    if first.facts().writes.is_empty() {
        return Err(Error::CannotMeet(Unmet::NotWritten { what: spec.container.to_string() }));
    }
    if let Choice::OneOf(encodings) = &spec.encoding
        && !encodings.iter().any(|e| e.codec.is_written())
    {
        return Err(Error::CannotMeet(Unmet::NotWritten { what: spec.encoding.to_string() }));
    }
    let held: Vec<_> = first.facts().writes.iter().map(|c| c.facts().word).collect();
    Err(Error::BadSpec {
        line: spec.to_string(),
        what: format!("{first} holds {}", held.join(" ")),
    })
}

/// The clip's own where it is written; packets of MP4 go into M4A as they are; what the spec says of
/// the encoding may leave but one.
fn usual_container(own: Format, spec: &Spec) -> Container {
    let written = |container: Container| {
        !container.facts().writes.is_empty()
            && encoding_in(container, own, &spec.encoding).is_some()
    };
    let kin = match (own.container, own.encoding.codec) {
        (Container::Mp4, Codec::Aac | Codec::Alac16 | Codec::Alac24) => Container::M4a,
        (container, _) => container,
    };
    let all = crate::spec::CONTAINERS.iter().map(|row| row.container);
    [kin, Container::Wav].into_iter().chain(all).find(|c| written(*c)).unwrap_or(Container::Wav)
}

/// The encoding for a container: the clip's own, the first alternative that it holds, or where all
/// are welcome the one that loses nothing, else the usual one.
fn encoding_in(container: Container, own: Format, choice: &Choice<Encoding>) -> Option<Encoding> {
    let writes = container.facts().writes;
    let held = |encoding: &&Encoding| writes.contains(&encoding.codec);
    match choice {
        Choice::OneOf(all) => {
            let same = all.iter().find(|e| e.accepts(own.encoding)).filter(held);
            same.or_else(|| all.iter().find(held)).copied()
        }
        Choice::Any if writes.contains(&own.encoding.codec) => {
            Some(Encoding { quality: None, ..own.encoding })
        }
        Choice::Any => nearest(own.encoding.codec, writes).map(Encoding::plain),
    }
}

fn nearest(own: Codec, writes: &[Codec]) -> Option<Codec> {
    let first = *writes.first()?;
    if first.kind() == Kind::Lossy {
        return Some(first);
    }
    let bits = match own.kind() {
        Kind::Integer(bits) => bits,
        Kind::Float(_) => 24,
        Kind::Lossy => 16,
    };
    let integers = || {
        writes.iter().filter_map(|codec| match codec.kind() {
            Kind::Integer(has) => Some((has, *codec)),
            _ => None,
        })
    };
    let enough = integers().filter(|(has, _)| *has >= bits).min_by_key(|(has, _)| *has);
    enough.or_else(|| integers().max_by_key(|(has, _)| *has)).map(|(_, codec)| codec)
}

/// The order of bytes is only stated where the container leaves it open.
fn ordered(container: Container, encoding: Encoding, own: Format, spec: &Spec) -> Result<Encoding> {
    let wide = encoding.codec.sample_bytes().is_some_and(|bytes| bytes > 1);
    let fixed = match container {
        container if container.is_wave() => Some(ByteOrder::Little),
        Container::Aiff => Some(ByteOrder::Big),
        _ => None,
    };
    let order = match (container, encoding.order) {
        (_, Some(asked)) if fixed.is_some_and(|fixed| fixed != asked) => {
            // What the clip happens to have is no wish.
            if matches!(spec.encoding, Choice::Any) {
                None
            } else {
                let which = if asked == ByteOrder::Big { "little" } else { "big" };
                return Err(Error::BadSpec {
                    line: spec.to_string(),
                    what: format!("samples in {container} are {which}-endian"),
                });
            }
        }
        (Container::Raw | Container::Aifc | Container::Caf, asked) if wide => {
            let same = own.container == container && own.encoding.codec == encoding.codec;
            let kept = own.encoding.order.filter(|_| same);
            let usual =
                if container == Container::Raw { ByteOrder::Little } else { ByteOrder::Big };
            // Of floating point, AIFF-C has big-endian names only.
            let float = matches!(encoding.codec.kind(), Kind::Float(_));
            match asked.or(kept).unwrap_or(usual) {
                ByteOrder::Little
                    if container == Container::Aifc
                        && (float || encoding.codec != Codec::Pcm16) =>
                {
                    if asked.is_some() {
                        return Err(Error::BadSpec {
                            line: spec.to_string(),
                            what: "AIFF-C has little-endian samples of 16 bits only".to_owned(),
                        });
                    }
                    Some(ByteOrder::Big)
                }
                order => Some(order),
            }
        }
        _ => None,
    };
    Ok(Encoding { order, ..encoding })
}
