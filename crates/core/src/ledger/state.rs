//! What the log adds up to.

use super::record::{EntryRecord, Held, Installed, Left, Put, Record, TargetFacts};
use crate::disk::Attributes;
use crate::error::Result;
use crate::hash::Hash;
use crate::names::Key;
use crate::refusal::{OddLedger, OddSlot};
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

/// What lay in a slot before anything of ours.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Original {
    /// The contents.
    pub held: Held,
    /// What it had beside its contents.
    pub was: Option<Attributes>,
}

/// Something that was installed in a slot, over the stock or over another layer.
#[derive(Debug, Clone, PartialEq)]
pub struct Layer {
    /// The contents.
    pub held: Held,
    /// What it is.
    pub installed: Installed,
}

/// One slot, as far as the ledger knows it.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Slot {
    /// What lay there before anything of ours, oldest first; the last one is the stock of today.
    pub stock: Vec<Original>,
    /// Everything of ours that was ever put there: none of it is stock.
    pub ours: BTreeSet<Held>,
    /// What was installed, one over the other, the lowest first.
    pub layers: Vec<Layer>,
    /// Entries that were made in the file, the oldest first.
    pub told: Vec<EntryRecord>,
    /// What the file held when the last entry was made.
    pub told_held: Option<Held>,
    /// Whether others have written into it between our entries, so that its stock is not all there is to
    /// it without them.
    pub mixed: bool,
}

impl Slot {
    /// What is installed now.
    pub fn top(&self) -> Option<&Layer> {
        self.layers.last()
    }

    /// The layer of a job, counted from the lowest.
    pub fn layer_of(&self, job: Option<&str>) -> Option<usize> {
        let of_job = |layer: &Layer| layer.installed.job.as_deref() == job;
        self.layers.iter().position(of_job)
    }

    /// What lay there before anything of ours.
    pub fn original(&self) -> Option<Held> {
        self.stock.last().map(|original| original.held)
    }

    /// Whether there is something that a restore would bring back or that must be kept.
    pub fn matters(&self) -> bool {
        !self.layers.is_empty() || !self.told.is_empty() || self.stock.len() > 1
    }

    /// Takes in the originals that a change has found.
    fn keep(&mut self, put: &Put) {
        let original = |held| Original { held, was: put.was.clone() };
        if let Some(aside) = put.aside
            && self.stock.iter().all(|known| known.held != aside)
        {
            let at = self.stock.len().saturating_sub(1);
            self.stock.insert(at, original(aside));
        }
        if let Some(stock) = put.stock {
            self.stock.retain(|known| known.held != stock);
            self.stock.push(original(stock));
        }
    }

    /// Contents of which a copy must be kept.
    pub fn kept(&self) -> impl Iterator<Item = Held> {
        let lower = self.layers.iter().rev().skip(1).map(|layer| layer.held);
        let stock = self.stock.iter().map(|original| original.held);
        stock.chain(lower)
    }
}

/// A change that was begun and neither finished nor rolled back.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Pending {
    /// `swap`, `restore`, …
    pub what: String,
    /// Slots of which parts may lie about.
    pub slots: Vec<Key>,
    /// Folders that were made.
    pub folders: Vec<Key>,
    /// Caches that are moved aside.
    pub caches: Vec<Key>,
    /// What the names of parts are made of.
    pub token: String,
    /// What was to happen.
    pub puts: Vec<Put>,
    /// Whether everything was there to finish it.
    pub ready: bool,
}

/// Everything that the log says.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct State {
    /// The root's path when the ledger was made.
    pub root: Option<String>,
    /// What tells this ledger from all others.
    pub id: String,
    /// Everything that copies were ever taken of: what is none of these is not ours to remove.
    pub taken: BTreeSet<String>,
    /// Copies that no record names and that a rescue has told of.
    pub strays: BTreeSet<String>,
    /// Parts that could not be removed, and what their names are made of.
    pub left: Vec<(Key, String)>,
    /// Where the other roots are.
    pub others: BTreeMap<String, String>,
    /// What must be known of the target.
    pub target: TargetFacts,
    /// The slots, by name.
    pub slots: BTreeMap<Key, Slot>,
    /// Folders that were made and should go when they are empty again, outermost first.
    pub folders: Vec<Key>,
    /// What was left unfinished.
    pub pending: Option<Pending>,
}

impl State {
    /// Replays all records.
    pub fn replay(records: &[Record]) -> Self {
        let mut state = Self::default();
        records.iter().for_each(|record| state.apply(record));
        state
    }

    /// Takes in one more record.
    pub fn apply(&mut self, record: &Record) {
        match record {
            Record::Root { path, id, .. } => {
                self.root = Some(path.clone());
                self.id.clone_from(id);
            }
            Record::Roots { others } => self.others.clone_from(others),
            Record::Target(target) => self.target.clone_from(target),
            Record::Begin { what, slots, holds, folders, caches, token } => {
                holds.iter().for_each(|held| self.take(*held));
                self.pending = Some(Pending {
                    what: what.clone(),
                    slots: slots.clone(),
                    folders: folders.clone(),
                    caches: caches.clone(),
                    token: token.clone(),
                    ..Pending::default()
                });
            }
            Record::Put(put) => {
                self.take(put.before);
                if put.installed.is_none() {
                    self.take(put.after);
                }
                if let Some(pending) = &mut self.pending {
                    pending.puts.push(put.clone());
                }
            }
            Record::Ready => {
                if let Some(pending) = &mut self.pending {
                    pending.ready = true;
                }
            }
            Record::Done { except, left } => {
                self.leave(left);
                if let Some(pending) = self.pending.take() {
                    self.folders.extend(pending.folders);
                    for put in pending.puts {
                        let told = put.told.as_ref().is_some_and(|told| !told.is_empty());
                        match put.installed.is_some() || told || !except.contains(&put.slot) {
                            true => self.put(put),
                            false => self.leave_as_is(&put),
                        }
                    }
                }
            }
            Record::Swept => self.left.clear(),
            Record::Strays { copies } => self.strays.extend(copies.iter().cloned()),
            Record::Undone { left } => {
                self.pending = None;
                self.leave(left);
            }
        }
    }

    fn leave(&mut self, left: &Left) {
        let left = left.beside.iter().map(|key| (key.clone(), left.token.clone()));
        self.left.extend(left);
    }

    fn take(&mut self, held: Held) {
        self.taken.extend(held.hash().map(|hash| hash.hex()));
    }

    /// The copies of which no record tells where they belong, out of those that are there.
    pub fn strays_of(&self, copies: &[String]) -> Vec<String> {
        let stray = |copy: &&String| self.strays.contains(*copy) && !self.taken.contains(*copy);
        copies.iter().filter(stray).cloned().collect()
    }

    /// Contents of which a copy must be kept.
    pub fn kept(&self) -> BTreeSet<Hash> {
        let slots = self.slots.values().filter(|slot| slot.matters());
        slots.flat_map(Slot::kept).filter_map(Held::hash).collect()
    }

    /// The folder of a key's root, where the main one is `root`.
    ///
    /// # Errors
    /// [`Error::Refused`] where nobody knows where that root is.
    pub fn root_of(&self, root: &Path, key: &Key) -> Result<PathBuf> {
        let Some(name) = key.root() else {
            return Ok(root.to_owned());
        };
        let found = self
            .others
            .get(name)
            .ok_or_else(|| OddLedger::UnknownRoot { name: name.to_owned() })?;
        Ok(PathBuf::from(found))
    }

    /// The path of a key.
    ///
    /// # Errors
    /// As [`State::root_of`].
    pub fn path_of(&self, root: &Path, key: &Key) -> Result<PathBuf> {
        Ok(key.path(&self.root_of(root, key)?))
    }

    /// Refuses to work on files of a root that is not there: a card that was taken out must not count as
    /// one that was emptied.
    ///
    /// # Errors
    /// [`Error::Refused`] naming it.
    pub fn refuse_missing_roots<'s>(
        &self,
        root: &Path,
        keys: impl IntoIterator<Item = &'s Key>,
    ) -> Result<()> {
        for key in keys {
            let folder = self.root_of(root, key)?;
            if !folder.is_dir() {
                return Err(OddLedger::Away { folder, key: key.clone() }.into());
            }
        }
        Ok(())
    }

    /// The key under which a file is known whose true name is `key`.
    ///
    /// # Errors
    /// [`Error::Refused`] where the ledger knows one that differs in case alone, and the disk cannot tell
    /// whether both are the same file.
    pub fn known(&self, key: Key, true_name: impl Fn(&Key) -> Result<Option<Key>>) -> Result<Key> {
        if self.slots.contains_key(&key) {
            return Ok(key);
        }
        for other in self.slots.keys().filter(|other| other.is_like(&key)) {
            match (true_name(other)?, true_name(&key)?) {
                (Some(theirs), Some(ours)) if theirs == ours => return Ok(other.clone()),
                (Some(_), Some(_)) => {}
                _ => {
                    return Err(OddSlot::Spelt { other: other.clone() }.of(key.to_string()));
                }
            }
        }
        Ok(key)
    }

    /// The names of all jobs that have something installed, single swaps left out.
    pub fn jobs(&self) -> Vec<&str> {
        let mut jobs: Vec<&str> = Vec::new();
        for slot in self.slots.values() {
            let installed = slot.layers.iter().map(|layer| &layer.installed);
            jobs.extend(installed.filter_map(|installed| installed.job.as_deref()));
            let told = slot.told.iter().map(|told| told.job.as_str());
            jobs.extend(told.filter(|job| !job.is_empty()));
        }
        jobs.sort_unstable();
        jobs.dedup();
        jobs
    }

    /// A slot that could not be brought to what it should hold: nobody can tell what lies there, so the
    /// copies that were taken for the change are all kept.
    fn leave_as_is(&mut self, put: &Put) {
        let after = put.after.hash().map(|hash| hash.hex());
        if let Some(stray) = after.filter(|copy| self.strays.contains(copy)) {
            self.taken.remove(&stray);
        }
        if put.aside.is_some() || put.stock.is_some() {
            self.slots.entry(put.slot.clone()).or_default().keep(put);
        }
    }

    fn put(&mut self, put: Put) {
        let slot = self.slots.entry(put.slot.clone()).or_default();
        slot.keep(&put);
        if let Some(told) = put.told {
            slot.told_held = (!told.is_empty()).then_some(put.after);
            slot.mixed |= put.mixed;
            if told.is_empty() {
                slot.stock.clear();
                slot.mixed = false;
            }
            slot.told = told;
            return;
        }
        if put.installed.is_some() {
            slot.ours.insert(put.after);
        }
        slot.layers.truncate(put.below);
        let layer = |installed| Layer { held: put.after, installed };
        slot.layers.extend(put.installed.map(layer));
    }
}
