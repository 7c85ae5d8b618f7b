//! CAF ("Apple Core Audio Format Specification 1.0"): chunks with 64-bit sizes, all big-endian.

use super::bytes::{be32, be64, four, text};
use super::codec::symphonia::{Setup, Symphonia};
use super::mp4::aac;
use super::mp4::entry::{self, AacConfig};
use super::packets::{Decoded, Decoder, PacketsAt};
use super::plain::Plain;
use super::reading::Reading;
use super::{Body, Opened, Packets, Stream};
use crate::block::Source;
use crate::clip::{Extra, Loop, Marker, Note, Tag};
use crate::error::{Error, Result};
use crate::num::{rounded, size};
use crate::read::input::Handle;
use crate::read::wav::layout_of_mask;
use crate::spec::Facts;
use crate::spec::{ByteOrder, Channels, Codec, Container, Encoding, Format};
use crate::units::{FrameRange, SampleRate};
use std::path::Path;
use std::sync::Arc;

/// Chunks that are looked at.
const MOST_CHUNKS: usize = 4096;
/// What is read of one chunk at most; packet tables of a day are smaller.
const MOST_CONTENTS: u64 = 64 << 20;

/// The "Audio Description Chunk".
struct Description {
    rate: f64,
    kind: [u8; 4],
    flags: u32,
    packet_bytes: u32,
    packet_frames: u32,
    channels: u32,
    bits: u32,
}

/// The "Packet Table Chunk".
struct PacketTable {
    frames: u64,
    priming: u64,
    bytes: Vec<u8>,
}

/// What the chunks say, before they are held against one another.
#[derive(Default)]
struct Chunks {
    description: Option<Description>,
    layout: Vec<u8>,
    data: Option<Data>,
    table: Option<PacketTable>,
    cookie: Vec<u8>,
    tags: Vec<Tag>,
    places: Vec<(u32, u64)>,
    names: Vec<u8>,
    loops: Vec<Loop>,
    extras: Vec<Extra>,
}

/// Where the samples begin, how many bytes of them are stated, and how many are in the file.
#[derive(Clone, Copy)]
struct Data {
    offset: u64,
    stated: u64,
    in_file: u64,
}

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

fn chunks(file: &mut Reading<'_>) -> Result<Chunks> {
    let mut all = Chunks::default();
    let mut at = 8;
    for _ in 0..MOST_CHUNKS {
        let head = file.at(at, 12)?;
        let (Some(id), Some(stated)) = (four(&head, 0), be64(&head, 4)) else {
            break;
        };
        let offset = at + 12;
        let in_file = file.length().saturating_sub(offset);
        // "The value of -1 says that the size of the data is not known; it is then the last chunk."
        let open = id == *b"data" && stated == u64::MAX;
        if open {
            file.notes.push(Note::LengthLeftOpen);
        }
        let length = if open { in_file } else { stated };
        all.take(&id, Data { offset, stated: length, in_file }, file)?;
        match offset.checked_add(length) {
            Some(next) if next < file.length() => at = next,
            _ => break,
        }
    }
    Ok(all)
}

impl Chunks {
    fn take(&mut self, id: &[u8; 4], data: Data, file: &mut Reading<'_>) -> Result<()> {
        let Data { offset, stated: bytes, in_file } = data;
        let mut contents = || file.at(offset, bytes.min(MOST_CONTENTS));
        match id {
            b"desc" => {
                let contents = contents()?;
                self.description = Some(read_description(&contents, file)?);
            }
            b"data" => {
                let less = |n: u64| n.saturating_sub(4);
                let (stated, in_file) = (less(bytes), less(in_file));
                self.data = Some(Data { offset: offset + 4, stated, in_file });
            }
            b"pakt" => self.table = read_table(&contents()?),
            b"kuki" => self.cookie = contents()?,
            b"chan" => self.layout = contents()?,
            b"free" => {}
            _ => {
                match id {
                    b"info" => self.tags = read_info(&contents()?),
                    b"mark" => {
                        let markers = contents()?;
                        let records = markers.get(8..).unwrap_or_default();
                        self.places = read_markers(count_in(&markers, 0), records)
                            .map(|(_, frame, id)| (id, frame))
                            .collect();
                    }
                    b"strg" => self.names = contents()?,
                    b"regn" => self.loops = read_regions(&contents()?),
                    _ => {}
                }
                self.extras.push(Extra { id: id.escape_ascii().to_string(), offset, bytes });
            }
        }
        Ok(())
    }
}

fn read_description(bytes: &[u8], file: &Reading<'_>) -> Result<Description> {
    let word = |at: usize| {
        be32(bytes, at).ok_or_else(|| file.malformed("its \"desc\" chunk is too short", 8))
    };
    Ok(Description {
        rate: f64::from_bits(u64::from(word(0)?) << 32 | u64::from(word(4)?)),
        kind: word(8)?.to_be_bytes(),
        flags: word(12)?,
        packet_bytes: word(16)?,
        packet_frames: word(20)?,
        channels: word(24)?,
        bits: word(28)?,
    })
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

/// Numbers of packets and frames, then the size of each in groups of seven bits.
fn read_table(bytes: &[u8]) -> Option<PacketTable> {
    Some(PacketTable {
        frames: be64(bytes, 8)?,
        priming: be32(bytes, 16)?.into(),
        bytes: bytes.get(24..)?.to_vec(),
    })
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

/// "Information Chunk": pairs of texts.
fn read_info(bytes: &[u8]) -> Vec<Tag> {
    let stated = size(be32(bytes, 0).unwrap_or(0).into()).min(1024);
    let texts: Vec<&[u8]> =
        bytes.get(4..).unwrap_or_default().split(|&b| b == 0).take(2 * stated).collect();
    let pairs = texts.chunks_exact(2);
    pairs.map(|pair| Tag::new(&text(pair[0]).to_uppercase(), text(pair[1]))).collect()
}

/// A count of what follows, held within bounds.
fn count_in(bytes: &[u8], at: usize) -> usize {
    size(be32(bytes, at).unwrap_or(0).into()).min(1024)
}

/// "Marker Chunk": 28 bytes for each, a type, a place, a number, a time code, a channel.
fn read_markers(
    stated: usize,
    records: &[u8],
) -> impl Iterator<Item = ([u8; 4], u64, u32)> + use<'_> {
    records.chunks_exact(28).take(stated).filter_map(|record| {
        let frame = f64::from_bits(be64(record, 4)?);
        Some((four(record, 0)?, rounded(frame), be32(record, 12)?))
    })
}

/// "Strings Chunk": a number and a place for each, then texts that end with a zero.
fn name_of(id: u32, bytes: &[u8]) -> String {
    let stated = count_in(bytes, 0);
    let entries = bytes.get(4..).unwrap_or_default().chunks_exact(12).take(stated);
    let found = entries.into_iter().find(|entry| be32(entry, 0) == Some(id));
    let place = found.and_then(|entry| be64(entry, 4));
    let texts = bytes.get(4 + 12 * stated..).unwrap_or_default();
    let named = place.and_then(|place| texts.get(size(place)..));
    named.map_or_else(String::new, |rest| text(rest.split(|b| *b == 0).next().unwrap_or_default()))
}

/// "Region Chunk": for each a number, flags of which the first says that it loops, and markers of its ends.
fn read_regions(bytes: &[u8]) -> Vec<Loop> {
    let mut loops = Vec::new();
    let mut at = 8;
    for _ in 0..count_in(bytes, 4) {
        let (Some(flags), Some(markers)) = (be32(bytes, at + 4), be32(bytes, at + 8)) else {
            break;
        };
        let records = bytes.get(at + 12..).unwrap_or_default();
        let markers = size(markers.into());
        let frames = || read_markers(markers.min(1024), records);
        let place = |kind: &[u8; 4]| frames().find(|marker| marker.0 == *kind).map(|m| m.1);
        if let (1, Some((start, end))) = (flags & 1, place(b"rbeg").zip(place(b"rend"))) {
            loops.push(Loop { range: FrameRange { start, end }, plays: 0 });
        }
        match markers.checked_mul(28).and_then(|bytes| at.checked_add(12 + bytes)) {
            Some(next) if next <= bytes.len() => at = next,
            _ => break,
        }
    }
    loops
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
