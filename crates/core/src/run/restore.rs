//! Restoring the originals.

use super::removal::{Act, Removal, plan_removal};
use crate::disk::{Attributes, Disk};
use crate::error::{Error, Result};
use crate::job::OF_PACK;
use crate::ledger::record::{EntryRecord, Held};
use crate::ledger::state::{Slot, State};
use crate::ledger::{Ledger, Recovered, What};
use crate::names::{Key, nearest};
use crate::refusal::{Above, OddLedger, OddSlot, Refusal};
use crate::root::Root;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeSet;
use std::path::PathBuf;

/// What to do with slots that hold neither what was installed nor the stock.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Changed {
    /// Refuse.
    Refuse,
    /// Restore the stock; what is there now is kept beside it.
    Overwrite,
    /// Leave what is there; it counts as the stock from now on.
    Keep,
}

/// What is to go.
#[derive(Debug, Clone, Copy)]
pub enum Which<'a> {
    /// All that was ever installed.
    All,
    /// What is in the files of this folder of the main root.
    Below(&'a str),
    /// What is in these slots, with their entries.
    Slots(&'a [Key]),
    /// What this job has installed.
    Job(&'a str),
    /// The files that this job has installed, without entries in others.
    FilesOf(&'a str),
}

impl Which<'_> {
    /// Named slots with the files that came with them.
    fn with_what_belongs(self, state: &State) -> Option<Vec<Key>> {
        let Self::Slots(slots) = self else {
            return None;
        };
        let belongs = |known: &Slot| {
            let of = known.top().and_then(|top| top.installed.belongs_to.as_ref());
            of.is_some_and(|of| slots.contains(of))
        };
        let with = state.slots.iter().filter(|(key, known)| !slots.contains(key) && belongs(known));
        Some(slots.iter().chain(with.map(|(key, _)| key)).cloned().collect())
    }

    /// Whether a slot is meant, jobs aside.
    pub(super) fn holds(self, key: &Key) -> bool {
        match self {
            Self::All | Self::Job(_) | Self::FilesOf(_) => true,
            Self::Slots(slots) => slots.contains(key),
            Self::Below(folder) => {
                let below = key.within().strip_prefix(folder);
                key.root().is_none() && below.is_some_and(|rest| rest.starts_with('/'))
            }
        }
    }
}

/// A slot that could not be restored.
#[derive(Debug, JsonSchema, Serialize)]
pub struct Failed {
    /// Which.
    pub slot: Key,
    /// Why not.
    pub error: Error,
}

/// What was done.
#[derive(Debug, Default, JsonSchema, Serialize)]
pub struct Restored {
    /// Slots that have their stock again.
    pub restored: Vec<Key>,
    /// Slots that have the file of the previous job again.
    pub uncovered: Vec<Key>,
    /// Slots whose file was ours and where nothing was before: removed.
    pub removed: Vec<Key>,
    /// Slots that were left as they are.
    pub left: Vec<Key>,
    /// Slots that could not be restored; they are as they were.
    pub failed: Vec<Failed>,
    /// Entries that were reverted, in words.
    pub entries: Vec<String>,
    /// Entries that were gone or changed already, in words.
    pub entries_gone: Vec<String>,
    /// Slots of which the original stays a kept copy, since something else is in place.
    pub kept: Vec<Key>,
    /// Caches that went.
    pub caches: Vec<Key>,
    /// What this system could not restore beside the contents, each once, in words.
    pub lacking: Vec<&'static str>,
    /// What the user has to do now.
    pub after: Option<String>,
    /// A change that had been interrupted earlier.
    pub recovered: Option<Recovered>,
}

/// Restores what lay in slots before; all of them or none, but for those that cannot be: they are told.
///
/// # Errors
/// [`Error::Refused`] where a named slot or job is not in the ledger, where another job lies over the
/// named one, or where a slot was changed since; those of the ledger.
pub fn restore(
    root: &Root,
    which: Which<'_>,
    changed: Changed,
    dry_run: bool,
    disk: &dyn Disk,
) -> Result<Restored> {
    if dry_run {
        let state = Ledger::peek(root)?;
        let whole = which.with_what_belongs(&state);
        let which = whole.as_deref().map_or(which, Which::Slots);
        let caches = crate::ledger::caches::of_ledger(&root.path, &state.target.clear, &state)?;
        return Ok(Steps::sort(root, &state, which, changed)?.told(caches));
    }
    let mut ledger = Ledger::open(root, disk)?;
    let name;
    let which = match which {
        // The names of packs' jobs end so, and who knows that.
        Which::Job(job) if !ledger.state().jobs().contains(&job) => {
            name = format!("{job}{OF_PACK}");
            match ledger.state().jobs().contains(&name.as_str()) {
                true => Which::Job(&name),
                false => which,
            }
        }
        _ => which,
    };
    let whole = which.with_what_belongs(ledger.state());
    let which = whole.as_deref().map_or(which, Which::Slots);
    let steps = Steps::sort(root, ledger.state(), which, changed)?;
    let caches = ledger.caches()?;
    let recovered = ledger.recovered().cloned();
    let is_idle = steps.removals.is_empty();
    let originals = Originals::of(root, ledger.state(), &steps);
    if !is_idle {
        steps.carry_out(&mut ledger, caches.clone(), disk)?;
    }
    let caches = if is_idle { Vec::new() } else { caches };
    let mut restored = steps.told(caches);
    restored.lacking = originals.lacking(&restored.restored);
    restored.kept = kept_of(ledger.state(), originals.0.iter().map(|(key, ..)| key));
    restored.recovered = recovered;
    Ok(restored)
}

/// The slots of these that nothing of ours is left in, though a copy of what was there is kept.
fn kept_of<'k>(state: &State, keys: impl Iterator<Item = &'k Key>) -> Vec<Key> {
    let is_kept = |key: &&Key| {
        state.slots.get(*key).is_some_and(|known| known.expected().is_none() && known.matters())
    };
    keys.filter(is_kept).cloned().collect()
}

/// What the slots of a restore were before, and where they are.
struct Originals(Vec<(Key, Option<PathBuf>, Option<Attributes>)>);

impl Originals {
    fn of(root: &Root, state: &State, steps: &Steps) -> Self {
        let of = |removal: &Removal| {
            let original = state.slots.get(&removal.slot).and_then(|known| known.stock.last());
            // A link's time is nobody's concern.
            let original = original.filter(|original| !matches!(original.held, Held::Link(_)));
            let was = original.and_then(|original| original.was.clone());
            (removal.slot.clone(), state.path_of(&root.path, &removal.slot).ok(), was)
        };
        Self(steps.removals.iter().map(of).collect())
    }

    /// What restored files lack of what the originals had.
    fn lacking(&self, restored: &[Key]) -> Vec<&'static str> {
        let restored: BTreeSet<&Key> = restored.iter().collect();
        let of = |(key, path, was): &(Key, Option<PathBuf>, Option<Attributes>)| {
            let was = was.as_ref().filter(|_| restored.contains(key))?;
            Some(was.lacking(&Attributes::of(path.as_ref()?).ok()?))
        };
        let all: BTreeSet<&str> = self.0.iter().filter_map(of).flatten().collect();
        all.into_iter().collect()
    }
}

/// What will be done.
struct Steps {
    removals: Vec<Removal>,
    failed: Vec<Failed>,
    after: Option<String>,
}

impl Steps {
    /// Decides for each slot what will be done.
    fn sort(root: &Root, state: &State, which: Which<'_>, changed: Changed) -> Result<Self> {
        refuse_unknown(state, which)?;
        let ours = state.slots.iter().filter(|(_, known)| known.expected().is_some());
        let ours = ours.filter(|(key, _)| which.holds(key));
        state.refuse_missing_roots(&root.path, ours.map(|(slot, _)| slot))?;
        let (mut removals, mut failed) = (Vec::new(), Vec::new());
        for slot in state.slots.keys() {
            match plan_removal(root, state, slot, which, changed) {
                Ok(planned) => removals.extend(planned),
                Err(error) if is_of_one(&error) => {
                    failed.push(Failed { slot: slot.clone(), error });
                }
                Err(error) => return Err(error),
            }
        }
        Ok(Self { removals, failed, after: state.target.after.clone() })
    }

    fn told(self, caches: Vec<Key>) -> Restored {
        let mut restored =
            Restored { failed: self.failed, caches, after: self.after, ..Restored::default() };
        for Removal { slot, act, entries, gone } in self.removals {
            restored.entries.extend(entries);
            restored.entries_gone.extend(gone);
            let list = match act {
                Act::Leave { .. } => &mut restored.left,
                Act::Edit { .. } => continue,
                Act::Back(back) if back.edited.is_some() => continue,
                Act::Back(back) if back.below > 0 => &mut restored.uncovered,
                Act::Back(back) if back.after == Held::Nothing => &mut restored.removed,
                Act::Back(_) => &mut restored.restored,
            };
            list.push(slot);
        }
        restored
    }

    fn carry_out(&self, ledger: &mut Ledger<'_>, caches: Vec<Key>, disk: &dyn Disk) -> Result<()> {
        let names: Vec<Key> = self.removals.iter().map(|removal| removal.slot.clone()).collect();
        let mut change = ledger.begin(What::Restore, &names, caches, Vec::new())?;
        let back = self.removals.iter().filter_map(|removal| match &removal.act {
            Act::Back(back) => Some((&removal.slot, back.after)),
            Act::Edit { .. } | Act::Leave { .. } => None,
        });
        change.make_back(&back.collect::<Vec<_>>())?;
        for removal in &self.removals {
            removal.put(&mut change, disk)?;
        }
        change.finish()
    }
}

/// Whether what is wrong with one slot must not keep the others from being restored.
fn is_of_one(error: &Error) -> bool {
    match error {
        Error::Read { .. } | Error::StockDamaged { .. } => true,
        Error::Refused(refusal) => matches!(**refusal, Refusal::Path { .. }),
        _ => false,
    }
}

/// The layer of an entry, which has a name in any case.
pub(super) fn layer_of(job: &str) -> Option<&str> {
    Some(job).filter(|job| !job.is_empty())
}

/// Another job, or a single swap, lies over this one.
pub(super) fn covered(
    state: &State,
    lower: Option<&str>,
    place: &Key,
    upper: Option<&str>,
) -> Error {
    let mut order = Vec::new();
    match lower {
        Some(job) => {
            put_above(state, &Above::Job(job.to_owned()), &mut BTreeSet::new(), &mut order)
        }
        None => order.extend(upper.map(|job| Above::Job(job.to_owned()))),
    }
    // The last is the job itself.
    order.truncate(order.len().saturating_sub(usize::from(lower.is_some())));
    let [lower, upper] = [lower, upper].map(|layer| layer.map(str::to_owned));
    OddSlot::Covered { lower, upper, order }.of(place.to_string())
}

/// An entry was made in the place of this one later.
fn covered_entry_order(upper: &EntryRecord) -> Vec<Above> {
    match (layer_of(&upper.job), &upper.slot) {
        (Some(job), _) => vec![Above::Job(job.to_owned())],
        (None, Some(slot)) => vec![Above::Swap(slot.clone())],
        (None, None) => Vec::new(),
    }
}

/// Another job, or a single swap of another slot, has made an entry in the place of this one.
pub(super) fn covered_entry(
    state: &State,
    file: &Key,
    lower: &EntryRecord,
    upper: &EntryRecord,
) -> Error {
    let names = [&lower.job, &upper.job].map(|job| layer_of(job));
    if names[0].is_some() {
        return covered(state, names[0], file, names[1]);
    }
    let [lower, upper_name] = names.map(|name| name.map(str::to_owned));
    let order = covered_entry_order(upper);
    OddSlot::Covered { lower, upper: upper_name, order }.of(file.to_string())
}

/// All that lies over a layer anywhere, what is topmost first, and the layer itself last.
fn put_above(state: &State, layer: &Above, seen: &mut BTreeSet<Above>, order: &mut Vec<Above>) {
    if !seen.insert(layer.clone()) {
        return;
    }
    for (slot, known) in &state.slots {
        let layer_at = |at: usize| match &known.layers[at].installed.job {
            Some(job) => Above::Job(job.clone()),
            None => Above::Swap(slot.clone()),
        };
        let at = (0..known.layers.len()).find(|at| layer_at(*at) == *layer);
        for upper in at.map_or(0..0, |at| at + 1..known.layers.len()) {
            put_above(state, &layer_at(upper), seen, order);
        }
    }
    order.push(layer.clone());
}

fn refuse_unknown(state: &State, which: Which<'_>) -> Result<()> {
    match which {
        Which::All | Which::Below(_) | Which::FilesOf(_) => Ok(()),
        Which::Slots(slots) => {
            let installed = state.slots.iter().filter(|(_, known)| known.expected().is_some());
            let installed: Vec<&Key> = installed.map(|(slot, _)| slot).collect();
            match slots.iter().find(|slot| !installed.contains(slot)) {
                None => Ok(()),
                Some(unknown) => {
                    let names = installed.iter().map(|key| key.as_str());
                    let near = nearest(unknown.as_str(), names, 3);
                    Err(OddSlot::NotInstalled { near }.of(unknown.to_string()))
                }
            }
        }
        Which::Job(job) => {
            let jobs = state.jobs();
            if jobs.contains(&job) {
                return Ok(());
            }
            let jobs = jobs.into_iter().map(str::to_owned).collect();
            Err(OddLedger::NoSuchJob { job: job.to_owned(), jobs }.into())
        }
    }
}
