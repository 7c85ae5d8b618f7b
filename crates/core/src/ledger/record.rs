//! What the ledger's log consists of.

use crate::hash::Hash;
use serde::{Deserialize, Serialize};

/// What lies at a slot.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Held {
    /// No file.
    Nothing,
    /// A file with these contents.
    File(Hash),
}

/// What was installed, for `status`.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Installed {
    /// The clip, as it was named.
    pub clip: String,
    /// The hash of the clip.
    pub clip_hash: Option<Hash>,
    /// What was done to it, a line each.
    pub edits: Vec<String>,
    /// The spec line of the installed file.
    pub spec: String,
    /// Its length in seconds.
    pub seconds: f64,
    /// Its loudness in LUFS, where it has one.
    pub lufs: Option<f64>,
    /// Whether it is only a separated part of the clip, there to guide something else.
    #[serde(default)]
    pub guide: bool,
    /// When, in seconds since 1970.
    pub at: u64,
}

/// One slot's part in a change.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Put {
    /// The slot, relative to the root.
    pub slot: String,
    /// What lies there before; a kept copy of it exists.
    pub before: Held,
    /// What lies there after.
    pub after: Held,
    /// Stock that is new to the ledger.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stock: Option<Held>,
    /// Contents that are neither stock nor ours, kept beside the stock.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub aside: Option<Held>,
    /// What is installed after; nothing where stock is given back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub installed: Option<Installed>,
}

/// One line of the log.
#[expect(
    clippy::large_enum_variant,
    reason = "few of them live, and not for long"
)]
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "record", rename_all = "kebab-case")]
pub enum Record {
    /// The first line: which root, and how to read the rest.
    Root {
        /// The root's path when the ledger was made.
        path: String,
        /// The version of this format: 1.
        version: u32,
    },
    /// A change begins; parts of these slots may lie about from now on.
    Begin {
        /// `swap`, `restore`, …
        what: String,
        /// The slots.
        slots: Vec<String>,
        /// Folders that are made for them, outermost first.
        folders: Vec<String>,
    },
    /// What will happen to one slot.
    Put(Put),
    /// All parts are on the disk and verified: from here the change can be finished.
    Ready,
    /// All of it is done.
    Done,
    /// All of it was taken back.
    Undone,
}
