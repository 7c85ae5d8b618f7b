//! What is installed in a root, and whether it is still there.

use super::root::Root;
use crate::error::Result;
use crate::ledger::record::{Held, Installed};
use crate::ledger::state::{Slot, State};
use crate::ledger::{Ledger, held_at};
use serde::Serialize;

/// How a slot is now.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Condition {
    /// What was installed is there.
    Installed,
    /// Something else is there.
    ChangedSince,
    /// Nothing is there.
    Missing,
    /// The stock is there again, though not by us.
    StockAgain,
}

impl Condition {
    /// In words.
    pub fn words(self) -> &'static str {
        match self {
            Self::Installed => "installed",
            Self::ChangedSince => "changed since",
            Self::Missing => "missing",
            Self::StockAgain => "stock again",
        }
    }
}

/// One slot's state.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct SlotStatus {
    /// The slot, relative to the root.
    pub slot: String,
    /// How it is now.
    pub condition: Condition,
    /// What was installed.
    pub installed: Installed,
    /// Jobs whose files lie below it, the lowest first; swaps by hand have no name.
    pub below: Vec<Option<String>>,
    /// How many generations of stock are kept; a slot that held nothing counts as one.
    pub generations: usize,
}

/// One entry's state.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct EntryStatus {
    /// The file, with its root where that is not the main one.
    pub file: String,
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
    /// The state behind it.
    pub state: State,
}

/// Every slot that something is installed in, every entry, and the state behind it. Changes nothing.
///
/// # Errors
/// As [`Ledger::peek`].
pub fn status(root: &Root) -> Result<Status> {
    let state = Ledger::peek(&root.ledger)?;
    let mut slots = Vec::new();
    let mut entries = Vec::new();
    for (slot, known) in &state.slots {
        let path = state.path_of(&root.path, slot)?;
        if let Some(top) = known.top() {
            let lower = known.layers.iter().rev().skip(1).rev();
            slots.push(SlotStatus {
                slot: slot.clone(),
                condition: condition(held_at(&path)?, top.held, known),
                installed: top.installed.clone(),
                below: lower.map(|layer| layer.installed.job.clone()).collect(),
                generations: known.stock.len(),
            });
        }
        if known.told.is_empty() {
            continue;
        }
        let bytes = std::fs::read(&path).ok();
        entries.extend(known.told.iter().map(|told| EntryStatus {
            file: slot.clone(),
            what: told.done.to_string(),
            job: told.job.clone(),
            condition: match &bytes {
                None => Condition::Missing,
                Some(bytes) if told.done.stands(bytes) => Condition::Installed,
                Some(_) => Condition::ChangedSince,
            },
        }));
    }
    Ok(Status {
        slots,
        entries,
        state,
    })
}

/// Compares what is there with what the ledger knows.
pub fn condition(now: Held, installed: Held, known: &Slot) -> Condition {
    match now {
        now if now == installed => Condition::Installed,
        now if known.stock.last() == Some(&now) => Condition::StockAgain,
        Held::Nothing => Condition::Missing,
        Held::File(_) => Condition::ChangedSince,
    }
}
