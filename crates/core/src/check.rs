//! A tree held against a target sheet.

use crate::error::{Error, Result};
use crate::names::{Taken, did_you_mean};
use crate::sheet::{Accepted, New, Rule, Size};
use crate::slots::{families, is_named_like_sound};
use crate::stock::{Member, Stock};
use crate::target::{Target, name_faults};
use deft_needle_audio::read::Hints;
use deft_needle_audio::read::sniff::Sniffed;
use deft_needle_audio::{Error as AudioError, Observer};
use serde::Serialize;
use std::collections::BTreeSet;

/// What was found about one file.
#[derive(Debug, Clone, Serialize)]
pub struct Checked {
    /// The slot.
    pub slot: String,
    /// What it is: a spec line, or words.
    pub is: String,
    /// Which rule counts, counted from 0.
    pub rule: Option<usize>,
    /// Every problem of it.
    pub shortfalls: Vec<String>,
    bytes: u64,
}

/// What was found about a tree.
#[derive(Debug, Default)]
pub struct Report {
    /// A line a file.
    pub files: Vec<Checked>,
    /// What is wrong with no file by itself: slots that are missing, sets of variants that do not
    /// work, too much in all.
    pub whole: Vec<String>,
    /// Files that could not be read.
    pub unread: Vec<Error>,
}

impl Target {
    /// Checks the files of a tree, whose names begin with `prefix` in the root; `whole` says that it
    /// is the whole root.
    ///
    /// # Errors
    /// As [`Stock::look`].
    pub fn check(
        &self,
        tree: &Stock,
        prefix: &str,
        whole: bool,
        observer: &dyn Observer,
    ) -> Result<Report> {
        let named = |member: &Member| format!("{prefix}{}", member.name);
        let looked =
            tree.look(&|member| Ok(self.check_member(&named(member), member)), observer)?;
        let mut report = Report {
            files: looked.found.into_iter().flatten().collect(),
            whole: Vec::new(),
            unread: looked.left_out,
        };
        self.check_names(&mut report.files);
        if whole {
            report.whole = self.check_whole(&report.files);
        }
        Ok(report)
    }

    /// One file by itself, as a slot.
    pub fn check_file(&self, slot: &str, member: &Member) -> Report {
        let mut files: Vec<Checked> = self.check_member(slot, member).into_iter().collect();
        self.check_names(&mut files);
        Report { files, ..Report::default() }
    }

    /// What is wrong with a file for its slot, its name left aside.
    pub fn shortfalls(&self, slot: &str, member: &Member) -> Vec<String> {
        let checked = self.check_member(slot, member);
        checked.map_or_else(Vec::new, |checked| checked.shortfalls)
    }

    /// One file as a slot; `None` for what is neither a slot nor a sound.
    fn check_member(&self, slot: &str, member: &Member) -> Option<Checked> {
        let rule = self.sheet.rules.iter().position(|rule| rule.matches(slot));
        let sniffed = member.sniffed();
        let sound = !matches!(sniffed, Sniffed::Unknown { .. });
        let meant = sound || self.slots.has(slot) || is_named_like_sound(&self.sheet, slot);
        if !meant {
            return None;
        }
        let (is, mut shortfalls) = match rule.map(|at| &self.sheet.rules[at]) {
            None => (plainly(&sniffed), vec!["no rule of the sheet matches it".to_owned()]),
            Some(rule) => against(rule, member, &|| self.is_stock(slot, member)),
        };
        if let Some(asked) = rule.map(|at| &self.sheet.rules[at])
            && !self.slots.is_empty()
            && !self.slots.has(slot)
            && asked.new != New::Any
        {
            let near = did_you_mean(&self.near(slot));
            let near = near.map_or_else(String::new, |near| format!("; {near}"));
            shortfalls.push(format!("the target knows no such name{near}"));
        }
        Some(Checked { slot: slot.to_owned(), is, rule, shortfalls, bytes: member.bytes })
    }

    /// Names that no list gives, against the rules and against each other.
    fn check_names(&self, files: &mut [Checked]) {
        let listed = |name: &&str| self.slots.is_listed(name);
        let mut taken = Taken::of(self.slots.names().filter(listed));
        for file in files.iter_mut().filter(|file| !listed(&file.slot.as_str())) {
            let extensions =
                file.rule.map_or_else(Vec::new, |at| self.sheet.rules[at].extensions());
            let faults = name_faults(&file.slot, &self.sheet.names, &extensions, &taken);
            let short = faults.iter().map(|fault| format!("its name {fault}"));
            file.shortfalls.extend(short);
            taken.add(&file.slot);
        }
    }

    /// Whether a file is the very one that the list knows.
    fn is_stock(&self, slot: &str, member: &Member) -> bool {
        let known = self.slots.listed(slot).and_then(|listed| listed.hash);
        known.is_some_and(|known| member.hash().is_ok_and(|hash| hash == known))
    }

    fn check_whole(&self, files: &[Checked]) -> Vec<String> {
        let mut all = Vec::new();
        let there: BTreeSet<&str> = files.iter().map(|file| file.slot.as_str()).collect();
        for name in self.slots.names().filter(|name| !there.contains(name)) {
            let rule = self.sheet.rule_for(name);
            // What the target takes as an addition may be missing.
            if rule.is_none_or(|rule| rule.new == New::Never) {
                all.push(format!("{name}: missing"));
            }
        }
        for rule in &self.sheet.rules {
            let Some(counts) = &rule.count else { continue };
            let members = there.iter().filter(|slot| rule.matches(slot)).copied();
            for group in families(members) {
                let count = deft_needle_audio::num::count(group.slots.len());
                if !counts.0.iter().any(|works| u64::from(*works) == count) {
                    let works: Vec<String> = counts.0.iter().map(u32::to_string).collect();
                    all.push(format!(
                        "{}: {count} variants, and {} work",
                        group.name,
                        works.join(", ")
                    ));
                }
            }
        }
        let bytes = Size(files.iter().map(|file| file.bytes).sum());
        if let Some(budget) = self.sheet.budget.filter(|budget| bytes > *budget) {
            all.push(format!("all slots together: {bytes}, and {budget} is there"));
        }
        all
    }
}

/// What a file is, and what is wrong with it.
fn against(rule: &Rule, member: &Member, stock: &dyn Fn() -> bool) -> (String, Vec<String>) {
    let Accepted::Sound(specs) = rule.spec.get_ref() else {
        return closed(rule, member);
    };
    let hints = Hints { loop_tags: rule.loop_tags.clone(), ..Hints::default() };
    let error = match member.clip(&hints) {
        Ok(clip) => {
            let facts = clip.facts();
            let mut shortfalls = rule.shortfalls(facts);
            // The target lives with what its own files lack.
            shortfalls.retain(|short| short.what != "whole" || !stock());
            return (
                facts.format.to_string(),
                shortfalls.iter().map(ToString::to_string).collect(),
            );
        }
        Err(Error::Audio(error)) => error,
        Err(error) => return (plainly(&member.sniffed()), vec![error.to_string()]),
    };
    let is = match &error {
        AudioError::Unsupported { what, .. } => what.clone(),
        AudioError::Unknown { what, .. } => format!("not audio: {what}"),
        error => return (plainly(&member.sniffed()), vec![error.to_string()]),
    };
    let shortfall = format!("is {is}, should be {}", specs[0]);
    (is, vec![shortfall])
}

fn closed(rule: &Rule, member: &Member) -> (String, Vec<String>) {
    let mut shortfalls: Vec<String> =
        rule.too_large(member.bytes).iter().map(ToString::to_string).collect();
    if let Some(first) =
        rule.first_bytes.as_ref().filter(|first| !member.head.starts_with(&first.0))
    {
        let found = &member.head[..member.head.len().min(first.0.len())];
        let found = crate::sheet::FirstBytes(found.to_vec());
        shortfalls.push(format!("begins with {found}, should be {first}"));
    }
    ("opaque".to_owned(), shortfalls)
}

fn plainly(sniffed: &Sniffed) -> String {
    match sniffed {
        Sniffed::Known { about, .. } | Sniffed::Named { about } => (*about).to_owned(),
        Sniffed::Unknown { looks } => format!("not audio: {looks}"),
    }
}
