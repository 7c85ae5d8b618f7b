//! Refusals of ledgers, jobs, packs and outside commands.

use super::OddLine;
use crate::names::{Key, Near};
use deft_needle_audio::{Invalid, Unmet};
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;

/// What is wrong with roots and ledgers.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum OddLedger {
    /// No ledger at, above or below a path.
    NothingInstalled {
        /// The path.
        #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
        path: PathBuf,
    },
    /// Nothing tells which folder is the root of a file.
    NoRoot {
        /// The file.
        #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
        file: PathBuf,
        /// A folder that may be.
        #[serde(serialize_with = "deft_needle_audio::path_text::lossy_if_any")]
        likely: Option<PathBuf>,
        /// Whether the clip is in a root: it may have been typed in the wrong place.
        turned: bool,
    },
    /// The ledger does not know where another root is.
    UnknownRoot {
        /// The root's name.
        name: String,
    },
    /// A root is away, such as a card that is not in.
    Away {
        /// The root.
        #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
        folder: PathBuf,
        /// A slot in it.
        key: Key,
    },
    /// Another run is changing the root.
    Busy {
        /// The root.
        #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
        root: PathBuf,
    },
    /// Another run changed the root while this one looked.
    Raced {
        /// The root.
        #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
        root: PathBuf,
    },
    /// A change was interrupted, and a slot was changed since.
    Interrupted,
    /// The log could not be written before.
    LogFailed {
        /// The log.
        #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
        log: PathBuf,
    },
    /// It was made for another place.
    MadeFor {
        /// The ledger's folder.
        #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
        ledger: PathBuf,
        /// The place.
        #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
        place: PathBuf,
    },
    /// Another ledger keeps the stock of a file.
    KnownElsewhere {
        /// The file.
        #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
        path: PathBuf,
        /// The other ledger's folder.
        #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
        ledger: PathBuf,
        /// Its root.
        #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
        root: PathBuf,
    },
    /// Something of ours is in another root elsewhere than it was named.
    OtherPlace {
        /// The root's name.
        name: String,
        /// Where the ledger knows it, as far as that is believed.
        #[serde(serialize_with = "deft_needle_audio::path_text::lossy_if_any")]
        known: Option<PathBuf>,
        /// Where it was said to be.
        #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
        named: PathBuf,
    },
    /// No copy of a slot's is kept aside.
    NoKeptCopy {
        /// The slot.
        slot: Key,
        /// How the copy's name was said to begin.
        copy: Option<String>,
        /// Copies that are kept, by the beginnings of their names.
        all: Vec<String>,
    },
    /// Several copies of a slot's are kept, and none was named.
    KeptCopies {
        /// The slot.
        slot: Key,
        /// The beginnings of their names.
        all: Vec<String>,
    },
    /// Something is installed in a slot of which a kept copy should come back.
    StillInstalled {
        /// The slot.
        slot: Key,
    },
    /// There is none to rescue.
    Missing {
        /// The root.
        #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
        root: PathBuf,
    },
    /// It needs no rescue.
    Healthy {
        /// The root.
        #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
        root: PathBuf,
    },
    /// No job of this name has installed anything.
    NoSuchJob {
        /// The name.
        job: String,
        /// The jobs that have.
        jobs: Vec<String>,
    },
}

/// What is wrong with a job or a swap.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum OddJob {
    /// It has no root.
    NoRoot,
    /// Its files beside slots take too much room.
    TooMuchBeside {
        /// Bytes at most.
        most: u64,
    },
    /// It does not say where its target is.
    RootUnsaid {
        /// The job sheet.
        #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
        job: PathBuf,
        /// The target.
        target: String,
    },
    /// It does not say where another root is.
    OtherRootUnsaid {
        /// The root's name.
        name: String,
    },
    /// A root is not a folder.
    RootNotFolder {
        /// The root's name.
        name: String,
        /// Where it should be.
        #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
        path: PathBuf,
    },
    /// A slot that a job does not name.
    NotInJob {
        /// As it was typed.
        slot: String,
        /// Slots of the job that may have been meant.
        near: Vec<Near>,
    },
    /// Names of a set that must be whole would have no file.
    Incomplete {
        /// Those.
        names: Vec<String>,
    },
    /// A root that the target's sheet does not name.
    UnknownRoot {
        /// The name that was typed.
        name: String,
        /// The target.
        target: String,
        /// The names of its roots.
        roots: Vec<String>,
    },
    /// A folder that is no root of the target.
    NotRoot {
        /// The folder.
        #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
        root: PathBuf,
        /// The target.
        target: String,
        /// What it lacks.
        marker: String,
    },
    /// A slot that lies in no root of the target.
    InNoRoot {
        /// The slot, as it was typed.
        #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
        slot: PathBuf,
        /// The target.
        target: String,
        /// What no folder above it has.
        marker: String,
    },
    /// There is no such clip.
    NoClip {
        /// As it was named.
        clip: String,
        /// Files that may have been meant.
        near: Vec<Near>,
    },
    /// A finished file must be a file, not a stream.
    NotFile,
    /// A command that the user has not allowed.
    Commands {
        /// Its words.
        command: Vec<String>,
        /// For how many lines.
        lines: usize,
    },
    /// A command that lacks a place for its input or output.
    BadCommand(OddLine),
    /// A set of variants of a size that does not work.
    Variants {
        /// The set.
        name: String,
        /// How many there would be.
        all: usize,
        /// How many work.
        works: Vec<u32>,
    },
    /// A name that a sheet cannot hold.
    BadName(Invalid),
}

/// What is wrong with a pack.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum OddPack {
    /// It brings no root.
    NoRoot,
    /// It is none.
    NotPack {
        /// The file.
        #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
        path: PathBuf,
        /// The member that every pack has.
        lacks: String,
    },
    /// What it says of itself is wrong.
    Odd {
        /// The file.
        #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
        path: PathBuf,
        /// What.
        what: String,
    },
    /// It brings no sheet.
    NoSheet {
        /// The file.
        #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
        path: PathBuf,
    },
    /// It lacks a file that it names.
    Lacks {
        /// The file.
        file: String,
    },
    /// A file is not what it says.
    Differs {
        /// The file.
        file: String,
    },
    /// A name would be in it twice.
    Twice {
        /// The name.
        name: String,
    },
    /// It would be too large.
    TooLarge {
        /// Bytes that it would have.
        bytes: u64,
        /// Bytes at most.
        most: u64,
    },
    /// An icon of no size, or of too large a one.
    IconSize {
        /// Pixels each way.
        size: u32,
        /// Pixels at most.
        most: u32,
    },
    /// A picture that no icon can be made of.
    BadIcon {
        /// The picture.
        #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
        path: PathBuf,
        /// Pixels each way at most.
        most: u32,
    },
}

/// How an outside command failed.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum OutsideFault {
    /// It could not be started.
    NotStarted {
        /// The system's reason.
        reason: String,
        /// Where a program that is named by a relative path was looked for, and is not.
        looked: Vec<String>,
    },
    /// It took too long and was stopped.
    TooSlow {
        /// Time limit in seconds.
        limit: u64,
    },
    /// The system lost it.
    Lost {
        /// The system's reason.
        reason: String,
    },
    /// It ended with an error.
    Failed {
        /// How it ended.
        status: String,
        /// The end of what it said.
        said: String,
    },
    /// What it made is silent.
    Silent,
    /// What it made is another sound than its input.
    OtherSound,
    /// What it made has another length than its input.
    Length {
        /// Milliseconds that it made.
        made: u64,
        /// Milliseconds of its input.
        fed: u64,
    },
    /// It left an empty file.
    EmptyFile {
        /// The end of what it said.
        said: String,
    },
    /// It left no file.
    NoFile {
        /// Where one was expected.
        place: String,
        /// The end of what it said.
        said: String,
    },
    /// It made what the target does not take.
    Unfit {
        /// For which slot.
        slot: String,
        /// In what it fails.
        why: Box<Unmet>,
    },
}
