//! CAF ("Apple Core Audio Format Specification 1.0"): chunks with 64-bit sizes, all big-endian.

use super::bytes::{be32, be64, four, text};
use super::codec::symphonia::{Setup, Symphonia};
use super::packets::{Decoded, Decoder, PacketsAt};
use super::plain::Plain;
use super::reading::Reading;
use super::{Body, Opened, Packets};
use crate::block::Source;
use crate::clip::{Extra, Marker, Note, Tag};
use crate::error::{Error, Result};
use crate::num::{rounded, size};
use crate::read::input::Handle;
use crate::spec::Facts;
use crate::spec::{ByteOrder, Codec, Container, Encoding, Format};
use crate::units::SampleRate;
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
    data: Option<Data>,
    table: Option<PacketTable>,
    cookie: Vec<u8>,
    tags: Vec<Tag>,
    markers: Vec<Marker>,
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
    let Chunks { description, data, table, cookie, tags, markers, extras } = chunks(&mut file)?;
    let description = description.ok_or_else(|| file.malformed("it has no \"desc\" chunk", 8))?;
    let data = data.ok_or_else(|| file.malformed("it has no \"data\" chunk", 8))?;
    let format = format_of(&description, &cookie, &file)?;
    let facts = Facts { tags, markers, extras, ..Facts::new(format, file.length()) };
    match description.packet_bytes {
        0 => packets(facts, data, table, &cookie, &description, file),
        _ => Ok(plain(facts, data, &description, file)),
    }
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
            b"free" => {}
            _ => {
                match id {
                    b"info" => self.tags = read_info(&contents()?),
                    b"mark" => self.markers = read_markers(&contents()?),
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
fn format_of(description: &Description, cookie: &[u8], file: &Reading<'_>) -> Result<Format> {
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
    let channels = file.channels(description.channels, 44)?;
    let wide = codec.sample_bytes().is_some_and(|bytes| bytes > 1);
    Ok(Format {
        container: Container::Caf,
        encoding: Encoding { order: wide.then_some(order), ..Encoding::plain(codec) },
        rate,
        channels,
    })
}

fn plain(mut facts: Facts, data: Data, description: &Description, mut file: Reading<'_>) -> Opened {
    let order = if description.flags & 2 == 0 { ByteOrder::Big } else { ByteOrder::Little };
    // CAF's bytes are signed whatever their order is said to be.
    let order = if facts.format.encoding.codec == Codec::Pcm8 { ByteOrder::Big } else { order };
    let mut plain = Plain::samples(data.offset, 0, facts.format, order);
    let unit = plain.unit_bytes;
    facts.frames = data.stated.min(data.in_file) / unit;
    file.compare(data.stated / unit, facts.frames);
    plain.bytes = facts.frames * unit;
    facts.audio_bytes = plain.bytes;
    file.opened(facts, plain)
}

/// Packets of changing size: their table says all.
fn packets(
    mut facts: Facts,
    data: Data,
    table: Option<PacketTable>,
    cookie: &[u8],
    description: &Description,
    mut file: Reading<'_>,
) -> Result<Opened> {
    let table = table.ok_or_else(|| file.malformed("it has no \"pakt\" chunk", 8))?;
    let setup = match facts.format.encoding.codec {
        Codec::Aac => aac_config(cookie).map(Setup::Aac),
        _ => alac_config(cookie).map(|config| Setup::Alac(config.to_vec())),
    };
    let setup = setup.ok_or_else(|| file.malformed("its \"kuki\" chunk is invalid", 8))?;
    let sizes = Arc::new(table.bytes);
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
    let body = CafPackets { setup, sizes, whole, offset: data.offset, skip: table.priming };
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

/// An `esds` without its box.
fn aac_config(cookie: &[u8]) -> Option<Vec<u8>> {
    let at = cookie.windows(2).position(|w| w[0] == 5 && (w[1] & 0x80 != 0 || w[1] < 64))?;
    let mut rest = &cookie[at + 1..];
    let mut length = 0;
    while let Some((byte, next)) = rest.split_first() {
        length = length << 7 | usize::from(byte & 0x7F);
        rest = next;
        if byte & 0x80 == 0 {
            break;
        }
    }
    rest.get(..length).filter(|config| config.len() >= 2).map(<[u8]>::to_vec)
}

/// "Information Chunk": pairs of texts.
fn read_info(bytes: &[u8]) -> Vec<Tag> {
    let stated = size(be32(bytes, 0).unwrap_or(0).into()).min(1024);
    let texts: Vec<&[u8]> =
        bytes.get(4..).unwrap_or_default().split(|&b| b == 0).take(2 * stated).collect();
    let pairs = texts.chunks_exact(2);
    pairs.map(|pair| Tag::new(&text(pair[0]).to_uppercase(), text(pair[1]))).collect()
}

/// "Marker Chunk": a count and a time base, then 28 bytes for each: a type, a place, a name's number …
fn read_markers(bytes: &[u8]) -> Vec<Marker> {
    let stated = size(be32(bytes, 0).unwrap_or(0).into()).min(1024);
    let records = bytes.get(8..).unwrap_or_default().chunks_exact(28).take(stated);
    records
        .filter_map(|record| {
            let frame = f64::from_bits(be64(record, 4)?);
            Some(Marker { frame: rounded(frame), name: String::new() })
        })
        .collect()
}

/// Where the packets lie.
#[derive(Debug)]
struct CafPackets {
    setup: Setup,
    sizes: Arc<Vec<u8>>,
    whole: u64,
    offset: u64,
    skip: u64,
}

impl Body for CafPackets {
    fn frames(&self, file: Handle, path: &Path, facts: &Facts) -> Result<Box<dyn Source>> {
        let broken = |what: String| Error::Unsupported {
            path: path.to_owned(),
            what: format!("{} ({what})", facts.format.encoding),
        };
        let decoder: Box<dyn Decoder> = match &self.setup {
            #[cfg(feature = "aac")]
            Setup::Aac(config) => Box::new(super::codec::aac::FdkAac::new(config).map_err(broken)?),
            setup => Box::new(Symphonia::new(setup.clone()).map_err(broken)?),
        };
        let packets = self.packets(file, path)?;
        Ok(Box::new(Decoded::new(packets, decoder, path, facts, self.skip)))
    }

    fn packets(&self, file: Handle, path: &Path) -> Result<Box<dyn Packets>> {
        let places = places(Arc::clone(&self.sizes), self.offset).take(size(self.whole));
        Ok(Box::new(PacketsAt::new(file, path, places)))
    }
}
