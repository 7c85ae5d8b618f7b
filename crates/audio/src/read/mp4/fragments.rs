//! Packets of fragmented files: each fragment tells of its own (ISO/IEC 14496-12, 8.8).

use super::super::bytes::{be32, be64};
use super::boxes::{boxes, find};
use super::table::Run;

/// What a sample is where a fragment does not say: of the file (`trex`), then of the fragment (`tfhd`).
#[derive(Debug, Clone, Copy, Default)]
struct Usual {
    duration: u32,
    bytes: u32,
}

/// A track's number (`tkhd`).
pub fn track_id(track: &[u8]) -> Option<u32> {
    let head = find(track, b"tkhd")?;
    be32(head, if head.first() == Some(&1) { 20 } else { 12 })
}

/// Reads the fields of a box one after another.
struct Fields<'a> {
    bytes: &'a [u8],
    at: usize,
}

impl Fields<'_> {
    fn word(&mut self) -> Option<u32> {
        self.at += 4;
        be32(self.bytes, self.at - 4)
    }

    /// A field that is there where a flag is set; else what stands for it.
    fn word_if(&mut self, there: bool, other: u32) -> Option<u32> {
        if there { self.word() } else { Some(other) }
    }
}

/// Goes through fragments in their order.
#[derive(Debug)]
pub struct Fragments {
    track: u32,
    usual: Usual,
    /// The runs of packets that were found.
    pub runs: Vec<Run>,
    /// Packets that may still come: none is smaller than a byte.
    left: u64,
}

impl Fragments {
    /// Of a track of a file of so many bytes; `mvex` tells what is usual.
    pub fn new(track: u32, mvex: &[u8], file_bytes: u64) -> Self {
        let usual = boxes(mvex).into_iter().filter(|b| &b.kind == b"trex").find_map(|trex| {
            let word = |at: usize| be32(trex.contents, at);
            (word(4)? == track).then_some(Usual { duration: word(12)?, bytes: word(16)? })
        });
        Self { track, usual: usual.unwrap_or_default(), runs: Vec::new(), left: file_bytes }
    }

    /// Takes in a `moof` that begins at `start`.
    ///
    /// # Errors
    /// What is wrong with it, in words.
    pub fn take(&mut self, moof: &[u8], start: u64) -> Result<(), String> {
        let mut behind = start;
        for traf in boxes(moof).into_iter().filter(|b| &b.kind == b"traf") {
            let bad = || "one of its fragments is too short".to_owned();
            behind = self.track_of(traf.contents, start, behind).ok_or_else(bad)?;
        }
        Ok(())
    }

    /// One track's part of a fragment; where its data ends.
    fn track_of(&mut self, traf: &[u8], moof: u64, behind: u64) -> Option<u64> {
        let head = find(traf, b"tfhd")?;
        let flags = be32(head, 0)?;
        let own = be32(head, 4)? == self.track;
        let (base, at) = match flags & 1 {
            0 => (if flags & 0x2_0000 != 0 { moof } else { behind }, 8),
            _ => (be64(head, 8)?, 16),
        };
        let mut fields = Fields { bytes: head, at };
        fields.word_if(flags & 2 != 0, 0)?;
        let duration = fields.word_if(flags & 8 != 0, self.usual.duration)?;
        let bytes = fields.word_if(flags & 16 != 0, self.usual.bytes)?;
        let usual = Usual { duration, bytes };
        let mut next = base;
        for trun in boxes(traf).into_iter().filter(|b| &b.kind == b"trun") {
            let run = self.run(trun.contents, usual, base, next)?;
            next = run.offset + run.packets.iter().map(|(bytes, _)| u64::from(*bytes)).sum::<u64>();
            if own {
                self.runs.push(run);
            }
        }
        Some(next)
    }

    fn run(&mut self, trun: &[u8], usual: Usual, base: u64, next: u64) -> Option<Run> {
        let mut fields = Fields { bytes: trun, at: 0 };
        let (flags, stated) = (fields.word()?, fields.word()?);
        let offset = match flags & 1 {
            0 => next,
            _ => base.checked_add_signed(fields.word()?.cast_signed().into())?,
        };
        fields.word_if(flags & 4 != 0, 0)?;
        let mut packets = Vec::new();
        for _ in 0..stated {
            let duration = fields.word_if(flags & 0x100 != 0, usual.duration);
            let bytes = fields.word_if(flags & 0x200 != 0, usual.bytes);
            let rest = [0x400, 0x800].map(|flag| fields.word_if(flags & flag != 0, 0));
            let (Some(duration), Some(bytes)) = (duration, bytes) else { break };
            self.left = self.left.checked_sub(bytes.max(1).into())?;
            packets.push((bytes, duration));
            if rest.contains(&None) {
                break;
            }
        }
        Some(Run { offset, packets })
    }
}
