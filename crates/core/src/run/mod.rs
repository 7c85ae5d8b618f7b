//! Jobs, and single swaps, which are jobs of one line: everything is decided and checked first, then all of
//! it is placed, or nothing. And what was placed: looked at, and taken out again.
//!
//! `look` decides (`line`, `stock`, `entries`), `place` or `archive` carries out (`make`, `fitting`).

mod archive;
mod beside;
mod brought;
pub(crate) mod caches;
mod clip;
mod destination;
mod encode;
mod entries;
mod existing;
mod fitting;
mod kept;
pub(crate) mod known;
mod line;
mod look;
mod make;
mod noticed;
mod packed;
mod place;
mod place_of;
mod preview;
mod removal;
mod restore;
mod sets;
mod status;
mod stock;
mod swap;

pub use crate::notice::Notice;
pub use entries::EntryLine;
pub use existing::refuse_existing;
pub use fitting::{Audience, Fitting, Side, Written, open_written};
pub use kept::{KeptAct, KeptDone, kept};
pub use line::{Line, Work};
pub use look::{Back, JobPlan};
pub(crate) use make::{Keep, Make};
pub use packed::{Packed, PackedPlace};
pub use place::{Installation, Placed, Session};
pub use preview::{Preview, Previews, Standing, exhibit_root};
pub use restore::{Changed, Failed, Restored, Which, restore};
pub use status::{Condition, EntryStatus, KeptCopy, Proof, SlotStatus, Status, status};
pub use swap::Swap;

use crate::error::{Error, Result};
use crate::fit_cache::FitCache;
use crate::hash::Hash;
use crate::job::{Dealt, Job};
use crate::ledger::record::EntryRecord;
use crate::ledger::{Recovered, What};
use crate::names::{Key, nearest};
use crate::refusal::OddJob;
use crate::root::{Found, Root, RootAsk};
use crate::sheet::Pattern;
use crate::target::Target;
use deft_needle_audio::plan::Surveys;
use deft_needle_audio::{Observer, Plan};
use destination::Destination;
pub(crate) use destination::within;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::path::{Path, PathBuf};
use std::sync::Mutex;

/// What the user says beside the job sheet.
#[derive(Debug, Clone, Copy, Default)]
pub struct Ask<'a> {
    /// The main root, where it is not the job's.
    pub root: Option<&'a Path>,
    /// Other roots by their names, where they are not the job's.
    pub others: Option<&'a BTreeMap<String, PathBuf>>,
    /// The ledger's folder, where it is not in the root.
    pub ledger: Option<&'a Path>,
    /// Whether a ledger that was made for another place is taken over.
    pub adopt: bool,
    /// Whether outside commands may run.
    pub allow_commands: bool,
}

impl Ask<'_> {
    /// The root of a job, with its other ones.
    fn certain(self, main: &Path, others: &BTreeMap<String, PathBuf>) -> Result<Root> {
        let asked = RootAsk {
            root: None,
            others: others.clone(),
            ledger: self.ledger.map(Path::to_owned),
            adopt: self.adopt,
        };
        asked.certain(main, Found::Named)
    }
}

/// A job with its target and its roots.
pub struct Run {
    /// The job.
    pub job: Job,
    /// The target.
    pub target: Target,
    /// The main root and its ledger; nothing where a pack is made without a root.
    pub root: Option<Root>,
    /// Where files go.
    destination: Destination,
    /// Clips dealt to slots.
    pub dealt: Dealt,
    /// Whether the sheet's entries are made, and its caches cleared.
    entries: bool,
    allow_commands: bool,
    /// Whether only some slots of the job are looked at.
    partial: bool,
    /// Whether a pack is made of it, for which no root is changed.
    pub(crate) packing: bool,
    /// Where its files go, for whoever takes a pack of it in.
    pub(crate) packed_place: Option<packed::PackedPlace>,
    /// Plans that were made, by all that decides them: one clip may go to many slots.
    plans: Mutex<HashMap<Hash, Plan>>,
    /// What was measured of clips.
    surveys: Surveys,
    /// What proofs have made.
    fit_cache: FitCache,
    /// A change that had been interrupted, and was dealt with before this was opened.
    recovered: Option<Recovered>,
}

impl Run {
    /// Reads a job, its target's sheet and lists, and deals its clips. `speak` makes the clips of prompt
    /// lists.
    ///
    /// # Errors
    /// Sheets that are wrong, roots that are not there or not the target's.
    pub fn open(path: &Path, ask: Ask<'_>, observer: &dyn Observer) -> Result<Self> {
        let job = Job::load(path)?;
        let target = job.target(ask.root, ask.others)?;
        if target.roots.main.is_none() {
            return Err(OddJob::RootUnsaid {
                job: path.to_owned(),
                target: target.sheet.name.clone(),
            }
            .into());
        }
        let mut dealt = job.deal(&target);
        job.speak(&target, ask.allow_commands, &mut dealt, observer)?;
        Self::of_parts(job, target, dealt, ask)
    }

    /// Leaves out all slots but those that one of the patterns matches; the others stay as they are.
    ///
    /// # Errors
    /// [`Error::Refused`] where a pattern matches no slot of the job.
    pub fn only(&mut self, patterns: &[Pattern]) -> Result<()> {
        for pattern in patterns {
            let mut slots = self.dealt.placements.iter().map(|placement| placement.slot.as_str());
            if !slots.any(|slot| pattern.matches(slot)) {
                let all = self.dealt.placements.iter().map(|placement| placement.slot.as_str());
                let near = nearest(pattern.text(), all, 3);
                return Err(OddJob::NotInJob { slot: pattern.text().to_owned(), near }.into());
            }
        }
        let keeps = |slot: &str| patterns.iter().any(|pattern| pattern.matches(slot));
        self.dealt.placements.retain(|placement| keeps(&placement.slot));
        self.partial = true;
        Ok(())
    }

    /// Leaves out all slots but these.
    ///
    /// # Errors
    /// [`Error::Refused`] where one of them is no slot of the job.
    pub fn only_slots(&mut self, slots: &BTreeSet<String>) -> Result<()> {
        let placed = || self.dealt.placements.iter().map(|placement| placement.slot.as_str());
        if let Some(strange) = slots.iter().find(|slot| !placed().any(|own| own == *slot)) {
            let near = nearest(strange, placed(), 3);
            return Err(OddJob::NotInJob { slot: strange.clone(), near }.into());
        }
        self.dealt.placements.retain(|placement| slots.contains(&placement.slot));
        self.partial = true;
        Ok(())
    }

    /// What it is called in the ledger's log.
    fn what(&self) -> What {
        match self.job.layer() {
            Some(_) => What::Install,
            None => What::Swap,
        }
    }

    /// Whether this job made an entry; a single swap only owns those of its slot.
    fn made(&self, told: &EntryRecord) -> bool {
        let slots = || self.dealt.placements.iter().map(|placement| placement.slot.as_str());
        let is_here = |key: &Key| slots().any(|slot| key.within() == slot);
        told.job == self.job.name
            && ((self.job.layer().is_some() && !self.partial)
                || told.slot.as_ref().is_none_or(is_here))
    }

    /// The slot of a single swap: its entries go with it, those that name no slot, too.
    fn only_slot(&self) -> Option<Key> {
        match (self.job.layer(), self.dealt.placements.as_slice()) {
            (None, [only]) => Key::new(None, &only.slot).ok(),
            _ => None,
        }
    }

    /// What is wrong with one slot; a single swap need not be told which.
    pub(crate) fn of_slot(&self, slot: &str, clip: &str, error: Error) -> Error {
        match self.job.layer() {
            None => error,
            Some(_) => Error::Slot {
                slot: slot.to_owned(),
                clip: clip.to_owned(),
                source: Box::new(error),
            },
        }
    }

    /// All that is wrong: with the job itself, and with what it would do.
    pub fn faults<'a>(&'a self, plan: &'a JobPlan) -> impl Iterator<Item = &'a Error> {
        self.dealt.faults.iter().chain(&plan.faults)
    }

    /// Nothing is done while anything is wrong.
    ///
    /// # Errors
    /// The first fault.
    pub fn refuse(&mut self, plan: &mut JobPlan) -> Result<()> {
        let mut all = self.dealt.faults.drain(..).chain(plan.faults.drain(..));
        all.next().map_or(Ok(()), Err)
    }

    /// The roots beside the main one, by their names.
    pub fn others(&self) -> &BTreeMap<String, PathBuf> {
        &self.destination.others
    }

    /// A job whose clips are dealt.
    ///
    /// # Errors
    /// Roots that are not there; an overlay that cannot be told.
    pub(crate) fn of_parts(job: Job, target: Target, dealt: Dealt, ask: Ask<'_>) -> Result<Self> {
        let Some(main) = target.roots.main.clone() else {
            return Err(OddJob::NoRoot.into());
        };
        let others = target.roots.others.iter().map(|(name, folder)| (name.as_str(), folder));
        for (name, folder) in others.chain([("main", &main)]) {
            if !folder.is_dir() {
                let (name, path) = (name.to_owned(), folder.clone());
                return Err(OddJob::RootNotFolder { name, path }.into());
            }
        }
        let destination = Destination::of(&job, &target)?;
        let packed_place = PackedPlace::of(&job, &target, &target.roots)?;
        Ok(Self {
            root: Some(ask.certain(&main, &destination.others)?),
            destination,
            job,
            target,
            dealt,
            entries: true,
            allow_commands: ask.allow_commands,
            partial: false,
            packed_place,
            packing: false,
            plans: Mutex::default(),
            surveys: Surveys::default(),
            fit_cache: FitCache::of_user(),
            recovered: None,
        })
    }

    /// The same for a pack: no root is needed, and none is looked at.
    ///
    /// # Errors
    /// Sheets that are wrong.
    pub fn without_root(path: &Path, ask: Ask<'_>, observer: &dyn Observer) -> Result<Self> {
        let job = Job::load(path)?;
        let sheet = job.sheet()?;
        // Where its root is at hand all the same, lists in it are read, and stock tells levels.
        let roots = job.roots(&sheet, ask.root, ask.others)?;
        let there = roots.main.as_ref().is_some_and(|main| main.is_dir());
        let known = roots.clone();
        let roots = if there { roots } else { crate::root::Roots::default() };
        let target = Target::new(sheet, roots)?;
        let packed_place = PackedPlace::of(&job, &target, &known)?;
        let mut dealt = job.deal(&target);
        job.speak(&target, ask.allow_commands, &mut dealt, observer)?;
        let others = &target.roots.others;
        let main = target.roots.main.as_deref();
        let root = main.map(|main| ask.certain(main, others)).transpose()?;
        Ok(Self {
            destination: Destination::slots(),
            job,
            target,
            root,
            dealt,
            entries: false,
            allow_commands: ask.allow_commands,
            partial: false,
            packed_place,
            packing: true,
            plans: Mutex::default(),
            surveys: Surveys::default(),
            fit_cache: FitCache::of_user(),
            recovered: None,
        })
    }
}
