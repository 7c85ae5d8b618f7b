//! All that a job will do and all that is wrong with it, before anything is done.

use super::Run;
use super::entries::{EntryLine, Files};
use super::line::{Line, Sources, Work};
use crate::disk::Disk;
use crate::error::{Error, Result};
use crate::install::restore::covered;
use crate::install::status::{Condition, condition};
use crate::ledger::held_at;
use crate::ledger::state::State;
use crate::names::{Key, folded};
use crate::sheet::Size;
use crate::slots::families;
use crate::stamps::Stamps;
use deft_needle_audio::Observer;
use deft_needle_audio::num::count;
use rayon::prelude::*;
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};

/// A slot that the job no longer names.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Back {
    /// What the ledger calls it.
    pub key: Key,
    /// How many layers stay below.
    pub below: usize,
    /// Whether somebody has changed the file, which then stays.
    pub changed: bool,
}

/// All that a job will do, and all that is wrong.
#[derive(Debug, Default, Serialize)]
pub struct Outlook {
    /// A line a slot.
    pub lines: Vec<Line>,
    /// Entries.
    pub entries: Vec<EntryLine>,
    /// Files that get other contents by entries, or are carried.
    #[serde(skip)]
    pub(in crate::install) files: Files,
    /// Slots that get their stock back.
    pub back: Vec<Back>,
    /// Caches that go.
    pub caches: Vec<Key>,
    /// What the user should know.
    pub notes: Vec<String>,
    /// What is wrong; with any of it nothing is installed.
    #[serde(skip)]
    pub faults: Vec<Error>,
}

impl Outlook {
    /// Whether there is anything to do.
    pub fn is_idle(&self) -> bool {
        let unchanged = |line: &Line| matches!(line.work, Work::Unchanged { .. });
        self.lines.iter().all(unchanged) && self.files.is_empty() && self.back.is_empty()
    }

    /// How many frames will be written.
    pub fn frames(&self) -> u64 {
        let frames = |line: &Line| match &line.work {
            Work::Fit { plan } | Work::Encode { plan, .. } => plan.to.frames,
            Work::Unchanged { .. } | Work::AsIs { .. } => 0,
        };
        self.lines.iter().map(frames).sum()
    }
}

impl Run {
    /// Works out everything; what is wrong is told all at once.
    ///
    /// # Errors
    /// What keeps even the looking.
    pub fn look(
        &mut self,
        state: &State,
        stamps: &Stamps,
        disk: &dyn Disk,
        observer: &dyn Observer,
    ) -> Result<Outlook> {
        let mut faults = std::mem::take(&mut self.dealt.faults);
        let sources = Sources { state, stamps, disk };
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
        let mut lines = Vec::new();
        for (worked, placement) in worked.into_iter().zip(placements) {
            match worked {
                Ok(line) => lines.push(line),
                Err(error) => faults.push(Error::Slot {
                    slot: placement.slot.clone(),
                    clip: placement.named.clone(),
                    source: Box::new(error),
                }),
            }
        }
        faults.extend(lines.iter().filter_map(|line| self.refuse_covered(&line.key, state)));
        let mut outlook =
            Outlook { notes: self.dealt.notes.clone(), lines, faults, ..Outlook::default() };
        refuse_same_file(&mut outlook);
        self.look_back(&mut outlook, state, disk)?;
        self.look_at_variants(&mut outlook);
        self.look_at_room(&mut outlook);
        if self.root.is_some() {
            self.look_at_entries(&mut outlook, &sources)?;
        }
        if let (Some(root), false) = (&self.root, outlook.is_idle()) {
            let slots: Vec<&str> = outlook.lines.iter().map(|line| line.slot.as_str()).collect();
            match crate::caches::of_target(&root.path, &self.target, state, &slots) {
                Ok(caches) => outlook.caches = caches,
                Err(error) => outlook.faults.push(error),
            }
        }
        Ok(outlook)
    }

    /// Another job that lies over this one in a slot.
    fn refuse_covered(&self, key: &Key, state: &State) -> Option<Error> {
        let known = state.slots.get(key)?;
        let at = known.layer_of(Some(&self.job.name))?;
        let upper = known.layers.get(at + 1)?;
        Some(covered(&self.job.name, key, upper.installed.job.as_deref()))
    }

    /// Slots of the job's that it no longer names.
    fn look_back(&self, outlook: &mut Outlook, state: &State, disk: &dyn Disk) -> Result<()> {
        let Some(root) = &self.root else {
            return Ok(());
        };
        let named: BTreeSet<Key> = match &self.ground.archive {
            Some(archive) => BTreeSet::from([archive.clone()]),
            None => {
                let placements = self.dealt.placements.iter();
                let key = |slot: &str| self.ground.key(slot, state, &root.path, disk).ok();
                let slots = placements.filter_map(|p| key(&p.slot));
                slots.chain(self.carried(state, disk)).collect()
            }
        };
        for (key, known) in &state.slots {
            let Some(below) = known.layer_of(Some(&self.job.name)) else {
                continue;
            };
            if named.contains(key) {
                continue;
            }
            if let Some(error) = self.refuse_covered(key, state) {
                outlook.faults.push(error);
                continue;
            }
            let now = held_at(&state.path_of(&root.path, key)?)?;
            let ours = known.layers[below].held;
            outlook.back.push(Back {
                key: key.clone(),
                below,
                changed: condition(now, ours, known) == Condition::Changed,
            });
        }
        Ok(())
    }

    /// Variants that are left out, and counts of them that do not work.
    fn look_at_variants(&self, outlook: &mut Outlook) {
        let placements = self.dealt.placements.iter();
        let placed: BTreeSet<&str> = placements.map(|placement| placement.slot.as_str()).collect();
        let names = self.target.slots.names().chain(placed.iter().copied());
        let all: BTreeSet<&str> = names.collect();
        for group in families(all) {
            let ours = group.slots.iter().filter(|slot| placed.contains(slot.as_str())).count();
            let all = group.slots.len();
            if ours == 0 {
                continue;
            }
            if ours < all {
                let left = group.slots.iter().filter(|slot| !placed.contains(slot.as_str()));
                let left: Vec<&str> = left.map(String::as_str).collect();
                outlook.notes.push(format!(
                    "{ours} of {all} variants of {} are replaced; these stay stock: {}",
                    group.name,
                    left.join(", ")
                ));
            }
            let counts =
                self.target.sheet.rule_for(&group.slots[0]).and_then(|rule| rule.count.as_ref());
            if let Some(counts) = counts
                && !counts.0.iter().any(|works| u64::from(*works) == count(all))
            {
                let works: Vec<String> = counts.0.iter().map(u32::to_string).collect();
                outlook.faults.push(Error::refused(
                    format!(
                        "{}: there would be {all} variants, and {} work",
                        group.name,
                        works.join(", ")
                    ),
                    "add or leave out variants",
                ));
            }
        }
    }

    /// The room that all slots have together; lossy files can only be guessed before they are made.
    fn look_at_room(&self, outlook: &mut Outlook) {
        let (Some(budget), Some(root)) = (self.target.sheet.budget, &self.root) else {
            return;
        };
        let placed: BTreeSet<&str> = outlook.lines.iter().map(|line| line.slot.as_str()).collect();
        let size =
            |slot: &str| std::fs::metadata(root.path.join(slot)).map_or(0, |found| found.len());
        let others = self.target.slots.names().filter(|slot| !placed.contains(slot));
        let kept: u64 = others.map(size).sum();
        let line = |line: &Line| match &line.work {
            Work::Unchanged { .. } => size(&line.slot),
            Work::AsIs { bytes } => *bytes,
            Work::Fit { plan } | Work::Encode { plan, .. } => plan.to.about_bytes(),
        };
        let ours: u64 = outlook.lines.iter().map(line).sum();
        let all = Size(kept + ours);
        match all > budget {
            true => outlook.faults.push(over_budget(all, budget)),
            false => outlook.notes.push(format!("all slots together: about {all} of {budget}")),
        }
    }
}

/// Two slots that are one file where the disk ignores case.
fn refuse_same_file(outlook: &mut Outlook) {
    let mut seen: BTreeMap<String, &str> = BTreeMap::new();
    let mut faults = Vec::new();
    for line in &outlook.lines {
        if let Some(other) = seen.insert(folded(line.key.as_str()), &line.slot) {
            faults.push(Error::refused(
                format!("{} and {other} may be one file: they differ in case alone", line.slot),
                "leave one of them out",
            ));
        }
    }
    outlook.faults.extend(faults);
}

/// More than the target has room for.
pub(super) fn over_budget(all: Size, budget: Size) -> Error {
    deft_needle_audio::Error::CannotMeet {
        what: format!("all slots together would take about {all}, and there is room for {budget}"),
        instead: "cut clips, or choose smaller ones among the specs that the target takes"
            .to_owned(),
    }
    .into()
}
