//! What is installed in a root, and whether it is still there.

use super::root::Root;
use crate::error::Result;
use crate::ledger::record::{Held, Installed};
use crate::ledger::state::{Slot, State};
use crate::ledger::{Ledger, held_at};
use crate::tree::slot_path;
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
    /// How many generations of stock are kept; a slot that held nothing counts as one.
    pub generations: usize,
}

/// Every slot that something is installed in, and the state behind it. Changes nothing.
///
/// # Errors
/// As [`Ledger::peek`].
pub fn status(root: &Root) -> Result<(Vec<SlotStatus>, State)> {
    let state = Ledger::peek(&root.ledger)?;
    let mut all = Vec::new();
    for (slot, known) in &state.slots {
        if let Some((held, installed)) = &known.installed {
            all.push(SlotStatus {
                slot: slot.clone(),
                condition: condition(held_at(&slot_path(&root.path, slot)?)?, *held, known),
                installed: installed.clone(),
                generations: known.stock.len(),
            });
        }
    }
    Ok((all, state))
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
