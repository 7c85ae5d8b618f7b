//! Bringing a root that was left in the middle of a change to exactly before or exactly after.

use super::Ledger;
use super::record::{Held, Record};
use super::state::Pending;
use crate::error::Result;
use crate::hash::Hash;
use crate::tree::part_of;
use serde::Serialize;
use std::fmt;

/// How an unfinished change ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Ending {
    /// All of it is done now.
    Finished,
    /// All of it was taken back.
    TakenBack,
}

/// An unfinished change that was found and dealt with.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Recovered {
    /// `swap`, `restore`, …
    pub what: String,
    /// Its slots.
    pub slots: Vec<String>,
    /// How it ended.
    pub ending: Ending,
}

impl fmt::Display for Recovered {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let ending = match self.ending {
            Ending::Finished => "finished now",
            Ending::TakenBack => "taken back now",
        };
        let shown: Vec<&str> = self.slots.iter().take(3).map(String::as_str).collect();
        let more = match self.slots.len().saturating_sub(3) {
            0 => String::new(),
            more => format!(" and {more} more"),
        };
        let slots = shown.join(", ") + &more;
        write!(
            f,
            "an earlier {} of {slots} was broken off; it was {ending}",
            self.what
        )
    }
}

/// Deals with what the log left unfinished.
pub fn recover(ledger: &mut Ledger<'_>) -> Result<Option<Recovered>> {
    let Some(pending) = ledger.state.pending.clone() else {
        return Ok(None);
    };
    ledger
        .state
        .refuse_missing_roots(&ledger.root, &pending.slots)?;
    let ending = if pending.ready && can_finish(ledger, &pending)? {
        finish(ledger, &pending)?;
        Ending::Finished
    } else {
        take_back(ledger)?;
        Ending::TakenBack
    };
    Ok(Some(Recovered {
        what: pending.what,
        slots: pending.slots,
        ending,
    }))
}

/// Whether every slot either is where it should be or has its part.
fn can_finish(ledger: &Ledger<'_>, pending: &Pending) -> Result<bool> {
    for put in &pending.puts {
        let path = ledger.path_of(&put.slot)?;
        let now = ledger.held(&put.slot)?;
        let part = part_of(&path);
        let possible = match put.after {
            after if now == after => true,
            Held::Nothing => now == put.before,
            Held::File(hash) => {
                now == put.before && part.is_file() && Hash::of_file(&part)? == hash
            }
        };
        if !possible {
            return Ok(false);
        }
    }
    Ok(true)
}

fn finish(ledger: &mut Ledger<'_>, pending: &Pending) -> Result<()> {
    for put in &pending.puts {
        if ledger.held(&put.slot)? != put.after {
            ledger.settle(&put.slot, put.after)?;
        }
    }
    ledger.sync_folders_of(&pending.slots)?;
    ledger.clear_caches()?;
    ledger.append(vec![Record::Done])?;
    clear_parts(ledger, pending);
    remove_empty_folders(ledger);
    ledger.tidy();
    Ok(())
}

/// Gives every slot back what it held before the unfinished change. A slot that holds something
/// that is neither from before nor from after is not ours to touch.
pub fn take_back(ledger: &mut Ledger<'_>) -> Result<()> {
    let Some(pending) = ledger.state.pending.clone() else {
        return Ok(());
    };
    ledger
        .state
        .refuse_missing_roots(&ledger.root, &pending.slots)?;
    for put in &pending.puts {
        let now = ledger.held(&put.slot)?;
        if now == put.before || now != put.after {
            continue;
        }
        if let Held::File(hash) = put.before {
            ledger.part_from_kept(&put.slot, hash)?;
        }
        ledger.settle(&put.slot, put.before)?;
    }
    clear_parts(ledger, &pending);
    for folder in pending.folders.iter().rev() {
        let _ = ledger.disk.remove_folder(&ledger.path_of(folder)?);
    }
    ledger.sync_folders_of(&pending.slots)?;
    ledger.append(vec![Record::Undone])?;
    ledger.tidy();
    Ok(())
}

fn clear_parts(ledger: &Ledger<'_>, pending: &Pending) {
    for slot in &pending.slots {
        if let Ok(path) = ledger.path_of(slot) {
            let _ = ledger.disk.remove(&part_of(&path));
        }
    }
}

/// Removes the folders that were made for slots that are gone again.
pub fn remove_empty_folders(ledger: &Ledger<'_>) {
    for folder in ledger.state.folders.iter().rev() {
        if let Ok(path) = ledger.path_of(folder) {
            let _ = ledger.disk.remove_folder(&path);
        }
    }
}
