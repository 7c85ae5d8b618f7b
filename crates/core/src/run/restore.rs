//! Restoring the originals.

use super::revert::{Reverted, revert};
use super::status::{Condition, condition};
use crate::disk::{Attributes, Disk};
use crate::error::{Error, Result};
use crate::job::OF_PACK;
use crate::ledger::record::Held;
use crate::ledger::state::{Slot, State};
use crate::ledger::{Ledger, Recovered, What, held_at};
use crate::names::{Key, nearest};
use crate::refusal::{Above, OddLedger, OddSlot};
use crate::root::Root;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeSet;

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
            Self::All | Self::Job(_) => true,
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
        let caches = crate::caches::of_ledger(&root.path, &state.target.clear, &state)?;
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
    let is_idle = steps.slots.is_empty() && steps.files.is_empty();
    let before = ledger.state().clone();
    if !is_idle {
        steps.carry_out(&mut ledger, caches.clone(), disk)?;
    }
    let caches = if is_idle { Vec::new() } else { caches };
    let mut restored = steps.told(caches);
    restored.lacking = lacking(root, &before, &restored.restored);
    restored.recovered = recovered;
    Ok(restored)
}

/// What restored files lack of what the originals had.
fn lacking(root: &Root, before: &State, restored: &[Key]) -> Vec<&'static str> {
    let of = |key: &Key| {
        let original = before.slots.get(key)?.stock.last()?;
        // A link's time is nobody's concern.
        let was = original.was.as_ref().filter(|_| !matches!(original.held, Held::Link(_)))?;
        let now = Attributes::of(&before.path_of(&root.path, key).ok()?).ok()?;
        Some(was.lacking(&now))
    };
    let all: BTreeSet<&str> = restored.iter().filter_map(of).flatten().collect();
    all.into_iter().collect()
}

/// What will be done.
struct Steps {
    slots: Vec<Step>,
    files: Vec<Reverted>,
    failed: Vec<Failed>,
    after: Option<String>,
}

struct Step {
    slot: Key,
    act: Act,
}

#[derive(Clone, Copy)]
enum Act {
    Restore { to: Held, below: usize },
    Leave,
}

impl Steps {
    /// Decides for each slot what will be done.
    fn sort(root: &Root, state: &State, which: Which<'_>, changed: Changed) -> Result<Self> {
        refuse_unknown(state, which)?;
        let ours = state.slots.iter().filter(|(_, known)| known.matters());
        let ours = ours.filter(|(key, _)| which.holds(key));
        state.refuse_missing_roots(&root.path, ours.map(|(slot, _)| slot))?;
        let (files, mut failed) = revert(root, state, which, changed)?;
        let mut slots = Vec::new();
        for (slot, known) in &state.slots {
            let Some(below) = stays_below(state, slot, which)? else {
                continue;
            };
            match act(root, state, (slot, known), below, changed) {
                Ok(Some(act)) => slots.push(Step { slot: slot.clone(), act }),
                Ok(None) => {}
                Err(error @ Error::Changed { .. }) => return Err(error),
                Err(error) => failed.push(Failed { slot: slot.clone(), error }),
            }
        }
        Ok(Self { slots, files, failed, after: state.target.after.clone() })
    }

    fn told(self, caches: Vec<Key>) -> Restored {
        let mut restored = Restored {
            entries: self.files.iter().flat_map(|f| f.words.clone()).collect(),
            entries_gone: self.files.iter().flat_map(|f| f.gone.clone()).collect(),
            failed: self.failed,
            caches,
            after: self.after,
            ..Restored::default()
        };
        for Step { slot, act } in self.slots {
            let list = match act {
                Act::Leave => &mut restored.left,
                Act::Restore { below: 1.., .. } => &mut restored.uncovered,
                Act::Restore { to: Held::Nothing, .. } => &mut restored.removed,
                Act::Restore { .. } => &mut restored.restored,
            };
            list.push(slot);
        }
        restored
    }

    fn carry_out(&self, ledger: &mut Ledger<'_>, caches: Vec<Key>, disk: &dyn Disk) -> Result<()> {
        let slots = self.slots.iter().map(|step| step.slot.clone());
        let files = self.files.iter().map(|file| file.file.clone());
        let names: Vec<Key> = slots.chain(files).collect();
        let mut change = ledger.begin(What::Restore, &names, caches)?;
        let back = self.slots.iter().filter_map(|step| match step.act {
            Act::Restore { below, .. } => Some((&step.slot, below)),
            Act::Leave => None,
        });
        change.make_back(&back.collect::<Vec<_>>())?;
        for step in &self.slots {
            match step.act {
                Act::Restore { below, .. } => change.restore(&step.slot, below)?,
                Act::Leave => change.leave(&step.slot)?,
            }
        }
        for file in &self.files {
            file.put(&mut change, disk)?;
        }
        change.finish()
    }
}

/// What is done with a slot of which something goes.
fn act(
    root: &Root,
    state: &State,
    (slot, known): (&Key, &Slot),
    below: usize,
    changed: Changed,
) -> Result<Option<Act>> {
    let Some(top) = known.top() else {
        return Ok(None);
    };
    let now = held_at(&state.path_of(&root.path, slot)?)?;
    // An older file of ours is nobody's change.
    let is_ours = known.ours.contains(&now);
    let is_changed = !is_ours && condition(now, top.held, known) == Condition::Changed;
    let lower = below.checked_sub(1).and_then(|at| known.layers.get(at));
    let stock = known.original().unwrap_or(Held::Nothing);
    let to = lower.map_or(stock, |layer| layer.held);
    match (is_changed, changed) {
        (true, Changed::Refuse) => return Err(Error::Changed { slot: slot.clone() }),
        (true, Changed::Keep) => return Ok(Some(Act::Leave)),
        _ => {}
    }
    // What cannot be brought back must not keep the rest from it.
    if let Some(hash) = to.hash()
        && now != to
    {
        let kept = crate::ledger::kept_in(&root.ledger, hash);
        if !kept.is_file() || crate::Hash::of_file(&kept)? != hash {
            return Err(Error::StockDamaged { slot: slot.to_string(), path: kept });
        }
    }
    Ok(Some(Act::Restore { to, below }))
}

/// How many layers of a slot stay; `None` where nothing of it is to go.
fn stays_below(state: &State, slot: &Key, which: Which<'_>) -> Result<Option<usize>> {
    let Some(known) = state.slots.get(slot) else {
        return Ok(None);
    };
    let Which::Job(job) = which else {
        return Ok(known.top().filter(|_| which.holds(slot)).map(|_| 0));
    };
    let Some(at) = known.layer_of(Some(job)) else {
        return Ok(None);
    };
    match known.layers.get(at + 1) {
        None => Ok(Some(at)),
        Some(upper) => Err(covered(state, Some(job), slot, upper.installed.job.as_deref())),
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
        Which::All | Which::Below(_) => Ok(()),
        Which::Slots(slots) => {
            let installed = state.slots.iter().filter(|(_, known)| known.top().is_some());
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
