//! All that a job will do and all that is wrong with it, before anything is done.

use super::Run;
use super::entries::{Contents, EntryLine, Files};
use super::line::{Line, Sources, Work};
use super::removal::{Act, Removal, plan_removal};
use super::restore::{Changed, Which, covered};
use crate::disk::Disk;
use crate::error::{Error, Result};
use crate::hash_cache::HashCache;
use crate::ledger::Ledger;
use crate::ledger::record::Held;
use crate::ledger::state::State;
use crate::names::{Key, folded};
use crate::notice::Notice;
use crate::refusal::OddSlot;
use crate::root::Root;
use crate::sheet::{Entry, PackForm, Size};
use deft_needle_audio::Observer;
use deft_needle_audio::Unmet;
use rayon::prelude::*;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

/// A slot that the job no longer names.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
pub struct Back {
    /// What the ledger calls it.
    pub key: Key,
    /// How many layers stay below.
    pub below: usize,
    /// Whether somebody has changed the file, which then stays.
    pub changed: bool,
    /// What becomes of it.
    #[serde(skip)]
    pub(super) removal: Removal,
}

/// All that a job will do, and all that is wrong.
#[derive(Debug, Default, JsonSchema, Serialize)]
pub struct JobPlan {
    /// A line a slot.
    pub lines: Vec<Line>,
    /// Entries.
    pub entries: Vec<EntryLine>,
    /// Files that get other contents by entries, or are carried.
    #[serde(skip)]
    pub(super) files: Files,
    /// Slots that get their stock back.
    pub back: Vec<Back>,
    /// Caches that go.
    pub caches: Vec<Key>,
    /// What the user should know.
    pub notices: Vec<Notice>,
    /// What is wrong with its lines; with any of it, or with the job itself, nothing is installed.
    #[serde(skip)]
    pub faults: Vec<Error>,
}

impl JobPlan {
    /// Whether there is anything to do.
    pub fn is_idle(&self) -> bool {
        let unchanged = |line: &Line| matches!(line.work, Work::Unchanged { .. });
        self.lines.iter().all(unchanged) && self.files.is_empty() && self.back.is_empty()
    }

    /// Files that are written beside slots or carried along.
    pub fn beside(&self) -> impl Iterator<Item = &Key> {
        let written = self.files.iter().filter(|(_, contents)| contents.is_put());
        written.map(|(file, _)| file)
    }

    /// All that a change touches: these, what is reverted, and the files of entries.
    pub(super) fn keys(&self, placed: impl Iterator<Item = Key>) -> Vec<Key> {
        let back = self.back.iter().map(|back| back.key.clone());
        placed.chain(back).chain(self.files.keys().cloned()).collect()
    }

    /// What is kept beside what lies there now.
    pub(super) fn copies(&self) -> Vec<Held> {
        self.files.values().filter_map(Contents::copy).collect()
    }

    /// How many frames will be written.
    pub fn frames(&self) -> u64 {
        self.lines.iter().filter_map(Line::plan).map(|plan| plan.to.frames).sum()
    }
}

impl Run {
    /// Works out everything; what is wrong is told all at once.
    ///
    /// # Errors
    /// What keeps even the looking.
    pub fn look(
        &self,
        state: &State,
        hash_cache: &HashCache,
        disk: &dyn Disk,
        observer: &dyn Observer,
    ) -> Result<JobPlan> {
        let mut faults = Vec::new();
        let sources = Sources { state, hash_cache, disk };
        let placements = &self.dealt.placements;
        let worked: Vec<Result<Line>> = placements
            .par_iter()
            .map(|placement| {
                let stopped = || deft_needle_audio::Error::Stopped.into();
                match observer.stopped() {
                    true => Err(stopped()),
                    false => self.line(placement, &sources, observer),
                }
            })
            .collect();
        // What was broken off is no plan with faults.
        if observer.stopped() {
            return Err(deft_needle_audio::Error::Stopped.into());
        }
        let mut lines = Vec::new();
        for (worked, placement) in worked.into_iter().zip(placements) {
            match worked {
                Ok(line) => lines.push(line),
                Err(error) => {
                    faults.push(self.of_slot(&placement.slot, &placement.named, error));
                }
            }
        }
        faults.extend(lines.iter().filter_map(|line| self.refuse_covered(&line.key, state)));
        let mut plan =
            JobPlan { notices: self.dealt.notices.clone(), lines, faults, ..JobPlan::default() };
        refuse_same_file(&mut plan);
        let beside = self.look_at_beside(&mut plan, &sources)?;
        self.look_back(&mut plan, &beside, &sources)?;
        self.look_at_sets(&mut plan, state);
        self.look_at_room(&mut plan);
        if !self.entries {
            match self.packing {
                // Whoever takes in a pack that brings its sheet makes the entries then.
                true if self.layout().bare => self.look_at_brought(&mut plan, disk),
                true => {}
                false => self.tell_entries_left(&mut plan),
            }
            return Ok(plan);
        }
        if self.root.is_some() {
            self.look_at_entries(&mut plan, &sources)?;
        }
        if let (Some(root), false) = (&self.root, plan.is_idle()) {
            let slots: Vec<&str> = plan.lines.iter().map(|line| line.slot.as_str()).collect();
            let (root, files) = (&root.path, plan.files.keys());
            match super::caches::of_target(root, &self.target, state, &slots, files) {
                Ok(caches) => plan.caches = caches,
                Err(error) => plan.faults.push(error),
            }
        }
        Ok(plan)
    }

    /// Another job that lies over this one in a slot.
    pub(super) fn refuse_covered(&self, key: &Key, state: &State) -> Option<Error> {
        let known = state.slots.get(key)?;
        let at = known.layer_of(self.job.layer())?;
        let upper = known.layers.get(at + 1)?;
        Some(covered(state, self.job.layer(), key, upper.installed.job.as_deref()))
    }

    /// Slots of the job's that it no longer names.
    fn look_back(
        &self,
        plan: &mut JobPlan,
        beside: &BTreeSet<Key>,
        sources: &Sources<'_>,
    ) -> Result<()> {
        let (state, disk) = (sources.state, sources.disk);
        // A single swap leaves the others alone.
        let (Some(root), Some(job), false) = (&self.root, self.job.layer(), self.partial) else {
            return Ok(());
        };
        let named: BTreeSet<Key> = match &self.destination.archive {
            Some(archive) => BTreeSet::from([archive.clone()]),
            None => {
                let placements = self.dealt.placements.iter();
                let key = |slot: &str| self.destination.key(slot, state, &root.path, disk).ok();
                let slots = placements.filter_map(|p| key(&p.slot));
                let beside = beside.iter().cloned();
                let lines = plan.lines.iter().map(|line| line.key.clone());
                slots
                    .chain(lines)
                    .chain(beside)
                    .chain(self.carried(state, disk).into_iter().map(|(key, _)| key))
                    .collect()
            }
        };
        // What stays of a folder that is laid out as an archive is known once that is made.
        let folder = self.destination.archive.as_ref();
        let folder = folder.filter(|_| self.layout().form == PackForm::Folder);
        let named =
            |key: &Key| named.contains(key) || folder.is_some_and(|folder| folder.holds(key));
        self.back_unless(&named, state, root, job, plan)
    }

    /// Slots of the job's below a folder that are not among its files any more.
    pub(super) fn look_back_below(
        &self,
        folder: &Key,
        members: &BTreeMap<Key, &Path>,
        ledger: &Ledger<'_>,
        plan: &mut JobPlan,
    ) -> Result<()> {
        let (Some(root), Some(job)) = (&self.root, self.job.layer()) else {
            return Ok(());
        };
        let named = |key: &Key| !folder.holds(key) || members.contains_key(key);
        self.back_unless(&named, ledger.state(), root, job, plan)
    }

    fn back_unless(
        &self,
        named: &dyn Fn(&Key) -> bool,
        state: &State,
        root: &Root,
        job: &str,
        plan: &mut JobPlan,
    ) -> Result<()> {
        for (key, known) in &state.slots {
            let Some(below) = known.layer_of(Some(job)) else {
                continue;
            };
            if named(key) {
                continue;
            }
            match plan_removal(root, state, key, Which::FilesOf(job), Changed::Keep) {
                Ok(Some(removal)) => plan.back.push(Back {
                    key: key.clone(),
                    below,
                    changed: matches!(removal.act, Act::Leave { .. }),
                    removal,
                }),
                Ok(None) => {}
                Err(error) => plan.faults.push(error),
            }
        }
        Ok(())
    }

    /// What the sheet asks beside the files of a single swap.
    fn tell_entries_left(&self, plan: &mut JobPlan) {
        let sheet = &self.target.sheet;
        let slots: Vec<&str> = plan.lines.iter().map(|line| line.slot.as_str()).collect();
        let speaks = |entry: &&Entry| {
            let patterns = &entry.patterns.0;
            patterns.is_empty() || patterns.iter().any(|p| slots.iter().any(|slot| p.matches(slot)))
        };
        let entries = sheet.entries.iter().map(|entry| entry.get_ref());
        let mut files: Vec<String> =
            entries.filter(speaks).map(|entry| entry.file.0.clone()).collect();
        files.dedup();
        let caches: Vec<String> = sheet.clear.0.iter().map(|p| p.text().to_owned()).collect();
        if !files.is_empty() || !caches.is_empty() {
            plan.notices.push(Notice::EntriesLeft { files, caches });
        }
    }

    /// The room that all slots have together; lossy files can only be guessed before they are made.
    fn look_at_room(&self, plan: &mut JobPlan) {
        let (Some(budget), Some(root)) = (self.target.sheet.budget, &self.root) else {
            return;
        };
        let placed: BTreeSet<&str> = plan.lines.iter().map(|line| line.slot.as_str()).collect();
        let size =
            |slot: &str| std::fs::metadata(root.path.join(slot)).map_or(0, |found| found.len());
        let others = self.target.slots.names().filter(|slot| !placed.contains(slot));
        let kept: u64 = others.map(size).sum();
        let line = |line: &Line| match (&line.work, line.plan()) {
            (Work::AsIs { bytes }, _) => *bytes,
            (_, Some(plan)) => plan.to.about_bytes(),
            (_, None) => size(&line.slot),
        };
        let ours: u64 = plan.lines.iter().map(line).sum();
        let all = Size(kept + ours);
        match all > budget {
            true => plan.faults.push(over_budget(all, budget)),
            false => plan.notices.push(Notice::Room { takes: all, budget }),
        }
    }
}

/// Two slots that are one file where the disk ignores case.
fn refuse_same_file(plan: &mut JobPlan) {
    let mut seen: BTreeMap<String, &str> = BTreeMap::new();
    let mut faults = Vec::new();
    for line in &plan.lines {
        if let Some(other) = seen.insert(folded(line.key.as_str()), &line.slot) {
            faults.push(OddSlot::MayBe { other: other.to_owned() }.of(&line.slot));
        }
    }
    plan.faults.extend(faults);
}

/// More than the target has room for.
pub(super) fn over_budget(all: Size, budget: Size) -> Error {
    deft_needle_audio::Error::CannotMeet(Unmet::OverBudget { takes: all.0, budget: budget.0 })
        .into()
}
