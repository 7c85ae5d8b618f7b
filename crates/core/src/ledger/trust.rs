//! How far a ledger is believed. It may have come with a stranger's folder, and says where files are
//! written and removed.
//!
//! - What it says of its own root holds, if it was made for that place, or this user's registry knows it,
//!   or the user adopts it.
//! - Other roots are those that the registry knows for it, or that the user names now where nothing of ours is in them;
//!   one that was moved is known by what is in it.

use super::change::Before;
use super::record::{Held, Put};
use super::state::{Slot, State};
use super::{Change, Ledger};
use crate::disk::read_plain;
use crate::disk::same_file;
use crate::error::Result;
use crate::limits;
use crate::names::Key;
use crate::refusal::OddLedger;
use crate::root::Root;
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

/// Refuses a ledger that was made for another place.
///
/// # Errors
/// [`Error::Refused`].
pub fn check(state: &mut State, root: &Root) -> Result<()> {
    let known = root.registry.find(&state.id);
    let trusted = |name: &String, path: &String| {
        let known = known.as_ref().and_then(|known| known.others.get(name));
        known == Some(path)
    };
    state.others.retain(|name, path| trusted(name, path));
    let State { others, real, .. } = state;
    real.retain(|name, _| others.contains_key(name));
    let Some(made_for) = &state.root else {
        return Ok(());
    };
    if root.adopt || is_at(made_for, root) {
        return Ok(());
    }
    let other = Path::new(made_for);
    // A card under another letter, a folder that was moved: but not a copy whose original is still there.
    if known.is_some() && !other.is_dir() {
        return Ok(());
    }
    Err(OddLedger::MadeFor { ledger: root.ledger.clone(), place: other.to_owned() }.into())
}

fn is_at(made_for: &str, root: &Root) -> bool {
    let other = Path::new(made_for);
    other == root.path || same_file(other, &root.path)
}

/// Whether where the roots are has to be written down again.
pub fn is_moved(state: &State, root: &Root) -> bool {
    let text = |path: &Path| path.to_string_lossy().into_owned();
    let mut named = root.others.iter();
    named.any(|(name, path)| state.others.get(name) != Some(&text(path)))
}

/// Takes in where the user says that other roots are. One in which something of ours is stays where the ledger knows
/// it; one that was moved is known by what is in it.
///
/// # Errors
/// [`Error::Refused`](crate::Error::Refused) where another place is named.
pub fn place_others(state: &mut State, root: &Root) -> Result<()> {
    for (name, named) in &root.others {
        let known = state.others.get(name).map(PathBuf::from);
        let is_same = |known: &PathBuf| known == named || same_file(known, named);
        if known.as_ref().is_some_and(is_same) {
            continue;
        }
        let is_away = known.as_ref().is_none_or(|known| !known.is_dir());
        let is_it = is_away && holds_ours(state, name, named);
        if !root.adopt && !is_it {
            let (name, named) = (name.clone(), named.clone());
            return Err(OddLedger::OtherPlace { name, known, named }.into());
        }
        state.others.insert(name.clone(), named.to_string_lossy().into_owned());
    }
    // The same path may lead elsewhere by now.
    for (name, path) in state.others.clone() {
        let path = PathBuf::from(path);
        let is_same =
            state.real.get(&name).is_none_or(|was| real(&path).is_none_or(|now| now == *was));
        if !is_same && !root.adopt && !holds_ours(state, &name, &path) {
            let known = state.real.get(&name).map(PathBuf::from);
            return Err(OddLedger::OtherPlace { name, known, named: path }.into());
        }
    }
    Ok(())
}

/// Where folders really are, links followed, by the names of their roots.
pub fn real_places(others: &BTreeMap<String, String>) -> BTreeMap<String, String> {
    let place = |(name, path): (&String, &String)| Some((name.clone(), real(Path::new(path))?));
    others.iter().filter_map(place).collect()
}

fn real(path: &Path) -> Option<String> {
    Some(path.canonicalize().ok()?.to_string_lossy().into_owned())
}

/// Whether a folder holds anything of what is installed in another root, or nothing is.
fn holds_ours(state: &State, root: &str, folder: &Path) -> bool {
    let ours = files_in(state, root);
    // What was interrupted holds what it held before, or what it was to hold after.
    let puts = state.pending.iter().flat_map(|pending| &pending.puts);
    let mut puts = puts.filter(|put| put.slot.root() == Some(root));
    let is_put = |put: &Put| {
        let now = super::held_at(&put.slot.path(folder));
        now.is_ok_and(|now| now != Held::Nothing && (now == put.before || now == put.after))
    };
    ours.is_empty()
        || ours.iter().any(|(key, slot)| is_there(&key.path(folder), slot))
        || puts.any(is_put)
}

/// The files of another root that something of ours is in.
fn files_in<'s>(state: &'s State, root: &str) -> Vec<(&'s Key, &'s Slot)> {
    let in_root =
        |(key, slot): &(&Key, &Slot)| key.root() == Some(root) && slot.expected().is_some();
    state.slots.iter().filter(in_root).collect()
}

/// Whether a file holds what the ledger knows there, or entries of ours.
fn is_there(path: &Path, slot: &Slot) -> bool {
    let Ok(now) = super::held_at(path) else { return false };
    let holds = slot.expected() == Some(now) && now != Held::Nothing;
    let bytes = || read_plain(path, limits::LIST).unwrap_or_default();
    holds || {
        let bytes = bytes();
        slot.top_entries().made.iter().any(|entry| entry.done.stands(&bytes))
    }
}

impl Change<'_, '_> {
    /// A file that two ledgers know would be taken for stock by one of them.
    pub(super) fn refuse_known_elsewhere(&self) -> Result<()> {
        let own = self.ledger.dir.folder();
        // A root may lead to a folder of another one through a link.
        let real = |before: &Before| {
            let folder = before.path.ancestors().skip(1).find_map(|path| path.canonicalize().ok());
            folder.unwrap_or_default()
        };
        let real: BTreeSet<PathBuf> = self.before.values().map(real).collect();
        let real = real.iter().flat_map(|folder| folder.ancestors());
        let typed = self.before.values().flat_map(|before| before.path.ancestors().skip(1));
        let folders: BTreeSet<&Path> = typed.chain(real).collect();
        let registered = self.ledger.root.registry.all();
        let usual =
            folders.iter().map(|folder| (folder.to_path_buf(), crate::root::usual_folder(folder)));
        let elsewhere = registered.iter().filter(|known| folders.contains(known.root.as_path()));
        let elsewhere = elsewhere.map(|known| (known.root.clone(), known.ledger.clone()));
        let of_drives = folders.iter().filter_map(|folder| {
            Some((folder.to_path_buf(), crate::root::ledger_of_drive(folder)?))
        });
        for (root, ledger) in usual.chain(of_drives).chain(elsewhere) {
            if !ledger.is_dir() || crate::disk::same_file(&ledger, own) {
                continue;
            }
            let others = BTreeMap::new();
            let other = Root { path: root, ledger, others, ..self.ledger.root.clone() };
            let state = Ledger::peek(&other)?;
            let real =
                |path: &Path| Some(path.parent()?.canonicalize().ok()?.join(path.file_name()?));
            let knows = |before: &&Before| {
                let knows = |path: &Path| state.knows(&other.path, path, self.ledger.disk);
                knows(&before.path) || real(&before.path).is_some_and(|path| knows(&path))
            };
            if let Some(known) = self.before.values().find(knows) {
                return Err(OddLedger::KnownElsewhere {
                    path: known.path.clone(),
                    ledger: other.ledger,
                    root: other.path,
                }
                .into());
            }
        }
        Ok(())
    }
}
