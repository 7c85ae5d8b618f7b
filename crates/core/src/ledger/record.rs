//! What the ledger's log consists of.

use crate::disk::Attributes;
use crate::entry::Done;
use crate::hash::Hash;
use crate::names::Key;
use crate::sheet::Method;
use deft_needle_audio::plan::Decision;
use schemars::JsonSchema;
use serde::{Deserialize, Deserializer, Serialize};
use std::collections::BTreeMap;

/// What lies at a slot.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, JsonSchema, Serialize, Deserialize,
)]
#[serde(rename_all = "kebab-case")]
pub enum Held {
    /// No file.
    Nothing,
    /// A file with these contents.
    File(Hash),
    /// A link whose target is a text with this hash.
    Link(Hash),
}

impl Held {
    /// What a kept copy of it is named by; nothing where there is nothing to keep.
    pub fn hash(self) -> Option<Hash> {
        match self {
            Self::Nothing => None,
            Self::File(hash) | Self::Link(hash) => Some(hash),
        }
    }
}

/// What was installed, for `status`.
#[derive(Debug, Clone, Default, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct Installed {
    /// The clip, as it was named.
    pub clip: String,
    /// The hash of the clip.
    pub clip_hash: Option<Hash>,
    /// What was done to it.
    #[serde(default, deserialize_with = "known", skip_serializing_if = "Vec::is_empty")]
    pub decisions: Vec<Decision>,
    /// The same in words, a line each, as earlier versions wrote it; what an archive holds.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
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
    /// The job that did it; `None` where it was a single swap.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub job: Option<String>,
    /// The slot that it stands for, where it is a file of a mirrored tree.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stands_for: Option<String>,
    /// Whether it is no slot: a file of the target's that was carried along, or one that it has asked for.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub beside: bool,
    /// The slot that it came with, and goes with.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub belongs_to: Option<Key>,
    /// Whether the target's own tools write it anew for the slot that it came with.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub tended: bool,
    /// Where the clip lay, as an absolute path; `None` where it was no file.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub clip_path: Option<String>,
    /// The options that were typed, by their names without dashes.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub options: BTreeMap<String, Vec<String>>,
    /// How the file was made, where it was not fitted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub making: Option<Method>,
    /// The hash of all that decides the file's bytes: what has the same need not be made again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<Hash>,
}

/// Decisions that this version knows: what a later one has written must not make a log unreadable.
fn known<'de, D: Deserializer<'de>>(from: D) -> Result<Vec<Decision>, D::Error> {
    let all = Vec::<serde_json::Value>::deserialize(from)?;
    Ok(all.into_iter().filter_map(|value| serde_json::from_value(value).ok()).collect())
}

/// An entry that was made in a file of the target's.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct EntryRecord {
    /// The job that made it.
    pub job: String,
    /// The slot that it was made for; `None` where it is one for all.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub slot: Option<Key>,
    /// What was done, and how it is undone.
    pub done: Done,
}

/// One slot's part in a change.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct Put {
    /// The slot.
    pub slot: Key,
    /// What lies there before.
    pub before: Held,
    /// What that has beside its contents.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub was: Option<Attributes>,
    /// What lies there after.
    pub after: Held,
    /// What that is given beside its contents; nothing: what lies there before is like.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub dress: Option<Attributes>,
    /// Stock that is new to the ledger.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stock: Option<Held>,
    /// Contents that are neither stock nor ours, kept beside the stock.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub aside: Option<Held>,
    /// What is installed after; nothing where what lies below comes back, or entries alone change.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub installed: Option<Installed>,
    /// How many layers stay below what is put there.
    #[serde(default, skip_serializing_if = "is_none_left")]
    pub below: usize,
    /// The contents of what is installed without the entries that it has from the beginning.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub whole: Option<Held>,
    /// All entries that are in the topmost layer, or in the original, after; nothing where they stay as they are.
    #[serde(default, alias = "told", skip_serializing_if = "Option::is_none")]
    pub entries: Option<Vec<EntryRecord>>,
    /// Whether others have written into the file since our last entry.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub mixed: bool,
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde asks for it")]
fn is_none_left(below: &usize) -> bool {
    *below == 0
}

/// What the ledger must know of a target to take something out of it again.
#[derive(Debug, Clone, Default, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct TargetFacts {
    /// Patterns of its caches.
    #[serde(default)]
    pub clear: Vec<String>,
    /// What the user has to do once files have changed.
    #[serde(default)]
    pub after: Option<String>,
}

/// Parts that could not be removed, since the way to them was gone or led through a link.
#[derive(Debug, Clone, Default, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct Left {
    /// The slots that they lie beside.
    #[serde(default, rename = "left", skip_serializing_if = "Vec::is_empty")]
    pub beside: Vec<Key>,
    /// What their names are made of.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub token: String,
}

/// One line of the log.
#[expect(clippy::large_enum_variant, reason = "few of them live, and not for long")]
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
#[serde(tag = "record", rename_all = "kebab-case")]
pub enum Record {
    /// The first line: which root, and how to read the rest.
    Root {
        /// The root's path when the ledger was made.
        path: String,
        /// The version of this format: 1 to 3.
        version: u32,
        /// What tells this ledger from all others.
        #[serde(default)]
        id: String,
    },
    /// A change begins; parts of these slots may lie about from now on.
    Begin {
        /// `swap`, `restore`, …
        what: String,
        /// The slots.
        slots: Vec<Key>,
        /// What each of them holds; copies of it are taken now.
        #[serde(default)]
        holds: Vec<Held>,
        /// Contents that are kept beside those.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        copies: Vec<Held>,
        /// Folders that are made for them, outermost first.
        folders: Vec<Key>,
        /// Caches that are moved aside while the files are placed, and go once the change is done.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        caches: Vec<Key>,
        /// What the names of its parts are made of.
        #[serde(default)]
        token: String,
    },
    /// Where the other roots are, by their names; the slots there are written `name:path`.
    Roots {
        /// Absolute paths.
        others: BTreeMap<String, String>,
        /// The same, links followed.
        #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
        real: BTreeMap<String, String>,
    },
    /// What must be known of the target.
    Target(TargetFacts),
    /// Copies of stock of which no record tells where they belong.
    Strays {
        /// Their names.
        copies: Vec<String>,
    },
    /// The user has let copies of what lay in a slot go.
    Dropped {
        /// The slot.
        slot: Key,
        /// What goes.
        copies: Vec<Held>,
    },
    /// Parts that could not be removed are gone.
    Swept,
    /// What will happen to one slot.
    Put(Put),
    /// All parts are on the disk and verified: from here the change can be finished.
    Ready,
    /// It is done, but for these slots. Those that were to get a file of ours count as installed all the
    /// same, with their stock: what lies there now is somebody else's. Others are as they were, and what was
    /// found there is kept.
    Done {
        /// Slots that could not be brought to what they should hold.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        except: Vec<Key>,
        /// Parts that could not be removed.
        #[serde(default, flatten)]
        left: Left,
    },
    /// All of it was rolled back.
    Undone {
        /// Parts that could not be removed.
        #[serde(default, flatten)]
        left: Left,
    },
}
