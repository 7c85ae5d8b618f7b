//! Giving stock back.

use super::root::Root;
use super::status::{Condition, condition};
use crate::disk::Disk;
use crate::error::{Error, Result};
use crate::ledger::record::Held;
use crate::ledger::{Ledger, Recovered};
use crate::names::{did_you_mean, nearest};
use serde::Serialize;

/// What to do with slots that hold neither what was installed nor the stock.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Changed {
    /// Refuse.
    Refuse,
    /// Give the stock back; what is there now is kept beside it.
    Overwrite,
    /// Leave what is there; it counts as the stock from now on.
    Keep,
}

/// What was done.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Restored {
    /// Slots that have their stock again.
    pub given_back: Vec<String>,
    /// Slots whose file was ours and where nothing was before: removed.
    pub removed: Vec<String>,
    /// Slots that were left as they are.
    pub left: Vec<String>,
    /// A change that had been broken off earlier.
    pub recovered: Option<Recovered>,
}

/// Gives all slots their stock back, or only those named; all of them or none.
///
/// # Errors
/// [`Error::Refused`] where a named slot is not in the ledger or a slot was changed since;
/// [`Error::StockDamaged`]; those of the ledger.
pub fn restore(
    root: &Root,
    slots: &[String],
    changed: Changed,
    dry_run: bool,
    disk: &dyn Disk,
) -> Result<Restored> {
    if dry_run {
        let state = Ledger::peek(&root.ledger)?;
        return Ok(sort(root, &state, slots, changed)?.0);
    }
    let mut ledger = Ledger::open(&root.path, &root.ledger, disk)?;
    let recovered = ledger.recovered().cloned();
    let (mut restored, steps) = sort(root, ledger.state(), slots, changed)?;
    restored.recovered = recovered;
    if steps.is_empty() {
        return Ok(restored);
    }
    let names: Vec<String> = steps.iter().map(|step| step.slot.clone()).collect();
    let mut change = ledger.begin("restore", &names)?;
    for step in &steps {
        match step.act {
            Act::GiveBack { stock, aside } => change.give_back(&step.slot, stock, aside)?,
            Act::Leave => change.leave(&step.slot)?,
        }
    }
    change.finish()?;
    Ok(restored)
}

struct Step {
    slot: String,
    act: Act,
}

enum Act {
    GiveBack { stock: Held, aside: bool },
    Leave,
}

/// Decides for each slot what will be done.
fn sort(
    root: &Root,
    state: &crate::ledger::state::State,
    slots: &[String],
    changed: Changed,
) -> Result<(Restored, Vec<Step>)> {
    let installed: Vec<&String> = state
        .slots
        .iter()
        .filter(|(_, known)| known.installed.is_some())
        .map(|(slot, _)| slot)
        .collect();
    if let Some(unknown) = slots.iter().find(|slot| !installed.contains(slot)) {
        return Err(not_installed(unknown, &installed));
    }
    let mut restored = Restored {
        given_back: Vec::new(),
        removed: Vec::new(),
        left: Vec::new(),
        recovered: None,
    };
    let mut steps = Vec::new();
    for slot in installed {
        let known = &state.slots[slot];
        let wanted = slots.is_empty() || slots.contains(slot);
        let (Some((ours, _)), Some(stock), true) =
            (&known.installed, known.stock.last().copied(), wanted)
        else {
            continue;
        };
        let now = crate::ledger::held_at(&crate::tree::slot_path(&root.path, slot)?)?;
        let is_changed = condition(now, *ours, known) == Condition::ChangedSince;
        let act = match (is_changed, changed) {
            (true, Changed::Refuse) => return Err(changed_since(slot)),
            (true, Changed::Keep) => Act::Leave,
            (aside, _) => Act::GiveBack { stock, aside },
        };
        match (&act, stock) {
            (Act::Leave, _) => restored.left.push(slot.clone()),
            (_, Held::Nothing) => restored.removed.push(slot.clone()),
            (_, Held::File(_)) => restored.given_back.push(slot.clone()),
        }
        steps.push(Step {
            slot: slot.clone(),
            act,
        });
    }
    Ok((restored, steps))
}

fn not_installed(slot: &str, installed: &[&String]) -> Error {
    let near = nearest(slot, installed.iter().map(|name| name.as_str()), 3);
    Error::refused(
        format!("nothing is installed in {slot}"),
        did_you_mean(&near).unwrap_or_else(|| "status shows what is".to_owned()),
    )
}

fn changed_since(slot: &str) -> Error {
    Error::refused(
        format!("{slot} was changed since it was installed"),
        "say --changed overwrite to give the stock back (what is there now is kept in the ledger), \
         or --changed keep to leave it",
    )
}
