//! Boxes of MP4 and QuickTime files (ISO/IEC 14496-12, 4.2).

use super::super::bytes::{be32, be64, four};

/// Boxes in a row are counted up to here.
const MOST: usize = 4096;

/// One box in memory.
#[derive(Debug, Clone, Copy)]
pub struct Box4<'a> {
    /// Its type.
    pub kind: [u8; 4],
    /// Its contents.
    pub contents: &'a [u8],
}

/// The boxes in `bytes`; one that reaches beyond its parent ends there.
pub fn boxes(bytes: &[u8]) -> Vec<Box4<'_>> {
    let mut all = Vec::new();
    let mut rest = bytes;
    while let (Some(stated), Some(kind), true) = (be32(rest, 0), four(rest, 4), all.len() < MOST) {
        let (head, length) = match stated {
            0 => (8, rest.len()),
            1 => match be64(rest, 8).map(crate::num::size) {
                Some(length) => (16, length),
                None => break,
            },
            stated => (8, crate::num::size(stated.into())),
        };
        if length < head {
            break;
        }
        let end = length.min(rest.len());
        all.push(Box4 { kind, contents: rest.get(head..end).unwrap_or_default() });
        rest = &rest[end..];
    }
    all
}

/// The first box of this type.
pub fn find<'a>(bytes: &'a [u8], kind: &[u8; 4]) -> Option<&'a [u8]> {
    boxes(bytes).iter().find(|b| &b.kind == kind).map(|b| b.contents)
}

/// The first box at the end of a path of types.
pub fn find_path<'a>(bytes: &'a [u8], path: &[&[u8; 4]]) -> Option<&'a [u8]> {
    path.iter().try_fold(bytes, |bytes, kind| find(bytes, kind))
}
