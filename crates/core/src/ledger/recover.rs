//! Bringing a root that was left in the middle of a change to exactly before or exactly after.

use super::Ledger;
use super::copies::is_intact;
use super::record::{Held, Left, Put, Record};
use super::state::{Pending, State};
use crate::disk::Durable;
use crate::error::internal;
use crate::error::{Error, Result};
use crate::hash::Hash;
use crate::names::{Key, PART};
use crate::refusal::OddLedger;
use crate::root::Kind;
use rayon::prelude::*;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeSet;
use std::fmt;
use std::io;
use std::path::PathBuf;
use tracing::debug;

/// How an interrupted change ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Ending {
    /// All of it is done now.
    Completed,
    /// All of it was rolled back.
    RolledBack,
    /// It is done, but for slots that could be brought neither way.
    Partly,
}

/// An interrupted change that was found and dealt with.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Recovered {
    /// `swap`, `restore`, …
    pub what: String,
    /// Its slots.
    pub slots: Vec<Key>,
    /// How it ended.
    pub ending: Ending,
}

impl fmt::Display for Recovered {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let ending = match self.ending {
            Ending::Completed => "completed",
            Ending::RolledBack => "rolled back",
            Ending::Partly => "completed as far as possible",
        };
        let shown: Vec<&str> = self.slots.iter().take(3).map(Key::as_str).collect();
        let more = match self.slots.len().saturating_sub(3) {
            0 => String::new(),
            more => format!(" and {more} more"),
        };
        let slots = shown.join(", ") + &more;
        write!(f, "an earlier {} of {slots} was interrupted; it was {ending} now", self.what)
    }
}

/// Deals with what the log left unfinished.
pub fn recover(ledger: &mut Ledger<'_>) -> Result<Option<Recovered>> {
    let Some(pending) = ledger.state.pending.clone() else {
        return Ok(None);
    };
    debug!(
        what = pending.what,
        ready = pending.ready,
        slots = pending.slots.len(),
        "interrupted change"
    );
    // What has placed nothing can be rolled back wherever its files are.
    if pending.ready {
        let root = &ledger.root.path;
        ledger.state.refuse_missing_roots(root, &pending.slots)?;
    }
    let ending = if pending.ready && can_finish(ledger, &pending) {
        place(ledger)?;
        end(ledger, Vec::new())?;
        Ending::Completed
    } else if !pending.ready || can_roll_back(ledger, &pending) {
        roll_back(ledger)?;
        Ending::RolledBack
    } else {
        let except = place_what_can(ledger, &pending);
        end(ledger, except)?;
        Ending::Partly
    };
    Ok(Some(Recovered { what: pending.what, slots: pending.slots, ending }))
}

/// Whether every slot either is where it should be or can be brought there.
fn can_finish(ledger: &Ledger<'_>, pending: &Pending) -> bool {
    pending.puts.iter().all(|put| can_place(ledger, put))
}

fn can_place(ledger: &Ledger<'_>, put: &Put) -> bool {
    let Ok(now) = ledger.held(&put.slot) else {
        return false;
    };
    // Where room had to be made for the part, the slot holds nothing for a moment.
    let is_before = now == put.before || now == Held::Nothing;
    match put.after {
        after if now == after => true,
        Held::Nothing => is_before,
        Held::File(hash) => {
            let part = ledger.part(&put.slot);
            is_before && (part.is_ok_and(|part| is_intact(&part, hash)) || is_kept(ledger, hash))
        }
        Held::Link(hash) => {
            let linked = ledger.part(&put.slot).and_then(|part| super::held_at(&part));
            is_before && (linked.is_ok_and(|held| held == put.after) || is_kept(ledger, hash))
        }
    }
}

fn is_kept(ledger: &Ledger<'_>, hash: Hash) -> bool {
    is_intact(&ledger.kept(hash), hash)
}

/// Whether every slot holds what it held before, or can get it back. One that holds something else, or
/// that cannot be looked at, may have held our file meanwhile: its stock must not be forgotten.
fn can_roll_back(ledger: &Ledger<'_>, pending: &Pending) -> bool {
    pending.puts.iter().all(|put| match ledger.held(&put.slot) {
        Ok(now) if now == put.before => true,
        Ok(now) if now == put.after || now == Held::Nothing => {
            put.before.hash().is_none_or(|hash| is_kept(ledger, hash))
        }
        _ => false,
    })
}

/// Copies that must stay once the change that is under way is done.
fn wanted_after(state: &State) -> BTreeSet<Hash> {
    let mut after = state.clone();
    let (except, left) = (Vec::new(), Left::default());
    after.apply(&Record::Done { except, left });
    after.kept()
}

/// Moves caches aside and puts every slot in place that is not there yet.
pub fn place(ledger: &mut Ledger<'_>) -> Result<()> {
    let Some(pending) = ledger.state.pending.clone() else {
        return Ok(());
    };
    for (at, cache) in pending.caches.iter().enumerate() {
        let (from, to) = (ledger.place(cache)?, aside(ledger, &pending, at)?);
        if from.kind == Kind::File {
            let moved = ledger.disk.rename(&from.path, &to);
            moved.map_err(Error::write("move the cache aside", &from.path))?;
        }
    }
    let wanted = wanted_after(&ledger.state);
    let whole = &*ledger;
    let moves = |put: &Put| Ok(put.before != put.after && whole.held(&put.slot)? != put.after);
    let moves: Vec<bool> = pending.puts.par_iter().map(moves).collect::<Result<_>>()?;
    let moving = pending.puts.iter().zip(moves).filter(|(_, moves)| *moves).map(|(put, _)| put);
    let (ready, without): (Vec<&Put>, Vec<&Put>) = moving.partition(|put| has_part(whole, put));
    let settle = |put: &Put, wanted: &BTreeSet<Hash>| {
        whole.settle(&put.slot, put.after, put.dress.as_ref(), wanted)
    };
    for settled in crate::disk::at_once(&ready, |put| settle(put, &wanted)) {
        settled.ok_or_else(|| internal("a slot was not settled".to_owned()))??;
    }
    // Where there was no room for a part, a copy becomes the part: that of the last slot that needs it.
    for (at, put) in without.iter().enumerate() {
        let later = without[at + 1..].iter().filter_map(|later| later.after.hash());
        settle(put, &wanted.iter().copied().chain(later).collect())?;
    }
    ledger.sync_folders_of(&pending.slots)
}

/// Whether what a slot is to hold lies beside it, or nothing is needed.
fn has_part(ledger: &Ledger<'_>, put: &Put) -> bool {
    let there = || Kind::of(&ledger.part(&put.slot).ok()?).ok().map(|kind| kind != Kind::Nothing);
    put.after == Held::Nothing || there().unwrap_or(false)
}

/// Places what can be placed; gives the slots that cannot.
fn place_what_can(ledger: &Ledger<'_>, pending: &Pending) -> Vec<Key> {
    let wanted = wanted_after(&ledger.state);
    let mut except = Vec::new();
    for put in &pending.puts {
        let there = || ledger.held(&put.slot).is_ok_and(|now| now == put.after);
        let placed = there()
            || (can_place(ledger, put)
                && ledger.settle(&put.slot, put.after, put.dress.as_ref(), &wanted).is_ok());
        if !placed {
            except.push(put.slot.clone());
        }
    }
    let _ = ledger.sync_folders_of(&pending.slots);
    except
}

/// Logs that a change is done, and clears up after it.
pub fn end(ledger: &mut Ledger<'_>, except: Vec<Key>) -> Result<()> {
    let Some(pending) = ledger.state.pending.clone() else {
        return Ok(());
    };
    let left = clear_parts(ledger, &pending);
    let asides = (0..pending.caches.len()).filter_map(|at| aside(ledger, &pending, at).ok());
    let asides: Vec<PathBuf> = asides.collect();
    for aside in asides.iter().filter(|aside| aside.symlink_metadata().is_ok()) {
        let cleared = ledger.disk.remove(aside);
        cleared.map_err(Error::write("clear the cache", aside))?;
    }
    ledger.append(vec![Record::Done { except, left }])?;
    remove_empty_folders(ledger);
    ledger.tidy();
    Ok(())
}

/// Gives every slot back what it held before the unfinished change.
///
/// # Errors
/// [`Error::Refused`] where a slot holds something else by now: the next run sees to it slot by slot.
pub fn roll_back(ledger: &mut Ledger<'_>) -> Result<()> {
    let Some(pending) = ledger.state.pending.clone() else {
        return Ok(());
    };
    if pending.ready && !can_roll_back(ledger, &pending) {
        return Err(OddLedger::Interrupted.into());
    }
    let wanted = ledger.state.kept();
    for put in pending.puts.iter().filter(|_| pending.ready) {
        if ledger.held(&put.slot)? == put.before {
            continue;
        }
        let was = put.was.as_ref();
        if let Err(error) = ledger.part_from_kept(&put.slot, put.before, was, Durable::Yes)
            && !error.is_full()
        {
            return Err(error);
        }
        ledger.settle(&put.slot, put.before, was, &wanted)?;
    }
    for at in 0..pending.caches.len() {
        let (Ok(from), Ok(to)) = (aside(ledger, &pending, at), ledger.place(&pending.caches[at]))
        else {
            continue;
        };
        if to.kind == Kind::Nothing && from.symlink_metadata().is_ok() {
            let moved = ledger.disk.rename(&from, &to.path);
            moved.map_err(Error::write("put back", &to.path))?;
        }
    }
    let left = clear_parts(ledger, &pending);
    for folder in pending.folders.iter().rev() {
        if let Ok(place) = ledger.place(folder) {
            let _ = ledger.disk.remove_folder(&place.path);
        }
    }
    let roots = |key: &&Key| ledger.state.root_of(&ledger.root.path, key).is_ok();
    let keys: Vec<Key> = pending.slots.iter().filter(roots).cloned().collect();
    ledger.sync_folders_of(&keys)?;
    ledger.append(vec![Record::Undone { left }])?;
    ledger.tidy();
    Ok(())
}

fn aside(ledger: &Ledger<'_>, pending: &Pending, at: usize) -> Result<PathBuf> {
    ledger.beside(&pending.caches[at], &format!("{}-c{at}", pending.token))
}

/// Removes parts; gives those that could not be.
fn clear_parts(ledger: &Ledger<'_>, pending: &Pending) -> Left {
    let cleared = |key: &Key| {
        let folder = ledger.state.root_of(&ledger.root.path, key);
        let part = folder.and_then(|folder| match folder.is_dir() {
            true => ledger.part(key),
            false => Err(Error::read(&folder)(io::ErrorKind::NotFound.into())),
        });
        match part {
            Ok(part) => part.symlink_metadata().is_err() || ledger.disk.remove(&part).is_ok(),
            Err(_) => false,
        }
    };
    let cleared = crate::disk::at_once(&pending.slots, cleared);
    let left = pending.slots.iter().zip(cleared).filter(|(_, cleared)| *cleared != Some(true));
    let beside: Vec<Key> = left.map(|(key, _)| key.clone()).collect();
    let token = match beside.is_empty() {
        true => String::new(),
        false => pending.token.clone(),
    };
    Left { beside, token }
}

/// Removes what a run that was killed could not.
pub fn sweep(ledger: &mut Ledger<'_>) {
    remove_empty_folders(ledger);
    let left = std::mem::take(&mut ledger.state.left);
    if left.is_empty() {
        return;
    }
    // A folder that is not there, or is a link now, is looked at another time.
    let gone = |(key, token): &(Key, String)| {
        let Ok(place) = ledger.place(key) else {
            return false;
        };
        let Some(folder) = place.path.parent().filter(|folder| folder.is_dir()) else {
            return false;
        };
        let start = format!("{PART}{token}-");
        let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
        let parts = entries.filter(|e| e.file_name().to_string_lossy().starts_with(&start));
        parts.into_iter().all(|part| ledger.disk.remove(&part.path()).is_ok())
    };
    let is_clean = left.iter().all(gone);
    ledger.state.left = left;
    if is_clean && !ledger.state.left.is_empty() {
        let _ = ledger.append(vec![Record::Swept]);
    }
}

/// Removes the folders that were made for slots that are gone again.
fn remove_empty_folders(ledger: &Ledger<'_>) {
    for folder in ledger.state.folders.iter().rev() {
        if let Ok(place) = ledger.place(folder) {
            let _ = ledger.disk.remove_folder(&place.path);
        }
    }
}
