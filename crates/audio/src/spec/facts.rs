//! What a file says of itself: facts from its headers, before any sample is looked at.

use super::{Format, Header};
use crate::clip::{Direction, Extra, Loop, Marker, Note, Tag};
use crate::units::FrameRange;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What a file is, by its own headers.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct Facts {
    /// Its spec line.
    pub format: Format,
    /// Which WAV header it has; `None` in other containers.
    pub header: Option<Header>,
    /// How many frames can be read.
    pub frames: u64,
    /// Bits of each sample that count, where the header says fewer than are stored.
    pub valid_bits: Option<u16>,
    /// The whole file, in bytes.
    pub file_bytes: u64,
    /// The encoded samples alone, in bytes.
    pub audio_bytes: u64,
    /// Bytes of one block, where the encoding has blocks whose size a writer may choose (ADPCM).
    pub block_bytes: Option<u32>,
    /// Loop points.
    pub loops: Vec<Loop>,
    /// Under which names a loop stands among texts: the start's, then the other's.
    pub loop_names: Vec<String>,
    /// Markers.
    pub markers: Vec<Marker>,
    /// Texts.
    pub tags: Vec<Tag>,
    /// Every other chunk.
    pub extras: Vec<Extra>,
    /// Whether players have to look for its description behind its samples, or in pieces between them (MPEG-4).
    #[serde(default)]
    pub described_late: bool,
    /// Whether its frames come from the last to the first; loops and markers lie as they are played then.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub reversed: bool,
    /// What is not as it should be.
    pub notes: Vec<Note>,
}

impl Facts {
    /// A file of which only this is known yet: no frames, nothing beside them.
    pub fn new(format: Format, file_bytes: u64) -> Self {
        Self {
            format,
            header: None,
            frames: 0,
            valid_bits: None,
            file_bytes,
            audio_bytes: 0,
            block_bytes: None,
            loops: Vec::new(),
            loop_names: Vec::new(),
            markers: Vec::new(),
            tags: Vec::new(),
            extras: Vec::new(),
            described_late: false,
            reversed: false,
            notes: Vec::new(),
        }
    }

    /// Its loops, played that way where one is asked.
    pub fn loops_played(&self, direction: Option<Direction>) -> Vec<Loop> {
        let played = |l: &Loop| Loop { direction: direction.unwrap_or(l.direction), ..*l };
        self.loops.iter().map(played).collect()
    }

    /// A range of frames as they are played, in the clip's own time; and the other way round.
    pub fn own(&self, range: FrameRange) -> FrameRange {
        match self.reversed {
            true => range.reversed(self.frames),
            false => range,
        }
    }

    /// How long it plays, in seconds.
    pub fn seconds(&self) -> f64 {
        self.format.rate.seconds(self.frames)
    }

    /// Bits a second of the encoded samples; 0 for an empty clip.
    pub fn bit_rate(&self) -> u64 {
        if self.frames == 0 {
            return 0;
        }
        let rate = u64::from(self.format.rate.hertz());
        crate::num::scaled(self.audio_bytes * 8, rate, self.frames)
    }

    /// How many frames the header promises and the file does not hold.
    pub fn missing_frames(&self) -> Option<u64> {
        self.notes.iter().find_map(|note| match note {
            Note::Truncated { promised, held } => Some(promised.saturating_sub(*held)),
            _ => None,
        })
    }

    /// How many clips are chained in the file, where it is more than this one.
    pub fn chained(&self) -> Option<usize> {
        self.notes.iter().find_map(|note| match note {
            Note::Chained { clips, .. } => Some(*clips),
            _ => None,
        })
    }

    /// As [`Facts::beside_samples`], without what holds nothing but loop points.
    pub fn beside_loops(&self) -> Vec<String> {
        let mut names = self.beside_samples();
        // A marker that is no loop's end is a marker.
        let unmarked = self.markers.is_empty();
        names.retain(|id| match id.as_str() {
            "smpl" | "INST" | "regn" => self.loops.is_empty(),
            "MARK" => self.loops.is_empty() || !unmarked,
            _ => true,
        });
        names
    }

    /// The identifiers of all that is not needed to play the samples, loop points among them.
    pub fn beside_samples(&self) -> Vec<String> {
        let name = |extra: &Extra| extra.id.trim_end().to_owned();
        self.extras.iter().map(name).collect()
    }
}
