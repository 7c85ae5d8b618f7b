//! Lists of the target's own that an archive of additions brings along, its entries made in them.

use super::entries::{EntryLine, Filled, fill_in, stands};
use super::line::{Line, Sources};
use super::{Run, known};
use crate::disk::Disk;
use crate::entry::Made;
use crate::error::{Error, Result};
use crate::hash_cache::HashCache;
use crate::ledger::state::State;
use crate::names::Key;
use crate::refusal::OddSlot;
use crate::sheet::{Entry, Way};
use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

/// What an archive brings beside its slots.
#[derive(Debug, Default)]
pub struct Brought {
    /// Whole lists, by their names in the root.
    pub files: BTreeMap<String, Vec<u8>>,
    /// The entries in them.
    pub entries: Vec<EntryLine>,
    /// Files that should be edited, and are nowhere to be read, or not before the archive is made.
    pub left: BTreeSet<String>,
}

impl Run {
    /// Whether an entry is for a list that an archive can bring.
    pub(super) fn is_brought(&self, entry: &Entry) -> bool {
        let only = &entry.only.0;
        self.target.sheet.is_main(entry.root.as_deref())
            && (only.is_empty() || only.contains(&Way::Archive))
    }

    /// The lists with their entries. Nothing is read where no root is at hand.
    ///
    /// # Errors
    /// Templates that name what is not known, entries that cannot be made, files that cannot be read.
    pub(crate) fn brought(&self, lines: &[Line], disk: &dyn Disk) -> Result<Brought> {
        let (state, hash_cache) = (self.rootless_state(), HashCache::default());
        let sources = Sources { state: &state, hash_cache: &hash_cache, disk };
        let mut brought = Brought::default();
        let mut wanted: Vec<(String, Filled)> = Vec::new();
        for part in &self.target.sheet.entries {
            let entry = part.get_ref();
            if !self.is_brought(entry) {
                continue;
            }
            for (slot, names) in known::speakers(self, entry, lines, &mut Vec::new())? {
                match fill_in(entry, &names) {
                    Ok((file, made)) => wanted.push((file, Filled { slot, wanted: made })),
                    // Digests are known once the archive is made.
                    Err(_) if self.target.sheet.asks_for_digests() => {
                        brought.left.insert(entry.file.0.clone());
                    }
                    Err(odd) => return Err(self.target.sheet.fault_in(part, odd)),
                }
            }
        }
        slot_by_slot(&mut wanted, lines);
        for (file, filled) in wanted {
            if brought.left.contains(&file) {
                continue;
            }
            if !brought.files.contains_key(&file) {
                let root = self.root.as_ref().map(|root| root.path.as_path());
                let stock = |root: &Path| self.stock_file(root, &file, &sources);
                let Some(bytes) = root.map(stock).transpose()?.flatten() else {
                    brought.left.insert(file);
                    continue;
                };
                brought.files.insert(file.clone(), bytes);
            }
            let key = Key::new(None, &file)?;
            let refused = |what: String| -> Error { OddSlot::Entry { what }.of(file.clone()) };
            if let Some(bytes) = brought.files.get_mut(&file) {
                match filled.wanted.make(bytes).map_err(refused)? {
                    Made::New(with, done) => {
                        *bytes = with;
                        let what = done.to_string();
                        brought.entries.push(EntryLine { file: key, what, new: true });
                    }
                    Made::Already => brought.entries.extend(stands(&key, &filled.wanted)),
                }
            }
        }
        Ok(brought)
    }

    /// What is known where no ledger is asked.
    pub(crate) fn rootless_state(&self) -> State {
        let others = self.target.roots.others.iter();
        let text = |path: &Path| path.to_string_lossy().into_owned();
        State {
            others: others.map(|(name, path)| (name.clone(), text(path))).collect(),
            ..State::default()
        }
    }
}

/// All of a slot together, since lists that belong together grow by one slot at a time; those that are for
/// no slot come first.
pub(super) fn slot_by_slot<T>(wanted: &mut [(T, Filled)], lines: &[Line]) {
    let places: BTreeMap<&Key, usize> =
        lines.iter().enumerate().map(|(at, line)| (&line.key, at)).collect();
    let place = |slot: &Option<Key>| slot.as_ref().and_then(|slot| places.get(slot)).copied();
    wanted.sort_by_key(|(_, filled)| place(&filled.slot));
}
