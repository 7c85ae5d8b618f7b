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

/// What a slot holds when the change begins.
#[derive(Debug, Clone)]
pub(super) struct Before {
    pub(super) held: Held,
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
