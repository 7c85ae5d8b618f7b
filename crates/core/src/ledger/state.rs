//! What the log adds up to.

use super::record::{Held, Installed, Put, Record, TargetFacts, Told};
use super::split;
use crate::error::{Error, Result};
use crate::tree::slot_path;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

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
    pub stock: Vec<Held>,
    /// What was installed, one over the other, the lowest first.
    pub layers: Vec<Layer>,
    /// Entries that were made in the file, the oldest first.
    pub told: Vec<Told>,
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

    /// Whether there is something that a restore would give back or that must be kept.
    pub fn matters(&self) -> bool {
        !self.layers.is_empty() || !self.told.is_empty() || self.stock.len() > 1
    }

    /// Contents of which a copy must be kept.
    pub fn kept(&self) -> impl Iterator<Item = Held> {
        let lower = self.layers.iter().rev().skip(1).map(|layer| layer.held);
        self.stock.iter().copied().chain(lower)
    }
}

/// A change that was begun and neither finished nor taken back.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Pending {
    /// `swap`, `restore`, …
    pub what: String,
    /// Slots of which parts may lie about.
    pub slots: Vec<String>,
    /// Folders that were made.
    pub folders: Vec<String>,
    /// Caches that go.
    pub caches: Vec<String>,
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
    /// Where the other roots are.
    pub others: BTreeMap<String, String>,
    /// What must be known of the target.
    pub target: TargetFacts,
    /// The slots, by name.
    pub slots: BTreeMap<String, Slot>,
    /// Folders that were made and should go when they are empty again, outermost first.
    pub folders: Vec<String>,
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
            Record::Root { path, .. } => self.root = Some(path.clone()),
            Record::Roots { others } => self.others.clone_from(others),
            Record::Target(target) => self.target.clone_from(target),
            Record::Begin {
                what,
                slots,
                folders,
                caches,
            } => {
                self.pending = Some(Pending {
                    what: what.clone(),
                    slots: slots.clone(),
                    folders: folders.clone(),
                    caches: caches.clone(),
                    ..Pending::default()
                });
            }
            Record::Put(put) => {
                if let Some(pending) = &mut self.pending {
                    pending.puts.push(put.clone());
                }
            }
            Record::Ready => {
                if let Some(pending) = &mut self.pending {
                    pending.ready = true;
                }
            }
            Record::Done => {
                if let Some(pending) = self.pending.take() {
                    self.folders.extend(pending.folders);
                    pending.puts.into_iter().for_each(|put| self.put(put));
                }
            }
            Record::Undone => self.pending = None,
        }
    }

    /// The folder of a slot's root, where the main one is `root`, and the slot's name within.
    ///
    /// # Errors
    /// [`Error::Refused`] where nobody knows where that root is.
    pub fn root_of<'s>(&self, root: &Path, slot: &'s str) -> Result<(PathBuf, &'s str)> {
        let (other, within) = split(slot);
        let Some(name) = other else {
            return Ok((root.to_owned(), within));
        };
        let found = self.others.get(name).ok_or_else(|| {
            Error::refused(
                format!("the ledger does not know where the root {name} is"),
                "install the job again: it says where",
            )
        })?;
        Ok((PathBuf::from(found), within))
    }

    /// The path of a slot.
    ///
    /// # Errors
    /// As [`State::root_of`], and where the name leads out of its root.
    pub fn path_of(&self, root: &Path, slot: &str) -> Result<PathBuf> {
        let (root, within) = self.root_of(root, slot)?;
        slot_path(&root, within)
    }

    /// Refuses to work on files of a root that is not there: a card that was taken out must not count as
    /// one that was emptied.
    ///
    /// # Errors
    /// [`Error::Refused`] naming it.
    pub fn refuse_missing_roots<'s>(
        &self,
        root: &Path,
        slots: impl IntoIterator<Item = &'s String>,
    ) -> Result<()> {
        for slot in slots {
            let (folder, _) = self.root_of(root, slot)?;
            if !folder.is_dir() {
                return Err(Error::refused(
                    format!("{} is not there, and {slot} lies in it", folder.display()),
                    "put the card in, or mount the drive, and run this again",
                ));
            }
        }
        Ok(())
    }

    /// The names of all jobs that have something installed, those by hand left out.
    pub fn jobs(&self) -> Vec<&str> {
        let mut jobs: Vec<&str> = Vec::new();
        for slot in self.slots.values() {
            let installed = slot.layers.iter().map(|layer| &layer.installed);
            jobs.extend(installed.filter_map(|installed| installed.job.as_deref()));
            jobs.extend(slot.told.iter().map(|told| told.job.as_str()));
        }
        jobs.sort_unstable();
        jobs.dedup();
        jobs
    }

    fn put(&mut self, put: Put) {
        let slot = self.slots.entry(put.slot).or_default();
        if let Some(aside) = put.aside {
            let at = slot.stock.len().saturating_sub(1);
            slot.stock.insert(at, aside);
        }
        if let Some(stock) = put.stock {
            slot.stock.retain(|known| *known != stock);
            slot.stock.push(stock);
        }
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
        slot.layers.truncate(put.below);
        let layer = |installed| Layer {
            held: put.after,
            installed,
        };
        slot.layers.extend(put.installed.map(layer));
    }
}
