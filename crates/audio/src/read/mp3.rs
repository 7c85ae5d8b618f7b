//! MPEG audio layer III streams: frames are walked here, so that the length is exact, and decoded by
//! symphonia.
//!
//! Sources: ISO/IEC 11172-3 and 13818-3; "ID3 tag version 2.4.0" (id3.org); the info tag as encoders
//! write it into the first frame ("Mp3 info tag", revision 1).

use super::bytes::be32;
use super::codec::symphonia::{Setup, Symphonia};
use super::packets::Decoded;
use super::reading::Reading;
use super::{Body, Opened, Packets, Stream};
use crate::block::Source;
use crate::block::fill;
use crate::clip::{Extra, ID3_FRAME, Tag};
use crate::error::{Error, Result};
use crate::num::{count, size};
use crate::read::input::Handle;
use crate::spec::Facts;
use crate::spec::{Channels, Codec, Container, Encoding, Format};
use std::io::{self, BufReader, Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};

/// Frames that every decoder is late by (ISO/IEC 11172-3: the filter bank's 481 and the overlap).
const DECODER_DELAY: u64 = 529;
/// What is searched for the first frame behind the tags.
const SEARCHED: u64 = 1 << 16;
/// ID3 tags beyond this size are passed over unread.
const LARGEST_TAG: u64 = 16 << 20;

/// Frames of a tag beyond this many are left out.
const MOST_FRAMES: usize = 4096;

/// One frame's header.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Head {
    rate: u32,
    channels: u16,
    bytes: u64,
    frames: u64,
    side: usize,
}

impl Head {
    /// Reads the four bytes; `None` where they are no header of layer III.
    pub fn parse(bytes: &[u8]) -> Option<Self> {
        let &[first, second, third, fourth] = bytes.first_chunk::<4>()?;
        if first != 0xFF || second & 0xE6 != 0xE2 {
            return None;
        }
        let version = second >> 3 & 3;
        let index = usize::from(third >> 4).checked_sub(1)?;
        let sampling = usize::from(third >> 2 & 3);
        let base = *[44_100u32, 48_000, 32_000].get(sampling)?;
        let halvings = match version {
            3 => 0,
            2 => 1,
            0 => 2,
            _ => return None,
        };
        let rate = base >> halvings;
        let kilobits = u32::from(*crate::spec::mp3_bit_rates(rate).get(index)?);
        let frames = if halvings == 0 { 1152 } else { 576 };
        let padding = u32::from(third >> 1 & 1);
        let bytes = (if halvings == 0 { 144_000 } else { 72_000 }) * kilobits / rate + padding;
        let mono = fourth >> 6 == 3;
        let side = match (halvings, mono) {
            (0, false) => 32,
            (0, true) | (_, false) => 17,
            (_, true) => 9,
        };
        Some(Self { rate, channels: if mono { 1 } else { 2 }, bytes: bytes.into(), frames, side })
    }
}

/// The bytes of an ID3v2 tag that begins here (id3.org, 3.1), its head included.
pub fn id3_bytes(head: &[u8]) -> Option<u64> {
    if !head.starts_with(b"ID3") || head.len() < 10 {
        return None;
    }
    let size = head[6..10].iter().fold(0u64, |sum, byte| sum << 7 | u64::from(byte & 0x7F));
    let foot = if head[5] & 0x10 == 0 { 0 } else { 10 };
    Some(10 + size + foot)
}

/// Where the frames lie.
#[derive(Debug)]
struct Mp3 {
    first: u64,
    end: u64,
    skip: u64,
    packet_frames: u64,
    packets: u64,
}

/// Finds the first frame, and walks all of them.
pub(super) fn open(file: Reading<'_>) -> Result<Opened> {
    within(file, 0, Container::Mp3)
}

/// The same of a stream that begins at `start` within a container.
pub(super) fn within(mut file: Reading<'_>, start: u64, container: Container) -> Result<Opened> {
    let (start, mut tags, mut extras) = id3_tags(&mut file, start)?;
    let (mut at, head) = first_frame(&mut file, start)?;
    let info = read_info(&file.at(at, head.bytes)?, &head);
    if info.is_some() {
        at += head.bytes;
    }
    let mut walk = Walk::new(file.again()?, file.path(), at, file.length())?;
    let held = file.io(|_| walk.count())?;
    let promised = info.and_then(|info| info.packets).unwrap_or(held);
    let promised = if walk.cut { promised.max(held + 1) } else { promised };
    file.compare(promised * head.frames, held * head.frames);
    let (end, length) = (walk.at, file.length());
    if end < length && !walk.cut {
        let id = match file.at(end, 3)?.as_slice() {
            b"TAG" => "ID3v1",
            b"APE" => "APE tag",
            _ => "bytes after the last frame",
        };
        extras.push(Extra { id: id.to_owned(), offset: end, bytes: length - end });
    }
    let all = held * head.frames;
    let (skip, frames) = match info.and_then(|info| info.gapless) {
        Some((delay, padding)) => {
            let skip = delay + DECODER_DELAY;
            (skip, all.saturating_sub(delay + padding).min(all.saturating_sub(skip)))
        }
        None => (0, all),
    };
    let format = Format {
        container,
        encoding: Encoding::plain(Codec::Mp3),
        rate: file.rate(head.rate, at)?,
        channels: Channels::new(head.channels).unwrap_or(Channels::STEREO),
    };
    let (loops, loop_names) = file.take_loop(&mut tags, frames, format.rate);
    // A tag that tells a loop alone is no text.
    extras.retain(|extra| extra.id != "ID3" || !tags.is_empty() || loops.is_empty());
    let facts = Facts {
        frames,
        audio_bytes: end - at,
        loops,
        loop_names,
        tags,
        extras,
        ..Facts::new(format, length)
    };
    let packet_frames = head.frames;
    Ok(file.opened(facts, Mp3 { first: at, end, skip, packet_frames, packets: held }))
}

/// The tags at the start, one after another, and where they end.
fn id3_tags(file: &mut Reading<'_>, mut at: u64) -> Result<(u64, Vec<Tag>, Vec<Extra>)> {
    let (mut tags, mut extras) = (Vec::new(), Vec::new());
    while let Some(length) = id3_bytes(&file.at(at, 10)?) {
        if length <= LARGEST_TAG {
            let (texts, others) = read_id3(&file.at(at, length)?);
            tags.extend(texts);
            let placed = |extra: Extra| Extra { offset: at + extra.offset, ..extra };
            extras.extend(others.into_iter().map(placed));
        }
        extras.push(Extra { id: "ID3".to_owned(), offset: at, bytes: length });
        at += length;
    }
    Ok((at, tags, extras))
}

/// The first frame after the tags, and its place.
fn first_frame(file: &mut Reading<'_>, start: u64) -> Result<(u64, Head)> {
    let searched = file.at(start, SEARCHED)?;
    let first = (0..searched.len()).find(|&at| begins_stream(&searched[at..]));
    let head = first.and_then(|at| Some((start + count(at), Head::parse(&searched[at..])?)));
    head.ok_or_else(|| file.malformed("no frame of layer III follows its tags", start))
}

/// A header that the next frame's follows, so that chance does not make one.
fn begins_stream(bytes: &[u8]) -> bool {
    let Some(head) = Head::parse(bytes) else {
        return false;
    };
    match bytes.get(size(head.bytes)..).filter(|rest| rest.len() >= 4) {
        Some(next) => Head::parse(next).is_some_and(|next| next.rate == head.rate),
        None => true,
    }
}

/// What an info tag tells.
#[derive(Debug, Clone, Copy)]
struct Info {
    packets: Option<u64>,
    /// Frames that the encoder put before the first and after the last.
    gapless: Option<(u64, u64)>,
}

/// `Xing` or `Info` behind the side information: flags, then the number of frames, bytes, an index and
/// a quality where flagged; then nine letters of the encoder, and behind twelve more bytes delay and
/// padding of twelve bits each. `VBRI` at a fixed place.
fn read_info(frame: &[u8], head: &Head) -> Option<Info> {
    let at = 4 + head.side;
    if frame.get(36..40) == Some(b"VBRI") {
        return Some(Info { packets: be32(frame, 50).map(u64::from), gapless: None });
    }
    if !matches!(frame.get(at..at + 4), Some(b"Xing" | b"Info")) {
        return None;
    }
    let flags = be32(frame, at + 4)?;
    let mut next = at + 8;
    let mut packets = None;
    for (flag, bytes) in [(1, 4), (2, 4), (4, 100), (8, 4)] {
        if flags & flag != 0 {
            if flag == 1 {
                packets = be32(frame, next).map(u64::from);
            }
            next += bytes;
        }
    }
    let known = frame.get(next..next + 4).is_some_and(|name| name.iter().all(u8::is_ascii_graphic));
    let both = be32(frame, next + 20).map(|bits| u64::from(bits & 0x00FF_FFFF));
    Some(Info { packets, gapless: both.filter(|_| known).map(|both| (both >> 12, both & 0xFFF)) })
}

/// Goes from header to header.
struct Walk {
    file: BufReader<Handle>,
    at: u64,
    length: u64,
    cut: bool,
    rate: Option<u32>,
}

impl Walk {
    fn new(mut file: Handle, path: &Path, at: u64, length: u64) -> Result<Self> {
        file.seek(SeekFrom::Start(at))
            .map_err(|source| Error::Read { path: path.to_owned(), source })?;
        Ok(Self {
            file: BufReader::with_capacity(1 << 16, file),
            at,
            length,
            cut: false,
            rate: None,
        })
    }
}

impl Walk {
    /// Reads the next header; the bytes behind it come next.
    fn head(&mut self) -> io::Result<Option<([u8; 4], Head)>> {
        let mut bytes = [0; 4];
        if fill(&mut Read::by_ref(&mut self.file), &mut bytes)? < 4 {
            return Ok(None);
        }
        let same = |head: &Head| self.rate.is_none_or(|rate| rate == head.rate);
        let Some(head) = Head::parse(&bytes).filter(same) else {
            return Ok(None);
        };
        self.rate = Some(head.rate);
        if self.at + head.bytes > self.length {
            self.cut = true;
            return Ok(None);
        }
        self.at += head.bytes;
        Ok(Some((bytes, head)))
    }

    /// Passes over all frames and counts them.
    fn count(&mut self) -> io::Result<u64> {
        let mut frames = 0;
        while let Some((_, head)) = self.head()? {
            self.file.seek_relative(i64::try_from(head.bytes - 4).unwrap_or(0))?;
            frames += 1;
        }
        Ok(frames)
    }
}

/// Frames with their headers.
struct WholeFrames {
    walk: Walk,
    path: PathBuf,
}

impl Packets for WholeFrames {
    fn next(&mut self, packet: &mut Vec<u8>) -> Result<bool> {
        let mut read = || -> io::Result<bool> {
            let Some((bytes, head)) = self.walk.head()? else {
                return Ok(false);
            };
            packet.clear();
            packet.extend_from_slice(&bytes);
            packet.resize(size(head.bytes), 0);
            self.walk.file.read_exact(&mut packet[4..])?;
            Ok(true)
        };
        read().map_err(|source| Error::Read { path: self.path.clone(), source })
    }
}

/// Texts of ID3v2.3 and 2.4 (id3.org, 4.2), and where other frames lie that can be taken along as they are.
fn read_id3(bytes: &[u8]) -> (Vec<Tag>, Vec<Extra>) {
    let (mut tags, mut others) = (Vec::new(), Vec::new());
    let version = bytes.get(3).copied().unwrap_or_default();
    if !(3..=4).contains(&version) {
        return (tags, others);
    }
    let mut at = 10;
    while let (Some(id), Some(stated), true) =
        (bytes.get(at..at + 4), be32(bytes, at + 4), tags.len() + others.len() < MOST_FRAMES)
    {
        let length = match version {
            4 => {
                stated.to_be_bytes().iter().fold(0usize, |sum, b| sum << 7 | usize::from(b & 0x7F))
            }
            _ => size(stated.into()),
        };
        let Some(contents) = bytes.get(at + 10..(at + 10).saturating_add(length)) else {
            break;
        };
        if id == b"\0\0\0\0" {
            break;
        }
        let plain = bytes[5] & 0x80 == 0 && bytes[at + 8..at + 10] == [0, 0];
        match text_of(id, contents) {
            Some(tag) => tags.push(tag),
            None if plain && !id.starts_with(b"T") && id.iter().all(u8::is_ascii_alphanumeric) => {
                others.push(Extra {
                    id: format!("{ID3_FRAME}{}", id.escape_ascii()),
                    offset: count(at + 10),
                    bytes: count(length),
                });
            }
            None => {}
        }
        at += 10 + length;
    }
    (tags, others)
}

/// The text of a frame that holds one: of a name of its own, of one that it tells, or a comment.
fn text_of(id: &[u8], contents: &[u8]) -> Option<Tag> {
    let (coding, rest) = contents.split_first()?;
    match id {
        b"TXXX" => {
            let said = id3_text(*coding, rest);
            let (name, value) = said.split_once('\0')?;
            (!name.is_empty()).then(|| Tag::new(name, value))
        }
        b"COMM" => {
            let said = id3_text(*coding, rest.get(3..)?);
            let said = said.split_once('\0').map_or(said.as_str(), |(_, said)| said);
            Some(Tag::of_id3(id, said.to_owned()))
        }
        [b'T', ..] => Some(Tag::of_id3(id, id3_text(*coding, rest))),
        _ => None,
    }
}

/// Latin-1, UTF-16 with a mark, UTF-16 big-endian, or UTF-8.
fn id3_text(coding: u8, bytes: &[u8]) -> String {
    let units = |big: bool, bytes: &[u8]| {
        let pair = |pair: &[u8]| match (big, pair) {
            (true, &[a, b]) => u16::from_be_bytes([a, b]),
            (false, &[a, b]) => u16::from_le_bytes([a, b]),
            _ => 0,
        };
        let all: Vec<u16> = bytes.chunks_exact(2).map(pair).collect();
        String::from_utf16_lossy(&all).replace('\u{FEFF}', "")
    };
    let said = match (coding, bytes) {
        (1, [0xFE, 0xFF, rest @ ..]) => units(true, rest),
        (1, [0xFF, 0xFE, rest @ ..]) => units(false, rest),
        (1 | 2, bytes) => units(coding == 2, bytes),
        (3, bytes) => String::from_utf8_lossy(bytes).into_owned(),
        (_, bytes) => bytes.iter().copied().map(char::from).collect(),
    };
    said.trim_end_matches('\0').to_owned()
}

impl Body for Mp3 {
    fn frames(&self, file: Handle, path: &Path, facts: &Facts) -> Result<Box<dyn Source>> {
        let decoder = Symphonia::new(Setup::Mp3)
            .map_err(|what| Error::Unsupported { path: path.to_owned(), what })?;
        let packets = self.packets(file, path)?;
        let decoded = Decoded::new(packets, Box::new(decoder), path, facts, self.skip);
        Ok(Box::new(decoded.silent_run_up(self.packet_frames)))
    }

    fn stream(&self) -> Stream {
        Stream { delay: self.skip, packets: self.packets, ..Stream::default() }
    }

    fn packets(&self, file: Handle, path: &Path) -> Result<Box<dyn Packets>> {
        let walk = Walk::new(file, path, self.first, self.end)?;
        Ok(Box::new(WholeFrames { walk, path: path.to_owned() }))
    }
}
