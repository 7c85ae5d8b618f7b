//! What is installed in a root, and whether it is still there.

use super::restore::Which;
use crate::disk::{Attributes, read_plain};
use crate::entry::OpenFile;
use crate::error::Result;
use crate::ledger::record::{Held, Installed};
use crate::ledger::state::{Slot, State};
use crate::ledger::{Ledger, check_intact, held_at, kept_in};
use crate::limits;
use crate::names::Key;
use crate::root::{Kind, Root};
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeSet;

/// How a slot is now.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Condition {
    /// What was installed is there.
    Installed,
    /// Something else is there.
    Changed,
    /// Nothing is there.
    Missing,
    /// The stock is there again, though not by us.
    StockAgain,
    /// Another job has put its own in the same place since.
    Covered,
}

impl Condition {
    /// Whether something else is there than what was installed last.
    pub fn is_odd(self) -> bool {
        !matches!(self, Self::Installed | Self::Covered)
    }

    /// In words.
    pub fn words(self) -> &'static str {
        match self {
            Self::Installed => "installed",
            Self::Changed => "changed",
            Self::Missing => "missing",
            Self::StockAgain => "restored",
            Self::Covered => "covered",
        }
    }
}

/// One slot's state.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
pub struct SlotStatus {
    /// The slot.
    pub slot: Key,
    /// How it is now.
    pub condition: Condition,
    /// What was installed.
    pub installed: Installed,
    /// Jobs whose files lie below it, the lowest first; single swaps have no name.
    pub below: Vec<Option<String>>,
    /// Whether the kept stock is missing or, where all of it was read, damaged.
    pub stock_lost: bool,
}

/// One entry's state.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
pub struct EntryStatus {
    /// The file, with its root where that is not the main one.
    pub file: Key,
    /// What was put there, in words.
    pub what: String,
    /// The job that did.
    pub job: String,
    /// Whether it still stands there.
    pub condition: Condition,
}

/// A copy of what somebody has put into a slot, which is not in place and comes back by no other command than
/// `restore --kept`.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
pub struct KeptCopy {
    /// The slot.
    pub slot: Key,
    /// Its hash, in hexadecimal digits.
    pub copy: String,
    /// Its size in bytes.
    pub bytes: u64,
    /// When it was last changed, in seconds since 1970, where that is known.
    pub changed_at: Option<u64>,
    /// Whether the copy is missing or, where all of it was read, damaged.
    pub lost: bool,
}

/// All that is installed in a root.
#[derive(Debug)]
pub struct Status {
    /// Slots.
    pub slots: Vec<SlotStatus>,
    /// Entries.
    pub entries: Vec<EntryStatus>,
    /// Copies that are kept beside what is installed and what is in place.
    pub kept: Vec<KeptCopy>,
    /// Copies of stock of which no record tells where they belong.
    pub strays: Vec<String>,
    /// The state behind it.
    pub state: State,
}

/// How much of the kept stock is read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Proof {
    /// Whether its copies are there, and as large as they were.
    Look,
    /// All of it.
    Verify,
}

/// Every slot that something is installed in, every entry, and the state behind it. Changes nothing.
///
/// # Errors
/// As [`Ledger::peek`].
pub fn status(root: &Root, which: Which<'_>, proof: Proof) -> Result<Status> {
    let state = Ledger::peek(root)?;
    let (mut slots, mut entries, mut kept) = (Vec::new(), Vec::new(), Vec::new());
    for (slot, known) in state.slots.iter().filter(|(slot, _)| which.holds(slot)) {
        kept.extend(kept_copies(root, slot, known, proof));
        let Some(expected) = known.expected() else { continue };
        let path = state.path_of(&root.path, slot);
        let now = path.as_ref().ok().and_then(|path| held_at(path).ok());
        if let Some(top) = known.top() {
            let lower = known.layers.iter().rev().skip(1).rev();
            slots.push(SlotStatus {
                slot: slot.clone(),
                condition: now.map_or(Condition::Changed, |now| condition(now, expected, known)),
                installed: top.installed.clone(),
                below: lower.map(|layer| layer.installed.job.clone()).collect(),
                stock_lost: known.kept().any(|held| is_lost(root, held, proof)),
            });
        }
        let bytes = path.ok().and_then(|path| read_plain(&path, limits::LIST).ok());
        entries.extend(entries_of(slot, known, bytes.as_deref()));
    }
    Ok(Status {
        slots,
        entries,
        kept,
        strays: state.strays_of(&crate::ledger::copies_in(&root.ledger)),
        state,
    })
}

/// The entries in a file, and how each of them is now.
fn entries_of(slot: &Key, known: &Slot, bytes: Option<&[u8]>) -> Vec<EntryStatus> {
    let top = known.layers.len();
    let mut open = bytes.map(|bytes| OpenFile::new(bytes.to_vec()));
    let mut all = Vec::new();
    for level in 0..=top {
        let made = &known.entries_at(level).made;
        let mut over = BTreeSet::new();
        // What was put in the same place later lies over what was put there before.
        let covered = made.iter().rev().map(|entry| {
            level < top || entry.done.place().is_some_and(|place| !over.insert(place))
        });
        let covered: Vec<bool> = covered.collect();
        let made = made.iter().zip(covered.into_iter().rev());
        all.extend(made.map(|(entry, covered)| EntryStatus {
            file: slot.clone(),
            what: entry.done.to_string(),
            job: entry.job.clone(),
            condition: match open.as_mut().map(|open| open.stands(&entry.done)) {
                _ if covered => Condition::Covered,
                None => Condition::Missing,
                Some(true) => Condition::Installed,
                Some(false) => Condition::Changed,
            },
        }));
    }
    all
}

/// The copies of a slot that are kept aside.
fn kept_copies<'s>(
    root: &'s Root,
    slot: &'s Key,
    known: &'s Slot,
    proof: Proof,
) -> impl Iterator<Item = KeptCopy> + 's {
    known.kept_aside().filter_map(move |original| {
        let hash = original.held.hash()?;
        let found = std::fs::metadata(kept_in(&root.ledger, hash)).ok();
        Some(KeptCopy {
            slot: slot.clone(),
            copy: hash.hex(),
            bytes: found.map_or(0, |found| found.len()),
            changed_at: original.was.as_ref().and_then(Attributes::changed_at),
            lost: is_lost(root, original.held, proof),
        })
    })
}

/// Whether a kept copy is gone; read whole, whether it is damaged.
fn is_lost(root: &Root, held: Held, proof: Proof) -> bool {
    let Some(hash) = held.hash() else {
        return false;
    };
    let kept = kept_in(&root.ledger, hash);
    match proof {
        // What cannot be read now is not told to be damaged.
        Proof::Verify => check_intact(&kept, hash).is_ok_and(|intact| !intact),
        Proof::Look => Kind::of(&kept).is_ok_and(|kind| kind != Kind::File),
    }
}

/// Compares what is there with what the ledger knows.
pub fn condition(now: Held, installed: Held, known: &Slot) -> Condition {
    let tended = known.top().is_some_and(|top| top.installed.tended);
    match now {
        now if now == installed || (tended && now != Held::Nothing) => Condition::Installed,
        now if known.original() == Some(now) => Condition::StockAgain,
        Held::Nothing => Condition::Missing,
        Held::File(_) | Held::Link(_) => Condition::Changed,
    }
}
