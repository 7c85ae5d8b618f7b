//! One change of a root: all of it happens, or nothing does.

use super::record::{Held, Installed, Put, Record};
use super::{Ledger, recover};
use crate::error::{Error, Result};
use crate::hash::Hash;
use crate::tree::part_of;
use std::collections::BTreeSet;
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
    /// of what the slots hold.
    ///
    /// # Errors
    /// [`Error::Refused`] where another run holds the lock; [`Error::Read`] and [`Error::Write`].
    pub fn begin(&mut self, what: &str, slots: &[String]) -> Result<Change<'_, 'd>> {
        self.establish()?;
        let folders = self.missing_folders(slots)?;
        self.append(vec![Record::Begin {
            what: what.to_owned(),
            slots: slots.to_vec(),
            folders: folders.clone(),
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
        for slot in slots {
            change.ledger.keep(slot)?;
        }
        let stock = change.ledger.folder.join("stock");
        change.ledger.sync_folder(&stock)?;
        Ok(change)
    }

    /// Folders of slots that do not exist yet, outermost first.
    fn missing_folders(&self, slots: &[String]) -> Result<Vec<String>> {
        let mut missing = BTreeSet::new();
        for slot in slots {
            let mut name = slot.as_str();
            while let Some((folder, _)) = name.rsplit_once('/') {
                if !self.path_of(folder)?.exists() {
                    missing.insert(folder.to_owned());
                }
                name = folder;
            }
        }
        Ok(missing.into_iter().collect())
    }

    /// Keeps a copy of what a slot holds: copied, synced, and held against its hash.
    fn keep(&self, slot: &str) -> Result<()> {
        let path = self.path_of(slot)?;
        let Held::File(hash) = super::held_at(&path)? else {
            return Ok(());
        };
        let kept = self.kept(hash);
        if kept.is_file() && Hash::of_file(&kept)? == hash {
            return Ok(());
        }
        self.copy(&path, &kept, hash)?;
        // Only so that a restore can give the time stamp back; without it nothing is lost.
        let _ = self.disk.copy_time(&path, &kept);
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
        let mut folders = BTreeSet::from([self.root.clone()]);
        for slot in slots {
            let path = self.path_of(slot)?;
            let above = path.ancestors().skip(1);
            folders.extend(above.take_while(|f| *f != self.root).map(Path::to_owned));
        }
        let mut existing = folders.iter().filter(|folder| folder.is_dir());
        existing.try_for_each(|folder| self.sync_folder(folder))
    }
}

impl Change<'_, '_> {
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
        let ours = known.and_then(|known| known.installed.as_ref());
        // Where our own file has vanished, the stock is still what it was.
        let is_ours = ours.is_some_and(|(held, _)| *held == before || before == Held::Nothing);
        let is_known = known.and_then(|known| known.stock.last()) == Some(&before);
        self.puts.push(Put {
            slot: slot.to_owned(),
            before,
            after: Held::File(hash),
            stock: (!is_ours && !is_known).then_some(before),
            aside: None,
            installed: Some(installed),
        });
        Ok(())
    }

    /// A slot gets its stock back. `aside` says that what lies there now is not ours and is kept
    /// beside the stock.
    ///
    /// # Errors
    /// [`Error::StockDamaged`], [`Error::Read`], [`Error::Write`].
    pub fn give_back(&mut self, slot: &str, stock: Held, aside: bool) -> Result<()> {
        let before = self.ledger.held(slot)?;
        if let Held::File(hash) = stock {
            self.ledger.part_from_kept(slot, hash)?;
        }
        self.puts.push(Put {
            slot: slot.to_owned(),
            before,
            after: stock,
            stock: None,
            aside: (aside && before != Held::Nothing && before != stock).then_some(before),
            installed: None,
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
