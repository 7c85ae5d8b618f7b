//! Ogg with Vorbis or Opus.
//!
//! Sources: RFC 3533 (Ogg), "Vorbis I specification", appendix A, RFC 7845 (Opus in Ogg).

mod opus;
pub mod page;
pub mod vorbis;

use super::codec::opus::{Mapping, Opus};
use super::codec::surround::Surround;
use super::codec::symphonia::{Setup, Symphonia};
use super::packets::{Decoded, Decoder};
use super::{Body, Hints, Opened, Packets, Stream, comments};
use crate::block::Source;
use crate::clip::{Extra, Note, Tag};
use crate::error::{Error, Result};
use crate::num::count;
use crate::read::input::Handle;
use crate::spec::Facts;
use crate::spec::{Channels, Codec, Container, Encoding, Format, Layout};
use crate::units::SampleRate;
pub(super) use opus::head as opus_head;
use page::{Packet, Page, Pages, StreamPackets, last_page};
use std::io::{Seek, SeekFrom};
use std::path::Path;
use vorbis::{Lengths, VorbisHeaders};

/// The codec of a stream, with its headers.
#[derive(Debug, Clone)]
enum Kind {
    Vorbis { identification: Vec<u8>, setup: Vec<u8>, headers: VorbisHeaders },
    Opus { mapping: Mapping, delay: u64 },
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
const NAMED: &[(&[u8], &str)] = &[
    (b"\x7FFLAC", "Ogg with FLAC"),
    (b"Speex   ", "Ogg with Speex"),
    (b"\x80theora", "Ogg with Theora video alone"),
];

/// Reads the headers of the first stream that can be decoded, and the last page.
pub(super) fn open(file: &mut Handle, path: &Path, hints: &Hints) -> Result<Opened> {
    let malformed =
        |what: String| Error::Malformed { path: path.to_owned(), format: "Ogg", what, offset: 0 };
    let read = |source| Error::Read { path: path.to_owned(), source };
    let length = file.seek(SeekFrom::End(0)).map_err(read)?;
    let again = || file.again().map_err(read);
    let mut pages = Pages::new(again()?, path, 0)?;
    let mut firsts: Vec<Page> = Vec::new();
    while let Some(page) = pages.next_page()?.filter(|page| page.first && firsts.len() < 64) {
        firsts.push(page);
    }
    let known = firsts.iter().find(|page| is_known(&page.body));
    let Some(first) = known else {
        let begin = firsts.first().map(|page| page.body.as_slice()).unwrap_or_default();
        let named = NAMED.iter().find(|row| begin.starts_with(row.0));
        return Err(match (named, firsts.is_empty()) {
            (_, true) => malformed("it holds no whole page".to_owned()),
            (Some((_, name)), _) => {
                Error::Unsupported { path: path.to_owned(), what: (*name).to_owned() }
            }
            (None, _) => Error::Unsupported {
                path: path.to_owned(),
                what: "Ogg with a stream of an unknown kind".to_owned(),
            },
        });
    };
    let serial = first.serial;
    let mut packets = StreamPackets::new(Pages::new(again()?, path, 0)?, serial, 0);
    let mut next = || packets.next_packet();
    let missing = || malformed("it ends within its headers".to_owned());
    let head = next()?.ok_or_else(missing)?.bytes;
    let texts = next()?.ok_or_else(missing)?.bytes;
    let mut header_bytes = head.len() + texts.len();
    let (kind, format, headers) = if head.starts_with(b"OpusHead") {
        let (mapping, delay) = opus::head(&head).map_err(malformed)?;
        let channels = named_layout(mapping.channels.len());
        (Kind::Opus { mapping, delay }, opus_format(channels), 2)
    } else {
        let setup = next()?.ok_or_else(missing)?.bytes;
        header_bytes += setup.len();
        let headers = VorbisHeaders::parse(&head, &setup).map_err(malformed)?;
        let format = Format {
            container: Container::Ogg,
            encoding: Encoding::plain(Codec::Vorbis),
            rate: headers.rate,
            channels: named_layout(headers.channels.count().into()),
        };
        let kind = Kind::Vorbis { identification: head, setup, headers };
        (kind, format, 3)
    };
    let mut tags = texts_of(&texts);
    let mut notes = Vec::new();
    let (skip, begin) = start(&kind, &mut next)?;
    let last = last_page(file, path, length, serial)?;
    let end = last.as_ref().and_then(|page| page.granule).unwrap_or(begin);
    let frames = end.saturating_sub(begin);
    if last.is_some_and(|page| !page.last) {
        notes.push(Note::Corrected {
            what: "its last page is not marked as the last: it may be cut short".to_owned(),
        });
    }
    if firsts.iter().filter(|page| is_known(&page.body)).count() > 1 {
        notes.push(Note::LeftAside {
            what: "it holds several streams; the first is read".to_owned(),
        });
    }
    let found = comments::take_loop(&mut tags, hints, frames, format.rate, &mut notes);
    let (found, loop_names) = found.unzip();
    let extras = (!tags.is_empty()).then(|| Extra {
        id: "comments".to_owned(),
        offset: 0,
        bytes: count(texts.len()),
    });
    let facts = Facts {
        frames,
        audio_bytes: length.saturating_sub(count(header_bytes)),
        loops: found.into_iter().collect(),
        loop_names: loop_names.unwrap_or_default(),
        tags,
        extras: extras.into_iter().collect(),
        notes,
        ..Facts::new(format, length)
    };
    let body = OggStream { kind, serial, headers, skip };
    Ok(Opened::new(facts, body))
}

fn is_known(first_packet: &[u8]) -> bool {
    first_packet.starts_with(b"\x01vorbis") || first_packet.starts_with(b"OpusHead")
}

/// Vorbis I, 4.3.9: three channels and more have their places.
fn named_layout(count: usize) -> Channels {
    match count {
        4 => Channels::of(Layout::Quad),
        6 => Channels::of(Layout::Surround51),
        8 => Channels::of(Layout::Surround71),
        n => u16::try_from(n).ok().and_then(Channels::new).unwrap_or(Channels::MONO),
    }
}

fn opus_format(channels: Channels) -> Format {
    Format {
        container: Container::Ogg,
        encoding: Encoding::plain(Codec::Opus),
        rate: SampleRate::STUDIO,
        channels,
    }
}

fn texts_of(packet: &[u8]) -> Vec<Tag> {
    let bytes = packet.strip_prefix(b"\x03vorbis").or_else(|| packet.strip_prefix(b"OpusTags"));
    comments::parse(bytes.unwrap_or_default())
}

/// How many decoded frames come before the first that counts, and the position of that one. Where the
/// packets of the first page hold more than its position says, the surplus is not played; less means
/// that the stream was cut out of a longer one (Vorbis I, A.2; RFC 7845, 4.1 and 4.3).
fn start(kind: &Kind, next: &mut dyn FnMut() -> Result<Option<Packet>>) -> Result<(u64, u64)> {
    let mut lengths = Lengths::default();
    let mut sum = 0;
    let mut first = None;
    while let Some(packet) = next()? {
        sum += match kind {
            Kind::Vorbis { headers, .. } => lengths.of(headers, &packet.bytes),
            Kind::Opus { .. } => opus::frames(&packet.bytes),
        };
        if let Some(granule) = packet.granule {
            first = Some((granule, packet.last));
            break;
        }
    }
    let delay = match kind {
        Kind::Opus { delay, .. } => *delay,
        Kind::Vorbis { .. } => 0,
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
            Kind::Opus { .. } => Vec::new(),
        };
        Stream { headers, delay: self.skip, ..Stream::default() }
    }
}
