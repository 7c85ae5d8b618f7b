//! The parts of a change: made beside their slots, while what those hold is kept, and waited for.

use super::change::{Before, Change, What, changed_just_now};
use super::record::{Held, Put};
use crate::disk::Durable;
use crate::error::{Error, Result};
use crate::hash::Hash;
use crate::names::Key;
use crate::root::Kind;
use rayon::prelude::*;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError, mpsc};

/// Parts that are waited for while others are being made: a wait takes longer than making a short sound.
const WAITING: usize = 16;

impl Change<'_, '_> {
    /// Makes parts, while what the slots hold is kept and while parts that are whole, as `make` tells, are waited for:
    /// the disk is slow where a processor is not.
    ///
    /// # Errors
    /// Those of keeping, and of `make`.
    pub fn make<T>(
        &mut self,
        make: impl FnOnce(&Self, &(dyn Fn(&Path) + Sync)) -> Result<T>,
    ) -> Result<T> {
        let (whole, waiting) = mpsc::channel::<PathBuf>();
        let (waiting, synced) = (Mutex::new(waiting), Mutex::new(BTreeMap::new()));
        let next = || waiting.lock().unwrap_or_else(PoisonError::into_inner).recv().ok();
        let (disk, this) = (self.ledger.disk, &*self);
        let wait = || {
            while let Some(part) = next() {
                // A system tells once that it lost something: asked again, it says that all is well.
                let told = disk.sync_file(&part);
                synced.lock().unwrap_or_else(PoisonError::into_inner).insert(part, told);
            }
        };
        let (made, kept) = std::thread::scope(|scope| {
            let spawn = || std::thread::Builder::new();
            let keeping = spawn().spawn_scoped(scope, || this.keep_all()).ok();
            let threads = 0..self.before.len().min(WAITING);
            threads.for_each(|_| drop(spawn().spawn_scoped(scope, wait)));
            let made = make(this, &|part| {
                let _ = whole.send(part.to_owned());
            });
            drop(whole);
            let kept = match keeping.map(std::thread::ScopedJoinHandle::join) {
                Some(Ok(kept)) => kept,
                // What no thread has kept is kept now.
                Some(Err(_)) | None => this.keep_all(),
            };
            (made, kept)
        });
        kept?;
        self.kept = true;
        self.synced = synced.into_inner().unwrap_or_else(PoisonError::into_inner);
        made
    }

    /// Keeps copies of what the slots hold, several at once; what several hold is copied once. A restore
    /// on a full disk does without copies of our own files.
    pub(super) fn keep_all(&self) -> Result<()> {
        let mut each: BTreeMap<Hash, (&Key, &Before)> = BTreeMap::new();
        for (key, before) in &self.before {
            if let Some(hash) = before.held.hash() {
                each.insert(hash, (key, before));
            }
        }
        let files = each.values().map(|(_, before)| (before.path.as_path(), before.held));
        let files: Vec<_> = files.collect();
        let without = |held: Held| {
            let known = held.hash().and_then(|hash| each.get(&hash));
            self.what == What::Restore
                && known.is_some_and(|(key, before)| self.is_ours(key, before.held))
        };
        // What another program has changed since is no fault of the copy.
        let changed = || {
            let is = |(key, before): &(&Key, &Before)| {
                self.ledger.held(key).is_ok_and(|now| now != before.held)
            };
            each.values().find(|both| is(both)).map(|(key, _)| changed_just_now(key))
        };
        let kept = self.ledger.keep_all(&files, without);
        kept.map_err(|error| changed().unwrap_or(error))?;
        self.ledger.sync_folder(&self.ledger.dir.stock())
    }

    /// Waits until the parts are on the disk itself. Where it is full, a part of what is kept goes: its place is made
    /// when it is put there.
    pub(super) fn sync_parts(&mut self) -> Result<()> {
        let is_file = |put: &&Put| matches!(put.after, Held::File(_));
        let paths = self.puts.iter().filter(is_file).map(|put| self.ledger.part(&put.slot));
        let mut paths: Vec<PathBuf> = paths.collect::<Result<_>>()?;
        paths.retain(|path| Kind::of(path).is_ok_and(|kind| kind == Kind::File));
        let mut waited_for = std::mem::take(&mut self.synced);
        let (early, late): (Vec<_>, Vec<_>) =
            paths.into_iter().partition(|path| waited_for.contains_key(path));
        let synced = crate::disk::sync_files(self.ledger.disk, &late);
        let early = early.into_iter().filter_map(|path| waited_for.remove_entry(&path));
        for (path, synced) in early.chain(late.into_iter().zip(synced)) {
            match synced.map_err(Error::write("write", &path)) {
                Err(error) if error.is_full() && self.is_kept(&path) => {
                    let removed = self.ledger.disk.remove(&path);
                    removed.map_err(Error::write("remove", &path))?;
                }
                other => other?,
            }
        }
        Ok(())
    }

    /// Whether what a part holds is kept, too.
    fn is_kept(&self, part: &Path) -> bool {
        let is_its = |put: &&Put| self.ledger.part(&put.slot).is_ok_and(|own| own == part);
        let hash = self.puts.iter().find(is_its).and_then(|put| put.after.hash());
        hash.is_some_and(|hash| super::copies::is_intact(&self.ledger.kept(hash), hash))
    }

    /// Makes the parts of several slots that get back what is kept, as [`Change::restore`] would one after another.
    ///
    /// # Errors
    /// [`Error::StockDamaged`], [`Error::Write`].
    pub fn make_back(&mut self, slots: &[(&Key, Held)]) -> Result<()> {
        self.make(|change, whole| {
            slots.par_iter().try_for_each(|(key, held)| {
                if change.make_part(key, *held)? && matches!(held, Held::File(_)) {
                    whole(&change.part(key)?);
                }
                Ok(())
            })
        })
    }

    /// Makes the part of what is kept, and says whether it is there; on a full disk its place is made when it is put
    /// there. One that is there already must hold what it should.
    pub(super) fn make_part(&self, key: &Key, held: Held) -> Result<bool> {
        let part = self.part(key)?;
        if held == Held::Nothing || super::held_at(&part)? == held {
            return Ok(held != Held::Nothing);
        }
        let dress = self.original(key);
        match self.ledger.part_from_kept(key, held, dress.as_ref(), Durable::No) {
            // What is left of it would be taken for the whole.
            Err(error) if error.is_full() && Kind::of(&part)? == Kind::Nothing => Ok(false),
            other => other.map(|()| true),
        }
    }
}
