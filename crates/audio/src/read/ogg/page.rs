//! Ogg pages and the packets in them (RFC 3533).

use super::super::Packets;
use super::super::reading::Reading;
use crate::block::fill;
use crate::crc::OGG;
use crate::error::{Error, Result};
use crate::num::count;
use crate::read::input::Handle;
use std::collections::VecDeque;
use std::io::{BufReader, Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};

/// Bytes of a page's header before its segment table.
pub const HEAD: usize = 27;
/// A whole page at most.
pub const LARGEST: usize = HEAD + 255 + 255 * 255;
/// A packet at most; only headers of absurd files are larger.
const LARGEST_PACKET: usize = 16 << 20;

/// One page.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Page {
    /// Its first packet goes on from the page before.
    pub goes_on: bool,
    /// The first of its stream.
    pub first: bool,
    /// The last of its stream.
    pub last: bool,
    /// The position at its end; `None` where no packet ends on it.
    pub granule: Option<u64>,
    /// Which stream.
    pub serial: u32,
    /// Lengths of the segments.
    pub lacing: Vec<u8>,
    /// Their bytes.
    pub body: Vec<u8>,
}

impl Page {
    /// The page at the start of `bytes`, and its length; `None` where none is whole and sound.
    pub fn parse(bytes: &[u8]) -> Option<(Self, usize)> {
        if !bytes.starts_with(b"OggS\0") {
            return None;
        }
        let segments = usize::from(*bytes.get(26)?);
        let lacing = bytes.get(HEAD..HEAD + segments)?.to_vec();
        let start = HEAD + segments;
        let length = start + lacing.iter().map(|&l| usize::from(l)).sum::<usize>();
        let body = bytes.get(start..length)?.to_vec();
        let stated = super::super::bytes::le32(bytes, 22)?;
        let mut sum = OGG.digest();
        sum.update(&bytes[..22]);
        sum.update(&[0; 4]);
        sum.update(&bytes[26..length]);
        if sum.finalize() != stated {
            return None;
        }
        let flags = bytes[5];
        let granule = super::super::bytes::le64(bytes, 6)?;
        Some((
            Self {
                goes_on: flags & 1 != 0,
                first: flags & 2 != 0,
                last: flags & 4 != 0,
                granule: (granule != u64::MAX).then_some(granule),
                serial: super::super::bytes::le32(bytes, 14)?,
                lacing,
                body,
            },
            length,
        ))
    }
}

/// Pages from a place of a file on; what is between them is passed over.
pub struct Pages {
    file: BufReader<Handle>,
    path: PathBuf,
    buffer: Vec<u8>,
    /// Where in the file the buffer begins.
    base: u64,
    at: usize,
    ended: bool,
}

impl Pages {
    /// From `offset` on.
    pub fn new(mut file: Handle, path: &Path, offset: u64) -> Result<Self> {
        file.seek(SeekFrom::Start(offset))
            .map_err(|source| Error::Read { path: path.to_owned(), source })?;
        Ok(Self {
            file: BufReader::with_capacity(LARGEST, file),
            path: path.to_owned(),
            buffer: Vec::new(),
            base: offset,
            at: 0,
            ended: false,
        })
    }

    /// Where in the file the next page is looked for.
    pub fn offset(&self) -> u64 {
        self.base + count(self.at)
    }

    /// The next sound page.
    pub fn next_page(&mut self) -> Result<Option<Page>> {
        Ok(self.next_with_offset()?.map(|(page, _)| page))
    }

    /// The same, and where in the file it begins.
    pub fn next_with_offset(&mut self) -> Result<Option<(Page, u64)>> {
        loop {
            if !self.ended && self.buffer.len() - self.at < LARGEST {
                self.fill()?;
            }
            let rest = &self.buffer[self.at..];
            if let Some((page, length)) = Page::parse(rest) {
                let offset = self.offset();
                self.at += length;
                return Ok(Some((page, offset)));
            }
            let next = rest.windows(4).skip(1).position(|w| w == b"OggS");
            match next {
                Some(position) => self.at += position + 1,
                None if self.ended => return Ok(None),
                None => {
                    self.at =
                        self.buffer.len().saturating_sub(3).max(self.at + 1).min(self.buffer.len())
                }
            }
        }
    }

    fn fill(&mut self) -> Result<()> {
        self.buffer.drain(..self.at);
        self.base += count(self.at);
        self.at = 0;
        let held = self.buffer.len();
        self.buffer.resize(held + 2 * LARGEST, 0);
        let filled = fill(&mut Read::by_ref(&mut self.file), &mut self.buffer[held..]);
        let filled = filled.map_err(|source| Error::Read { path: self.path.clone(), source })?;
        self.buffer.truncate(held + filled);
        self.ended = filled == 0;
        Ok(())
    }
}

/// A packet, and the position at its end where the page tells it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Packet {
    /// Its bytes.
    pub bytes: Vec<u8>,
    /// The page's position, where it is the last packet that ends on its page.
    pub granule: Option<u64>,
    /// Whether its page is marked as the stream's last.
    pub last: bool,
}

/// Puts packets together from the pages of one stream.
#[derive(Debug, Default)]
pub struct Assembler {
    part: Vec<u8>,
    ready: VecDeque<Packet>,
    unfinished: bool,
}

impl Assembler {
    /// Deals a page out into packets: a segment of less than 255 bytes ends one.
    pub fn take(&mut self, page: &Page) {
        if !page.goes_on {
            // What a lost page has left unfinished is of no use.
            self.part.clear();
        }
        // The end of a packet whose beginning is missing.
        let mut headless = page.goes_on && !self.unfinished;
        let mut at = 0;
        for &length in &page.lacing {
            let end = at + usize::from(length);
            if self.part.len() < LARGEST_PACKET && !headless {
                self.part.extend_from_slice(&page.body[at..end]);
            }
            at = end;
            if length < 255 {
                let bytes = std::mem::take(&mut self.part);
                if !std::mem::take(&mut headless) {
                    self.ready.push_back(Packet { bytes, granule: None, last: false });
                }
            }
        }
        self.unfinished = page.lacing.last() == Some(&255) && !headless;
        if let Some(packet) = self.ready.back_mut() {
            packet.granule = page.granule;
            packet.last = page.last;
        }
    }

    /// The next whole packet.
    pub fn next_packet(&mut self) -> Option<Packet> {
        self.ready.pop_front()
    }
}

/// Packets of one stream.
pub struct StreamPackets {
    pages: Pages,
    serial: u32,
    assembler: Assembler,
    skip: usize,
    begun: bool,
    ended: bool,
}

impl StreamPackets {
    /// Those of stream `serial`, without the first `skip`.
    pub fn new(pages: Pages, serial: u32, skip: usize) -> Self {
        Self { pages, serial, assembler: Assembler::default(), skip, begun: false, ended: false }
    }

    /// The next packet.
    pub fn next_packet(&mut self) -> Result<Option<Packet>> {
        loop {
            if let Some(packet) = self.assembler.next_packet() {
                if self.skip == 0 {
                    return Ok(Some(packet));
                }
                self.skip -= 1;
                continue;
            }
            if self.ended {
                return Ok(None);
            }
            match self.pages.next_page()? {
                // Another clip that is chained to this one.
                Some(page) if page.first && self.begun => self.ended = true,
                Some(page) => {
                    self.begun |= !page.first;
                    if page.serial == self.serial {
                        self.assembler.take(&page);
                    }
                }
                None => return Ok(None),
            }
        }
    }
}

impl Packets for StreamPackets {
    fn next(&mut self, packet: &mut Vec<u8>) -> Result<bool> {
        match self.next_packet()? {
            Some(next) => {
                *packet = next.bytes;
                Ok(true)
            }
            None => Ok(false),
        }
    }
}

/// The last sound page of a stream, and where in the file it ends.
pub fn last_page(file: &mut Reading<'_>, serial: u32) -> Result<Option<(Page, u64)>> {
    let mut back = count(2 * LARGEST);
    loop {
        let from = file.length().saturating_sub(back);
        let tail = file.at(from, back)?;
        let starts = (0..tail.len().saturating_sub(HEAD)).rev();
        let found = starts
            .filter(|&at| tail[at..].starts_with(b"OggS"))
            .filter_map(|at| Page::parse(&tail[at..]).map(|(page, length)| (page, at + length)))
            .find(|(page, _)| page.serial == serial && page.granule.is_some())
            .map(|(page, end)| (page, from + count(end)));
        if found.is_some() || from == 0 || back > 1 << 25 {
            return Ok(found);
        }
        back *= 4;
    }
}

const _: () = assert!(LARGEST == 65_307, "RFC 3533, 6: a page has 65,307 bytes at most");
