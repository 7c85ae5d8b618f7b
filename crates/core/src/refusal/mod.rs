//! Why something is not done to a target, as values. Whoever shows a refusal words it, and says what to do next.

pub mod fault;
mod job;
mod place;
mod text;

pub use fault::{Because, Fault};
pub use job::{OddJob, OddLedger, OddPack, OutsideFault};
pub use place::{Above, OddArchive, OddCaches, OddPath, OddSlot};
pub use text::{FileKind, Many, OddLine, OddList, OddRule, OddTemplate, OddText, Written};

use deft_needle_audio::Invalid;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;

/// Why something is not done.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(tag = "refusal", rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Refusal {
    /// A path is not what it has to be.
    Path {
        /// The path.
        #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
        path: PathBuf,
        /// What it is.
        why: OddPath,
    },
    /// A file lies outside the root.
    OutsideRoot {
        /// The file.
        #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
        path: PathBuf,
        /// The root.
        #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
        root: PathBuf,
    },
    /// A text that is no path within a root.
    NotWithin {
        /// As it was typed.
        typed: String,
        /// What is wrong with it, where that is known.
        why: Option<Invalid>,
    },
    /// A slot, or a file of entries, cannot take what is meant for it.
    Slot {
        /// Its name.
        slot: String,
        /// Why not.
        why: OddSlot,
    },
    /// Something about roots and their ledgers.
    Ledger(OddLedger),
    /// Something about a job, or a single swap.
    Job(OddJob),
    /// Something about a pack.
    Pack(OddPack),
    /// An archive that cannot be trusted.
    Archive {
        /// The archive.
        #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
        path: PathBuf,
        /// What is wrong.
        why: OddArchive,
    },
    /// Something about a target's caches.
    Caches(OddCaches),
    /// A fault of the program's own.
    Internal {
        /// What failed.
        what: String,
    },
}
