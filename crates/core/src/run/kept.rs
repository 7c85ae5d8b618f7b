//! Copies of what somebody has put into a slot, which are kept and not in place: brought back or let go by name.

use crate::disk::Disk;
use crate::error::Result;
use crate::ledger::record::Held;
use crate::ledger::state::Slot;
use crate::ledger::{Ledger, What};
use crate::names::Key;
use crate::refusal::OddLedger;
use crate::root::Root;
use schemars::JsonSchema;
use serde::Serialize;

/// Digits of a copy's name that are shown.
const SHOWN: usize = 8;

/// What is done with a kept copy.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum KeptAct {
    /// It comes back into its slot; what is there is kept in its turn.
    Restore,
    /// It goes for good.
    Drop,
}

/// A kept copy with which something was done.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
pub struct KeptDone {
    /// The slot.
    pub slot: Key,
    /// The beginning of the copy's name.
    pub copy: String,
}

/// Brings kept copies back, or lets them go. `copy` is how a copy's name begins, where a slot has several.
///
/// # Errors
/// [`Error::Refused`](crate::Error::Refused) where a slot has no such copy, or several that are meant, or something is
/// installed there; those of the ledger.
pub fn kept(
    root: &Root,
    slots: &[Key],
    copy: Option<&str>,
    act: KeptAct,
    dry_run: bool,
    disk: &dyn Disk,
) -> Result<Vec<KeptDone>> {
    let choose = |known: Option<&Slot>, slot: &Key| chosen(known, slot, copy, act);
    if dry_run {
        let state = Ledger::peek(root)?;
        let all = slots.iter().map(|slot| choose(state.slots.get(slot), slot));
        let all: Vec<Vec<Held>> = all.collect::<Result<_>>()?;
        return Ok(done(slots, &all));
    }
    let mut ledger = Ledger::open(root, disk)?;
    let all = slots.iter().map(|slot| choose(ledger.state().slots.get(slot), slot));
    let all: Vec<Vec<Held>> = all.collect::<Result<_>>()?;
    match act {
        KeptAct::Restore => {
            let mut change = ledger.begin(What::Restore, slots, Vec::new(), Vec::new())?;
            for (slot, copies) in slots.iter().zip(&all) {
                copies.iter().try_for_each(|copy| change.swap_kept(slot, *copy))?;
            }
            change.finish()?;
        }
        KeptAct::Drop => {
            for (slot, copies) in slots.iter().zip(&all) {
                ledger.drop_copies(slot, copies.clone())?;
            }
        }
    }
    Ok(done(slots, &all))
}

fn done(slots: &[Key], all: &[Vec<Held>]) -> Vec<KeptDone> {
    let each = slots.iter().zip(all).flat_map(|(slot, copies)| {
        copies.iter().map(|copy| KeptDone { slot: slot.clone(), copy: name_of(*copy) })
    });
    each.collect()
}

fn name_of(copy: Held) -> String {
    let hex = copy.hash().map(|hash| hash.hex()).unwrap_or_default();
    hex.chars().take(SHOWN).collect()
}

/// The copies of a slot that are meant.
fn chosen(known: Option<&Slot>, slot: &Key, copy: Option<&str>, act: KeptAct) -> Result<Vec<Held>> {
    let kept: Vec<Held> =
        known.into_iter().flat_map(Slot::kept_aside).map(|one| one.held).collect();
    let names = || kept.iter().map(|copy| name_of(*copy)).collect();
    let begins = |held: &&Held| {
        let hex = held.hash().map(|hash| hash.hex()).unwrap_or_default();
        copy.is_none_or(|start| hex.starts_with(&start.to_lowercase()))
    };
    let meant: Vec<Held> = kept.iter().filter(begins).copied().collect();
    let (slot, copy) = (slot.clone(), copy.map(str::to_owned));
    if meant.is_empty() {
        return Err(OddLedger::NoKeptCopy { slot, copy, all: names() }.into());
    }
    if act == KeptAct::Restore && known.is_some_and(|known| known.expected().is_some()) {
        return Err(OddLedger::StillInstalled { slot }.into());
    }
    if meant.len() > 1 && (act == KeptAct::Restore || copy.is_some()) {
        return Err(OddLedger::KeptCopies { slot, all: names() }.into());
    }
    Ok(meant)
}
