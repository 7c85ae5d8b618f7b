//! What the log adds up to.

use super::record::{Held, Installed, Put, Record};
use std::collections::BTreeMap;

/// One slot, as far as the ledger knows it.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Slot {
    /// What lay there before anything of ours, oldest first; the last one is the stock of today.
    pub stock: Vec<Held>,
    /// What is installed, with the contents that it has.
    pub installed: Option<(Held, Installed)>,
}

impl Slot {
    /// Whether there is something that a restore would give back or that must be kept.
    pub fn matters(&self) -> bool {
        self.installed.is_some() || self.stock.len() > 1
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
            Record::Begin {
                what,
                slots,
                folders,
            } => {
                self.pending = Some(Pending {
                    what: what.clone(),
                    slots: slots.clone(),
                    folders: folders.clone(),
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
        slot.installed = put.installed.map(|installed| (put.after, installed));
    }
}
