//! Restoring stock when both files of the log are damaged or gone: kept copies are matched to slots by
//! all that is still known, and what is sure is restored. Nothing that lies in a slot is lost by it.

use super::ledger_dir::LedgerDir;
use super::record::{Held, Put, Record};
use super::state::State;
use super::{Ledger, What};
use crate::disk::{Attributes, Disk};
use crate::error::Result;
use crate::hash::Hash;
use crate::names::Key;
use crate::refusal::OddLedger;
use crate::root::Root;
use deft_needle_audio::Clip;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

/// How a copy's slot is known.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum How {
    /// By a record of the log that is still intact.
    Record,
    /// By its hash, which a list of the target's names tells.
    List,
}

/// A slot that gets its stock back.
#[derive(Debug, Clone, JsonSchema, Serialize)]
pub struct Match {
    /// The slot.
    pub slot: Key,
    /// How it is known.
    pub how: How,
    /// Whether the slot held nothing before, and so the file there goes.
    pub removed: bool,
    #[serde(skip)]
    held: Held,
    #[serde(skip)]
    was: Option<Attributes>,
}

/// A copy that nothing tells the slot of.
#[derive(Debug, Clone, JsonSchema, Serialize)]
pub struct Stray {
    /// The copy.
    #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
    pub path: PathBuf,
    /// Its size.
    pub bytes: u64,
    /// Its spec line, where it is a sound.
    pub spec: Option<String>,
    /// Its length in seconds, where it is a sound.
    pub seconds: Option<f64>,
    /// Whether it is what it was when it was taken.
    pub intact: bool,
}

/// What is known of a damaged ledger.
#[derive(Debug, Clone, Default, JsonSchema, Serialize)]
pub struct Rescue {
    /// Slots that get their stock back, or got it.
    pub restored: Vec<Match>,
    /// Slots that hold their stock already.
    pub unchanged: Vec<Key>,
    /// Copies that nothing tells the slot of.
    pub strays: Vec<Stray>,
    /// Slots whose copy is missing or damaged, or that cannot be looked at.
    pub failed: Vec<Key>,
}

/// What records say that slots held before anything of ours.
#[derive(Default)]
struct Memory {
    originals: BTreeMap<Key, (Held, Option<Attributes>)>,
    ours: BTreeSet<Held>,
}

impl Memory {
    fn of(records: &[Record]) -> Self {
        let mut memory = Self::default();
        for record in records {
            match record {
                Record::Begin { slots, holds, .. } => {
                    for (slot, held) in slots.iter().zip(holds) {
                        if !memory.ours.contains(held) {
                            let slot = memory.originals.entry(slot.clone());
                            slot.or_insert((*held, None));
                        }
                    }
                }
                Record::Put(put) => memory.put(put),
                _ => {}
            }
        }
        memory
    }

    fn put(&mut self, put: &Put) {
        if let Some(stock) = put.stock {
            self.originals.insert(put.slot.clone(), (stock, put.was.clone()));
        }
        let entries = put.entries.as_ref().is_some_and(|made| !made.is_empty());
        match put.installed.is_some() || entries || put.below > 0 {
            true => {
                self.ours.insert(put.after);
            }
            // It was restored: what lies there now is the target's own.
            false => {
                self.originals.remove(&put.slot);
            }
        }
    }
}

/// Works out what can be rescued. `listed` are hashes of stock by the names of their slots.
///
/// # Errors
/// [`Error::Refused`] where there is no ledger, or one that is not damaged; [`Error::Read`].
pub fn plan(root: &Root, listed: &BTreeMap<String, Hash>, disk: &dyn Disk) -> Result<Rescue> {
    let dir = LedgerDir::new(&root.ledger);
    if !dir.is_there()? {
        return Err(OddLedger::Missing { root: root.path.clone() }.into());
    }
    let state = dir.read()?.state();
    let copies = dir.copies();
    if state.as_ref().is_ok_and(|state| state.strays_of(&copies).is_empty()) {
        return Err(OddLedger::Healthy { root: root.path.clone() }.into());
    }
    let memory = Memory::of(&dir.all_records()?);
    let recorded_roots = recorded_roots(root);
    let copies: BTreeSet<String> = match &state {
        Ok(state) => state.strays_of(&copies).into_iter().collect(),
        Err(_) => copies.into_iter().collect(),
    };
    let mut rescue = Rescue::default();
    let mut matched = BTreeSet::new();
    let found = memory.originals.iter();
    let found = found.map(|(key, (held, was))| (key.clone(), *held, was.clone(), How::Record));
    let by_list = listed.iter().filter_map(|(name, hash)| {
        let key = recorded_roots.key(&root.path, None, name, disk).ok()?;
        let known = copies.contains(&hash.hex()) && !memory.originals.contains_key(&key);
        known.then_some((key, Held::File(*hash), None, How::List))
    });
    // What a healthy log restores by itself is not for us.
    let healthy = state.map(|state| state.slots).unwrap_or_default();
    let all = found.chain(by_list).filter(|(key, ..)| !healthy.contains_key(key));
    for (slot, held, was, how) in all {
        matched.extend(held.hash().map(|hash| hash.hex()));
        let now = recorded_roots.path_of(&root.path, &slot).and_then(|path| super::held_at(&path));
        let kept = held
            .hash()
            .is_none_or(|hash| super::copies::is_intact(&super::kept_in(&root.ledger, hash), hash));
        match now {
            Ok(now) if now == held => rescue.unchanged.push(slot),
            // Others may have written into a list since: only our own last state of it is replaced.
            Ok(now) if kept && (held != Held::Nothing || memory.ours.contains(&now)) => {
                rescue.restored.push(Match {
                    slot,
                    how,
                    removed: held == Held::Nothing,
                    held,
                    was,
                });
            }
            _ => rescue.failed.push(slot),
        }
    }
    let strays = copies.iter().filter(|copy| !matched.contains(*copy));
    rescue.strays = strays.map(|copy| stray(&dir.stock().join(copy), copy)).collect();
    Ok(rescue)
}

/// Where roots are, as far as the ledger's records may be believed.
fn recorded_roots(root: &Root) -> State {
    let mut state = State::default();
    // A state of nothing refuses no place.
    let _ = super::trust::place_others(&mut state, root);
    state
}

fn stray(path: &Path, name: &str) -> Stray {
    let clip = Clip::open(path).ok();
    let facts = clip.as_ref().map(Clip::facts);
    Stray {
        path: path.to_owned(),
        bytes: path.metadata().map_or(0, |found| found.len()),
        spec: facts.map(|facts| facts.format.to_string()),
        seconds: facts.map(deft_needle_audio::Facts::seconds),
        intact: Hash::of_file(path).is_ok_and(|hash| hash.hex() == name),
    }
}

/// Restores what is sure. What lies in a slot and is not ours is kept as a copy; copies of which nothing
/// is known stay, and the damaged log is kept beside them.
///
/// # Errors
/// As [`plan`]; [`Error::Write`].
pub fn rescue(root: &Root, listed: &BTreeMap<String, Hash>, disk: &dyn Disk) -> Result<Rescue> {
    let dir = LedgerDir::new(&root.ledger);
    dir.is_there()?;
    let mut ledger = Ledger::empty(root, disk);
    ledger.take_lock()?;
    let rescue = plan(root, listed, disk)?;
    let memory = Memory::of(&dir.all_records()?);
    if dir.read()?.state().is_err() {
        dir.retire(disk)?;
    } else {
        ledger.load()?;
    }
    ledger.establish()?;
    let copies = dir.copies();
    ledger.append(vec![Record::Strays { copies }])?;
    let keys: Vec<Key> = rescue.restored.iter().map(|found| found.slot.clone()).collect();
    let mut change = ledger.begin(What::Rescue, &keys, Vec::new(), Vec::new())?;
    for Match { slot, held, was, .. } in &rescue.restored {
        let is_ours = memory.ours.contains(&change.ledger().held(slot)?);
        change.rescue(slot, *held, was.clone(), is_ours)?;
    }
    change.finish()?;
    Ok(rescue)
}
