//! What is odd in a sheet, a job or a list that somebody wrote by hand.

use crate::names::Near;
use deft_needle_audio::spec::Format;
use deft_needle_audio::{Invalid, Unmet};
use schemars::JsonSchema;
use serde::Serialize;

/// What is odd in a text.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum OddText {
    /// No sheet has this name; those that are spelt like it.
    NoSheet(String, Vec<Near>),
    /// It is no UTF-8; a place in bytes.
    NotUtf8(usize),
    /// A list is neither UTF-8 nor UTF-16.
    NotText,
    /// It is larger than this many bytes.
    TooLarge(Written, u64),
    /// It holds more of these than this many.
    TooMany(Many, usize),
    /// A key or a word that is none of those known here, nearest first where one is near.
    Unknown {
        /// Whether it is a word, and not a key.
        word: bool,
        /// As it is written.
        found: String,
        /// Spelt like it.
        near: Vec<Near>,
        /// All that are known here.
        known: Vec<String>,
    },
    /// A key is missing.
    MissingKey(String),
    /// What the parser of a format (TOML, JSON, CSV) or of a value in it reports.
    Grammar(String),
    /// A value is none of its kind.
    Value(Invalid),
    /// A template cannot be filled in.
    Template(OddTemplate),
    /// Neither an entry nor the extension of its file tells which format that has.
    NoFormat(String),
    /// A root that is none of those named.
    UnknownRoot {
        /// Its name.
        root: String,
        /// Those that the sheet names.
        known: Vec<String>,
    },
    /// A pattern for caches finds a file that is none.
    NotCache {
        /// The pattern, where it is known which.
        pattern: Option<String>,
        /// The file.
        file: String,
        /// What it is, where that is known.
        kind: Option<FileKind>,
    },
    /// A file that is made would replace something else of the target's.
    MadeOver {
        /// The file.
        file: String,
        /// What it is.
        kind: FileKind,
    },
    /// Two slots would have the same file made, each with other contents.
    MadeTwice(String),
    /// An entry neither sets nor expects a value.
    NoValue,
    /// A file that is made holds one of a text, a template and a file: none is given, or several are.
    OneContent,
    /// A label for a slot that does not exist.
    NoLabelled,
    /// Something in a rule.
    Rule(OddRule),
    /// Something about a list of names.
    List(OddList),
    /// Something in a job.
    Job(OddLine),
}

/// What is odd in a template.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum OddTemplate {
    /// A name that is not known where it stands.
    Unknown {
        /// The place as it is written, with its braces.
        written: String,
        /// The name.
        name: String,
        /// The slot that it is not known of.
        slot: Option<String>,
        /// Spelt like it.
        near: Vec<Near>,
        /// All that are known.
        known: Vec<String>,
    },
    /// Braces around what is no name.
    NoName {
        /// As it is written.
        written: String,
    },
    /// A brace without its other one.
    Brace {
        /// The line that it stands in.
        written: String,
        /// The brace.
        brace: char,
    },
    /// Something that cannot be done to a value.
    Sum {
        /// The place as it is written, with its braces.
        written: String,
        /// Why.
        why: String,
    },
    /// What it makes is longer than a template may make it.
    TooLong {
        /// Bytes that it may have.
        most: usize,
    },
    /// What it makes is not what its name says.
    Broken {
        /// What it would have to be.
        kind: &'static str,
        /// Why it is none.
        why: String,
    },
}

impl OddTemplate {
    /// The part of the template that is odd, as it is written there.
    pub fn written(&self) -> Option<&str> {
        match self {
            Self::Unknown { written, .. }
            | Self::NoName { written }
            | Self::Brace { written, .. }
            | Self::Sum { written, .. } => Some(written),
            Self::Broken { .. } | Self::TooLong { .. } => None,
        }
    }
}

impl From<OddTemplate> for OddText {
    fn from(odd: OddTemplate) -> Self {
        Self::Template(odd)
    }
}

/// What was written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Written {
    /// A sheet.
    Sheet,
    /// A list of names.
    List,
}

/// What there can be too many of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Many {
    /// Expressions to find.
    Expressions,
    /// Patterns.
    Patterns,
    /// Names in lists.
    Names,
    /// Values in a document.
    Values,
    /// Slots of a job.
    Slots,
}

/// What a file of a target's is to its sheet.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum FileKind {
    /// It tells that a folder is the target.
    Marker,
    /// It lists names.
    List,
    /// It holds entries.
    Entries,
    /// It is a slot.
    Slot,
    /// It was replaced.
    Replaced,
    /// It is made or kept beside a slot.
    Beside,
}

/// What contradicts itself in a rule.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum OddRule {
    /// It matches nothing.
    NoMatch,
    /// A closed format has keys of sounds.
    KeysOfSound,
    /// A sound has keys of closed formats.
    KeysOfClosed,
    /// The shortest is longer than the longest.
    Shortest,
    /// Loop points are required of a container that has none.
    NoLoopPoints(String),
    /// Texts for loops in a container that has none.
    NoLoopTags(String),
    /// A kind of WAV header in another container.
    NotWav(String),
    /// The route feeds other channels than the spec line has.
    Route {
        /// Rows of the route.
        rows: usize,
        /// Channels of the spec line.
        channels: usize,
    },
    /// An extensible header with blocks of ADPCM.
    ExtensibleBlocks,
    /// A container cannot hold an encoding.
    Holds(Format),
    /// No clip can be made so.
    Unmet(Unmet),
    /// An earlier rule has the same patterns.
    Second {
        /// The line of that rule, from 1.
        first: usize,
    },
    /// An earlier rule takes every slot that it matches.
    Covered {
        /// The line of the first such rule, from 1.
        first: usize,
    },
    /// No slot matches it.
    Unmatched,
}

/// What is odd about a list of names.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum OddList {
    /// It lies both beside the sheet and in a root, or nowhere.
    Place,
    /// Names are made of what nothing finds.
    MakeAlone,
    /// A `{` without its `}`.
    Brace(String),
    /// There are no brackets of this number.
    Brackets(String),
    /// What is made is no path.
    Made(Invalid),
    /// A line holds what is no path.
    Path(Invalid),
    /// A character that cannot part columns.
    Delimiter(char),
    /// A quote has no end.
    Quote,
    /// No column of this name among others.
    Column(String, Vec<String>),
    /// Nothing lies at the pointer.
    Nothing(String),
    /// What lies at the pointer holds no names.
    NotMany(String),
}

/// What is odd in a job.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum OddLine {
    /// It is a folder, and no pack.
    Folder,
    /// It is no text at all.
    Binary,
    /// It is a target's sheet.
    Sheet,
    /// A path holds a control character.
    Control,
    /// It has both a root and roots.
    BothRoots,
    /// Files go both to an overlay and to an archive.
    BothPlaces,
    /// Its name is empty or odd.
    Name,
    /// It names a root that the target has not: the target, the root, those that it has.
    Root(String, String, Vec<String>),
    /// A line of a prompt list says nothing: the list, the line in it, the slot.
    NothingSaid(String, u64, String),
    /// No file matches a pattern of clips.
    NoClips(String),
    /// A table of slots and clips beside slots or clips.
    TableAndMore,
    /// The target's sheet names no overlay.
    NoOverlay,
    /// A replacement names no slot.
    NoSlot,
    /// A replacement names no clip.
    NoClip,
    /// A replacement has both clips and prompts.
    ClipsAndPrompts,
    /// A replacement has both an encoder and a finished file.
    EncoderAndAsIs,
    /// A slot is given to two clips: the slot, the first one.
    Twice(String, String),
    /// More is dealt than there are slots.
    Dealt {
        /// Clips, or pieces of them.
        cards: usize,
        /// Whether they are pieces.
        pieces: bool,
        /// How many slots there are.
        slots: usize,
        /// As they are named.
        named: Vec<String>,
    },
    /// No command speaks the lines.
    NoVoice,
    /// A command of this role lacks its program or one of these places.
    Command(&'static str, [&'static str; 2]),
    /// An encoder takes many files in a call, and nobody knows what it calls what it makes.
    ManyUnnamed,
    /// What an encoder makes has no plain name beside what it is fed, or many have the same.
    EncoderOut(String),
    /// A line of a pack's template without its counterpart: the line, and what it lacks or is within.
    Each(&'static str, &'static str, bool),
}

impl From<OddRule> for OddText {
    fn from(odd: OddRule) -> Self {
        Self::Rule(odd)
    }
}

impl From<OddList> for OddText {
    fn from(odd: OddList) -> Self {
        Self::List(odd)
    }
}

impl From<OddLine> for OddText {
    fn from(odd: OddLine) -> Self {
        Self::Job(odd)
    }
}

impl From<Invalid> for OddText {
    fn from(invalid: Invalid) -> Self {
        Self::Value(invalid)
    }
}
