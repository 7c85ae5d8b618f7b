//! The ledger: what was installed where, and the stock that it replaced.
//!
//! It lies in `.deft-needle/` in the root: `ledger.log`, a log that is written ahead of every
//! change, and `stock/`, copies of what slots held, named by their hashes. A change goes so:
//!
//! 1. `begin` is logged: from now on parts may lie about.
//! 2. What the slots hold is copied to `stock/`, synced, and held against its hash.
//! 3. The new files are made beside their slots as parts, synced and verified.
//! 4. `put` for every slot and `ready` are logged: from now on the change can be finished.
//! 5. Every part is renamed into its slot, and the folders are synced.
//! 6. `done` is logged.
//!
//! Who finds a log without its end brings the root to exactly before (1 to 3) or after (4 to 6).

pub mod log;
pub mod record;
pub mod state;

mod change;
mod recover;

pub use change::Change;
pub use recover::{Ending, Recovered};

use crate::disk::{Disk, Lock};
use crate::error::{Error, Result};
use crate::hash::Hash;
use crate::tree::LEDGER_FOLDER;
use record::{Held, Record, TargetFacts};
use state::State;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// The version of the log's format.
const VERSION: u32 = 1;

/// The ledger of one root.
pub struct Ledger<'d> {
    root: PathBuf,
    folder: PathBuf,
    disk: &'d dyn Disk,
    lock: Option<Lock>,
    state: State,
    recovered: Option<Recovered>,
    /// Where the other roots are, as whoever opened it said.
    others: BTreeMap<String, String>,
    /// What is known of the target, where that is not yet written down.
    target: Option<TargetFacts>,
    /// How much of the log is sound; `None` once a broken end could not be cut off.
    log_bytes: Option<u64>,
}

/// Where the ledger of a root lies where nothing else is said.
pub fn usual_folder(root: &Path) -> PathBuf {
    root.join(LEDGER_FOLDER)
}

impl<'d> Ledger<'d> {
    /// Opens the ledger of a root for changes: takes its lock, and finishes or takes back what was
    /// left unfinished. Where there is no ledger yet, nothing is made until a change begins.
    ///
    /// # Errors
    /// [`Error::Refused`] where somebody else changes this root now, or the ledger is damaged or
    /// another root's; [`Error::Read`] and [`Error::Write`].
    pub fn open(root: &Path, folder: &Path, disk: &'d dyn Disk) -> Result<Self> {
        Self::open_with(root, folder, &BTreeMap::new(), disk)
    }

    /// The same, with the other roots where they are now, by their names.
    ///
    /// # Errors
    /// As [`Ledger::open`].
    pub fn open_with(
        root: &Path,
        folder: &Path,
        others: &BTreeMap<String, PathBuf>,
        disk: &'d dyn Disk,
    ) -> Result<Self> {
        let text = |path: &PathBuf| path.to_string_lossy().into_owned();
        let mut ledger = Self {
            root: root.to_owned(),
            folder: folder.to_owned(),
            disk,
            lock: None,
            state: State::default(),
            recovered: None,
            others: others.iter().map(|(n, p)| (n.clone(), text(p))).collect(),
            target: None,
            log_bytes: Some(0),
        };
        if folder.is_dir() {
            ledger.take_lock()?;
            ledger.load()?;
            ledger.recovered = recover::recover(&mut ledger)?;
            ledger.tidy();
        }
        ledger.place_others();
        Ok(ledger)
    }

    /// Lets what was said of the other roots win over what was written down.
    fn place_others(&mut self) {
        let said = self.others.clone();
        self.state.others.extend(said);
    }

    /// Remembers what must be known of the target once nobody has its sheet at hand; the change that
    /// is begun next writes it down.
    pub fn know(&mut self, target: TargetFacts) {
        self.target = Some(target);
    }

    /// The caches that the target's patterns find now.
    ///
    /// # Errors
    /// [`Error::Read`]; a pattern that is malformed.
    pub fn caches(&self) -> Result<Vec<String>> {
        let facts = self.target.as_ref().unwrap_or(&self.state.target);
        crate::caches::find(&self.root, &facts.clear)
    }

    /// Removes the caches of the change that is under way.
    fn clear_caches(&self) -> Result<()> {
        let caches = self.state.pending.iter().flat_map(|p| &p.caches);
        for cache in caches {
            let path = self.path_of(cache)?;
            match self.disk.remove(&path) {
                Err(error) if error.kind() != std::io::ErrorKind::NotFound => {
                    return Err(Error::write("clear the cache", &path)(error));
                }
                _ => {}
            }
        }
        Ok(())
    }

    /// What the ledger says, without changing anything.
    ///
    /// # Errors
    /// [`Error::Refused`] where it is damaged; [`Error::Read`].
    pub fn peek(folder: &Path) -> Result<State> {
        Ok(State::replay(&log::read(&log_path(folder))?.records))
    }

    /// The same, with the other roots where they are now, by their names.
    ///
    /// # Errors
    /// As [`Ledger::peek`].
    pub fn peek_with(folder: &Path, others: &BTreeMap<String, PathBuf>) -> Result<State> {
        let mut state = Self::peek(folder)?;
        let text = |path: &PathBuf| path.to_string_lossy().into_owned();
        let others = others.iter().map(|(name, path)| (name.clone(), text(path)));
        state.others.extend(others);
        Ok(state)
    }

    /// What it says.
    pub fn state(&self) -> &State {
        &self.state
    }

    /// What had been left unfinished and was dealt with when it was opened.
    pub fn recovered(&self) -> Option<&Recovered> {
        self.recovered.as_ref()
    }

    fn log_path(&self) -> PathBuf {
        log_path(&self.folder)
    }

    fn take_lock(&mut self) -> Result<()> {
        let path = self.folder.join("lock");
        let lock = self.disk.lock(&path).map_err(Error::write("lock", &path))?;
        self.lock = Some(lock.ok_or_else(|| {
            Error::refused(
                format!("another run is changing {} right now", self.root.display()),
                "wait until it is done",
            )
        })?);
        Ok(())
    }

    fn load(&mut self) -> Result<()> {
        let path = self.log_path();
        let log = log::read(&path)?;
        if log.torn {
            self.disk
                .truncate(&path, log.sound_bytes)
                .map_err(Error::write("mend", &path))?;
        }
        self.log_bytes = Some(log.sound_bytes);
        self.state = State::replay(&log.records);
        let written = self.state.others.clone();
        self.place_others();
        if self.state.others == written {
            self.others.clear();
        }
        if let Some(other) = &self.state.root {
            let other = Path::new(other);
            if other.is_dir() && !crate::fit::same_file(other, &self.root) {
                return Err(Error::refused(
                    format!(
                        "the ledger in {} is that of {}",
                        self.folder.display(),
                        other.display()
                    ),
                    "give each root a ledger folder of its own",
                ));
            }
        }
        Ok(())
    }

    /// Makes the ledger's folder and its first record where there are none; all of it or nothing.
    fn establish(&mut self) -> Result<()> {
        self.make_folders().inspect_err(|error| {
            // What another run has made is not ours to clear away.
            if !matches!(error, Error::Refused { .. }) {
                self.tidy();
            }
        })
    }

    fn make_folders(&mut self) -> Result<()> {
        let stock = self.folder.join("stock");
        for folder in [&self.folder, &stock] {
            match self.disk.create_folder(folder) {
                Err(error) if error.kind() != std::io::ErrorKind::AlreadyExists => {
                    return Err(Error::write("make", folder)(error));
                }
                _ => {}
            }
        }
        if self.lock.is_none() {
            self.take_lock()?;
            // There was no ledger when this one was opened: what is here now, another run has made.
            if std::fs::metadata(self.log_path()).is_ok_and(|log| log.len() > 0) {
                self.lock = None;
                return Err(Error::refused(
                    format!("another run has just changed {}", self.root.display()),
                    "run this again: it has to look at what is there now",
                ));
            }
        }
        if self.state.root.is_none() {
            let path = self.root.canonicalize().map_err(Error::read(&self.root))?;
            self.append(vec![Record::Root {
                path: path.to_string_lossy().into_owned(),
                version: VERSION,
            }])?;
            self.sync_folder(&self.folder)?;
            if let Some(parent) = self.folder.parent() {
                self.sync_folder(parent)?;
            }
        }
        let mut facts = Vec::new();
        if !self.others.is_empty() {
            self.others.clear();
            let others = self.state.others.clone();
            facts.push(Record::Roots { others });
        }
        let target = self.target.take();
        facts.extend(
            target
                .filter(|target| *target != self.state.target)
                .map(Record::Target),
        );
        if !facts.is_empty() {
            self.append(facts)?;
        }
        Ok(())
    }

    /// Logs records. What reached the disk of a failed attempt is cut off again: a torn record must
    /// stay the last one.
    fn append(&mut self, records: Vec<Record>) -> Result<()> {
        let path = self.log_path();
        let Some(sound) = self.log_bytes else {
            return Err(Error::refused(
                format!("{} could not be written before", path.display()),
                "run the command again once the disk can be written to",
            ));
        };
        match log::append(&path, &records, self.disk) {
            Ok(bytes) => self.log_bytes = Some(sound + bytes),
            Err(error) => {
                let cut = !path.exists() || self.disk.truncate(&path, sound).is_ok();
                self.log_bytes = cut.then_some(sound);
                return Err(error);
            }
        }
        records.iter().for_each(|record| self.state.apply(record));
        Ok(())
    }

    fn sync_folder(&self, folder: &Path) -> Result<()> {
        let folder = match folder.as_os_str().is_empty() {
            true => Path::new("."),
            false => folder,
        };
        self.disk
            .sync_folder(folder)
            .map_err(Error::write("sync", folder))
    }

    /// Where the copy of some contents lies.
    pub fn kept(&self, hash: Hash) -> PathBuf {
        kept_in(&self.folder, hash)
    }

    /// The path of a slot.
    ///
    /// # Errors
    /// [`Error::Refused`] where the name leads out of the root.
    pub fn path_of(&self, slot: &str) -> Result<PathBuf> {
        self.state.path_of(&self.root, slot)
    }

    /// What lies at a slot now.
    ///
    /// # Errors
    /// [`Error::Read`] where it cannot be read.
    pub fn held(&self, slot: &str) -> Result<Held> {
        held_at(&self.path_of(slot)?)
    }

    /// Removes copies that nothing refers to any more, and the whole ledger once nothing is
    /// installed. What cannot be removed now goes another time.
    fn tidy(&mut self) {
        let slots = self.state.slots.values().filter(|slot| slot.matters());
        let wanted: std::collections::HashSet<String> = slots
            .flat_map(|slot| slot.kept())
            .filter_map(|held| match held {
                Held::File(hash) => Some(hash.hex()),
                Held::Nothing => None,
            })
            .collect();
        let matters = self.state.slots.values().any(state::Slot::matters);
        let stock = self.folder.join("stock");
        for name in crate::tree::names_in(&stock) {
            let path = stock.join(&name);
            if !wanted.contains(&name) {
                let _ = self.disk.remove(&path);
            }
        }
        if !matters && self.state.pending.is_none() {
            self.vanish();
        }
    }

    /// Leaves the root as it was before there was a ledger.
    fn vanish(&mut self) {
        let log = self.log_path();
        if log.exists() && self.disk.remove(&log).is_err() {
            return;
        }
        self.log_bytes = Some(0);
        self.others = std::mem::take(&mut self.state.others);
        self.state = State::default();
        self.place_others();
        self.lock = None;
        let _ = self.disk.remove(&self.folder.join("lock"));
        let stamps = crate::stamps::path_in(&self.folder);
        if stamps.exists() {
            let _ = self.disk.remove(&stamps);
        }
        let _ = self.disk.remove_folder(&self.folder.join("stock"));
        let _ = self.disk.remove_folder(&self.folder);
    }
}

/// The root that a slot is in, where it is not the main one, and its name there.
pub fn split(slot: &str) -> (Option<&str>, &str) {
    match slot.split_once(':') {
        Some((root, within)) => (Some(root), within),
        None => (None, slot),
    }
}

/// How a slot of a root is written in the ledger.
pub fn join(root: Option<&str>, within: &str) -> String {
    match root {
        Some(root) => format!("{root}:{within}"),
        None => within.to_owned(),
    }
}

fn log_path(folder: &Path) -> PathBuf {
    folder.join("ledger.log")
}

/// Where a ledger keeps the copy of some contents.
pub fn kept_in(folder: &Path, hash: Hash) -> PathBuf {
    folder.join("stock").join(hash.hex())
}

/// What lies at a path now.
///
/// # Errors
/// [`Error::Read`] where it cannot be read.
pub fn held_at(path: &Path) -> Result<Held> {
    match std::fs::symlink_metadata(path) {
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(Held::Nothing),
        Err(error) => Err(Error::read(path)(error)),
        Ok(_) => Hash::of_file(path).map(Held::File),
    }
}

#[cfg(test)]
mod tests;
