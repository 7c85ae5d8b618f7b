//! CAF ("Apple Core Audio Format Specification 1.0"): chunks with 64-bit sizes, all big-endian.

mod chunks;

use super::bytes::be32;
use super::codec::symphonia::{Setup, Symphonia};
use super::mp4::aac;
use super::mp4::entry::{self, AacConfig};
use super::packets::{Decoded, Decoder, PacketsAt};
use super::plain::Plain;
use super::reading::Reading;
use super::{Body, Opened, Packets, Stream};
use crate::block::Source;
use crate::clip::Marker;
use crate::error::{Error, Result};
use crate::num::{rounded, size};
use crate::read::input::Handle;
use crate::read::wav::layout_of_mask;
use crate::spec::Facts;
use crate::spec::{ByteOrder, Channels, Codec, Container, Encoding, Format};
use crate::units::SampleRate;
use chunks::{Chunks, Data, Description, PacketTable, chunks, name_of};
use std::path::Path;
use std::sync::Arc;

/// Reads all chunks but the samples.
pub(super) fn open(mut file: Reading<'_>) -> Result<Opened> {
    let Chunks { description, layout, data, table, cookie, tags, places, names, loops, extras } =
        chunks(&mut file)?;
    let description = description.ok_or_else(|| file.malformed("it has no \"desc\" chunk", 8))?;
    let data = data.ok_or_else(|| file.malformed("it has no \"data\" chunk", 8))?;
    let format = format_of(&description, &cookie, &layout, &file)?;
    let named = |(id, frame): (u32, u64)| Marker { frame, name: name_of(id, &names) };
    let mut markers: Vec<Marker> = places.into_iter().map(named).collect();
    markers.sort_by_key(|marker| marker.frame);
    let facts = Facts { tags, markers, loops, extras, ..Facts::new(format, file.length()) };
    let mut opened = match description.packet_bytes {
        0 => packets(facts, data, table, cookie, &description, file)?,
        _ => plain(facts, data, table, &description, file)?,
    };
    let frames = opened.facts.frames;
    opened.facts.loops.retain(|l| !l.range.is_empty() && l.range.end <= frames);
    Ok(opened)
}

/// Flags of `lpcm`: 1 floating point, 2 little-endian.
fn format_of(
    description: &Description,
    cookie: &[u8],
    layout: &[u8],
    file: &Reading<'_>,
) -> Result<Format> {
    let Description { kind, flags, bits, .. } = description;
    let order = if flags & 2 == 0 { ByteOrder::Big } else { ByteOrder::Little };
    let codec = match (kind, flags & 1, bits) {
        (b"lpcm", 1, 32) => Codec::F32,
        (b"lpcm", 1, 64) => Codec::F64,
        (b"lpcm", 0, 8) => Codec::Pcm8,
        (b"lpcm", 0, 16) => Codec::Pcm16,
        (b"lpcm", 0, 24) => Codec::Pcm24,
        (b"lpcm", 0, 32) => Codec::Pcm32,
        (b"ulaw", ..) => Codec::MuLaw,
        (b"alaw", ..) => Codec::ALaw,
        (b"ima4", ..) => Codec::ImaAdpcm,
        (b"aac ", ..) => Codec::Aac,
        (b"alac", ..) => match alac_config(cookie).and_then(|config| config.get(5).copied()) {
            Some(..=16) => Codec::Alac16,
            _ => Codec::Alac24,
        },
        (b"lpcm", ..) => return Err(file.unsupported(format!("CAF with PCM of {bits} bits"))),
        (kind, ..) => {
            return Err(file.unsupported(format!("CAF of type \"{}\"", kind.escape_ascii())));
        }
    };
    let hertz = u32::try_from(rounded(description.rate)).ok().and_then(SampleRate::new);
    let rate = hertz
        .ok_or_else(|| file.malformed(format!("its sample rate is {}", description.rate), 20))?;
    let plain = file.channels(description.channels, 44)?;
    let count = plain.count();
    let channels = match codec {
        // Those of ALAC have their places.
        Codec::Alac16 | Codec::Alac24 if count != 4 => Channels::usual(count).unwrap_or(plain),
        Codec::Alac16 | Codec::Alac24 => plain,
        _ => layout_of(layout).filter(|named| named.count() == count).unwrap_or(plain),
    };
    let wide = codec.sample_bytes().is_some_and(|bytes| bytes > 1);
    Ok(Format {
        container: Container::Caf,
        encoding: Encoding { order: wide.then_some(order), ..Encoding::plain(codec) },
        rate,
        channels,
    })
}

fn plain(
    mut facts: Facts,
    data: Data,
    table: Option<PacketTable>,
    description: &Description,
    mut file: Reading<'_>,
) -> Result<Opened> {
    let order = if description.flags & 2 == 0 { ByteOrder::Big } else { ByteOrder::Little };
    // CAF's bytes are signed whatever their order is said to be.
    let order = if facts.format.encoding.codec == Codec::Pcm8 { ByteOrder::Big } else { order };
    let mut plain = Plain::samples(data.offset, 0, facts.format, order);
    let unit = plain.unit_bytes;
    let units = data.stated.min(data.in_file) / unit;
    let (held, stated) = (units * plain.unit_frames, data.stated / unit * plain.unit_frames);
    // The table tells how much of the last packet counts.
    let told = table.filter(|_| plain.unit_frames > 1).map(|table| (table.frames, table.priming));
    let counted = told.filter(|(frames, before)| *before == 0 && *frames <= stated);
    let promised = counted.map_or(stated, |(frames, _)| frames);
    if told.is_some_and(|(_, before)| before > 0) {
        return Err(file.unsupported("CAF whose packets of one size begin before the sound"));
    }
    facts.frames = promised.min(held);
    file.compare(promised, facts.frames);
    plain.bytes = units * unit;
    facts.audio_bytes = plain.bytes;
    Ok(file.opened(facts, plain))
}

/// Packets of changing size: their table says all.
fn packets(
    mut facts: Facts,
    data: Data,
    table: Option<PacketTable>,
    cookie: Vec<u8>,
    description: &Description,
    mut file: Reading<'_>,
) -> Result<Opened> {
    let table = table.ok_or_else(|| file.malformed("it has no \"pakt\" chunk", 8))?;
    let setup = match facts.format.encoding.codec {
        Codec::Aac => aac_config(&cookie).map(Setup::Aac),
        _ => alac_config(&cookie).map(|config| Setup::Alac(config.to_vec())),
    };
    let setup = setup.ok_or_else(|| file.malformed("its \"kuki\" chunk is invalid", 8))?;
    let sizes = Arc::new(table.bytes);
    let count = facts.format.channels.count();
    let fdk = match &setup {
        Setup::Aac(config) => {
            let config = AacConfig::parse(config);
            let config =
                config.ok_or_else(|| file.malformed("its \"kuki\" chunk is invalid", 8))?;
            aac(&config, count, places(Arc::clone(&sizes), data.offset), &mut file)?.2
        }
        _ => false,
    };
    let (mut whole, mut end) = (0u64, 0u64);
    for (_, length) in places(Arc::clone(&sizes), 0) {
        end += u64::from(length);
        if end > data.in_file {
            break;
        }
        (whole, facts.audio_bytes) = (whole + 1, end);
    }
    let held = (whole * u64::from(description.packet_frames)).saturating_sub(table.priming);
    facts.frames = table.frames.min(held);
    file.compare(table.frames, held);
    let body = CafPackets {
        setup,
        fdk,
        cookie,
        sizes,
        whole,
        offset: data.offset,
        skip: table.priming,
        packet_frames: description.packet_frames,
    };
    Ok(file.opened(facts, body))
}

fn places(sizes: Arc<Vec<u8>>, mut offset: u64) -> impl Iterator<Item = (u64, u32)> + Send {
    let mut at = 0;
    std::iter::from_fn(move || {
        let mut length = 0u32;
        loop {
            let byte = *sizes.get(at)?;
            at += 1;
            length = length << 7 | u32::from(byte & 0x7F);
            if byte & 0x80 == 0 {
                break;
            }
        }
        let place = (offset, length);
        offset = offset.checked_add(length.into())?;
        Some(place)
    })
}

/// The configuration alone, or within `frma` and `alac` boxes as QuickTime has it.
fn alac_config(cookie: &[u8]) -> Option<&[u8]> {
    let start = if cookie.get(4..8) == Some(b"frma") { 24 } else { 0 };
    cookie.get(start..start + 24)
}

/// "Channel Layout Chunk": a tag that says that bits follow, in the order of WAV's mask.
fn layout_of(bytes: &[u8]) -> Option<Channels> {
    let mask = be32(bytes, 4).filter(|_| be32(bytes, 0) == Some(1 << 16))?;
    layout_of_mask(mask).map(Channels::of)
}

/// The description of an MPEG-4 stream, alone or in an `esds` box behind others as QuickTime has it.
fn aac_config(cookie: &[u8]) -> Option<Vec<u8>> {
    let boxed = || cookie.windows(4).position(|kind| kind == b"esds").map(|at| at + 8);
    let start = if cookie.first() == Some(&3) { 0 } else { boxed()? };
    let (_, config) = entry::stream(cookie.get(start..)?)?;
    config.filter(|config| config.len() >= 2).map(<[u8]>::to_vec)
}

/// Where the packets lie.
#[derive(Debug)]
struct CafPackets {
    setup: Setup,
    #[cfg_attr(not(feature = "aac"), expect(dead_code, reason = "there is one decoder then"))]
    fdk: bool,
    sizes: Arc<Vec<u8>>,
    whole: u64,
    offset: u64,
    skip: u64,
    cookie: Vec<u8>,
    packet_frames: u32,
}

impl Body for CafPackets {
    fn frames(&self, file: Handle, path: &Path, facts: &Facts) -> Result<Box<dyn Source>> {
        let broken = |what: String| Error::Unsupported {
            path: path.to_owned(),
            what: format!("{} ({what})", facts.format.encoding),
        };
        let decoder: Box<dyn Decoder> = match &self.setup {
            #[cfg(feature = "aac")]
            Setup::Aac(config) if self.fdk => {
                Box::new(super::codec::aac::FdkAac::new(config).map_err(broken)?)
            }
            setup => Box::new(Symphonia::new(setup.clone()).map_err(broken)?),
        };
        let packets = self.packets(file, path)?;
        Ok(Box::new(Decoded::new(packets, decoder, path, facts, self.skip)))
    }

    fn packets(&self, file: Handle, path: &Path) -> Result<Box<dyn Packets>> {
        let places = places(Arc::clone(&self.sizes), self.offset).take(size(self.whole));
        Ok(Box::new(PacketsAt::new(file, path, places)))
    }

    fn stream(&self) -> Stream {
        Stream {
            headers: vec![self.cookie.clone()],
            delay: self.skip,
            packet_frames: self.packet_frames,
            packets: self.whole,
            bytes: 0,
        }
    }
}
