//! A tree held against a target sheet.

use crate::disk::read_input;
use crate::error::{Error, Result};
use crate::limits;
use crate::names::Key;
use crate::names::{Near, OddName, Taken};
use crate::refusal::Refusal;
use crate::root::{RootAsk, absolute};
use crate::run::{EntryStatus, Proof, Which, status};
use crate::sheet::{Accepted, LoopFile, New, Rule, Size};
use crate::slots::{families, is_named_like_sound};
use crate::stock::{Member, Stock};
use crate::target::{Target, name_faults};
use deft_needle_audio::clip::Loop;
use deft_needle_audio::read::sniff::Sniffed;
use deft_needle_audio::spec::Shortfall;
use deft_needle_audio::{Error as AudioError, Observer, Unmet};
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeSet;
use std::time::UNIX_EPOCH;

/// What was found about one file.
#[derive(Debug, JsonSchema, Serialize)]
pub struct Checked {
    /// The slot.
    pub slot: String,
    /// The slot that it stands for, where it is a file of a mirrored tree.
    pub stands_for: Option<String>,
    /// What it is: a spec line, or words.
    pub is: String,
    /// Which rule counts, counted from 0.
    pub rule: Option<usize>,
    /// Every problem of it.
    pub shortfalls: Vec<Short>,
    bytes: u64,
}

impl Checked {
    /// The slot that it is judged as.
    fn judged_as(&self) -> &str {
        self.stands_for.as_deref().unwrap_or(&self.slot)
    }
}

/// What is wrong with a file for its slot.
#[derive(Debug, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Short {
    /// No rule of the sheet matches it.
    NoRule,
    /// The target knows no such name; those that are spelt like it.
    NoSuchName(Vec<Near>),
    /// Its name is not as it must be.
    Name {
        /// What is wrong.
        odd: OddName,
        /// A name that would be right.
        right: Option<String>,
    },
    /// It is not as the rule asks.
    Property(Shortfall),
    /// It is something else altogether.
    Other {
        /// What.
        is: String,
        /// What it should be.
        asked: String,
    },
    /// It does not begin as files of its closed format do.
    Begins {
        /// How it begins.
        found: String,
        /// One of these would be right.
        asked: Vec<String>,
    },
    /// It cannot be read.
    Unread(Error),
}

impl From<Short> for Unmet {
    fn from(short: Short) -> Self {
        let rule = |what: &str, found: String, expected: String| Self::Rule {
            what: what.to_owned(),
            expected,
            found,
        };
        match short {
            Short::Property(short) => short.into(),
            Short::Other { is, asked } => rule("format", is, asked),
            Short::Begins { found, asked } => Self::Begins { found, asked },
            Short::Unread(error) => rule("file", error.to_string(), "readable".to_owned()),
            Short::NoRule | Short::NoSuchName(_) | Short::Name { .. } => {
                rule("name", "unknown".to_owned(), "one of the target's".to_owned())
            }
        }
    }
}

/// What is wrong with a tree, and with no file of it by itself.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Whole {
    /// A slot has no file.
    Missing(String),
    /// A set of variants of a size that does not work.
    Variants {
        /// The set.
        family: String,
        /// How many there are.
        count: u64,
        /// How many would work.
        works: Vec<u32>,
    },
    /// An entry that was made for what is installed stands there no more.
    Entry {
        /// The file.
        file: Key,
        /// The entry, in words.
        what: String,
    },
    /// A cache that is older than what was installed last.
    Cache(Key),
    /// All take more than there is room.
    Budget {
        /// Together.
        takes: Size,
        /// At most.
        most: Size,
    },
}

/// What was found about a tree.
#[derive(Debug, Default)]
pub struct Report {
    /// A line a file.
    pub files: Vec<Checked>,
    /// What is wrong with no file by itself: slots that are missing, sets of variants that do not
    /// work, too much in all.
    pub whole: Vec<Whole>,
    /// Listed names without a file, which the target takes as additions.
    pub absent: Vec<String>,
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
        let tree = tree.clone().ignoring(prefix, &self.sheet.ignore.0);
        let named = |member: &Member| format!("{prefix}{}", member.name);
        let beside = |slot: &str, file: &LoopFile| {
            let path = file.path(slot).ok()?;
            let path = tree.folder()?.join(path.strip_prefix(prefix)?);
            String::from_utf8(read_input(&path, limits::SHEET).ok()?).ok()
        };
        let check = |member: &Member| Ok(self.check_member(&named(member), member, &beside));
        let looked = tree.look(&check, observer)?;
        let mut report = Report {
            files: looked.found.into_iter().flatten().collect(),
            whole: Vec::new(),
            absent: Vec::new(),
            // Entries of archives that cannot be trusted are files of no root.
            unread: looked.left_out.into_iter().map(|left| left.error).filter(is_of_root).collect(),
        };
        self.check_names(&mut report.files);
        if whole {
            (report.whole, report.absent) = self.check_whole(&report.files);
        }
        Ok(report)
    }

    /// One file by itself, as a slot.
    pub fn check_file(&self, slot: &str, member: &Member) -> Report {
        let mut files: Vec<Checked> =
            self.check_member(slot, member, &no_text).into_iter().collect();
        self.check_names(&mut files);
        Report { files, ..Report::default() }
    }

    /// What is wrong with a file for its slot, its name left aside.
    pub fn shortfalls(&self, slot: &str, member: &Member) -> Vec<Short> {
        let checked = self.check_member(slot, member, &no_text);
        checked.map_or_else(Vec::new, |checked| checked.shortfalls)
    }

    /// One file as a slot; `None` for what is neither a slot nor a sound.
    fn check_member(&self, name: &str, member: &Member, beside: Beside<'_>) -> Option<Checked> {
        let stands_for =
            self.slots.stands_for(&self.sheet, name).or_else(|| self.packed_slot(name));
        let slot = stands_for.unwrap_or(name);
        let rule = self.sheet.rules.iter().position(|rule| rule.matches(slot));
        let sniffed = member.sniffed();
        let sound = !matches!(sniffed, Sniffed::Unknown { .. });
        let meant = sound || self.slots.has(slot) || is_named_like_sound(&self.sheet, slot);
        if !meant {
            return None;
        }
        let (is, mut shortfalls) = match rule.map(|at| &self.sheet.rules[at]) {
            None => (plainly(&sniffed), vec![Short::NoRule]),
            Some(rule) => {
                against(rule, member, &|| self.is_stock(slot, member), &|file| beside(slot, file))
            }
        };
        if let Some(asked) = rule.map(|at| &self.sheet.rules[at])
            && !self.slots.is_empty()
            && !self.slots.has(slot)
            && asked.new != New::Any
        {
            shortfalls.push(Short::NoSuchName(self.near(slot)));
        }
        let (name, stands_for) = (name.to_owned(), stands_for.map(str::to_owned));
        Some(Checked { slot: name, stands_for, is, rule, shortfalls, bytes: member.bytes })
    }

    /// The slot of a file that lies where this target's packs keep theirs.
    fn packed_slot<'n>(&self, name: &'n str) -> Option<&'n str> {
        let folder = self.sheet.pack.as_ref()?.folder.as_ref()?;
        let within = name.strip_prefix(folder.0.as_str())?.strip_prefix('/')?;
        let known = !self.slots.has(name) && self.sheet.rule_for(within).is_some();
        known.then_some(within)
    }

    /// Names that no list gives, against the rules and against each other.
    fn check_names(&self, files: &mut [Checked]) {
        let listed = |name: &&str| self.slots.is_listed(name);
        let mut taken = Taken::of(self.slots.names().filter(listed));
        for file in files.iter_mut().filter(|file| !listed(&file.judged_as())) {
            let extensions =
                file.rule.map_or_else(Vec::new, |at| self.sheet.rules[at].extensions());
            let slot = file.judged_as().to_owned();
            let (faults, right) = name_faults(&slot, &self.sheet.names, &extensions, &taken);
            let short = |odd| Short::Name { odd, right: right.clone() };
            file.shortfalls.extend(faults.into_iter().map(short));
            taken.add(&slot);
        }
    }

    /// Whether a file is the very one that the list knows.
    fn is_stock(&self, slot: &str, member: &Member) -> bool {
        let known = self.slots.listed(slot).and_then(|listed| listed.hash);
        known.is_some_and(|known| member.hash().is_ok_and(|hash| hash == known))
    }

    /// What is wrong with all of them together, and which listed names have no file though none is asked.
    fn check_whole(&self, files: &[Checked]) -> (Vec<Whole>, Vec<String>) {
        let (mut all, mut absent) = (Vec::new(), Vec::new());
        let complete = self.slots.complete(&self.sheet);
        let there: BTreeSet<&str> = files.iter().map(Checked::judged_as).collect();
        let is_there = |name: &&str| {
            // Several names may share one file, which is judged as the first of them.
            let elsewhere = self.slots.stock_of(name);
            there.contains(name)
                || elsewhere.is_some_and(|place| files.iter().any(|file| file.slot == place))
        };
        for name in self.slots.names().filter(|name| !is_there(name)) {
            let rule = self.sheet.rule_for(name);
            // What the target takes as an addition may be missing.
            match complete.contains(name) || rule.is_none_or(|rule| rule.new == New::Never) {
                true => all.push(Whole::Missing(name.to_owned())),
                false => absent.push(name.to_owned()),
            }
        }
        for rule in &self.sheet.rules {
            let Some(counts) = &rule.count else { continue };
            let members = there.iter().filter(|slot| rule.matches(slot)).copied();
            for group in families(members) {
                let count = deft_needle_audio::num::count(group.slots.len());
                if !counts.0.iter().any(|works| u64::from(*works) == count) {
                    let (family, works) = (group.name, counts.0.clone());
                    all.push(Whole::Variants { family, count, works });
                }
            }
        }
        let takes = Size(files.iter().map(|file| file.bytes).sum());
        if let Some(most) = self.sheet.budget.filter(|most| takes > *most) {
            all.push(Whole::Budget { takes, most });
        }
        all.extend(self.check_installed());
        (all, absent)
    }

    /// What was installed in the main root, and what goes with it.
    fn check_installed(&self) -> Vec<Whole> {
        let Some(main) = self.roots.main.as_deref().and_then(|main| absolute(main).ok()) else {
            return Vec::new();
        };
        let mut all = Vec::new();
        for root in RootAsk::default().all_of(&main).unwrap_or_default() {
            if root.path != main {
                continue;
            }
            // A ledger that cannot be read is told of where something is changed.
            let Ok(status) = status(&root, Which::All, Proof::Look) else { continue };
            let gone = |entry: &&EntryStatus| entry.condition.is_odd();
            let entries = status.entries.iter().filter(gone);
            all.extend(
                entries.map(|entry| Whole::Entry {
                    file: entry.file.clone(),
                    what: entry.what.clone(),
                }),
            );
            let Some(last) = status.slots.iter().map(|slot| slot.installed.at).max() else {
                continue;
            };
            let is_older = |key: &Key| {
                let changed = std::fs::metadata(key.path(&main)).and_then(|found| found.modified());
                let since = changed.ok().and_then(|time| time.duration_since(UNIX_EPOCH).ok());
                since.is_some_and(|since| since.as_secs() < last)
            };
            let caches =
                crate::run::caches::of_target(&main, self, &status.state, &[], std::iter::empty());
            let stale = caches.unwrap_or_default().into_iter().filter(is_older);
            all.extend(stale.map(Whole::Cache));
        }
        all
    }
}

/// What a text beside a slot says that tells its loop.
type Beside<'a> = &'a dyn Fn(&str, &LoopFile) -> Option<String>;

/// A file by itself has none beside it.
fn no_text(_slot: &str, _file: &LoopFile) -> Option<String> {
    None
}

fn is_of_root(error: &Error) -> bool {
    !matches!(error, Error::Refused(refusal) if matches!(**refusal, Refusal::Archive { .. }))
}

/// What a file is, and what is wrong with it.
fn against(
    rule: &Rule,
    member: &Member,
    stock: &dyn Fn() -> bool,
    beside: &dyn Fn(&LoopFile) -> Option<String>,
) -> (String, Vec<Short>) {
    let Accepted::Sound(specs) = rule.spec.get_ref() else {
        return closed(rule, member);
    };
    let error = match member.clip(&rule.hints()) {
        Ok(clip) => {
            let mut facts = clip.facts().clone();
            for file in &rule.loop_file.0 {
                let text = beside(file);
                let range = text.and_then(|text| file.read(&text, facts.format.rate));
                if let Some(range) = range.filter(|range| range.end <= facts.frames) {
                    facts.loops = vec![Loop::endless(range)];
                }
            }
            let facts = &facts;
            let mut shortfalls = rule.shortfalls(facts);
            // The target lives with what its own files lack.
            shortfalls.retain(|short| short.what != "whole" || !stock());
            let shortfalls = shortfalls.into_iter().map(Short::Property);
            return (facts.format.to_string(), shortfalls.collect());
        }
        Err(Error::Audio(error)) => error,
        Err(error) => return (plainly(&member.sniffed()), vec![Short::Unread(error)]),
    };
    let is = match error {
        AudioError::Unsupported { what, .. } => what,
        AudioError::Unknown { what, .. } => format!("not audio: {what}"),
        error => return (plainly(&member.sniffed()), vec![Short::Unread(error.into())]),
    };
    let asked = specs[0].to_string();
    (is.clone(), vec![Short::Other { is, asked }])
}

fn closed(rule: &Rule, member: &Member) -> (String, Vec<Short>) {
    let mut shortfalls: Vec<Short> =
        rule.too_large(member.bytes).into_iter().map(Short::Property).collect();
    let firsts = &rule.first_bytes.0;
    if let Some(first) = firsts.first()
        && !firsts.iter().any(|first| first.begin(&member.head))
    {
        let found = first.found(&member.head).to_string();
        let asked = firsts.iter().map(ToString::to_string).collect();
        shortfalls.push(Short::Begins { found, asked });
    }
    ("opaque".to_owned(), shortfalls)
}

fn plainly(sniffed: &Sniffed) -> String {
    match sniffed {
        Sniffed::Known { about, .. } | Sniffed::Named { about } => (*about).to_owned(),
        Sniffed::Unknown { looks } => format!("not audio: {looks}"),
    }
}
