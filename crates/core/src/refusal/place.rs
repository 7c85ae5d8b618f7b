//! Refusals of paths, slots, archives and caches.

use crate::names::{Key, Near, OddName};
use deft_needle_audio::Invalid;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;

/// What a path is, and must not be.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum OddPath {
    /// A link: nothing is followed through links.
    Link,
    /// A link that leads out of the target.
    LinkOut,
    /// A link to a name that is not valid Unicode.
    LinkNotUnicode,
    /// A name that is not valid Unicode.
    NotUnicode,
    /// Not a folder.
    NotFolder,
    /// Nothing is there.
    Absent,
    /// A folder where a file is meant.
    Folder,
    /// A pipe or a device.
    Device,
    /// Part of a ledger.
    OfLedger,
    /// There already, and not to be overwritten.
    Exists {
        /// Whether it lies in a target.
        in_target: bool,
    },
    /// The clip itself.
    IsClip,
    /// The archive or the chain that the clip is in.
    HoldsClip,
    /// A file of no bytes.
    Empty,
    /// A folder that is not empty.
    NotEmpty,
    /// A file that does not read back as it was written.
    ReadsBackOdd,
    /// Neither a folder nor an archive of a target's files.
    NotStock,
    /// A folder or an archive without a sound.
    NoSound,
    /// A ledger's folder, or a file in it, of another kind than a ledger has.
    NotOurLedger,
    /// A file that entries go into, and that is not there.
    NoEntryFile,
    /// A folder that a job names, and that does not exist.
    NoJobFolder,
    /// Nothing says what a file of this name must be.
    NoSpec,
    /// The clip and the slot are one file.
    ClipIsSlot,
    /// There already, and no picture that could be drawn again.
    NotPicture,
}

/// What lies over a job.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Above {
    /// Another one.
    Job(String),
    /// A single swap into this slot.
    Swap(Key),
}

/// Why a slot, or a file of entries, cannot take what is meant for it.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum OddSlot {
    /// The target has no such slot.
    Unknown {
        /// The target.
        target: String,
        /// Names that may have been meant.
        near: Vec<Near>,
    },
    /// It is a pattern that matches no slot.
    Unmatched {
        /// The target.
        target: String,
        /// Names that may have been meant.
        near: Vec<Near>,
    },
    /// There is no such file.
    Absent {
        /// Names that may have been meant.
        near: Vec<Near>,
    },
    /// There is no such folder.
    NoFolder {
        /// The first folder on the way that is not there.
        folder: String,
        /// Folders beside it that may have been meant.
        near: Vec<Near>,
        /// Whether a new file is allowed.
        new: bool,
    },
    /// No rule matches it.
    NoRule {
        /// The sheet.
        #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
        sheet: PathBuf,
    },
    /// A new name that the target would not take.
    BadName {
        /// What is wrong with it.
        odd: OddName,
        /// A name that would be right.
        right: Option<String>,
    },
    /// Nothing is installed there.
    NotInstalled {
        /// Slots that may have been meant.
        near: Vec<Near>,
    },
    /// Another program changed it just now.
    ChangedNow,
    /// It and another name may be one file.
    MayBe {
        /// The other name.
        other: String,
    },
    /// It differs only in case or accents from one that was replaced before.
    Spelt {
        /// That one.
        other: Key,
    },
    /// Something else was installed over what is to be taken out.
    Covered {
        /// The job below; `None` is a single swap.
        lower: Option<String>,
        /// The job above; `None` is a single swap.
        upper: Option<String>,
        /// All that must be restored before it, in that order.
        order: Vec<Above>,
    },
    /// Entries cannot be made in it.
    Entry {
        /// Why, said of the file.
        what: String,
    },
    /// A job's archive would go where another file is.
    ArchiveThere,
    /// Its name says that it holds something else than it would.
    NameSays {
        /// The container that its extension stands for.
        says: String,
        /// The one that it would hold.
        holds: String,
    },
    /// Entries are to be made in it, and the job puts a sound there.
    EntryInSound {
        /// The clip.
        clip: String,
    },
    /// Entries in it cannot be reverted.
    EntryStays {
        /// Why.
        what: String,
    },
    /// Its finished file has another extension.
    OtherExtension {
        /// The file.
        clip: String,
    },
}

/// What is wrong with an archive.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum OddArchive {
    /// An entry takes too much.
    EntryTooLarge {
        /// Its name.
        name: String,
        /// Bytes at most.
        most: u64,
    },
    /// An entry that is a link, a device or the like.
    OddEntry {
        /// Its name.
        name: String,
        /// What it is.
        what: String,
    },
    /// An entry whose name leads out.
    UnsafeName(Invalid),
    /// A folder whose only sounds are in archives: those, each with how many.
    HoldAll(Vec<(String, usize)>),
    /// It has no such entry.
    NoEntry {
        /// The name.
        name: String,
        /// Names that may have been meant.
        near: Vec<Near>,
    },
    /// A chain has no clip of this number.
    NoLink {
        /// The number.
        number: usize,
        /// How many it has.
        links: usize,
    },
    /// Too many entries.
    TooMany {
        /// How many at most.
        most: usize,
    },
}

/// What is wrong with caches.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum OddCaches {
    /// A pattern of the ledger that is none.
    Pattern(Invalid),
    /// The patterns find too much.
    TooMany {
        /// How many at most.
        most: usize,
    },
}
