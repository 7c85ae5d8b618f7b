//! Loop points (`smpl`) and markers (`cue ` and their names in `LIST adtl`).

use super::super::bytes::{le32 as word, text};
use super::super::chunks::{Chunk, Walker};
use crate::clip::{Direction, Loop, Marker, Note, Tag};
use crate::error::Result;
use crate::units::FrameRange;

/// Loops and markers beyond this many are left out.
const MOST_MARKS: usize = 1024;

/// A loop as `smpl` stores it: its end is the last frame that is played.
#[derive(Debug, Clone, Copy)]
struct StoredLoop {
    start: u32,
    last: u32,
    plays: u32,
    /// 0 forward, 1 ping-pong, 2 backward.
    kind: u32,
}

/// What has been found so far.
#[derive(Debug, Default)]
pub struct Marks {
    loops: Vec<StoredLoop>,
    cues: Vec<(u32, u64)>,
    names: Vec<(u32, String)>,
    tags: Vec<Tag>,
}

impl Marks {
    /// Reads a chunk if it is one of ours.
    pub fn take(&mut self, id: &[u8; 4], chunk: &Chunk, walker: &mut Walker<'_>) -> Result<()> {
        match id {
            b"smpl" => self.read_smpl(&walker.contents(chunk)?),
            b"cue " => self.read_cue(&walker.contents(chunk)?),
            b"LIST" => self.read_list(&walker.contents(chunk)?),
            _ => {}
        }
        Ok(())
    }

    /// RIFF 1.0 "Sampler Chunk": nine words, of which the eighth counts the loops, then six words
    /// a loop: identifier, type, start, end, fraction, play count.
    fn read_smpl(&mut self, bytes: &[u8]) {
        let stated = word(bytes, 28).map_or(0, |n| crate::num::size(n.into()));
        let loops = bytes.get(36..).unwrap_or_default().chunks_exact(24);
        for record in loops.take(stated.min(MOST_MARKS)) {
            if let (Some(kind), Some(start), Some(last), Some(plays)) =
                (word(record, 4), word(record, 8), word(record, 12), word(record, 20))
            {
                self.loops.push(StoredLoop { start, last, plays, kind });
            }
        }
    }

    /// RIFF 1.0 "Cue-Points Chunk": a count, then six words a point, the last of which is the frame.
    fn read_cue(&mut self, bytes: &[u8]) {
        let stated = word(bytes, 0).map_or(0, |n| crate::num::size(n.into()));
        let points = bytes.get(4..).unwrap_or_default().chunks_exact(24);
        for record in points.take(stated.min(MOST_MARKS)) {
            if let (Some(id), Some(frame)) = (word(record, 0), word(record, 20)) {
                self.cues.push((id, frame.into()));
            }
        }
    }

    /// RIFF 1.0 "Associated Data List": `labl` chunks of a cue's identifier and its name; "INFO List
    /// Chunk": texts.
    fn read_list(&mut self, bytes: &[u8]) {
        let (kind, mut rest) = bytes.split_at(bytes.len().min(4));
        let is_info = kind == b"INFO";
        if !is_info && kind != b"adtl" {
            return;
        }
        while let (Some(id), Some(length)) = (rest.get(..4), word(rest, 4)) {
            let length = crate::num::size(length.into());
            let contents = rest.get(8..8usize.saturating_add(length));
            let few = self.names.len() + self.tags.len() < MOST_MARKS;
            match (id, contents) {
                (id, Some(contents)) if is_info && few => {
                    self.tags.push(Tag::of_info(id, text(contents)));
                }
                (b"labl", Some(contents)) if !is_info && few => {
                    if let (Some(cue), Some(name)) = (word(contents, 0), contents.get(4..)) {
                        self.names.push((cue, text(name)));
                    }
                }
                _ => {}
            }
            let next = 8usize.saturating_add(length).saturating_add(length % 2);
            rest = rest.get(next..).unwrap_or_default();
        }
    }

    /// The loops as half-open ranges within a clip of `frames` frames.
    pub fn loops(&self, frames: u64, notes: &mut Vec<Note>) -> Vec<Loop> {
        let mut loops = Vec::new();
        for stored in &self.loops {
            let range = FrameRange { start: stored.start.into(), end: u64::from(stored.last) + 1 };
            if range.is_empty() || range.end > frames {
                notes.push(Note::Corrected {
                    what: format!(
                        "a loop from frame {} to {} lies outside the clip; left out",
                        stored.start, stored.last
                    ),
                });
            } else {
                let direction = match stored.kind {
                    1 => Direction::PingPong,
                    2 => Direction::Backward,
                    kind => {
                        if kind != 0 {
                            let what =
                                format!("a loop of type {kind}; taken for one that plays forward");
                            notes.push(Note::Corrected { what });
                        }
                        Direction::Forward
                    }
                };
                loops.push(Loop { plays: stored.plays, direction, ..Loop::endless(range) });
            }
        }
        loops
    }

    /// The texts of the file.
    pub fn tags(&mut self) -> Vec<Tag> {
        std::mem::take(&mut self.tags)
    }

    /// The markers in order of time, with their names.
    pub fn markers(&self) -> Vec<Marker> {
        let name_of = |cue| self.names.iter().find(|(id, _)| *id == cue);
        let mut markers: Vec<Marker> = self
            .cues
            .iter()
            .map(|&(id, frame)| Marker {
                frame,
                name: name_of(id).map(|(_, name)| name.clone()).unwrap_or_default(),
            })
            .collect();
        markers.sort_by_key(|marker| marker.frame);
        markers
    }
}
