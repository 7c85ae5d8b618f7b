//! One change of a root: all of it happens, or nothing does.

use super::record::{Held, Installed, Put, Record, Told};
use super::{Ledger, join, recover, split};
use crate::error::{Error, Result};
use crate::hash::Hash;
use crate::tree::part_of;
use rayon::prelude::*;
use std::collections::{BTreeMap, BTreeSet};
use std::fs::File;
use std::path::{Path, PathBuf};

/// A change that is being made ready. Dropped without [`Change::finish`], it is taken back.
pub struct Change<'l, 'd> {
    ledger: &'l mut Ledger<'d>,
    puts: Vec<Put>,
    open: bool,
}

impl<'d> Ledger<'d> {
    /// Begins a change of these slots: logs it, makes the folders that are missing, and keeps copies
    /// of what the slots hold. `caches` are files that go once it is done.
    ///
    /// # Errors
    /// [`Error::Refused`] where another run holds the lock; [`Error::Read`] and [`Error::Write`].
    pub fn begin(
        &mut self,
        what: &str,
        slots: &[String],
        caches: Vec<String>,
    ) -> Result<Change<'_, 'd>> {
        self.establish()?;
        let folders = self.missing_folders(slots)?;
        self.append(vec![Record::Begin {
            what: what.to_owned(),
            slots: slots.to_vec(),
            folders: folders.clone(),
            caches,
        }])?;
        let change = Change {
            ledger: self,
            puts: Vec::new(),
            open: true,
        };
        for folder in &folders {
            let path = change.ledger.path_of(folder)?;
            let made = change.ledger.disk.create_folder(&path);
            made.map_err(Error::write("make", &path))?;
        }
        change.ledger.keep_all(slots)?;
        let stock = change.ledger.folder.join("stock");
        change.ledger.sync_folder(&stock)?;
        Ok(change)
    }

    /// Folders of slots that do not exist yet, outermost first.
    fn missing_folders(&self, slots: &[String]) -> Result<Vec<String>> {
        let mut missing = BTreeSet::new();
        for slot in slots {
            let (root, within) = split(slot);
            let mut name = within;
            while let Some((folder, _)) = name.rsplit_once('/') {
                let folder_key = join(root, folder);
                if !self.path_of(&folder_key)?.exists() {
                    missing.insert(folder_key);
                }
                name = folder;
            }
        }
        Ok(missing.into_iter().collect())
    }

    /// Keeps copies of what the slots hold, several at once; what several hold is copied once.
    fn keep_all(&self, slots: &[String]) -> Result<()> {
        let look = |slot: &String| {
            let path = self.path_of(slot)?;
            Ok((super::held_at(&path)?, path))
        };
        let held: Vec<(Held, PathBuf)> = slots.par_iter().map(look).collect::<Result<_>>()?;
        let mut each: BTreeMap<String, (Hash, PathBuf)> = BTreeMap::new();
        for (held, path) in held {
            if let Held::File(hash) = held {
                each.insert(hash.hex(), (hash, path));
            }
        }
        let each: Vec<(Hash, PathBuf)> = each.into_values().collect();
        each.par_iter()
            .try_for_each(|(hash, path)| self.keep(path, *hash))
    }

    /// Keeps a copy of a file: copied, synced, and held against its hash.
    fn keep(&self, path: &Path, hash: Hash) -> Result<()> {
        let kept = self.kept(hash);
        if kept.is_file() && Hash::of_file(&kept)? == hash {
            return Ok(());
        }
        self.copy(path, &kept, hash)?;
        // Only so that a restore can give the time stamp back; without it nothing is lost.
        let _ = self.disk.copy_time(path, &kept);
        Ok(())
    }

    /// Copies a file whose contents are known by their hash.
    fn copy(&self, from: &Path, to: &Path, hash: Hash) -> Result<()> {
        let mut source = File::open(from).map_err(Error::read(from))?;
        let copied = self.disk.create(to).and_then(|mut file| {
            std::io::copy(&mut source, &mut file)?;
            file.sync()
        });
        copied.map_err(Error::write("write", to))?;
        if Hash::of_file(to)? != hash {
            let _ = self.disk.remove(to);
            return Err(Error::refused(
                format!("{} does not read back as it was written", to.display()),
                "check the disk; check that no other program writes to that file",
            ));
        }
        Ok(())
    }

    /// Makes a part beside a slot that holds kept contents.
    pub(super) fn part_from_kept(&self, slot: &str, hash: Hash) -> Result<PathBuf> {
        let (path, kept) = (self.path_of(slot)?, self.kept(hash));
        let sound = kept.is_file() && Hash::of_file(&kept)? == hash;
        if !sound {
            return Err(Error::StockDamaged {
                slot: slot.to_owned(),
                path: kept,
            });
        }
        let part = part_of(&path);
        self.copy(&kept, &part, hash)?;
        let _ = self.disk.copy_time(&kept, &part);
        Ok(part)
    }

    /// Brings one slot from its part, or from nothing, to what it should hold.
    pub(super) fn settle(&self, slot: &str, held: Held) -> Result<()> {
        let path = self.path_of(slot)?;
        match held {
            Held::Nothing => match self.disk.remove(&path) {
                Err(error) if error.kind() != std::io::ErrorKind::NotFound => {
                    Err(Error::write("remove", &path)(error))
                }
                _ => Ok(()),
            },
            Held::File(_) => {
                let part = part_of(&path);
                if path.exists() {
                    let _ = self.disk.copy_permissions(&path, &part);
                }
                self.disk
                    .rename(&part, &path)
                    .map_err(Error::write("put in place", &path))
            }
        }
    }

    /// Syncs the folders of slots up to the root: a folder made for a slot is a name in another.
    pub(super) fn sync_folders_of(&self, slots: &[String]) -> Result<()> {
        let mut folders = BTreeSet::new();
        for slot in slots {
            let root = self.state.root_of(&self.root, slot)?.0;
            let path = self.path_of(slot)?;
            let above = path.ancestors().skip(1);
            folders.extend(above.take_while(|f| *f != root).map(Path::to_owned));
            folders.insert(root);
        }
        let mut existing = folders.iter().filter(|folder| folder.is_dir());
        existing.try_for_each(|folder| self.sync_folder(folder))
    }
}

impl Change<'_, '_> {
    /// The ledger that is changed.
    pub fn ledger(&self) -> &Ledger<'_> {
        self.ledger
    }

    /// Where to make the new file of a slot.
    ///
    /// # Errors
    /// [`Error::Refused`] where the name leads out of the root.
    pub fn part(&self, slot: &str) -> Result<PathBuf> {
        Ok(part_of(&self.ledger.path_of(slot)?))
    }

    /// The part of a slot holds what is to be installed.
    ///
    /// # Errors
    /// [`Error::Read`].
    pub fn install(&mut self, slot: &str, hash: Hash, installed: Installed) -> Result<()> {
        let before = self.ledger.held(slot)?;
        let known = self.ledger.state.slots.get(slot);
        let top = known.and_then(|known| known.top());
        // Where our own file has vanished, the stock is still what it was.
        let is_ours = top.is_some_and(|top| top.held == before || before == Held::Nothing);
        let is_known = known.and_then(|known| known.stock.last()) == Some(&before);
        let layers = known.map_or(0, |known| known.layers.len());
        let again = top.is_some_and(|top| top.installed.job == installed.job);
        self.puts.push(Put {
            slot: slot.to_owned(),
            before,
            after: Held::File(hash),
            stock: (!is_ours && !is_known).then_some(before),
            aside: None,
            installed: Some(installed),
            below: match is_ours {
                true => layers - usize::from(again),
                false => 0,
            },
            told: None,
            mixed: false,
        });
        Ok(())
    }

    /// A file gets other entries: `told` are all that stand in it then, and its part holds them.
    /// `after` is nothing where the file goes altogether.
    ///
    /// # Errors
    /// [`Error::Read`].
    pub fn tell(&mut self, file: &str, after: Held, told: Vec<Told>) -> Result<()> {
        let before = self.ledger.held(file)?;
        let known = self.ledger.state.slots.get(file);
        let is_new = known.is_none_or(|known| known.told.is_empty());
        self.puts.push(Put {
            slot: file.to_owned(),
            before,
            after,
            stock: is_new.then_some(before),
            aside: None,
            installed: None,
            below: 0,
            told: Some(told),
            mixed: !is_new && known.and_then(|known| known.told_held) != Some(before),
        });
        Ok(())
    }

    /// A slot gets back what is kept: its stock, or the top one of the layers that stay, of which there
    /// are `below`. `aside` says that what lies there now is not ours and is kept beside the stock.
    ///
    /// # Errors
    /// [`Error::StockDamaged`], [`Error::Read`], [`Error::Write`].
    pub fn give_back(&mut self, slot: &str, below: usize, aside: bool) -> Result<()> {
        let before = self.ledger.held(slot)?;
        let known = self.ledger.state.slots.get(slot);
        let lower = known.and_then(|known| known.layers.get(below.checked_sub(1)?));
        let stock = known.and_then(|known| known.stock.last().copied());
        let installed = lower.map(|layer| layer.installed.clone());
        let stock = lower
            .map(|layer| layer.held)
            .or(stock)
            .unwrap_or(Held::Nothing);
        if let Held::File(hash) = stock {
            self.ledger.part_from_kept(slot, hash)?;
        }
        self.puts.push(Put {
            slot: slot.to_owned(),
            before,
            after: stock,
            stock: None,
            aside: (aside && before != Held::Nothing && before != stock).then_some(before),
            installed,
            below: below.saturating_sub(1),
            told: None,
            mixed: false,
        });
        Ok(())
    }

    /// What lies at a slot stays and counts as its stock from now on.
    ///
    /// # Errors
    /// [`Error::Read`].
    pub fn leave(&mut self, slot: &str) -> Result<()> {
        let held = self.ledger.held(slot)?;
        self.puts.push(Put {
            slot: slot.to_owned(),
            before: held,
            after: held,
            stock: Some(held),
            aside: None,
            installed: None,
            below: 0,
            told: None,
            mixed: false,
        });
        Ok(())
    }

    /// Puts everything in place.
    ///
    /// # Errors
    /// [`Error::Refused`] where a slot has changed in the meantime, [`Error::Write`]; in both cases
    /// everything is taken back, unless the disk no longer allows even that: then the next run does it.
    pub fn finish(mut self) -> Result<()> {
        for put in &self.puts {
            if self.ledger.held(&put.slot)? != put.before {
                return Err(Error::refused(
                    format!("{} was changed by another program just now", put.slot),
                    "close what writes to it and try again",
                ));
            }
        }
        let mut records: Vec<Record> = self.puts.iter().cloned().map(Record::Put).collect();
        records.push(Record::Ready);
        // A failed append may still have reached the disk, so what comes then is decided by the log.
        self.ledger.append(records)?;
        let placed = self
            .puts
            .iter()
            .filter(|put| put.before != put.after)
            .try_for_each(|put| self.ledger.settle(&put.slot, put.after));
        let slots: Vec<String> = self.puts.iter().map(|put| put.slot.clone()).collect();
        placed.and_then(|()| self.ledger.sync_folders_of(&slots))?;
        self.ledger.clear_caches()?;
        self.open = false;
        self.ledger.append(vec![Record::Done])?;
        recover::remove_empty_folders(self.ledger);
        self.ledger.tidy();
        Ok(())
    }
}

impl Drop for Change<'_, '_> {
    fn drop(&mut self) {
        if self.open {
            // Where this fails too, the next run finds the log and does it.
            let _ = recover::take_back(self.ledger);
        }
    }
}
