//! Giving stock back.

use super::root::Root;
use super::status::{Condition, condition};
use super::untell::{Untold, untell};
use crate::disk::Disk;
use crate::error::{Error, Result};
use crate::ledger::record::Held;
use crate::ledger::state::{Slot, State};
use crate::ledger::{Ledger, Recovered, held_at};
use crate::names::{did_you_mean, nearest};
use serde::Serialize;

/// What to do with slots that hold neither what was installed nor the stock.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Changed {
    /// Refuse.
    Refuse,
    /// Give the stock back; what is there now is kept beside it.
    Overwrite,
    /// Leave what is there; it counts as the stock from now on.
    Keep,
}

/// What is to go.
#[derive(Debug, Clone, Copy)]
pub enum Which<'a> {
    /// All that was ever installed.
    All,
    /// What is in these slots, with their entries.
    Slots(&'a [String]),
    /// What this job has installed.
    Job(&'a str),
}

/// What was done.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct Restored {
    /// Slots that have their stock again.
    pub given_back: Vec<String>,
    /// Slots that have the file of a lower job again.
    pub uncovered: Vec<String>,
    /// Slots whose file was ours and where nothing was before: removed.
    pub removed: Vec<String>,
    /// Slots that were left as they are.
    pub left: Vec<String>,
    /// Entries that were taken back, in words.
    pub entries: Vec<String>,
    /// Caches that went.
    pub caches: Vec<String>,
    /// What the user has to do now.
    pub after: Option<String>,
    /// A change that had been broken off earlier.
    pub recovered: Option<Recovered>,
}

/// Gives slots back what lay there before; all of them or none.
///
/// # Errors
/// [`Error::Refused`] where a named slot or job is not in the ledger, where another job lies over the
/// named one, or where a slot was changed since; [`Error::StockDamaged`]; those of the ledger.
pub fn restore(
    root: &Root,
    which: Which<'_>,
    changed: Changed,
    dry_run: bool,
    disk: &dyn Disk,
) -> Result<Restored> {
    if dry_run {
        let state = Ledger::peek(&root.ledger)?;
        let caches = crate::caches::find(&root.path, &state.target.clear)?;
        return Ok(Steps::sort(root, &state, which, changed)?.told(&state, caches));
    }
    let mut ledger = Ledger::open(&root.path, &root.ledger, disk)?;
    let steps = Steps::sort(root, ledger.state(), which, changed)?;
    let caches = ledger.caches()?;
    let mut restored = steps.told(ledger.state(), caches.clone());
    restored.recovered = ledger.recovered().cloned();
    if steps.slots.is_empty() && steps.files.is_empty() {
        restored.caches.clear();
        return Ok(restored);
    }
    steps.carry_out(&mut ledger, caches, disk)?;
    Ok(restored)
}

/// What will be done.
pub(super) struct Steps {
    slots: Vec<Step>,
    files: Vec<Untold>,
}

struct Step {
    slot: String,
    act: Act,
}

enum Act {
    GiveBack { to: Held, below: usize, aside: bool },
    Leave,
}

impl Steps {
    /// Decides for each slot what will be done.
    pub(super) fn sort(
        root: &Root,
        state: &State,
        which: Which<'_>,
        changed: Changed,
    ) -> Result<Self> {
        refuse_unknown(state, which)?;
        let ours = state.slots.iter().filter(|(_, known)| known.matters());
        state.refuse_missing_roots(&root.path, ours.map(|(slot, _)| slot))?;
        let mut slots = Vec::new();
        for (slot, known) in &state.slots {
            let Some(below) = stays_below(slot, known, which)? else {
                continue;
            };
            let Some(top) = known.top() else { continue };
            let now = held_at(&state.path_of(&root.path, slot)?)?;
            let is_changed = condition(now, top.held, known) == Condition::ChangedSince;
            let lower = below.checked_sub(1).and_then(|at| known.layers.get(at));
            let stock = known.stock.last().copied().unwrap_or(Held::Nothing);
            let act = match (is_changed, changed) {
                (true, Changed::Refuse) => return Err(changed_since(slot)),
                (true, Changed::Keep) => Act::Leave,
                (aside, _) => Act::GiveBack {
                    to: lower.map_or(stock, |layer| layer.held),
                    below,
                    aside,
                },
            };
            let slot = slot.clone();
            slots.push(Step { slot, act });
        }
        let files = untell(root, state, which, changed)?;
        Ok(Self { slots, files })
    }

    fn told(&self, state: &State, caches: Vec<String>) -> Restored {
        let mut restored = Restored {
            entries: self.files.iter().flat_map(|f| f.words.clone()).collect(),
            caches,
            after: state.target.after.clone(),
            ..Restored::default()
        };
        for Step { slot, act } in &self.slots {
            let list = match act {
                Act::Leave => &mut restored.left,
                Act::GiveBack { below: 1.., .. } => &mut restored.uncovered,
                Act::GiveBack {
                    to: Held::Nothing, ..
                } => &mut restored.removed,
                Act::GiveBack { .. } => &mut restored.given_back,
            };
            list.push(slot.clone());
        }
        restored
    }

    fn carry_out(
        &self,
        ledger: &mut Ledger<'_>,
        caches: Vec<String>,
        disk: &dyn Disk,
    ) -> Result<()> {
        let slots = self.slots.iter().map(|step| step.slot.clone());
        let files = self.files.iter().map(|file| file.file.clone());
        let names: Vec<String> = slots.chain(files).collect();
        let mut change = ledger.begin("restore", &names, caches)?;
        for step in &self.slots {
            match step.act {
                Act::GiveBack { below, aside, .. } => {
                    change.give_back(&step.slot, below, aside)?;
                }
                Act::Leave => change.leave(&step.slot)?,
            }
        }
        for file in &self.files {
            file.put(&mut change, disk)?;
        }
        change.finish()
    }
}

/// How many layers of a slot stay; `None` where nothing of it is to go.
fn stays_below(slot: &str, known: &Slot, which: Which<'_>) -> Result<Option<usize>> {
    let job = match which {
        Which::All => return Ok(known.top().map(|_| 0)),
        Which::Slots(slots) => {
            let named = slots.iter().any(|named| named == slot);
            return Ok(known.top().filter(|_| named).map(|_| 0));
        }
        Which::Job(job) => job,
    };
    let Some(at) = known.layer_of(Some(job)) else {
        return Ok(None);
    };
    match known.layers.get(at + 1) {
        None => Ok(Some(at)),
        Some(upper) => Err(covered(job, slot, upper.installed.job.as_deref())),
    }
}

/// Another job, or a swap by hand, lies over this one.
pub(super) fn covered(job: &str, place: &str, upper: Option<&str>) -> Error {
    let (what, instead) = match upper {
        Some(upper) => (
            format!("{upper} was installed over {job} in {place}"),
            format!("take {upper} out first: restore ROOT --job {upper}"),
        ),
        None => (
            format!("{place} was swapped by hand after {job} was installed"),
            format!("give that slot its stock back first: restore ROOT {place}"),
        ),
    };
    Error::refused(what, instead)
}

fn refuse_unknown(state: &State, which: Which<'_>) -> Result<()> {
    match which {
        Which::All => Ok(()),
        Which::Slots(slots) => {
            let installed = state
                .slots
                .iter()
                .filter(|(_, known)| known.top().is_some());
            let installed: Vec<&str> = installed.map(|(slot, _)| slot.as_str()).collect();
            match slots
                .iter()
                .find(|slot| !installed.contains(&slot.as_str()))
            {
                None => Ok(()),
                Some(unknown) => {
                    let near = nearest(unknown, installed.iter().copied(), 3);
                    Err(Error::refused(
                        format!("nothing is installed in {unknown}"),
                        did_you_mean(&near).unwrap_or_else(|| "status shows what is".to_owned()),
                    ))
                }
            }
        }
        Which::Job(job) => {
            let jobs = state.jobs();
            if jobs.contains(&job) {
                return Ok(());
            }
            let there = match jobs.as_slice() {
                [] => "no job has installed anything here".to_owned(),
                jobs => format!("there are: {}", jobs.join(", ")),
            };
            Err(Error::refused(
                format!("no job {job} has installed anything here"),
                there,
            ))
        }
    }
}

fn changed_since(slot: &str) -> Error {
    Error::refused(
        format!("{slot} was changed since it was installed"),
        "say --changed overwrite to give the stock back (what is there now is kept in the ledger), \
         or --changed keep to leave it",
    )
}
