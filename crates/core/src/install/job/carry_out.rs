//! Doing a job: everything is fitted and proved beside its place, then all of it is placed.

use super::Run;
use super::entries::words;
use super::line::{Line, Work};
use super::make::Fitted;
use super::outlook::{Outlook, over_budget};
use crate::disk::Disk;
use crate::error::{Error, Result};
use crate::fit::write_part;
use crate::hash::Hash;
use crate::install::Warning;
use crate::ledger::record::{Held, Installed, TargetFacts};
use crate::ledger::{Change, Ledger, Recovered, What};
use crate::names::Key;
use crate::root::Root;
use crate::sheet::Size;
use crate::stamps::Stamps;
use deft_needle_audio::Observer;
use rayon::prelude::*;
use serde::Serialize;
use std::path::PathBuf;
use std::time::{SystemTime, UNIX_EPOCH};

/// One slot that was placed.
#[derive(Debug, Serialize)]
pub struct Placed {
    /// The slot.
    pub slot: String,
    /// The clip, as the job sheet names it.
    pub clip: String,
    /// What is there now.
    pub installed: Installed,
    /// What the user should know.
    pub warnings: Vec<Warning>,
}

/// What was done.
#[derive(Debug, Default, Serialize)]
pub struct Installation {
    /// Slots that were placed.
    pub placed: Vec<Placed>,
    /// Slots that were as the job says already.
    pub unchanged: Vec<String>,
    /// Slots that are no longer in the job: stock restored.
    pub restored: Vec<Key>,
    /// The same, where somebody had changed the file: it stays.
    pub left: Vec<Key>,
    /// Entries that were made or taken back, by file.
    pub entries: Vec<String>,
    /// Caches that went.
    pub caches: Vec<Key>,
    /// The archive that holds it all, where the target takes one.
    pub archive: Option<Key>,
    /// What the user should know.
    pub notes: Vec<String>,
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
    pub outlook: Outlook,
    root: Root,
    ledger: Ledger<'d>,
    stamps: Stamps,
}

impl<'d> Session<'d> {
    /// Opens the ledger, sets right what was interrupted, and works everything out.
    ///
    /// # Errors
    /// Those of the ledger, and what keeps even the looking.
    pub fn open(mut run: Run, disk: &'d dyn Disk, observer: &dyn Observer) -> Result<Self> {
        let Some(root) = run.root.clone() else {
            return Err(Error::refused("the job has no root", "name it with --root"));
        };
        let ledger = Ledger::open(&root, disk)?;
        let stamps = Stamps::load(&root.ledger);
        let outlook = run.look(ledger.state(), &stamps, disk, observer)?;
        Ok(Self { run, outlook, root, ledger, stamps })
    }

    /// Does it: everything, or nothing.
    ///
    /// # Errors
    /// The first fault of the outlook; those of fitting, proving and of the ledger.
    pub fn carry_out(mut self, disk: &dyn Disk, observer: &dyn Observer) -> Result<Installation> {
        let mut done = Installation {
            recovered: self.ledger.recovered().cloned(),
            notes: std::mem::take(&mut self.outlook.notes),
            after: self.run.target.sheet.after.clone(),
            ..Installation::default()
        };
        if !self.outlook.faults.is_empty() {
            return Err(self.outlook.faults.swap_remove(0));
        }
        if self.outlook.is_idle() {
            let lines = self.outlook.lines.iter();
            done.unchanged = lines.map(|line| line.slot.clone()).collect();
            self.stamps.save(&self.root.ledger, disk);
            return Ok(done);
        }
        let clear = self.run.target.sheet.clear.0.iter();
        self.ledger.know(TargetFacts {
            clear: clear.map(|pattern| pattern.text().to_owned()).collect(),
            after: self.run.target.sheet.after.clone(),
        });
        let Self { run, outlook, ledger, .. } = &mut self;
        done.caches.clone_from(&outlook.caches);
        match run.ground.archive.clone() {
            Some(archive) => {
                super::super::archive::place(
                    run, outlook, ledger, &archive, disk, observer, &mut done,
                )?;
            }
            None => place(run, outlook, ledger, disk, observer, &mut done)?,
        }
        self.stamps.save(&self.root.ledger, disk);
        Ok(done)
    }
}

fn is_new(line: &&Line) -> bool {
    !matches!(line.work, Work::Unchanged { .. })
}

/// Puts every file in its own place.
fn place(
    run: &Run,
    outlook: &Outlook,
    ledger: &mut Ledger<'_>,
    disk: &dyn Disk,
    observer: &dyn Observer,
    done: &mut Installation,
) -> Result<()> {
    let lines: Vec<&Line> = outlook.lines.iter().filter(is_new).collect();
    let keys = lines.iter().map(|line| line.key.clone());
    let keys = keys.chain(outlook.back.iter().map(|back| back.key.clone()));
    let keys: Vec<Key> = keys.chain(outlook.files.keys().cloned()).collect();
    let mut change = ledger.begin(What::Install, &keys, outlook.caches.clone())?;
    let parts: Vec<PathBuf> =
        lines.iter().map(|line| change.part(&line.key)).collect::<Result<_>>()?;
    let fitted: Vec<Fitted> = lines
        .par_iter()
        .zip(&parts)
        .map(|(line, part)| {
            let fitted = run.fit(line, part, disk, observer);
            fitted.map_err(|error| Error::Slot {
                slot: line.slot.clone(),
                clip: line.clip.clone(),
                source: Box::new(error),
            })
        })
        .collect::<Result<_>>()?;
    run.refuse_over_budget(outlook, &lines, &fitted)?;
    for (line, fitted) in lines.iter().zip(fitted) {
        change.install(&line.key, fitted.hash, fitted.installed.clone())?;
        done.placed.push(Placed {
            slot: line.slot.clone(),
            clip: line.clip.clone(),
            installed: fitted.installed,
            warnings: fitted.warnings,
        });
        let notes = line.notes.iter().map(|note| format!("{}: {note}", line.slot));
        done.notes.extend(notes);
    }
    let unchanged = outlook.lines.iter().filter(|line| !is_new(line));
    done.unchanged = unchanged.map(|line| line.slot.clone()).collect();
    finish(run, outlook, change, disk, done)
}

/// Gives back what the job no longer names, writes entries, and ends the change.
pub(crate) fn finish(
    run: &Run,
    outlook: &Outlook,
    mut change: Change<'_, '_>,
    disk: &dyn Disk,
    done: &mut Installation,
) -> Result<()> {
    for back in &outlook.back {
        match back.changed {
            true => {
                change.leave(&back.key)?;
                done.left.push(back.key.clone());
            }
            false => {
                change.restore(&back.key, back.below)?;
                done.restored.push(back.key.clone());
            }
        }
    }
    for (file, contents) in &outlook.files {
        write_part(&change.part(file)?, &contents.bytes, disk)?;
        let hash = Hash::of(&contents.bytes);
        match &contents.told {
            Some(told) => {
                let said = words(told, &run.job.name);
                done.entries.extend(said.iter().map(|what| format!("{file}: {what}")));
                change.tell(file, contents.seen, Held::File(hash), told.clone())?;
            }
            None => {
                done.entries.push(format!("{file}: carried unchanged"));
                change.install(file, hash, run.carried_as(file))?;
            }
        }
    }
    change.finish()
}

/// Now, in seconds since 1970.
pub(crate) fn now() -> u64 {
    let now = SystemTime::now().duration_since(UNIX_EPOCH);
    now.map_or(0, |since| since.as_secs())
}

impl Run {
    /// What is installed where a file is only carried.
    fn carried_as(&self, file: &Key) -> Installed {
        Installed {
            clip: format!(
                "the target's own {}",
                file.within().rsplit('/').next().unwrap_or_default()
            ),
            clip_hash: None,
            edits: vec!["whole file: carried unchanged".to_owned()],
            spec: "opaque".to_owned(),
            seconds: 0.0,
            lufs: None,
            guide: false,
            at: now(),
            job: Some(self.job.name.clone()),
            clip_path: None,
            options: Default::default(),
            key: None,
        }
    }

    /// Now the sizes are known.
    fn refuse_over_budget(
        &self,
        outlook: &Outlook,
        lines: &[&Line],
        fitted: &[Fitted],
    ) -> Result<()> {
        let (Some(budget), Some(root)) = (self.target.sheet.budget, &self.root) else {
            return Ok(());
        };
        let made: u64 = fitted.iter().map(|fitted| fitted.bytes).sum();
        let made_slots: Vec<&str> = lines.iter().map(|line| line.slot.as_str()).collect();
        let unchanged = outlook.lines.iter().map(|line| line.slot.as_str());
        let names: std::collections::BTreeSet<&str> =
            self.target.slots.names().chain(unchanged).collect();
        let kept = names.iter().filter(|slot| !made_slots.contains(*slot));
        let size =
            |slot: &&str| std::fs::metadata(root.path.join(slot)).map_or(0, |found| found.len());
        let all = Size(made + kept.map(size).sum::<u64>());
        match all > budget && !self.ground.overlay {
            true => Err(over_budget(all, budget)),
            false => Ok(()),
        }
    }
}
