//! Walking the chunks of a RIFF file: identifier, size, contents, pad byte.

use super::super::ReadSeek;
use crate::clip::Note;
use crate::error::{Error, Result};
use crate::num::{count, size};
use std::io::{self, SeekFrom};
use std::path::{Path, PathBuf};

/// What is read of one chunk's contents at most; no chunk that is understood is larger.
const MOST_CONTENTS: u64 = 1 << 20;
/// Chunks beyond this many are not listed; a file of nothing but chunks ends here.
const MOST_CHUNKS: usize = 4096;
/// Sizes from here up, and just below 2^31, stand for "not known yet" where the file is shorter.
const OPEN_SIZES: [std::ops::RangeInclusive<u32>; 2] =
    [0x7FFF_F000..=0x7FFF_FFFF, 0xFFFF_F000..=0xFFFF_FFFF];

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

/// Goes through the chunks of a file.
pub struct Walker<'a> {
    file: &'a mut dyn ReadSeek,
    path: PathBuf,
    length: u64,
    riff_end: u64,
    at: u64,
    rf64: bool,
    sizes: Option<Sizes64>,
    seen: usize,
    notes: Vec<Note>,
}

/// A chunk identifier with what is not printable ASCII escaped.
pub fn readable(id: &[u8; 4]) -> String {
    id.escape_ascii().to_string()
}

fn plausible(id: &[u8]) -> bool {
    id.len() == 4 && id.iter().all(|b| (0x20..0x7F).contains(b)) && id[0] != b' '
}

impl<'a> Walker<'a> {
    /// Reads the twelve bytes of the file's own header.
    pub fn start(file: &'a mut dyn ReadSeek, path: &Path) -> Result<Self> {
        let mut walker = Self {
            length: 0,
            riff_end: 0,
            at: 12,
            rf64: false,
            sizes: None,
            seen: 0,
            notes: Vec::new(),
            path: path.to_owned(),
            file,
        };
        walker.length = walker.io(|file| file.seek(SeekFrom::End(0)))?;
        let head = walker.bytes_at(0, 12)?;
        let &[r, i, f, four, a, b, c, d, ..] = head.as_slice() else {
            return Err(walker.malformed("it ends within its first 12 bytes", walker.length));
        };
        walker.rf64 = [r, i, f, four] == *b"RF64";
        let riff_size = u32::from_le_bytes([a, b, c, d]);
        let end = u64::from(riff_size) + 8;
        let open = riff_size == 0 || riff_size == u32::MAX || end > walker.length;
        walker.riff_end = if open { walker.length } else { end };
        Ok(walker)
    }

    /// The next chunk, or `None` at the end.
    pub fn next(&mut self) -> Result<Option<Chunk>> {
        let left = self.length.saturating_sub(self.at);
        if left < 8 || self.at >= self.riff_end || self.seen >= MOST_CHUNKS {
            self.note_trailing(left);
            return Ok(None);
        }
        let head = self.bytes_at(self.at, 8)?;
        let &[i, d, x, y, a, b, c, e] = head.as_slice() else {
            return Ok(None);
        };
        let id = [i, d, x, y];
        let stated = u32::from_le_bytes([a, b, c, e]);
        self.seen += 1;
        let offset = self.at + 8;
        let held = self.length - offset;
        if id == *b"ds64" && self.rf64 {
            let contents = self.bytes_at(offset, 28)?;
            self.sizes = contents.get(8..16).map(|field| {
                let mut bytes = [0; 8];
                bytes.copy_from_slice(field);
                Sizes64 {
                    data: u64::from_le_bytes(bytes),
                }
            });
        }
        let bytes = if id == *b"data" {
            self.data_size(stated, offset, held)?
        } else {
            u64::from(stated)
        };
        let chunk = Chunk {
            id,
            offset,
            bytes,
            held: bytes.min(held),
        };
        self.at = self.behind(&chunk)?;
        Ok(Some(chunk))
    }

    /// How long the samples really are. Streaming writers leave 0 or the largest size behind.
    fn data_size(&mut self, stated: u32, offset: u64, held: u64) -> Result<u64> {
        if self.rf64 && stated == u32::MAX {
            // The size of 0 that a crashed writer leaves is taken from the file, like a stream's.
            match self.sizes {
                Some(sizes) if sizes.data > 0 => return Ok(sizes.data),
                _ => {}
            }
        }
        let too_large = OPEN_SIZES.iter().any(|sizes| sizes.contains(&stated));
        let open = if stated == 0 {
            // Truly empty samples may be followed by other chunks.
            held > 0 && !plausible(&self.bytes_at(offset, 4)?)
        } else {
            too_large && u64::from(stated) > held
        };
        if open {
            self.notes.push(Note::LengthLeftOpen);
            return Ok(held);
        }
        Ok(u64::from(stated))
    }

    /// Where the next chunk begins. RIFF pads odd chunks with a byte that the size leaves out; some
    /// writers forget it, which shows where an identifier stands one byte early.
    fn behind(&mut self, chunk: &Chunk) -> Result<u64> {
        let end = chunk.offset.saturating_add(chunk.bytes);
        if chunk.bytes.is_multiple_of(2) || end >= self.length {
            return Ok(end);
        }
        let next = self.bytes_at(end, 5)?;
        let padded = next.len() < 5 || next[0] == 0 || plausible(&next[1..]);
        if padded || !plausible(&next[..4]) {
            return Ok(end + 1);
        }
        self.notes.push(Note::MissingPad {
            chunk: readable(&chunk.id),
        });
        Ok(end)
    }

    fn note_trailing(&mut self, left: u64) {
        let bytes = left.max(self.length.saturating_sub(self.riff_end.max(self.at)));
        // A single byte is the pad of an odd last chunk.
        if bytes > 1 {
            self.notes.push(Note::TrailingBytes { bytes });
        }
    }

    /// A chunk's contents, as far as they are in the file and of use.
    pub fn contents(&mut self, chunk: &Chunk) -> Result<Vec<u8>> {
        self.bytes_at(chunk.offset, chunk.held.min(MOST_CONTENTS))
    }

    /// What was found amiss while walking.
    pub fn notes(&mut self) -> Vec<Note> {
        std::mem::take(&mut self.notes)
    }

    /// Whether the file begins with `RF64`.
    pub fn is_rf64(&self) -> bool {
        self.rf64
    }

    /// The whole file, in bytes.
    pub fn file_bytes(&self) -> u64 {
        self.length
    }

    /// An error at a place of this file.
    pub fn malformed(&self, what: &str, offset: u64) -> Error {
        Error::Malformed {
            path: self.path.clone(),
            format: "WAV",
            what: what.to_owned(),
            offset,
        }
    }

    /// Up to `bytes` bytes from `offset`; fewer where the file ends.
    fn bytes_at(&mut self, offset: u64, bytes: u64) -> Result<Vec<u8>> {
        let bytes = bytes.min(self.length.saturating_sub(offset));
        let mut contents = vec![0; size(bytes)];
        let filled = self.io(|file| {
            file.seek(SeekFrom::Start(offset))?;
            let mut filled = 0;
            while filled < contents.len() {
                match file.read(&mut contents[filled..]) {
                    Ok(0) => break,
                    Ok(n) => filled += n,
                    Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                    Err(error) => return Err(error),
                }
            }
            Ok(count(filled))
        })?;
        contents.truncate(size(filled));
        Ok(contents)
    }

    fn io(&mut self, act: impl FnOnce(&mut dyn ReadSeek) -> io::Result<u64>) -> Result<u64> {
        act(self.file).map_err(|source| Error::Read {
            path: self.path.clone(),
            source,
        })
    }
}
