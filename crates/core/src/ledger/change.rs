//! One change of a root: all of it happens, or nothing does.

use super::record::{EntryRecord, Held, Installed, Put, Record};
use super::{Ledger, recover};
use crate::disk::Attributes;
use crate::error::{Error, Result};
use crate::fit::Durable;
use crate::hash::Hash;
use crate::names::{Key, folded};
use crate::refusal::{OddSlot, internal};
use crate::root::Kind;
use rayon::prelude::*;
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError, mpsc};

/// What a change is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum What {
    /// One slot gets a clip.
    Swap,
    /// A job is installed.
    Install,
    /// Stock comes back.
    Restore,
    /// Stock comes back without a log.
    Rescue,
}

impl What {
    /// As it is written in the log.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Swap => "swap",
            Self::Install => "install",
            Self::Restore => "restore",
            Self::Rescue => "rescue",
        }
    }
}

/// A change that is being made ready. Dropped without [`Change::finish`], it is rolled back.
pub struct Change<'l, 'd> {
    pub(super) ledger: &'l mut Ledger<'d>,
    pub(super) before: BTreeMap<Key, Before>,
    what: What,
    /// Whether what the slots hold is kept.
    kept: bool,
    /// Parts that are on the disk itself.
    synced: BTreeSet<PathBuf>,
    puts: Vec<Put>,
    open: bool,
}

/// Parts that are waited for while others are being made: a wait takes longer than making a short sound.
const WAITING: usize = 16;

/// What a slot holds when the change begins.
#[derive(Debug, Clone)]
pub(super) struct Before {
    held: Held,
    was: Option<Attributes>,
    pub(super) path: PathBuf,
}

impl<'d> Ledger<'d> {
    /// Begins a change of these slots: logs it, and makes the folders that are missing. What the slots hold is kept
    /// while parts are made, or once the change is finished. `caches` are files that go once it is done.
    ///
    /// # Errors
    /// [`Error::Refused`] where another run holds the lock, or another ledger knows a slot;
    /// [`Error::Read`] and [`Error::Write`].
    pub fn begin(&mut self, what: What, keys: &[Key], caches: Vec<Key>) -> Result<Change<'_, 'd>> {
        self.establish()?;
        let look = |key: &Key| {
            let place = self.place(key)?;
            let held = super::held_of(&place)?;
            let was = (held != Held::Nothing).then(|| Attributes::of(&place.path));
            let was = was.transpose().map_err(Error::read(&place.path))?;
            let path = place.path;
            Ok((key.clone(), Before { held, was, path }))
        };
        let before: BTreeMap<Key, Before> = keys.par_iter().map(look).collect::<Result<_>>()?;
        self.refuse_twice(&before)?;
        let keys: Vec<Key> = before.keys().cloned().collect();
        let folders = self.missing_folders(&keys)?;
        self.append(vec![Record::Begin {
            what: what.as_str().to_owned(),
            holds: before.values().map(|before| before.held).collect(),
            slots: keys,
            folders: folders.clone(),
            caches,
            token: super::random()?,
        }])?;
        let change = Change {
            ledger: self,
            before,
            what,
            kept: false,
            synced: BTreeSet::new(),
            puts: Vec::new(),
            open: true,
        };
        change.refuse_known_elsewhere()?;
        for folder in &folders {
            let path = change.ledger.place(folder)?.path;
            let made = change.ledger.disk.create_folder(&path);
            made.map_err(Error::write("make", &path))?;
        }
        Ok(change)
    }

    /// Names that differ in case alone may be one file, as long as nothing lies there that tells; what was
    /// replaced before was told apart then.
    fn refuse_twice(&self, before: &BTreeMap<Key, Before>) -> Result<()> {
        let mut seen: BTreeMap<String, (&Key, Held)> = BTreeMap::new();
        for (key, Before { held, .. }) in before {
            let Some((other, others)) = seen.insert(folded(key.as_str()), (key, *held)) else {
                continue;
            };
            let is_known = [key, other].iter().all(|key| self.state.slots.contains_key(*key));
            if !is_known && (*held == Held::Nothing || others == Held::Nothing) {
                return Err(OddSlot::MayBe { other: other.to_string() }.of(key.to_string()));
            }
        }
        Ok(())
    }

    /// Folders of slots that do not exist yet, outermost first.
    fn missing_folders(&self, keys: &[Key]) -> Result<Vec<Key>> {
        let folders: BTreeSet<Key> = keys.iter().flat_map(Key::folders).collect();
        let mut missing = Vec::new();
        for folder in folders {
            if self.place(&folder)?.kind == Kind::Nothing {
                missing.push(folder);
            }
        }
        Ok(missing)
    }
}

impl Change<'_, '_> {
    /// The ledger that is changed.
    pub fn ledger(&self) -> &Ledger<'_> {
        self.ledger
    }

    /// Where to make the new file of a slot: nothing is there yet.
    ///
    /// # Errors
    /// [`Error::Refused`] where the way to it leads through a link by now.
    pub fn part(&self, key: &Key) -> Result<PathBuf> {
        self.ledger.part(key)
    }

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
        let (waiting, synced) = (Mutex::new(waiting), Mutex::new(BTreeSet::new()));
        let next = || waiting.lock().unwrap_or_else(PoisonError::into_inner).recv().ok();
        let (disk, this) = (self.ledger.disk, &*self);
        let wait = || {
            while let Some(part) = next() {
                // One that fails is waited for once more in the end, and told then.
                if disk.sync_file(&part).is_ok() {
                    synced.lock().unwrap_or_else(PoisonError::into_inner).insert(part);
                }
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
    fn keep_all(&self) -> Result<()> {
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
        self.ledger.sync_folder(&self.ledger.attic.stock())
    }

    /// Waits until the parts are on the disk itself. Where it is full, a part of what is kept goes: its place is made
    /// when it is put there.
    fn sync_parts(&self) -> Result<()> {
        let is_file = |put: &&Put| matches!(put.after, Held::File(_));
        let paths = self.puts.iter().filter(is_file).map(|put| self.ledger.part(&put.slot));
        let mut paths: Vec<PathBuf> = paths.collect::<Result<_>>()?;
        paths.retain(|path| {
            !self.synced.contains(path) && Kind::of(path).is_ok_and(|kind| kind == Kind::File)
        });
        let synced = crate::disk::sync_files(self.ledger.disk, &paths);
        for (path, synced) in paths.iter().zip(synced) {
            match synced.map_err(Error::write("write", path)) {
                Err(error) if error.is_full() && self.is_kept(path) => {
                    let removed = self.ledger.disk.remove(path);
                    removed.map_err(Error::write("remove", path))?;
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

    fn is_ours(&self, key: &Key, held: Held) -> bool {
        let known = self.ledger.state.slots.get(key);
        let top = known.filter(|known| known.top().is_some());
        let told = known.and_then(|known| known.told_held.filter(|_| !known.mixed));
        top.is_some_and(|known| known.ours.contains(&held)) || told == Some(held)
    }

    fn before(&self, key: &Key) -> Result<Before> {
        self.before
            .get(key)
            .cloned()
            .ok_or_else(|| internal(format!("{key} is not part of this change")))
    }

    /// What a slot was before anything of ours.
    fn original(&self, key: &Key) -> Option<Attributes> {
        let original = self.ledger.state.slots.get(key)?.stock.last()?;
        // What a link has is not what a file should have.
        original.was.clone().filter(|_| !matches!(original.held, Held::Link(_)))
    }

    /// A put of a slot that changes nothing yet.
    fn put(&self, key: &Key) -> Result<Put> {
        let before = self.before(key)?;
        Ok(Put {
            slot: key.clone(),
            before: before.held,
            was: before.was,
            after: before.held,
            dress: None,
            stock: None,
            aside: None,
            installed: None,
            below: 0,
            told: None,
            mixed: false,
        })
    }

    /// The part of a slot holds what is to be installed.
    ///
    /// # Errors
    /// [`Error::Refused`] for a slot that the change did not begin with.
    pub fn install(&mut self, key: &Key, hash: Hash, installed: Installed) -> Result<()> {
        let put = self.put(key)?;
        let before = put.before;
        let known = self.ledger.state.slots.get(key);
        let top = known.and_then(|known| known.top());
        // Where our own file has vanished, the stock is still what it was.
        let own = |held| known.is_some_and(|known| known.ours.contains(&held));
        let is_ours = top.is_some() && (own(before) || before == Held::Nothing);
        let is_known = known.and_then(|known| known.original()) == Some(before);
        let layers = known.map_or(0, |known| known.layers.len());
        let again = top.is_some_and(|top| top.installed.job == installed.job);
        let dress = match before {
            Held::Nothing => self.original(key).map(Attributes::of_place),
            _ => None,
        };
        self.puts.push(Put {
            after: Held::File(hash),
            dress,
            stock: (!is_ours && !is_known).then_some(before),
            installed: Some(installed),
            below: match is_ours {
                true => layers - usize::from(again),
                false => 0,
            },
            ..put
        });
        Ok(())
    }

    /// A file gets other entries: `told` are all that stand in it then, and its part holds them.
    /// `seen` is what the file held when they were worked out, `after` nothing where it goes altogether.
    ///
    /// # Errors
    /// As [`Change::install`]; [`Error::Refused`] where the file was changed since it was seen.
    pub fn tell(
        &mut self,
        key: &Key,
        seen: Held,
        after: Held,
        told: Vec<EntryRecord>,
    ) -> Result<()> {
        let put = self.put(key)?;
        if put.before != seen {
            return Err(changed_just_now(key));
        }
        let known = self.ledger.state.slots.get(key);
        let is_new = known.is_none_or(|known| known.told.is_empty());
        let is_original = known.and_then(|known| known.original()) == Some(after);
        self.puts.push(Put {
            dress: self.original(key).filter(|_| is_original),
            stock: is_new.then_some(put.before),
            mixed: !is_new && known.and_then(|known| known.told_held) != Some(put.before),
            after,
            told: Some(told),
            ..put
        });
        Ok(())
    }

    /// A file whose entries are all taken out gets back what lay there before them.
    ///
    /// # Errors
    /// [`Error::StockDamaged`], [`Error::Write`].
    pub fn revert(&mut self, key: &Key, seen: Held) -> Result<()> {
        let original = self.ledger.state.slots.get(key);
        let held = original.and_then(|known| known.original()).unwrap_or(Held::Nothing);
        self.make_part(key, held)?;
        self.tell(key, seen, held, Vec::new())
    }

    /// Makes the parts of several slots that get back what is kept, as [`Change::restore`] would one after another.
    ///
    /// # Errors
    /// [`Error::StockDamaged`], [`Error::Write`].
    pub fn make_back(&mut self, slots: &[(&Key, usize)]) -> Result<()> {
        self.make(|change, whole| {
            slots.par_iter().try_for_each(|(key, below)| {
                let held = change.goes_back_to(key, *below).0;
                change.make_part(key, held)?;
                whole(&change.part(key)?);
                Ok(())
            })
        })
    }

    /// What a slot holds once it is brought back, and what is known of it where that is ours.
    fn goes_back_to(&self, key: &Key, below: usize) -> (Held, Option<Installed>) {
        let known = self.ledger.state.slots.get(key);
        let lower = known.and_then(|known| known.layers.get(below.checked_sub(1)?));
        let original = || known.and_then(|known| known.original()).unwrap_or(Held::Nothing);
        let held = lower.map_or_else(original, |layer| layer.held);
        (held, lower.map(|layer| layer.installed.clone()))
    }

    /// Makes the part of what is kept, where it is not made yet; on a full disk the place is made when it is put there.
    fn make_part(&self, key: &Key, held: Held) -> Result<()> {
        if Kind::of(&self.part(key)?)? != Kind::Nothing {
            return Ok(());
        }
        let dress = self.original(key);
        match self.ledger.part_from_kept(key, held, dress.as_ref(), Durable::No) {
            Err(error) if error.is_full() => Ok(()),
            other => other,
        }
    }

    /// A slot gets back what is kept: its stock, or the top one of the layers that stay, of which there
    /// are `below`. What lies there now and is not ours is kept beside the stock.
    ///
    /// # Errors
    /// [`Error::StockDamaged`], [`Error::Read`], [`Error::Write`].
    pub fn restore(&mut self, key: &Key, below: usize) -> Result<()> {
        let put = self.put(key)?;
        let known = self.ledger.state.slots.get(key);
        let original = known.and_then(|known| known.original());
        let (after, installed) = self.goes_back_to(key, below);
        let was = self.original(key);
        let dress = match installed {
            Some(_) => was.map(Attributes::of_place),
            None => was,
        };
        self.make_part(key, after)?;
        let before = put.before;
        let is_known = self.is_ours(key, before) || original == Some(before) || before == after;
        self.puts.push(Put {
            after,
            dress,
            aside: (!is_known && before != Held::Nothing).then_some(before),
            installed,
            below: below.saturating_sub(1),
            ..put
        });
        Ok(())
    }

    /// A slot gets back a copy that no record tells of; what lies there now is kept beside it, where
    /// it is not ours.
    ///
    /// # Errors
    /// As [`Change::restore`].
    pub fn rescue(
        &mut self,
        key: &Key,
        after: Held,
        dress: Option<Attributes>,
        is_ours: bool,
    ) -> Result<()> {
        let put = self.put(key)?;
        self.ledger.part_from_kept(key, after, dress.as_ref(), Durable::No)?;
        self.puts.push(Put {
            after,
            dress,
            stock: Some(after),
            aside: (!is_ours && put.before != Held::Nothing && put.before != after)
                .then_some(put.before),
            ..put
        });
        Ok(())
    }

    /// What lies at a slot stays and counts as its stock from now on.
    ///
    /// # Errors
    /// As [`Change::install`].
    pub fn leave(&mut self, key: &Key) -> Result<()> {
        let put = self.put(key)?;
        self.puts.push(Put { stock: Some(put.before), ..put });
        Ok(())
    }

    /// Puts everything in place.
    ///
    /// # Errors
    /// [`Error::Refused`] where a slot has changed in the meantime, [`Error::Write`]; in both cases
    /// everything is rolled back, unless the disk no longer allows even that: then the next run does it.
    pub fn finish(mut self) -> Result<()> {
        if !self.kept {
            self.keep_all()?;
        }
        self.puts.par_iter().try_for_each(|put| {
            match self.ledger.held(&put.slot)? == put.before {
                true => Ok(()),
                false => Err(changed_just_now(&put.slot)),
            }
        })?;
        self.sync_parts()?;
        let mut records: Vec<Record> = self.puts.iter().cloned().map(Record::Put).collect();
        records.push(Record::Ready);
        // A failed append may still have reached the disk, so what comes then is decided by the log.
        self.ledger.append(records)?;
        recover::place(self.ledger)?;
        self.open = false;
        recover::end(self.ledger, Vec::new())
    }
}

fn changed_just_now(key: &Key) -> Error {
    OddSlot::ChangedNow.of(key.to_string())
}

impl Drop for Change<'_, '_> {
    fn drop(&mut self) {
        if self.open {
            // Where this fails too, the next run finds the log and does it.
            let _ = recover::roll_back(self.ledger);
        }
    }
}
