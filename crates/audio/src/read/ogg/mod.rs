//! Ogg with Vorbis, Opus or FLAC.
//!
//! Sources: RFC 3533 (Ogg), "Vorbis I specification", appendix A, RFC 7845 (Opus in Ogg), RFC 9639, 10.1 (FLAC in
//! Ogg).

pub mod links;
pub mod opus;
pub mod page;
pub mod vorbis;

use super::codec::opus::{Mapping, Opus};
use super::codec::surround::Surround;
use super::codec::symphonia::{Setup, Symphonia};
use super::packets::{Decoded, Decoder};
use super::reading::Reading;
use super::{Body, Opened, Packets, Stream, comments, flac};
use crate::block::Source;
use crate::clip::{Extra, Note, Tag};
use crate::error::{Error, Result};
use crate::read::input::Handle;
use crate::spec::Facts;
use crate::spec::{Channels, Codec, Container, Encoding, Format};
use crate::units::SampleRate;
pub(super) use opus::head as opus_head;
use page::{Page, Pages, StreamPackets, last_page};
use std::path::Path;
use vorbis::{Lengths, VorbisHeaders};

/// The codec of a stream, with its headers.
#[derive(Debug, Clone)]
enum Kind {
    Vorbis { identification: Vec<u8>, setup: Vec<u8>, headers: VorbisHeaders },
    Opus { head: Vec<u8>, mapping: Mapping, delay: u64 },
    Flac { info: Vec<u8> },
}

/// One stream of a file.
#[derive(Debug)]
struct OggStream {
    kind: Kind,
    serial: u32,
    /// Header packets before the sound.
    headers: usize,
    /// Frames that are decoded and not played.
    skip: u64,
}

/// Streams that people meet and that are not decoded here, by their first bytes.
const NAMED: &[(&[u8], &str)] =
    &[(b"Speex   ", "Ogg with Speex"), (b"\x80theora", "Ogg with Theora video alone")];

/// Reads the headers of the first stream that can be decoded, and the last page.
pub(super) fn open(mut file: Reading<'_>) -> Result<Opened> {
    let serial = first_stream(&mut file)?;
    stay_in_first_link(&mut file)?;
    let pages = Pages::new(file.again()?, file.path(), 0)?;
    let mut packets = StreamPackets::new(pages, serial, 0);
    let Headers { kind, format, count, bytes, texts, valid_bits } = headers(&mut packets, &file)?;
    let (skip, begin) = start(&kind, &mut packets)?;
    let mut tags = texts_of(&texts);
    let last = last_page(&mut file, serial)?;
    let end = last.as_ref().and_then(|(page, _)| page.granule).unwrap_or(begin);
    let frames = end.saturating_sub(begin);
    match last {
        Some((page, end)) if !page.last && end == file.length() => {
            file.note(Note::LastPageUnmarked)
        }
        Some((page, _)) if !page.last => {
            file.corrected(
                "its last page is not marked as the last, and a piece follows: it is cut short",
            );
        }
        _ => {}
    }
    let (loops, loop_names) = file.take_loop(&mut tags, frames, format.rate);
    let extras = (!tags.is_empty()).then(|| Extra {
        id: "comments".to_owned(),
        offset: 0,
        bytes: crate::num::count(texts.len()),
    });
    let facts = Facts {
        frames,
        valid_bits,
        audio_bytes: file.length().saturating_sub(bytes),
        loops,
        loop_names,
        tags,
        extras: extras.into_iter().collect(),
        ..Facts::new(format, file.length())
    };
    Ok(file.opened(facts, OggStream { kind, serial, headers: count, skip }))
}

/// The serial number of the first stream that can be decoded.
fn first_stream(file: &mut Reading<'_>) -> Result<u32> {
    let mut pages = Pages::new(file.again()?, file.path(), 0)?;
    let mut firsts: Vec<Page> = Vec::new();
    while let Some(page) = pages.next_page()?.filter(|page| page.first && firsts.len() < 64) {
        firsts.push(page);
    }
    let mut known = firsts.iter().filter(|page| is_known(&page.body));
    if let Some(first) = known.next() {
        if known.next().is_some() {
            file.left_aside("it holds several streams; the first is read");
        }
        return Ok(first.serial);
    }
    let Some(first) = firsts.first() else {
        return Err(file.malformed("it holds no whole page", 0));
    };
    let named = NAMED.iter().find(|row| first.body.starts_with(row.0));
    Err(file.unsupported(named.map_or("Ogg with a stream of an unknown kind", |row| row.1)))
}

/// Of a chain, the first link is read.
fn stay_in_first_link(file: &mut Reading<'_>) -> Result<()> {
    let links = links::links(file.again()?, file.path())?;
    if let [first, _, ..] = links.as_slice() {
        file.ends_at(first.end);
        let name = file.path().file_name().unwrap_or_default().to_string_lossy();
        file.note(Note::Chained { clips: links.len(), next: format!("{name}#2") });
    }
    Ok(())
}

/// What the header packets say.
struct Headers {
    kind: Kind,
    format: Format,
    /// How many packets they are, and how many bytes.
    count: usize,
    bytes: u64,
    /// The packet of the texts.
    texts: Vec<u8>,
    /// How many bits count, where not all do.
    valid_bits: Option<u16>,
}

/// Header packets of FLAC that are read at most.
const MOST_HEADERS: usize = 1024;

fn headers(packets: &mut StreamPackets, file: &Reading<'_>) -> Result<Headers> {
    let mut bytes = 0;
    let mut next = || {
        let packet = packets.next_packet()?;
        let packet = packet.ok_or_else(|| file.malformed("it ends within its headers", 0))?.bytes;
        bytes += crate::num::count(packet.len());
        Ok::<_, Error>(packet)
    };
    let malformed = |what: String| file.malformed(what, 0);
    let (head, mut texts) = (next()?, next()?);
    let mut valid_bits = None;
    let plain = |codec, rate, channels: usize| Format {
        container: Container::Ogg,
        encoding: Encoding::plain(codec),
        rate,
        // Vorbis I, 4.3.9: three channels and more have their places.
        channels: u16::try_from(channels).ok().and_then(Channels::usual).unwrap_or(Channels::MONO),
    };
    let (kind, format, count) = if head.starts_with(b"OpusHead") {
        let (mapping, delay) = opus::head(&head).map_err(malformed)?;
        let mut format = plain(Codec::Opus, SampleRate::STUDIO, mapping.channels.len());
        if !mapping.placed {
            format.channels = Channels::new(format.channels.count()).unwrap_or(format.channels);
        }
        (Kind::Opus { head, mapping, delay }, format, 2)
    } else if head.starts_with(b"\x7FFLAC") {
        let info = head.get(17..51).ok_or_else(|| malformed("it has no STREAMINFO".to_owned()))?;
        let (native, _, bits) = flac::read_info(info, file)?;
        valid_bits = bits;
        // The last block of metadata is marked; texts come first, pictures and others behind them.
        let (mut last, mut count) = (texts.first().is_some_and(|kind| kind & 0x80 != 0), 2);
        while !last && count < MOST_HEADERS {
            last = next()?.first().is_none_or(|kind| kind & 0x80 != 0);
            count += 1;
        }
        texts = match texts.first() {
            Some(kind) if kind & 0x7F == 4 => texts.split_off(4.min(texts.len())),
            _ => Vec::new(),
        };
        let format = Format { container: Container::Ogg, ..native };
        (Kind::Flac { info: info.to_vec() }, format, count)
    } else {
        let setup = next()?;
        let headers = VorbisHeaders::parse(&head, &setup).map_err(malformed)?;
        let format = plain(Codec::Vorbis, headers.rate, headers.channels.count().into());
        (Kind::Vorbis { identification: head, setup, headers }, format, 3)
    };
    Ok(Headers { kind, format, count, bytes, texts, valid_bits })
}

fn is_known(first_packet: &[u8]) -> bool {
    let marks: [&[u8]; 3] = [b"\x01vorbis", b"OpusHead", b"\x7FFLAC"];
    marks.iter().any(|mark| first_packet.starts_with(mark))
}

fn texts_of(packet: &[u8]) -> Vec<Tag> {
    let bytes = packet.strip_prefix(b"\x03vorbis").or_else(|| packet.strip_prefix(b"OpusTags"));
    // Those of FLAC begin at once.
    comments::parse(bytes.unwrap_or(packet))
}

/// How many decoded frames come before the first that counts, and the position of that one. Where the
/// packets of the first page hold more than its position says, the surplus is not played; less means
/// that the stream was cut out of a longer one (Vorbis I, A.2; RFC 7845, 4.1 and 4.3).
fn start(kind: &Kind, packets: &mut StreamPackets) -> Result<(u64, u64)> {
    let mut lengths = Lengths::default();
    let mut sum = 0;
    let mut first = None;
    while let Some(packet) = packets.next_packet()? {
        sum += match kind {
            Kind::Vorbis { headers, .. } => lengths.of(headers, &packet.bytes),
            Kind::Opus { .. } => opus::frames(&packet.bytes),
            Kind::Flac { .. } => flac::frame_head(&packet.bytes, 0).map_or(0, |head| head.1),
        };
        if let Some(granule) = packet.granule {
            first = Some((granule, packet.last));
            break;
        }
    }
    let delay = match kind {
        Kind::Opus { delay, .. } => *delay,
        Kind::Vorbis { .. } | Kind::Flac { .. } => 0,
    };
    Ok(match first {
        // One page alone is cut at its end, not at its start.
        Some((granule, false)) if granule < sum => (sum - granule + delay, delay),
        Some((granule, false)) => (delay, granule - sum + delay),
        _ => (delay, delay),
    })
}

impl Body for OggStream {
    fn frames(&self, file: Handle, path: &Path, facts: &Facts) -> Result<Box<dyn Source>> {
        let broken = |what: String| Error::Malformed {
            path: path.to_owned(),
            format: "Ogg",
            what,
            offset: 0,
        };
        let decoder: Box<dyn Decoder> = match &self.kind {
            Kind::Vorbis { identification, setup, headers } if headers.channels.count() > 2 => {
                Box::new(Surround::new(identification, setup).map_err(broken)?)
            }
            Kind::Vorbis { identification, setup, .. } => {
                let setup = Setup::Vorbis(identification.clone(), setup.clone());
                Box::new(Symphonia::new(setup).map_err(broken)?)
            }
            Kind::Opus { mapping, .. } => Box::new(Opus::new(mapping).map_err(broken)?),
            Kind::Flac { info } => {
                Box::new(Symphonia::new(Setup::Flac(info.clone())).map_err(broken)?)
            }
        };
        let packets = self.packets(file, path)?;
        let decoded = Decoded::new(packets, decoder, path, facts, self.skip);
        Ok(Box::new(decoded))
    }

    fn packets(&self, file: Handle, path: &Path) -> Result<Box<dyn Packets>> {
        let pages = Pages::new(file, path, 0)?;
        Ok(Box::new(StreamPackets::new(pages, self.serial, self.headers)))
    }

    fn stream(&self) -> Stream {
        let headers = match &self.kind {
            Kind::Vorbis { identification, setup, .. } => {
                vec![identification.clone(), setup.clone()]
            }
            Kind::Opus { head, .. } => vec![head.clone()],
            Kind::Flac { info } => vec![info.clone()],
        };
        Stream { headers, delay: self.skip, ..Stream::default() }
    }
}
