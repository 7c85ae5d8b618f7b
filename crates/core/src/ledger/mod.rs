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
use crate::tree::{LEDGER_FOLDER, slot_path};
use record::{Held, Record};
use state::State;
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
        let mut ledger = Self {
            root: root.to_owned(),
            folder: folder.to_owned(),
            disk,
            lock: None,
            state: State::default(),
            recovered: None,
            log_bytes: Some(0),
        };
        if folder.is_dir() {
            ledger.take_lock()?;
            ledger.load()?;
            ledger.recovered = recover::recover(&mut ledger)?;
            ledger.tidy();
        }
        Ok(ledger)
    }

    /// What the ledger says, without changing anything.
    ///
    /// # Errors
    /// [`Error::Refused`] where it is damaged; [`Error::Read`].
    pub fn peek(folder: &Path) -> Result<State> {
        Ok(State::replay(&log::read(&log_path(folder))?.records))
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
        self.make_folders().inspect_err(|_| self.tidy())
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
        slot_path(&self.root, slot)
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
        let wanted: Vec<Held> = slots.flat_map(|slot| slot.stock.iter().copied()).collect();
        let stock = self.folder.join("stock");
        for name in crate::tree::names_in(&stock) {
            let path = stock.join(&name);
            let referred = wanted
                .iter()
                .any(|held| matches!(held, Held::File(hash) if hash.hex() == name));
            if !referred {
                let _ = self.disk.remove(&path);
            }
        }
        if wanted.is_empty() && self.state.pending.is_none() {
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
        self.state = State::default();
        self.lock = None;
        let _ = self.disk.remove(&self.folder.join("lock"));
        let _ = self.disk.remove_folder(&self.folder.join("stock"));
        let _ = self.disk.remove_folder(&self.folder);
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
