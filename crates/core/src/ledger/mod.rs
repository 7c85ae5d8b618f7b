//! The ledger: what was installed where, and the stock that it replaced.
//!
//! It lies in `.deft-needle/` in the root: `ledger.log`, a log that is written ahead of every change and
//! kept twice, and `stock/`, copies of what slots held, named by their hashes. A change goes so:
//!
//! 1. `begin` is logged, with what the slots hold: from now on parts may lie about.
//! 2. What the slots hold is copied to `stock/`, held against its hash, and synced before it has its name.
//! 3. At the same time the new files are made beside their slots as parts, verified, and synced.
//! 4. `put` for every slot and `ready` are logged: from now on the change can be finished.
//! 5. Caches are moved aside, every part is renamed into its slot, and the folders are synced.
//! 6. `done` is logged, and what was moved aside removed.
//!
//! Who finds a log without its end brings the root to exactly before (1 to 3) or after (4 to 6).
//!
//! A copy is removed only once the log names it and nothing needs it. A ledger is believed only as far as
//! this user has made it: see [`trust`].

pub mod log;
pub mod record;
pub mod rescue;
pub mod state;

pub(crate) mod caches;
mod change;
mod copies;
mod establish;
mod find;
mod held;
mod ledger_dir;
mod originals;
mod parts;
mod recover;
mod trust;

pub use change::{Back, Change, Over, What};
pub(crate) use copies::check_intact;
pub(crate) use held::held_of;
pub use held::{copies_in, held_at, kept_in};
pub use originals::Original;
pub use recover::{Ending, Recovered};

use crate::disk::{Disk, Lock};
use crate::error::internal;
use crate::error::{Error, Result};
use crate::names::{Key, PART};
use crate::refusal::OddLedger;
use crate::root::{Kind, Place, Root, look};
use ledger_dir::LedgerDir;
use record::{Held, Record, TargetFacts};
use state::State;
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use tracing::debug;

/// The version of the log's format.
const VERSION: u32 = 3;

/// The ledger of one root.
pub struct Ledger<'d> {
    root: Root,
    dir: LedgerDir,
    disk: &'d dyn Disk,
    lock: Option<Lock>,
    state: State,
    recovered: Option<Recovered>,
    /// Whether where the other roots are is not yet written down.
    moved: bool,
    /// What is known of the target, where that is not yet written down.
    target: Option<TargetFacts>,
    /// How many records the log has; `None` once a broken end could not be cut off.
    records: Option<usize>,
}

impl<'d> Ledger<'d> {
    /// Opens the ledger of a root for changes: takes its lock, and finishes or rolls back what was
    /// interrupted. Where there is no ledger yet, nothing is made until a change begins.
    ///
    /// # Errors
    /// [`Error::Refused`] where somebody else changes this root now, or the ledger is damaged or
    /// another root's; [`Error::Read`] and [`Error::Write`].
    pub fn open(root: &Root, disk: &'d dyn Disk) -> Result<Self> {
        crate::disk::sweep_once();
        again_while_absent(|| Self::open_once(root, disk))
    }

    fn open_once(root: &Root, disk: &'d dyn Disk) -> Result<Self> {
        let mut ledger = Self::empty(root, disk);
        if ledger.dir.is_there()? {
            ledger.take_lock()?;
            ledger.load()?;
            ledger.recovered = recover::recover(&mut ledger)?;
            recover::sweep(&mut ledger);
            ledger.tidy();
        }
        ledger.place_others()?;
        Ok(ledger)
    }

    fn empty(root: &Root, disk: &'d dyn Disk) -> Self {
        Self {
            root: root.clone(),
            dir: LedgerDir::new(&root.ledger),
            disk,
            lock: None,
            state: State::default(),
            recovered: None,
            moved: !root.others.is_empty(),
            target: None,
            records: Some(0),
        }
    }

    /// Takes in where the user says that other roots are.
    fn place_others(&mut self) -> Result<()> {
        trust::place_others(&mut self.state, &self.root)
    }

    /// Remembers what must be known of the target once nobody has its sheet at hand; the change that
    /// is begun next writes it down.
    pub fn know(&mut self, target: TargetFacts) {
        self.target = Some(target);
    }

    /// The caches that the target's patterns find now.
    ///
    /// # Errors
    /// [`Error::Read`]; a pattern that is malformed or finds what is no cache.
    pub fn caches(&self) -> Result<Vec<Key>> {
        let facts = self.target.as_ref().unwrap_or(&self.state.target);
        caches::of_ledger(&self.root.path, &facts.clear, &self.state)
    }

    /// What the ledger says, without changing anything.
    ///
    /// # Errors
    /// [`Error::Refused`] where it is damaged or not to be believed; [`Error::Read`].
    pub fn peek(root: &Root) -> Result<State> {
        let dir = LedgerDir::new(&root.ledger);
        let read = || match dir.is_there()? {
            true => dir.read()?.state(),
            false => Ok(State::default()),
        };
        let mut state = again_while_absent(read)?;
        trust::check(&mut state, root)?;
        trust::place_others(&mut state, root)?;
        Ok(state)
    }

    /// What it says.
    pub fn state(&self) -> &State {
        &self.state
    }

    /// Its root.
    pub fn root(&self) -> &Root {
        &self.root
    }

    /// What had been interrupted and was dealt with when it was opened.
    pub fn recovered(&self) -> Option<&Recovered> {
        self.recovered.as_ref()
    }

    fn take_lock(&mut self) -> Result<()> {
        let path = self.dir.lock();
        let lock = self.disk.lock(&path).map_err(Error::write("lock", &path))?;
        self.lock = Some(lock.ok_or_else(|| OddLedger::Busy { root: self.root.path.clone() })?);
        Ok(())
    }

    fn load(&mut self) -> Result<()> {
        let written = self.dir.read()?;
        let mut state = written.state()?;
        trust::check(&mut state, &self.root)?;
        self.records = Some(written.heal(&self.dir, self.disk)?);
        self.moved = trust::is_moved(&state, &self.root)
            || state.id.is_empty()
            || trust::real_places(&state.others) != state.real;
        self.state = state;
        self.place_others()
    }

    /// Lets copies of a slot's go that the user has named.
    ///
    /// # Errors
    /// [`Error::Write`].
    pub(crate) fn drop_copies(&mut self, slot: &Key, copies: Vec<Held>) -> Result<()> {
        self.append(vec![Record::Dropped { slot: slot.clone(), copies }])?;
        self.tidy();
        Ok(())
    }

    fn just_changed(&self) -> Error {
        OddLedger::Raced { root: self.root.path.clone() }.into()
    }

    /// Logs records. What reached the disk of a failed attempt is cut off again: a torn record must
    /// stay the last one.
    fn append(&mut self, records: Vec<Record>) -> Result<()> {
        let Some(known) = self.records else {
            return Err(OddLedger::LogFailed { log: self.dir.log() }.into());
        };
        for record in &records {
            debug!(ledger = %self.dir.folder().display(), ?record, "logged");
        }
        let lines = log::lines(&records, known)?;
        match self.dir.append(lines.as_bytes(), self.disk) {
            Ok(()) => self.records = Some(known + records.len()),
            Err((error, cut)) => {
                self.records = cut.then_some(known);
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
        self.disk.sync_folder(folder).map_err(Error::write("sync", folder))
    }

    /// The key of a file of a root, by its true name.
    ///
    /// # Errors
    /// [`Error::Refused`] where it leads through a link, out of the root or into a ledger, or where it
    /// differs in case alone from a file that is known.
    pub fn key(&self, root: Option<&str>, within: &str) -> Result<Key> {
        self.state.key(&self.root.path, root, within, self.disk)
    }

    /// A file's place, looked at again: no folder on the way is a link.
    ///
    /// # Errors
    /// As [`look`].
    pub fn place(&self, key: &Key) -> Result<Place> {
        let root = self.state.root_of(&self.root.path, key)?;
        look(&root, key.within(), self.disk)
    }

    /// What lies at a slot now.
    ///
    /// # Errors
    /// [`Error::Refused`] where it is neither file nor link, [`Error::Read`] where it cannot be read.
    pub fn held(&self, key: &Key) -> Result<Held> {
        held_of(&self.place(key)?)
    }

    /// The part of a slot of the change that is under way.
    fn part(&self, key: &Key) -> Result<PathBuf> {
        let pending = self.state.pending.as_ref();
        let at = pending.and_then(|p| {
            // In order, but in logs of earlier versions.
            let at = p.slots.binary_search(key).ok();
            Some((at.or_else(|| p.slots.iter().position(|k| k == key))?, &p.token))
        });
        let (at, token) =
            at.ok_or_else(|| internal(format!("{key} has no part in this change")))?;
        self.beside(key, &format!("{token}-{at}"))
    }

    /// A name of ours in the folder of a slot.
    fn beside(&self, key: &Key, name: &str) -> Result<PathBuf> {
        let path = self.place(key)?.path;
        Ok(path.with_file_name(format!("{PART}{name}")))
    }

    /// Removes copies that nothing refers to any more, and the whole ledger once nothing is
    /// installed. What cannot be removed now goes another time; what the log does not name stays.
    ///
    /// Only under the lock: a run that has taken its ledger out has let go of it, and what lies there since is
    /// another run's.
    fn tidy(&mut self) {
        if self.lock.is_none() {
            let _ = self.disk.remove_folder(self.dir.folder());
            return;
        }
        let wanted = self.state.kept();
        let others = self.dir.copies().into_iter();
        let wanted: BTreeSet<String> = wanted.iter().map(|hash| hash.hex()).collect();
        let gone = others.filter(|hex| self.state.taken.contains(hex) && !wanted.contains(hex));
        let gone: Vec<String> = gone.chain(self.dir.unfinished()).collect();
        crate::disk::at_once(&gone, |name| self.disk.remove(&self.dir.stock().join(name)));
        let matters = self.state.slots.values().any(state::Slot::matters);
        let is_clean = self.state.pending.is_none() && self.state.left.is_empty();
        if !matters && is_clean && self.dir.copies().is_empty() && !self.has_emptied_folders() {
            self.vanish();
        }
    }

    /// Whether folders that were made for slots are left with nothing in them, since they could not be
    /// removed: another run has to know of them.
    fn has_emptied_folders(&self) -> bool {
        let is_empty =
            |path: &Path| std::fs::read_dir(path).is_ok_and(|mut entries| entries.next().is_none());
        let mut places = self.state.folders.iter().filter_map(|folder| self.place(folder).ok());
        places.any(|place| place.kind == Kind::Folder && is_empty(&place.path))
    }

    /// Leaves the root as it was before there was a ledger.
    fn vanish(&mut self) {
        if !self.dir.clear(self.disk) {
            // One file of the log may be gone already. What is logged next needs both to be whole.
            let written = self.dir.read();
            self.records = written.and_then(|log| log.heal(&self.dir, self.disk)).ok();
            return;
        }
        self.root.registry.forget(&self.state.id);
        self.records = Some(0);
        let others = std::mem::take(&mut self.state.others);
        self.moved = !others.is_empty();
        self.state = State { others, ..State::default() };
        // Still locked: whoever waits for the lock finds that the file of that name is gone.
        let _ = self.disk.remove(&self.dir.lock());
        self.lock = None;
        let _ = self.disk.remove_folder(self.dir.folder());
    }
}

/// Another run may take the last file out at any moment, and the ledger with it; and begin a new one.
fn again_while_absent<T>(mut attempt: impl FnMut() -> Result<T>) -> Result<T> {
    const TRIES: u32 = 8;
    for _ in 1..TRIES {
        match attempt() {
            Err(error) if error.is_absent() => {}
            other => return other,
        }
    }
    attempt()
}

#[cfg(test)]
mod tests;
