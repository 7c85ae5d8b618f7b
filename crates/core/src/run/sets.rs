//! Sets of slots that belong together: variants, folders, lists; and what a job leaves out of them.

use super::Run;
use super::look::JobPlan;
use crate::error::Error;
use crate::ledger::state::State;
use crate::names::{Key, folder_of};
use crate::notice::Notice;
use crate::refusal::OddJob;
use crate::slots::{Group, families};
use deft_needle_audio::num::count;
use std::collections::{BTreeMap, BTreeSet};

/// As long as this is a piece of music and no variant, in seconds.
const MUSIC: f64 = 20.0;

/// So many slots of a folder or of a list are enough to tell that all of it is meant.
const LEAST_OF_SET: usize = 4;

/// The slots that a job names.
type Placed<'a> = BTreeSet<&'a str>;

impl Run {
    /// What a job leaves out of the sets that its slots belong to.
    pub(super) fn look_at_sets(&self, plan: &mut JobPlan, state: &State) {
        let placements = self.dealt.placements.iter();
        let placed: BTreeSet<&str> = placements.map(|placement| placement.slot.as_str()).collect();
        let is_ours = |slot: &str| {
            let key = Key::new(None, slot).ok().and_then(|key| state.slots.get(&key));
            key.is_some_and(|known| known.top().is_some())
        };
        self.look_at_variants(plan, &placed, &is_ours);
        if self.job.layer().is_some() {
            self.look_at_lists(plan, &placed, &is_ours);
        }
        self.refuse_incomplete(plan, &placed);
    }

    /// Folders and lists of which most is replaced.
    fn look_at_lists(
        &self,
        plan: &mut JobPlan,
        placed: &Placed<'_>,
        is_ours: &dyn Fn(&str) -> bool,
    ) {
        let mut sets: BTreeMap<&str, BTreeSet<&str>> = BTreeMap::new();
        for name in self.target.slots.names() {
            sets.entry(folder_of(name)).or_default().insert(name);
        }
        let folders = sets.into_iter().filter(|(folder, _)| !folder.is_empty());
        let lists = self.target.slots.lists().iter();
        let lists = lists.map(|list| {
            (list.title.as_str(), list.names.iter().map(String::as_str).collect::<BTreeSet<_>>())
        });
        let mut told: BTreeSet<Vec<&str>> = BTreeSet::new();
        for (of, names) in folders.chain(lists) {
            let (ours, left): (Vec<&str>, Vec<&str>) =
                names.iter().partition(|name| placed.contains(*name));
            let left: Vec<&str> = left.into_iter().filter(|slot| !is_ours(slot)).collect();
            // One slot of a large folder is what it is; most of it is meant to be all of it.
            let most = ours.len() >= LEAST_OF_SET && ours.len() * 2 > names.len();
            let known = plan.notices.iter().any(|notice| notice.tells_left(&left));
            if most && !left.is_empty() && !known && told.insert(left.clone()) {
                plan.notices.push(Notice::SlotsLeft {
                    of: of.to_owned(),
                    replaced: ours.len(),
                    all: names.len(),
                    left: left.into_iter().map(str::to_owned).collect(),
                });
            }
        }
    }

    /// Sets that must be whole, and would not be.
    fn refuse_incomplete(&self, plan: &mut JobPlan, placed: &Placed<'_>) {
        let there = |name: &str| {
            let root = self.root.as_ref().map(|root| root.path.join(name));
            root.is_none_or(|path| path.symlink_metadata().is_ok())
        };
        let complete = self.target.slots.complete(&self.target.sheet);
        let names = complete.into_iter().filter(|name| !placed.contains(name) && !there(name));
        let names: Vec<String> = names.map(str::to_owned).collect();
        if !names.is_empty() {
            plan.faults.push(OddJob::Incomplete { names }.into());
        }
    }

    /// Variants that are left out, and counts of them that do not work.
    fn look_at_variants(
        &self,
        plan: &mut JobPlan,
        placed: &Placed<'_>,
        is_ours: &dyn Fn(&str) -> bool,
    ) {
        let names: BTreeSet<&str> =
            self.target.slots.names().chain(placed.iter().copied()).collect();
        for group in families(names) {
            let (ours, left): (Vec<&String>, Vec<&String>) =
                group.slots.iter().partition(|slot| placed.contains(slot.as_str()));
            if ours.is_empty() {
                continue;
            }
            let all = group.slots.len();
            let left: Vec<String> =
                left.into_iter().filter(|slot| !is_ours(slot)).cloned().collect();
            if !left.is_empty() && self.takes_turns(&group) {
                let (family, replaced) = (group.name.clone(), ours.len());
                plan.notices.push(Notice::VariantsLeft { family, replaced, all, left });
            }
            plan.faults.extend(self.refuse_count(&group));
        }
    }

    /// Whether a target is likely to take turns with a family: its numbers or letters begin where counting
    /// begins and leave nothing out, and none is as long as a piece of music.
    fn takes_turns(&self, group: &Group) -> bool {
        let place = |member: &String| match member.as_bytes() {
            [letter] if letter.is_ascii_alphabetic() => {
                Some(usize::from(letter.to_ascii_lowercase() - b'a') + 1)
            }
            _ => member.parse().ok(),
        };
        let first = group.members.first().and_then(place);
        let counted = first.is_some_and(|first| first <= 1)
            && group.members.iter().enumerate().all(|(at, m)| place(m) == first.map(|n| n + at));
        let long = group.slots.iter().filter_map(|slot| self.target.slots.listed(slot)?.seconds);
        counted && long.fold(0.0, f64::max) < MUSIC
    }

    /// A number of variants that does not work.
    fn refuse_count(&self, group: &Group) -> Option<Error> {
        let rule = self.target.sheet.rule_for(&group.slots[0])?;
        let (works, all) = (&rule.count.as_ref()?.0, group.slots.len());
        if works.iter().any(|works| u64::from(*works) == count(all)) {
            return None;
        }

        Some(OddJob::Variants { name: group.name.clone(), all, works: works.clone() }.into())
    }
}
