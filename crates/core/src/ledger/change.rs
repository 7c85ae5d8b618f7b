//! One change of a root: all of it happens, or nothing does.

use super::record::{EntryRecord, Held, Installed, Put, Record};
use super::{Ledger, log, recover};
use crate::disk::Attributes;
use crate::disk::Durable;
use crate::error::internal;
use crate::error::{Error, Result};
use crate::hash::Hash;
use crate::names::{Key, folded};
use crate::refusal::OddSlot;
use crate::root::Kind;
use rayon::prelude::*;
use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::path::PathBuf;

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
    pub(super) what: What,
    /// Whether what the slots hold is kept.
    pub(super) kept: bool,
    /// Parts that were waited for already, and what the system said.
    pub(super) synced: BTreeMap<PathBuf, io::Result<()>>,
    pub(super) puts: Vec<Put>,
    open: bool,
}

/// Entries that are in a file from the beginning.
pub struct Over {
    /// What the file is without them; [`Change::keep_whole`] keeps it.
    pub whole: Hash,
    /// The entries.
    pub entries: Vec<EntryRecord>,
}

/// What a slot gets back.
#[derive(Debug, Clone, PartialEq)]
pub struct Back {
    /// What it holds then: what is kept, or what its part holds.
    pub after: Held,
    /// How many layers stay below.
    pub below: usize,
    /// Entries that stay in the topmost of them, or in the original.
    pub entries: Vec<EntryRecord>,
    /// What the file held when our entries were taken out of it; nothing where all of it is given back.
    pub edited: Option<Held>,
}

/// What a slot holds when the change begins.
#[derive(Debug, Clone)]
pub(super) struct Before {
    pub(super) held: Held,
    was: Option<Attributes>,
    pub(super) path: PathBuf,
}

impl<'d> Ledger<'d> {
    /// Begins a change of these slots: logs it, and makes the folders that are missing. What the slots hold is kept
    /// while parts are made, or once the change is finished. `caches` are files that go once it is done, `copies`
    /// contents that [`Change::keep_whole`] will keep.
    ///
    /// # Errors
    /// [`Error::Refused`] where another run holds the lock, or another ledger knows a slot;
    /// [`Error::Read`] and [`Error::Write`].
    pub fn begin(
        &mut self,
        what: What,
        keys: &[Key],
        caches: Vec<Key>,
        copies: Vec<Held>,
    ) -> Result<Change<'_, 'd>> {
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
            copies,
            folders: folders.clone(),
            caches,
            token: crate::disk::random()?,
        }])?;
        let change = Change {
            ledger: self,
            before,
            what,
            kept: false,
            synced: BTreeMap::new(),
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

    pub(super) fn is_ours(&self, key: &Key, held: Held) -> bool {
        self.ledger.state.slots.get(key).is_some_and(|known| known.is_ours(held))
    }

    fn before(&self, key: &Key) -> Result<Before> {
        self.before
            .get(key)
            .cloned()
            .ok_or_else(|| internal(format!("{key} is not part of this change")))
    }

    /// What a slot was before anything of ours.
    pub(super) fn original(&self, key: &Key) -> Option<Attributes> {
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
            whole: None,
            entries: None,
            mixed: false,
        })
    }

    /// The part of a slot holds what is to be installed, over everything of ours that lies there; `over` are entries
    /// that are in it from the beginning.
    ///
    /// # Errors
    /// [`Error::Refused`] for a slot that the change did not begin with.
    pub fn install(
        &mut self,
        key: &Key,
        hash: Hash,
        installed: Installed,
        over: Option<Over>,
    ) -> Result<()> {
        let put = self.put(key)?;
        let before = put.before;
        let known = self.ledger.state.slots.get(key);
        let top = known.and_then(|known| known.top());
        // Where our own file has vanished, the stock is still what it was.
        let own = |held| known.is_some_and(|known| known.is_ours(held));
        let tended = top.is_some_and(|top| top.installed.tended);
        let is_ours = top.is_some() && (own(before) || before == Held::Nothing || tended);
        // What somebody has made of an original with our entries in it is what is covered.
        let is_edited = top.is_none() && known.is_some_and(|known| known.expected().is_some());
        let is_known = known.and_then(|known| known.original()) == Some(before);
        let layers = known.map_or(0, |known| known.layers.len());
        let again = top.is_some_and(|top| top.installed.job == installed.job);
        let dress = match before {
            Held::Nothing => self.original(key).map(Attributes::of_place),
            _ => None,
        };
        let (whole, entries) = match over {
            Some(Over { whole, entries }) => (Some(Held::File(whole)), Some(entries)),
            None => (None, None),
        };
        self.puts.push(Put {
            after: Held::File(hash),
            dress,
            stock: (!is_ours && !is_known && !is_edited).then_some(before),
            installed: Some(installed),
            below: match is_ours {
                true => layers - usize::from(again),
                false => 0,
            },
            whole,
            entries,
            ..put
        });
        Ok(())
    }

    /// Keeps a copy of what a part holds, which the change has begun with, and makes room for another part.
    ///
    /// # Errors
    /// [`Error::Read`], [`Error::Write`].
    pub fn keep_whole(&mut self, key: &Key, hash: Hash) -> Result<()> {
        let part = self.part(key)?;
        self.ledger.keep_all(&[(&part, Held::File(hash))], |_| false)?;
        self.ledger.sync_folder(&self.ledger.dir.stock())?;
        // What was waited for was this part, not the one that takes its place.
        self.synced.remove(&part);
        self.ledger.disk.remove(&part).map_err(Error::write("remove", &part))
    }

    /// A file gets other entries, over everything else that lies there: `entries` are all that are in it then, and its
    /// part holds them. `seen` is what the file held when they were worked out; `anew` where nothing of ours was in it
    /// any more, so that it counts as the stock from now on.
    ///
    /// # Errors
    /// As [`Change::install`]; [`Error::Refused`] where the file was changed since it was seen.
    pub fn set_entries(
        &mut self,
        key: &Key,
        seen: Held,
        after: Held,
        entries: Vec<EntryRecord>,
        anew: bool,
    ) -> Result<()> {
        let put = self.seen(key, seen)?;
        let known = self.ledger.state.slots.get(key).filter(|_| !anew);
        let expected = known.and_then(|known| known.expected());
        let is_known = known.and_then(|known| known.original()) == Some(put.before);
        let is_original = known.and_then(|known| known.original()) == Some(after);
        self.puts.push(Put {
            dress: self.original(key).filter(|_| is_original),
            stock: (expected.is_none() && !is_known).then_some(put.before),
            mixed: expected.is_some_and(|expected| expected != put.before),
            below: known.map_or(0, |known| known.layers.len()),
            after,
            entries: Some(entries),
            ..put
        });
        Ok(())
    }

    fn seen(&self, key: &Key, seen: Held) -> Result<Put> {
        let put = self.put(key)?;
        match put.before == seen {
            true => Ok(put),
            false => Err(changed_just_now(key)),
        }
    }

    /// A slot gets back what lies below everything that goes. What lies there now and is not ours is kept beside the
    /// stock, but for what `back` has taken our entries out of.
    ///
    /// # Errors
    /// [`Error::StockDamaged`], [`Error::Read`], [`Error::Write`]; [`Error::Refused`] where the file was changed since
    /// entries were taken out of it.
    pub fn restore(&mut self, key: &Key, back: Back) -> Result<()> {
        let Back { after, below, entries, edited } = back;
        let put = match edited {
            Some(seen) => self.seen(key, seen)?,
            None => self.put(key)?,
        };
        let known = self.ledger.state.slots.get(key);
        let original = known.and_then(|known| known.original());
        let was = self.original(key);
        let dress = match below {
            0 if edited.is_none() || original == Some(after) => was,
            0 => None,
            _ => was.map(Attributes::of_place),
        };
        self.make_part(key, after)?;
        let before = put.before;
        let is_known = self.is_ours(key, before) || original == Some(before) || before == after;
        let is_kept = edited.is_some() || is_known || before == Held::Nothing;
        let expected = known.and_then(|known| known.expected());
        let mixed = edited.is_some_and(|seen| expected != Some(seen));
        self.puts.push(Put {
            after,
            dress,
            aside: (!is_kept).then_some(before),
            below,
            entries: Some(entries),
            mixed,
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

    /// What lies at a slot stays and counts as its stock from now on; what was kept for it stays kept. `entries` are
    /// those that may be in it still.
    ///
    /// # Errors
    /// As [`Change::install`].
    pub fn leave(&mut self, key: &Key, entries: Vec<EntryRecord>) -> Result<()> {
        let put = self.put(key)?;
        self.puts.push(Put { stock: Some(put.before), mixed: true, entries: Some(entries), ..put });
        Ok(())
    }

    /// A slot gets back a copy that was kept aside; what lies there now is kept in its turn.
    ///
    /// # Errors
    /// As [`Change::restore`].
    pub fn swap_kept(&mut self, key: &Key, copy: Held) -> Result<()> {
        let put = self.put(key)?;
        self.make_part(key, copy)?;
        let known = self.ledger.state.slots.get(key);
        let original = known.and_then(|known| known.stock.iter().find(|one| one.held == copy));
        let dress = original.and_then(|original| original.was.clone());
        let aside = (put.before != copy && put.before != Held::Nothing).then_some(put.before);
        self.puts.push(Put { after: copy, dress, aside, ..put });
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
        self.hold_back_room()?;
        let mut records: Vec<Record> = self.puts.iter().cloned().map(Record::Put).collect();
        records.push(Record::Ready);
        // A failed append may still have reached the disk, so what comes then is decided by the log.
        self.ledger.append(records)?;
        recover::place(self.ledger)?;
        self.open = false;
        recover::end(self.ledger, Vec::new())
    }
}

impl Change<'_, '_> {
    /// Nothing is put where a full disk could keep it from being taken out again.
    fn hold_back_room(&self) -> Result<()> {
        let state = &self.ledger.state;
        let known = state.slots.iter().filter(|(_, slot)| slot.matters());
        let known = known.map(|(key, slot)| log::restore_bytes(key, slot));
        let own = self.puts.iter().map(log::put_bytes);
        // Both files of the log are written.
        let bytes = 2 * known.chain(own).sum::<u64>();
        match self.ledger.dir.reserve(bytes, self.ledger.disk) {
            Err(_) if matches!(self.what, What::Restore | What::Rescue) => Ok(()),
            other => other,
        }
    }
}

pub(super) fn changed_just_now(key: &Key) -> Error {
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
