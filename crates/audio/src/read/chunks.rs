//! Walking the chunks of a RIFF, IFF or W64 file: identifier, size, contents, padding.
//!
//! Sources: "Multimedia Programming Interface and Data Specifications 1.0" (IBM, Microsoft, 1991);
//! "EA IFF 85" (Electronic Arts, 1985), whose sizes are big-endian.

use super::bytes::{be32, four, le32, le64};
use super::reading::Reading;
use crate::clip::Note;
use crate::error::Result;
use crate::spec::ByteOrder;

/// What is read of one chunk's contents at most; no chunk that is understood is larger.
const MOST_CONTENTS: u64 = 1 << 20;
/// Chunks beyond this many are not listed; a file of nothing but chunks ends here.
const MOST_CHUNKS: usize = 4096;
/// Sizes from here up, and just below 2^31, stand for "not known yet" where the file is shorter.
const OPEN_SIZES: [std::ops::RangeInclusive<u32>; 2] =
    [0x7FFF_F000..=0x7FFF_FFFF, 0xFFFF_F000..=0xFFFF_FFFF];

/// Chunks that often follow odd ones.
const KNOWN: &[&[u8; 4]] = &[
    b"LIST", b"smpl", b"cue ", b"fact", b"data", b"bext", b"inst", b"id3 ", b"ID3 ", b"JUNK",
    b"PEAK", b"SSND", b"MARK", b"INST", b"COMT", b"NAME", b"AUTH", b"ANNO",
];

/// One chunk.
#[derive(Debug, Clone, Copy)]
pub struct Chunk {
    /// Its identifier.
    pub id: [u8; 4],
    /// Where its contents begin.
    pub offset: u64,
    /// How many bytes it says it holds.
    pub bytes: u64,
    /// How many of them are in the file.
    pub held: u64,
}

/// Sizes that RF64 keeps in its `ds64` chunk (EBU Tech 3306, 3.4).
#[derive(Debug, Clone, Copy)]
struct Sizes64 {
    data: u64,
}

/// How chunks are laid out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Family {
    Riff,
    Rf64,
    /// Identifiers of 16 bytes, of which the first four are those of RIFF; sizes of 64 bits that count identifier and
    /// size, too; each begins at a multiple of eight bytes.
    W64,
}

/// How the names of a W64 go on behind those of WAV.
const W64_REST: &[u8] = b"\xF3\xAC\xD3\x11\x8C\xD1\0\xC0\x4F\x8E\xDB\x8A";

/// Goes through the chunks of a file.
pub struct Walker<'a> {
    /// The file that it goes through.
    pub file: Reading<'a>,
    order: ByteOrder,
    kind: [u8; 4],
    end: u64,
    at: u64,
    family: Family,
    sizes: Option<Sizes64>,
    seen: usize,
}

/// A chunk identifier with what is not printable ASCII escaped.
pub fn readable(id: &[u8; 4]) -> String {
    id.escape_ascii().to_string()
}

fn plausible(id: &[u8]) -> bool {
    id.len() == 4 && id.iter().all(|b| (0x20..0x7F).contains(b)) && id[0] != b' '
}

impl<'a> Walker<'a> {
    /// Reads the file's own header: twelve bytes, or the forty of W64.
    pub fn start(mut file: Reading<'a>, order: ByteOrder) -> Result<Self> {
        let head = file.at(0, 40)?;
        let length = file.length();
        if head.starts_with(b"riff") {
            let Some(stated) = le64(&head, 16) else {
                return Err(file.malformed("it ends within its first 40 bytes", length));
            };
            let end = if (40..=length).contains(&stated) { stated } else { length };
            let (family, kind) = (Family::W64, *b"WAVE");
            return Ok(Self { file, order, kind, end, at: 40, family, sizes: None, seen: 0 });
        }
        let (Some(id), Some(stated), Some(kind)) =
            (four(&head, 0), word(order, &head, 4), four(&head, 8))
        else {
            return Err(file.malformed("it ends within its first 12 bytes", length));
        };
        let end = u64::from(stated) + 8;
        let open = stated == 0 || stated == u32::MAX || end > length;
        Ok(Self {
            file,
            order,
            kind,
            end: if open { length } else { end },
            at: 12,
            family: if id == *b"RF64" { Family::Rf64 } else { Family::Riff },
            sizes: None,
            seen: 0,
        })
    }

    /// The next chunk, or `None` at the end.
    pub fn next(&mut self) -> Result<Option<Chunk>> {
        let left = self.file.length().saturating_sub(self.at);
        if self.family == Family::W64 {
            return self.next_of_w64(left);
        }
        if left < 8 || self.at >= self.end || self.seen >= MOST_CHUNKS {
            self.note_trailing(left);
            return Ok(None);
        }
        let head = self.file.at(self.at, 8)?;
        let (Some(id), Some(stated)) = (four(&head, 0), word(self.order, &head, 4)) else {
            return Ok(None);
        };
        self.seen += 1;
        let offset = self.at + 8;
        let held = self.file.length() - offset;
        if id == *b"ds64" && self.is_rf64() {
            let contents = self.file.at(offset, 28)?;
            self.sizes = le64(&contents, 8).map(|data| Sizes64 { data });
        }
        let bytes =
            if id == *b"data" { self.data_size(stated, offset, held)? } else { u64::from(stated) };
        let chunk = Chunk { id, offset, bytes, held: bytes.min(held) };
        self.at = self.behind(&chunk)?;
        Ok(Some(chunk))
    }

    /// Chunks that are none of WAV's are passed over.
    fn next_of_w64(&mut self, mut left: u64) -> Result<Option<Chunk>> {
        while left >= 24 && self.at < self.end && self.seen < MOST_CHUNKS {
            let head = self.file.at(self.at, 24)?;
            let (Some(id), Some(stated)) = (four(&head, 0), le64(&head, 16)) else { break };
            self.seen += 1;
            let offset = self.at + 24;
            let held = self.file.length() - offset;
            let bytes = match stated.checked_sub(24) {
                Some(bytes) => bytes,
                // What a stream's writer could not know.
                None if id == *b"data" => {
                    self.file.notes.push(Note::LengthLeftOpen);
                    held
                }
                None => {
                    return Err(self.file.malformed("a chunk is shorter than its head", offset));
                }
            };
            self.at = offset.saturating_add(bytes).checked_next_multiple_of(8).unwrap_or(u64::MAX);
            if &head[4..16] == W64_REST {
                return Ok(Some(Chunk { id, offset, bytes, held: bytes.min(held) }));
            }
            left = self.file.length().saturating_sub(self.at);
        }
        self.note_trailing(left);
        Ok(None)
    }

    /// How long the samples of a WAV really are. Streaming writers leave 0 or the largest size behind.
    fn data_size(&mut self, stated: u32, offset: u64, held: u64) -> Result<u64> {
        if self.is_rf64() && stated == u32::MAX {
            // The size of 0 that a crashed writer leaves is taken from the file, like a stream's.
            match self.sizes {
                Some(sizes) if sizes.data > 0 => return Ok(sizes.data),
                _ => {}
            }
        }
        let too_large = OPEN_SIZES.iter().any(|sizes| sizes.contains(&stated));
        let open = if stated == 0 {
            // Truly empty samples may be followed by other chunks.
            held > 0 && !plausible(&self.file.at(offset, 4)?)
        } else {
            too_large && u64::from(stated) > held
        };
        if open {
            self.file.notes.push(Note::LengthLeftOpen);
            return Ok(held);
        }
        Ok(u64::from(stated))
    }

    /// Where the next chunk begins. RIFF pads odd chunks with a byte that the size leaves out; some
    /// writers forget it, which shows where an identifier stands one byte early.
    fn behind(&mut self, chunk: &Chunk) -> Result<u64> {
        let end = chunk.offset.saturating_add(chunk.bytes);
        if chunk.bytes.is_multiple_of(2) || end >= self.file.length() {
            return Ok(end);
        }
        let next = self.file.at(end, 5)?;
        // The size behind an identifier may look like a letter of one.
        let known = |id: &[u8]| KNOWN.iter().any(|known| id.starts_with(*known));
        let shifted = plausible(&next[1.min(next.len())..]) && !known(&next);
        let padded = next.len() < 5 || next[0] == 0 || shifted;
        if padded || !plausible(&next[..4]) {
            return Ok(end + 1);
        }
        self.file.notes.push(Note::MissingPad { chunk: readable(&chunk.id) });
        Ok(end)
    }

    fn note_trailing(&mut self, left: u64) {
        let bytes = left.max(self.file.length().saturating_sub(self.end.max(self.at)));
        // A single byte is the pad of an odd last chunk.
        if bytes > 1 {
            self.file.notes.push(Note::TrailingBytes { bytes });
        }
    }

    /// A chunk's contents, as far as they are in the file and of use.
    pub fn contents(&mut self, chunk: &Chunk) -> Result<Vec<u8>> {
        self.file.at(chunk.offset, chunk.held.min(MOST_CONTENTS))
    }

    /// The first bytes of a chunk's contents.
    pub fn some(&mut self, chunk: &Chunk, bytes: u64) -> Result<Vec<u8>> {
        self.file.at(chunk.offset, chunk.held.min(bytes))
    }

    /// What the file says it is, behind its size.
    pub fn kind(&self) -> [u8; 4] {
        self.kind
    }

    /// Whether the file begins with `RF64`.
    pub fn is_rf64(&self) -> bool {
        self.family == Family::Rf64
    }

    /// Whether it is a W64.
    pub fn is_w64(&self) -> bool {
        self.family == Family::W64
    }
}

fn word(order: ByteOrder, bytes: &[u8], at: usize) -> Option<u32> {
    match order {
        ByteOrder::Little => le32(bytes, at),
        ByteOrder::Big => be32(bytes, at),
    }
}
