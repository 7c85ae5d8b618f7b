//! What a file says of itself: facts from its headers, before any sample is looked at.

use crate::spec::{Format, Header};
use crate::units::FrameRange;
use serde::Serialize;
use std::fmt;

/// A stretch that players repeat; its end is the first frame that is not played.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub struct Loop {
    /// Which frames.
    #[serde(flatten)]
    pub range: FrameRange,
    /// How often it is played in all; 0 is without end.
    pub plays: u32,
}

/// A named place in the clip.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Marker {
    /// The frame that it stands before.
    pub frame: u64,
    /// Its name; empty where it has none.
    pub name: String,
}

/// A text about the clip, such as its title.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Tag {
    /// Its name, as Vorbis comments name it: `TITLE`, `ARTIST` …; a container's own word where it has
    /// no such name.
    pub name: String,
    /// The text.
    pub value: String,
}

/// Something in the file that is neither samples nor what they need to be played.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Extra {
    /// Its identifier in the file, as in `LIST`.
    pub id: String,
    /// Where its contents begin.
    pub offset: u64,
    /// How many bytes it holds.
    pub bytes: u64,
}

/// Something in the file that is not as it should be, though it can be read.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(tag = "kind", rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Note {
    /// The header promises more than the file holds.
    Truncated {
        /// Frames by the header.
        promised: u64,
        /// Frames in the file.
        held: u64,
    },
    /// The header leaves the length open, as a writer that streams does; it was taken from the file.
    LengthLeftOpen,
    /// An odd chunk without the pad byte that RIFF asks for.
    MissingPad {
        /// Which chunk.
        chunk: String,
    },
    /// Bytes behind the last chunk, or a piece of one.
    TrailingBytes {
        /// How many.
        bytes: u64,
    },
    /// A field that contradicts the others and was corrected.
    Corrected {
        /// Which field, what it says, and what it was taken for.
        what: String,
    },
    /// More sound than is read here, such as further tracks.
    LeftAside {
        /// What.
        what: String,
    },
}

impl fmt::Display for Note {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Truncated { promised, held } => write!(
                f,
                "cut short: the header promises {promised} frames, the file holds {held}"
            ),
            Self::LengthLeftOpen => f.write_str(
                "the header leaves the length open (a streaming writer); taken from the file's size",
            ),
            Self::MissingPad { chunk } => {
                write!(f, "the odd chunk \"{chunk}\" lacks its pad byte")
            }
            Self::TrailingBytes { bytes } => write!(f, "{bytes} bytes behind the last chunk"),
            Self::Corrected { what } | Self::LeftAside { what } => f.write_str(what),
        }
    }
}

/// What a file is, by its own headers.
#[derive(Debug, Clone, PartialEq, Serialize)]
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
            notes: Vec::new(),
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

    /// As [`Facts::beside_samples`], without what holds nothing but loop points.
    pub fn beside_loops(&self) -> Vec<String> {
        let mut names = self.beside_samples();
        // A marker that is no loop's end is a marker.
        let unmarked = self.markers.is_empty();
        names.retain(|id| match id.as_str() {
            "smpl" | "INST" => self.loops.is_empty(),
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
