//! Doing a job: everything is fitted and proved beside its place, then all of it is placed.

use super::Run;
use super::entries::{After, Contents, Whole, words};
use super::fitting::Side;
use super::line::{Line, Sources, Work};
use super::look::{JobPlan, over_budget};
use super::make::{Fitted, Keep, Make};
use crate::disk::Disk;
use crate::disk::write_part;
use crate::error::Result;
use crate::error::internal;
use crate::hash::Hash;
use crate::hash_cache::HashCache;
use crate::ledger::record::{EntryRecord, Held, Installed, TargetFacts};
use crate::ledger::{Back, Change, Ledger, Over, Recovered};
use crate::names::Key;
use crate::notice::Notice;
use crate::refusal::{OddJob, OddSlot};
use crate::root::Root;
use crate::sheet::Size;
use deft_needle_audio::render::Outcome;
use deft_needle_audio::{Observer, Plan};
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;
use std::path::PathBuf;

/// One slot that was placed.
#[derive(Debug, JsonSchema, Serialize)]
pub struct Placed {
    /// The slot.
    pub slot: String,
    /// The clip, as the job sheet names it.
    pub clip: String,
    /// Whether nothing was there before.
    pub new: bool,
    /// What is there now.
    pub installed: Installed,
    /// What was done to the clip; nothing where it was a finished file.
    pub plan: Option<Plan>,
    /// What only rendering knows.
    pub outcome: Option<Outcome>,
    /// What was replaced.
    pub before: Option<Side>,
    /// What replaces it.
    pub after: Option<Side>,
    /// What the user should know.
    pub notices: Vec<Notice>,
}

/// What was done.
#[derive(Debug, Default, JsonSchema, Serialize)]
pub struct Installation {
    /// The root.
    pub root: Option<Root>,
    /// Slots that were placed.
    pub placed: Vec<Placed>,
    /// Slots that were as the job says already.
    pub unchanged: Vec<String>,
    /// Slots that are no longer in the job: stock restored.
    pub restored: Vec<Key>,
    /// The same, where somebody had changed the file: it stays.
    pub left: Vec<Key>,
    /// Entries that were made or reverted, by file.
    pub entries: Vec<String>,
    /// Files that were written beside slots, or carried along.
    pub beside: Vec<Key>,
    /// Caches that went.
    pub caches: Vec<Key>,
    /// The archive that holds it all, where the target takes one.
    pub archive: Option<Key>,
    /// What the user should know.
    pub notices: Vec<Notice>,
    /// What the user has to do now.
    pub after: Option<String>,
    /// A change that had been interrupted earlier.
    pub recovered: Option<Recovered>,
}

/// A job that is about to be done; the ledger is locked from here on.
pub struct Session<'d> {
    /// The job.
    pub run: Run,
    /// What will be done.
    pub plan: JobPlan,
    root: Root,
    ledger: Ledger<'d>,
    hash_cache: HashCache,
}

impl<'d> Session<'d> {
    /// Opens the ledger, sets right what was interrupted, and works everything out.
    ///
    /// # Errors
    /// Those of the ledger, and what keeps even the looking.
    pub fn open(run: Run, disk: &'d dyn Disk, observer: &dyn Observer) -> Result<Self> {
        let Some(root) = run.root.clone() else {
            return Err(OddJob::NoRoot.into());
        };
        let ledger = Ledger::open(&root, disk)?;
        let hash_cache = HashCache::load(&root.ledger);
        let plan = run.look(ledger.state(), &hash_cache, disk, observer)?;
        Ok(Self { run, plan, root, ledger, hash_cache })
    }

    /// Does it: everything, or nothing.
    ///
    /// # Errors
    /// The first fault of the plan; those of fitting, proving and of the ledger.
    pub fn carry_out(mut self, disk: &dyn Disk, observer: &dyn Observer) -> Result<Installation> {
        let mut done = Installation {
            root: Some(self.root.clone()),
            recovered: self.ledger.recovered().cloned().or(self.run.recovered.take()),
            notices: std::mem::take(&mut self.plan.notices),
            after: self.run.target.sheet.after.clone(),
            ..Installation::default()
        };
        self.run.refuse(&mut self.plan)?;
        if self.plan.is_idle() {
            let lines = self.plan.lines.iter();
            done.unchanged = lines.map(|line| line.slot.clone()).collect();
            self.hash_cache.save(&self.root.ledger, disk);
            return Ok(done);
        }
        let clear = self.run.target.sheet.clear.0.iter();
        if self.run.entries {
            self.ledger.know(TargetFacts {
                clear: clear.map(|pattern| pattern.text().to_owned()).collect(),
                after: self.run.target.sheet.after.clone(),
            });
        }
        let Self { run, plan, ledger, hash_cache, .. } = &mut self;
        done.caches.clone_from(&plan.caches);
        match run.destination.archive.clone() {
            Some(archive) => {
                super::archive::place(run, plan, ledger, &archive, disk, observer, &mut done)?;
            }
            None => place(run, plan, ledger, hash_cache, disk, observer, &mut done)?,
        }
        self.hash_cache.save(&self.root.ledger, disk);
        Ok(done)
    }
}

fn is_new(line: &&Line) -> bool {
    !matches!(line.work, Work::Unchanged { .. })
}

fn new_lines(plan: &JobPlan) -> Vec<&Line> {
    plan.lines.iter().filter(is_new).collect()
}

/// Puts every file in its own place.
fn place(
    run: &Run,
    plan: &mut JobPlan,
    ledger: &mut Ledger<'_>,
    hash_cache: &HashCache,
    disk: &dyn Disk,
    observer: &dyn Observer,
    done: &mut Installation,
) -> Result<()> {
    let lines = new_lines(plan);
    let keys = plan.keys(lines.iter().map(|line| line.key.clone()));
    let state = ledger.state().clone();

    let mut change = ledger.begin(run.what(), &keys, plan.caches.clone(), plan.copies())?;
    let parts = lines.iter().map(|line| change.part(&line.key));
    let parts: Vec<PathBuf> = parts.collect::<Result<_>>()?;
    let fitted = change.make(|_, whole| {
        run.make_all(&lines, &parts, Make { keep: Keep::No, audience: &(), whole, disk, observer })
    })?;
    refuse_over_budget(run, plan, &lines, &fitted)?;
    if run.entries && run.target.sheet.asks_for_digests() {
        let made: BTreeMap<Key, PathBuf> =
            lines.iter().map(|line| line.key.clone()).zip(parts).collect();
        run.tell_digests(plan, &made, &Sources { state: &state, hash_cache, disk })?;
    }
    for (line, fitted) in new_lines(plan).into_iter().zip(fitted) {
        let hash = fitted.hash;
        match plan.files.get(&line.key).and_then(|file| Some((file, file.entries.as_ref()?))) {
            Some((file, entries)) => {
                if file.copy() != Some(Held::File(hash)) {
                    return Err(OddSlot::ChangedNow.of(line.clip.clone()));
                }
                change.keep_whole(&line.key, hash)?;
                let with = file.write(&change, &line.key, disk)?;
                let over = Over { whole: hash, entries: entries.clone() };
                change.install(&line.key, with, fitted.installed.clone(), Some(over))?;
            }
            None => change.install(&line.key, hash, fitted.installed.clone(), None)?,
        }
        done.placed.push(Placed {
            slot: line.slot.clone(),
            clip: line.clip.clone(),
            new: line.stock.is_none(),
            installed: fitted.installed,
            plan: line.plan().cloned(),
            outcome: fitted.outcome,
            before: fitted.before,
            after: fitted.after,
            notices: line.notices.iter().cloned().chain(fitted.notices).collect(),
        });
    }
    let unchanged = plan.lines.iter().filter(|line| !is_new(line));
    done.unchanged = unchanged.map(|line| line.slot.clone()).collect();
    finish(run, plan, change, disk, done)
}

/// Restores what the job no longer names, writes entries, and ends the change.
pub(crate) fn finish(
    run: &Run,
    plan: &JobPlan,
    mut change: Change<'_, '_>,
    disk: &dyn Disk,
    done: &mut Installation,
) -> Result<()> {
    for back in &plan.back {
        match back.changed {
            true => done.left.push(back.key.clone()),
            false => done.restored.push(back.key.clone()),
        }
        if !plan.files.contains_key(&back.key) {
            back.removal.put(&mut change, disk)?;
        }
    }
    for (file, contents) in &plan.files {
        let entries = contents.entries.clone().unwrap_or_default();
        let said = words(&run.own_entries(&entries));
        done.entries.extend(said.iter().map(|what| format!("{file}: {what}")));
        match &contents.whole {
            None => edit(&mut change, file, contents, entries, disk)?,
            // It was put there with its line.
            Some(Whole::Line(_)) => {}
            Some(Whole::Back { below }) => {
                let after = Held::File(contents.write(&change, file, disk)?);
                change.restore(file, Back { after, below: *below, entries, edited: None })?;
            }
            Some(Whole::Side { of, bytes, tended }) => {
                let installed = match of {
                    Some(slot) => Installed {
                        clip: format!("beside {slot}"),
                        belongs_to: Some(slot.clone()),
                        tended: *tended,
                        ..carried_as(run, file)
                    },
                    None => carried_as(run, file),
                };
                if !*tended {
                    done.beside.push(file.clone());
                }
                let over = match entries.is_empty() {
                    true => None,
                    false => {
                        let whole = Hash::of(bytes);
                        write_part(&change.part(file)?, bytes, disk)?;
                        change.keep_whole(file, whole)?;
                        Some(Over { whole, entries })
                    }
                };
                let hash = contents.write(&change, file, disk)?;
                change.install(file, hash, installed, over)?;
            }
        }
    }
    change.finish()
}

/// A file that is there gets other entries.
fn edit(
    change: &mut Change<'_, '_>,
    file: &Key,
    contents: &Contents,
    entries: Vec<EntryRecord>,
    disk: &dyn Disk,
) -> Result<()> {
    match contents.after {
        After::Bytes(_) | After::Whole => {
            let hash = contents.write(change, file, disk)?;
            change.set_entries(file, contents.seen, Held::File(hash), entries, contents.anew)
        }
        After::Kept(after) => {
            let known = change.ledger().state().slots.get(file);
            let below = known.map_or(0, |known| known.layers.len());
            change.restore(file, Back { after, below, entries, edited: Some(contents.seen) })
        }
    }
}

impl Contents {
    /// Writes a file's part; its hash.
    fn write(&self, change: &Change<'_, '_>, file: &Key, disk: &dyn Disk) -> Result<Hash> {
        let bytes = match (&self.after, &self.whole) {
            (After::Bytes(bytes), _) | (After::Whole, Some(Whole::Side { bytes, .. })) => bytes,
            _ => return Err(internal(format!("{file} has no contents of its own"))),
        };
        write_part(&change.part(file)?, bytes, disk)?;
        Ok(Hash::of(bytes))
    }
}

/// What is installed where a file is only carried.
fn carried_as(run: &Run, file: &Key) -> Installed {
    let name = file.within().rsplit('/').next().unwrap_or_default();
    Installed {
        clip: format!("the target's own {name}"),
        spec: "opaque".to_owned(),
        beside: true,
        ..run.placed_now()
    }
}

/// Now the sizes are known.
fn refuse_over_budget(run: &Run, plan: &JobPlan, lines: &[&Line], fitted: &[Fitted]) -> Result<()> {
    let (Some(budget), Some(root)) = (run.target.sheet.budget, &run.root) else {
        return Ok(());
    };
    let made: u64 = fitted.iter().map(|fitted| fitted.bytes).sum();
    let made_slots: Vec<&str> = lines.iter().map(|line| line.slot.as_str()).collect();
    let unchanged = plan.lines.iter().map(|line| line.slot.as_str());
    let names: std::collections::BTreeSet<&str> =
        run.target.slots.names().chain(unchanged).collect();
    let kept = names.iter().filter(|slot| !made_slots.contains(*slot));
    let size = |slot: &&str| std::fs::metadata(root.path.join(slot)).map_or(0, |found| found.len());
    let all = Size(made + kept.map(size).sum::<u64>());
    match all > budget && !run.destination.overlay {
        true => Err(over_budget(all, budget)),
        false => Ok(()),
    }
}
