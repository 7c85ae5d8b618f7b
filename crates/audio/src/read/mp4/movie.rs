//! The boxes at the top of a file, and what they say of its clocks and of what is played.

use super::super::bytes::{be32, be64, four};
use super::super::reading::Reading;
use super::boxes::find_path;
use crate::error::Result;
use crate::num::size;

/// The description of a whole film at most.
const LARGEST_MOOV: u64 = 256 << 20;
/// Boxes at the top of a file that are looked at.
const MOST_BOXES: usize = 1 << 16;

/// The contents of `moov`, and their place.
pub struct Movie {
    pub moov: Vec<u8>,
    pub at: u64,
    /// Whether samples come before it.
    pub late: bool,
    /// Every `moof`, and where it begins.
    pub fragments: Vec<(u64, Vec<u8>)>,
}

pub fn movie(file: &mut Reading<'_>) -> Result<Movie> {
    let mut at = 0;
    let mut found = None;
    let (mut fragments, mut room) = (Vec::new(), LARGEST_MOOV);
    let (mut samples, mut late) = (false, false);
    for _ in 0..MOST_BOXES {
        let head = file.at(at, 16)?;
        let (Some(stated), Some(kind)) = (be32(&head, 0), four(&head, 4)) else {
            break;
        };
        let (skip, length) = match stated {
            0 => (8, file.length() - at),
            1 => (16, be64(&head, 8).unwrap_or(0)),
            stated => (8, stated.into()),
        };
        if length < skip {
            return Err(file.malformed("a box is shorter than its own head", at));
        }
        samples |= kind == *b"mdat";
        if kind == *b"moov" && length <= LARGEST_MOOV {
            late = samples;
            found = Some((file.at(at + skip, length - skip)?, at + skip));
        }
        if kind == *b"moof" {
            room = room.checked_sub(length).ok_or_else(|| {
                file.malformed("its fragments are described at more length than is read", at)
            })?;
            fragments.push((at, file.at(at + skip, length - skip)?));
        }
        match at.checked_add(length) {
            Some(next) if next < file.length() => at = next,
            _ => break,
        }
    }
    let (moov, at) = found.ok_or_else(|| {
        let what = "it has no \"moov\": it was never finished, or its end is missing";
        file.malformed(what, 0)
    })?;
    Ok(Movie { moov, at, late, fragments })
}

/// Ticks a second, from `mvhd` or `mdhd`.
pub fn clock(head: &[u8]) -> Option<u32> {
    be32(head, if head.first() == Some(&1) { 20 } else { 12 })
}

/// Where the track begins in its own clock, and how long it plays in the film's; an empty edit before
/// it is a pause, which is not part of the clip.
pub fn edit(track: &[u8], file: &mut Reading<'_>) -> Option<(u64, u64)> {
    let elst = find_path(track, &[b"edts", b"elst"])?;
    let wide = elst.first() == Some(&1);
    let stated = size(be32(elst, 4)?.into()).min(1 << 16);
    let entry = |n: usize| {
        let (length, start) = match wide {
            true => (be64(elst, 8 + 20 * n)?, be64(elst, 16 + 20 * n)?.cast_signed()),
            false => {
                let start = be32(elst, 12 + 12 * n)?.cast_signed();
                (be32(elst, 8 + 12 * n)?.into(), i64::from(start))
            }
        };
        Some((start, length))
    };
    let all: Vec<_> = (0..stated).map_while(entry).collect();
    let mut played =
        all.iter().filter_map(|&(start, length)| Some((u64::try_from(start).ok()?, length)));
    let first = played.next()?;
    if played.next().is_some() {
        file.left_aside("its edit list plays several pieces; the first is read");
    }
    Some(first)
}
