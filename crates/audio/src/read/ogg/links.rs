//! Chains: whole Ogg files one behind the other in one (RFC 3533, 4), each a clip of its own.

use super::page::{HEAD, LARGEST, Pages};
use crate::block::fill;
use crate::error::{Error, Result};
use crate::num::count;
use crate::read::input::Handle;
use std::io::{BufReader, Seek as _, SeekFrom};
use std::ops::Range;
use std::path::Path;

/// Links that are told apart at most; what follows belongs to the last.
const MOST: usize = 1 << 16;

/// Where the links begin.
#[derive(Default)]
struct Starts {
    offsets: Vec<u64>,
    /// The first pages of all streams of a link come before any other.
    among_first: bool,
}

impl Starts {
    fn page(&mut self, first: bool, offset: u64) {
        if first && !self.among_first && self.offsets.len() < MOST {
            self.offsets.push(offset);
        }
        self.among_first = first;
    }

    fn ranges(self, end: u64) -> Vec<Range<u64>> {
        let ends = self.offsets.iter().skip(1).copied().chain([end]);
        self.offsets.iter().zip(ends).map(|(start, end)| *start..end).collect()
    }
}

/// Where each link of a file lies, in bytes; one where it is no chain, none where it holds no page. A stream that brings
/// a serial number once more begins a link, too, though it should have another.
///
/// # Errors
/// Those of reading.
pub fn links(mut file: Handle, path: &Path) -> Result<Vec<Range<u64>>> {
    let read = |source| Error::Read { path: path.to_owned(), source };
    let length = file.seek(SeekFrom::End(0)).map_err(read)?;
    file.seek(SeekFrom::Start(0)).map_err(read)?;
    let again = file.again().map_err(read)?;
    match walk(file).map_err(read)? {
        Some(starts) => Ok(starts.ranges(length)),
        None => search(again, path, length),
    }
}

/// From head to head, as far as each page ends where the next begins: nothing where one does not.
fn walk(file: Handle) -> std::io::Result<Option<Starts>> {
    let mut file = BufReader::with_capacity(LARGEST, file);
    let (mut starts, mut offset) = (Starts::default(), 0);
    loop {
        let mut head = [0; HEAD];
        let filled = fill(&mut file, &mut head)?;
        if filled < HEAD {
            return Ok(Some(starts).filter(|_| filled == 0));
        }
        if !head.starts_with(b"OggS\0") {
            return Ok(None);
        }
        let mut lacing = [0; 255];
        let lacing = &mut lacing[..usize::from(head[HEAD - 1])];
        if fill(&mut file, lacing)? < lacing.len() {
            return Ok(Some(starts));
        }
        let body: i64 = lacing.iter().map(|&length| i64::from(length)).sum();
        file.seek_relative(body)?;
        starts.page(head[5] & 2 != 0, offset);
        offset += count(HEAD + lacing.len()) + body.unsigned_abs();
    }
}

/// What is between pages is passed over, pages that are not sound are none.
fn search(file: Handle, path: &Path, length: u64) -> Result<Vec<Range<u64>>> {
    let mut pages = Pages::new(file, path, 0)?;
    let mut starts = Starts::default();
    while let Some((page, offset)) = pages.next_with_offset()? {
        starts.page(page.first, offset);
    }
    Ok(starts.ranges(length))
}
