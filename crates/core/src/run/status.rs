//! What is installed in a root, and whether it is still there.

use super::restore::Which;
use crate::disk::read_plain;
use crate::error::Result;
use crate::hash::Hash;
use crate::ledger::record::{Held, Installed};
use crate::ledger::state::{Slot, State};
use crate::ledger::{Ledger, held_at, kept_in};
use crate::limits;
use crate::names::Key;
use crate::root::{Kind, Root};
use schemars::JsonSchema;
use serde::Serialize;

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
    /// How many generations of stock are kept; a slot that held nothing counts as one.
    pub generations: usize,
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

/// All that is installed in a root.
#[derive(Debug)]
pub struct Status {
    /// Slots.
    pub slots: Vec<SlotStatus>,
    /// Entries.
    pub entries: Vec<EntryStatus>,
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
    let mut slots = Vec::new();
    let mut entries = Vec::new();
    for (slot, known) in state.slots.iter().filter(|(slot, _)| which.holds(slot)) {
        let path = state.path_of(&root.path, slot);
        let now = path.as_ref().ok().and_then(|path| held_at(path).ok());
        if let Some(top) = known.top() {
            let lower = known.layers.iter().rev().skip(1).rev();
            slots.push(SlotStatus {
                slot: slot.clone(),
                condition: now.map_or(Condition::Changed, |now| condition(now, top.held, known)),
                installed: top.installed.clone(),
                below: lower.map(|layer| layer.installed.job.clone()).collect(),
                generations: known.stock.len(),
                stock_lost: known.kept().any(|held| is_lost(root, held, proof)),
            });
        }
        if known.told.is_empty() {
            continue;
        }
        let bytes = path.ok().and_then(|path| read_plain(&path, limits::LIST).ok());
        entries.extend(known.told.iter().enumerate().map(|(at, told)| EntryStatus {
            file: slot.clone(),
            what: told.done.to_string(),
            job: told.job.clone(),
            condition: match &bytes {
                _ if known.told[at + 1..].iter().any(|later| later.done.covers(&told.done)) => {
                    Condition::Covered
                }
                None => Condition::Missing,
                Some(bytes) if told.done.stands(bytes) => Condition::Installed,
                Some(_) => Condition::Changed,
            },
        }));
    }
    Ok(Status {
        slots,
        entries,
        strays: state.strays_of(&crate::ledger::copies_in(&root.ledger)),
        state,
    })
}

/// Whether a kept copy is gone; read whole, whether it is damaged.
fn is_lost(root: &Root, held: Held, proof: Proof) -> bool {
    let Some(hash) = held.hash() else {
        return false;
    };
    let kept = kept_in(&root.ledger, hash);
    let there = Kind::of(&kept).is_ok_and(|kind| kind == Kind::File);
    !there || (proof == Proof::Verify && !Hash::of_file(&kept).is_ok_and(|found| found == hash))
}

/// Compares what is there with what the ledger knows.
pub fn condition(now: Held, installed: Held, known: &Slot) -> Condition {
    match now {
        now if now == installed => Condition::Installed,
        now if known.original() == Some(now) => Condition::StockAgain,
        Held::Nothing => Condition::Missing,
        Held::File(_) | Held::Link(_) => Condition::Changed,
    }
}
