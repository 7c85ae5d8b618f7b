//! What the chunks of a CAF say, before they are held against one another.

use super::super::bytes::{be32, be64, four, text};
use super::super::reading::Reading;
use crate::clip::{Direction, Extra, Loop, Note, Tag};
use crate::error::Result;
use crate::num::{rounded, size};
use crate::units::FrameRange;

/// Chunks that are looked at.
const MOST_CHUNKS: usize = 4096;
/// What is read of one chunk at most; packet tables of a day are smaller.
const MOST_CONTENTS: u64 = 64 << 20;

/// The "Audio Description Chunk".
pub struct Description {
    pub rate: f64,
    pub kind: [u8; 4],
    pub flags: u32,
    pub packet_bytes: u32,
    pub packet_frames: u32,
    pub channels: u32,
    pub bits: u32,
}

/// The "Packet Table Chunk".
pub struct PacketTable {
    pub frames: u64,
    pub priming: u64,
    pub bytes: Vec<u8>,
}

/// What the chunks say, before they are held against one another.
#[derive(Default)]
pub struct Chunks {
    pub description: Option<Description>,
    pub layout: Vec<u8>,
    pub data: Option<Data>,
    pub table: Option<PacketTable>,
    pub cookie: Vec<u8>,
    pub tags: Vec<Tag>,
    pub places: Vec<(u32, u64)>,
    pub names: Vec<u8>,
    pub loops: Vec<Loop>,
    pub extras: Vec<Extra>,
}

/// Where the samples begin, how many bytes of them are stated, and how many are in the file.
#[derive(Clone, Copy)]
pub struct Data {
    pub offset: u64,
    pub stated: u64,
    pub in_file: u64,
}

pub fn chunks(file: &mut Reading<'_>) -> Result<Chunks> {
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

/// Numbers of packets and frames, then the size of each in groups of seven bits.
fn read_table(bytes: &[u8]) -> Option<PacketTable> {
    Some(PacketTable {
        frames: be64(bytes, 8)?,
        priming: be32(bytes, 16)?.into(),
        bytes: bytes.get(24..)?.to_vec(),
    })
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
pub fn name_of(id: u32, bytes: &[u8]) -> String {
    let stated = count_in(bytes, 0);
    let entries = bytes.get(4..).unwrap_or_default().chunks_exact(12).take(stated);
    let found = entries.into_iter().find(|entry| be32(entry, 0) == Some(id));
    let place = found.and_then(|entry| be64(entry, 4));
    let texts = bytes.get(4 + 12 * stated..).unwrap_or_default();
    let named = place.and_then(|place| texts.get(size(place)..));
    named.map_or_else(String::new, |rest| text(rest.split(|b| *b == 0).next().unwrap_or_default()))
}

/// "Region Chunk": for each a number, flags (1 that it loops, 2 forward, 4 backward), and markers of its ends.
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
            let direction = match flags & 6 {
                4 => Direction::Backward,
                6 => Direction::PingPong,
                _ => Direction::Forward,
            };
            loops.push(Loop { direction, ..Loop::endless(FrameRange { start, end }) });
        }
        match markers.checked_mul(28).and_then(|bytes| at.checked_add(12 + bytes)) {
            Some(next) if next <= bytes.len() => at = next,
            _ => break,
        }
    }
    loops
}
