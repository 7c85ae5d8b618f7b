//! What a file may hold beside samples: loops, markers, tags, other chunks, and what is odd about it.

use crate::units::FrameRange;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::fmt;

/// A stretch that players repeat; its end is the first frame that is not played.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct Loop {
    /// Which frames.
    #[serde(flatten)]
    pub range: FrameRange,
    /// How often it is played in all; 0 is without end.
    pub plays: u32,
    /// Which way it is played.
    #[serde(default, skip_serializing_if = "Direction::is_forward")]
    pub direction: Direction,
    /// Whether it is the one that plays once a note is let go.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub release: bool,
}

impl Loop {
    /// Without end, forward.
    pub const fn endless(range: FrameRange) -> Self {
        Self { range, plays: 0, direction: Direction::Forward, release: false }
    }
}

/// Which way a loop is played.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Direction {
    /// From its start to its end, and from its start again.
    #[default]
    Forward,
    /// Up to its end, back to its start, and so on; the frames where it turns are heard twice.
    PingPong,
    /// From its end back to its start, and from its end again.
    Backward,
}

crate::invalid::words!(
    Direction, "direction",
    "forward" => Self::Forward, "ping-pong" => Self::PingPong, "backward" => Self::Backward,
);
crate::invalid::as_word!(Direction);

impl Direction {
    /// Whether it jumps from its end to its start, so that there is a seam.
    pub fn is_forward(&self) -> bool {
        *self == Self::Forward
    }
}

/// A named place in the clip.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct Marker {
    /// The frame that it stands before.
    pub frame: u64,
    /// Its name; empty where it has none.
    pub name: String,
}

/// A text about the clip, such as its title.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct Tag {
    /// Its name, as Vorbis comments name it: `TITLE`, `ARTIST` …; a container's own word where it has
    /// no such name.
    pub name: String,
    /// The text.
    pub value: String,
}

/// How the identifiers of frames of an ID3 tag begin, other than those of texts.
pub const ID3_FRAME: &str = "ID3 ";

/// Something in the file that is neither samples nor what they need to be played.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct Extra {
    /// Its identifier in the file, as in `LIST`.
    pub id: String,
    /// Where its contents begin.
    pub offset: u64,
    /// How many bytes it holds.
    pub bytes: u64,
}

/// Something in the file that is not as it should be, though it can be read.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
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
    /// The last page of an Ogg stream is not marked as the last (RFC 3533, 6): every player takes it.
    LastPageUnmarked,
    /// An odd chunk without the pad byte that RIFF asks for.
    MissingPad {
        /// Which chunk.
        chunk: String,
    },
    /// Bytes after the last chunk, or a piece of one.
    TrailingBytes {
        /// How many.
        bytes: u64,
    },
    /// A field that contradicts the others and was corrected.
    Corrected {
        /// Which field, what it says, and what it was taken for.
        what: String,
    },
    /// Other clips are chained to this one.
    Chained {
        /// How many there are, this one with them.
        clips: usize,
        /// What the next is called.
        next: String,
    },
    /// More sound than is read here, such as further tracks.
    LeftAside {
        /// What.
        what: String,
    },
}

impl Note {
    /// Whether every player takes it as it is.
    pub const fn is_harmless(&self) -> bool {
        matches!(self, Self::LastPageUnmarked)
    }
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
            Self::LastPageUnmarked => f.write_str("the last page is not marked as the last"),
            Self::MissingPad { chunk } => {
                write!(f, "the odd chunk \"{chunk}\" lacks its pad byte")
            }
            Self::TrailingBytes { bytes } => write!(f, "{bytes} bytes after the last chunk"),
            Self::Chained { clips, next } => {
                write!(f, "{clips} clips are chained in it; the first is read, {next} is the next")
            }
            Self::Corrected { what } | Self::LeftAside { what } => f.write_str(what),
        }
    }
}
