//! What the log adds up to.

use super::originals::{Original, Originals, Release};
use super::record::{EntryRecord, Held, Installed, Left, Put, Record, TargetFacts};
use crate::error::Result;
use crate::hash::Hash;
use crate::names::Key;
use crate::refusal::{OddLedger, OddSlot};
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

/// Something that was installed in a slot, over the stock or over another layer.
#[derive(Debug, Clone, PartialEq)]
pub struct Layer {
    /// The contents.
    pub held: Held,
    /// What it is.
    pub installed: Installed,
    /// Entries that were made in it since.
    pub entries: Entries,
}

/// Entries that were made in what lies below them: a slot's original, or a layer.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Entries {
    /// The oldest first.
    pub made: Vec<EntryRecord>,
    /// What the file held when the last one was made.
    pub held: Option<Held>,
    /// Whether others have written into it between our entries, so that what lies below is not all there is to
    /// it without them.
    pub mixed: bool,
}

impl Entries {
    /// Whether a file holds what our last entry has left, and nobody else's changes.
    pub fn are_all_of(&self, now: Held) -> bool {
        self.held == Some(now) && !self.mixed
    }
}

/// One slot, as far as the ledger knows it: what lay there before anything of ours, and over it, one over the other,
/// whole files and the entries that were made in them.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Slot {
    /// What lay there before anything of ours.
    pub stock: Originals,
    /// Everything of ours that was ever put there: none of it is stock.
    pub ours: BTreeSet<Held>,
    /// Entries that were made in the original itself.
    pub entries: Entries,
    /// What was installed, one over the other, the lowest first.
    pub layers: Vec<Layer>,
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

    /// What lies below the entries of a level: the original where it is 0, else that layer, counted from 1.
    pub fn below_entries(&self, level: usize) -> Held {
        let layer = level.checked_sub(1).and_then(|at| self.layers.get(at));
        layer.map_or(self.original().unwrap_or(Held::Nothing), |layer| layer.held)
    }

    /// The entries of a level.
    pub fn entries_at(&self, level: usize) -> &Entries {
        let layer = level.checked_sub(1).and_then(|at| self.layers.get(at));
        layer.map_or(&self.entries, |layer| &layer.entries)
    }

    fn entries_at_mut(&mut self, level: usize) -> &mut Entries {
        match level.checked_sub(1).and_then(|at| self.layers.get_mut(at)) {
            Some(layer) => &mut layer.entries,
            None => &mut self.entries,
        }
    }

    /// The entries that can be seen in the file: those over which no other file lies.
    pub fn top_entries(&self) -> &Entries {
        self.entries_at(self.layers.len())
    }

    /// What a level holds with its entries.
    pub fn held_at(&self, level: usize) -> Held {
        let entries = self.entries_at(level);
        let with = entries.held.filter(|_| !entries.made.is_empty());
        with.unwrap_or_else(|| self.below_entries(level))
    }

    /// What the file must hold where nobody else has changed it; nothing where nothing of ours is in it.
    pub fn expected(&self) -> Option<Held> {
        let ours = !self.layers.is_empty() || !self.entries.made.is_empty();
        ours.then(|| self.held_at(self.layers.len()))
    }

    /// Whether contents are ours and nobody else's: something that was installed, with all entries in it.
    pub fn is_ours(&self, held: Held) -> bool {
        self.top().is_some() && self.ours.contains(&held) || self.top_entries().are_all_of(held)
    }

    /// Whether there is something that a restore would bring back or that must be kept.
    pub fn matters(&self) -> bool {
        self.expected().is_some() || !self.stock.is_empty()
    }

    /// Contents that somebody has put there and that are neither installed over nor in place: nothing but a
    /// command that names the slot brings them back or lets them go.
    pub fn kept_aside(&self) -> impl Iterator<Item = &Original> {
        let stock = usize::from(self.expected().is_some());
        let aside = self.stock.len().saturating_sub(stock);
        self.stock.iter().take(aside).filter(|original| original.held != Held::Nothing)
    }

    /// Contents of which a copy must be kept.
    pub fn kept(&self) -> impl Iterator<Item = Held> {
        let top = self.layers.len();
        let stock = self.stock.iter().map(|original| original.held);
        let levels = (0..=top).flat_map(move |level| {
            let has_entries = !self.entries_at(level).made.is_empty();
            let whole =
                (level > 0 && (level < top || has_entries)).then(|| self.below_entries(level));
            let edited = (level < top && has_entries).then(|| self.held_at(level));
            [whole, edited].into_iter().flatten()
        });
        stock.chain(levels)
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
    /// The version of the log's format.
    pub version: u32,
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
    /// Where that was, links followed, when it was written down.
    pub real: BTreeMap<String, String>,
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
            Record::Root { path, version, id } => {
                self.root = Some(path.clone());
                self.version = *version;
                self.id.clone_from(id);
            }
            Record::Roots { others, real } => {
                self.others.clone_from(others);
                self.real.clone_from(real);
            }
            Record::Target(target) => self.target.clone_from(target),
            Record::Begin { what, slots, holds, copies, folders, caches, token } => {
                holds.iter().chain(copies).for_each(|held| self.take(*held));
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
                        let entries = put.entries.as_ref().is_some_and(|made| !made.is_empty());
                        match put.installed.is_some() || entries || !except.contains(&put.slot) {
                            true => self.put(put),
                            false => self.leave_as_is(&put),
                        }
                    }
                }
            }
            Record::Swept => self.left.clear(),
            Record::Dropped { slot, copies } => {
                if let Some(slot) = self.slots.get_mut(slot) {
                    copies.iter().for_each(|copy| slot.stock.release(&Release::by_name(*copy)));
                }
            }
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
            let entries = (0..=slot.layers.len()).flat_map(|level| &slot.entries_at(level).made);
            let makers = entries.map(|entry| entry.job.as_str());
            jobs.extend(makers.filter(|job| !job.is_empty()));
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
            self.slots.entry(put.slot.clone()).or_default().stock.keep(put);
        }
    }

    fn put(&mut self, put: Put) {
        let slot = self.slots.entry(put.slot.clone()).or_default();
        slot.stock.keep(&put);
        let top = slot.layers.len();
        let below = match put.entries.is_some() && put.installed.is_none() && self.version < 3 {
            // Earlier versions did not tell, since they knew entries in originals alone.
            true => top,
            false => put.below,
        };
        let covers = match (&put.installed, put.stock) {
            (Some(_), Some(_)) => Some(0),
            (Some(_), None) if below == top => Some(top),
            _ => None,
        };
        if let Some(covered) = covers.map(|level| slot.entries_at_mut(level))
            && !covered.made.is_empty()
        {
            // What others have written in between comes back with what is covered now.
            covered.mixed |= covered.held != Some(put.before);
            covered.held = Some(put.before);
        }
        slot.layers.truncate(below);
        if let Some(installed) = put.installed {
            let held = put.whole.unwrap_or(put.after);
            slot.ours.extend([held, put.after]);
            slot.layers.push(Layer { held, installed, entries: Entries::default() });
        }
        if let Some(made) = put.entries {
            let own = slot.entries_at_mut(slot.layers.len());
            own.mixed = !made.is_empty() && (own.mixed || put.mixed);
            own.held = (!made.is_empty()).then_some(put.after);
            own.made = made;
        }
        if slot.expected().is_none() {
            let originals = slot.stock.iter().map(|original| original.held);
            let freed = originals.filter_map(|held| Release::in_place(held, put.after));
            freed.collect::<Vec<_>>().iter().for_each(|release| slot.stock.release(release));
        }
    }
}
