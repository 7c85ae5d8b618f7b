//! Kept copies of what slots held, and bringing slots to what they should hold.

use super::record::Held;
use super::{Ledger, ledger_dir};
use crate::disk::Durable;
use crate::disk::{Attributes, dress_made};
use crate::error::{Error, Result};
use crate::hash::Hash;
use crate::names::Key;
use crate::refusal::OddPath;
use crate::root::{Kind, refuse_odd};
use rayon::prelude::*;
use std::collections::BTreeSet;
use std::io::{self, Write as _};
use std::path::{Path, PathBuf};

impl Ledger<'_> {
    /// Keeps copies of files and links, several at once: copied and held against their hashes, synced together, then
    /// named. `without` says of which it is no loss when the disk is full.
    pub(super) fn keep_all(
        &self,
        all: &[(&Path, Held)],
        without: impl Fn(Held) -> bool + Sync,
    ) -> Result<()> {
        let copies = all.par_iter().map(|(path, held)| match self.copy_to_keep(path, *held) {
            Err(error) if error.is_full() && without(*held) => Ok(None),
            other => other.map(|copy| copy.map(|copy| (copy, *held))),
        });
        let copies: Vec<Option<(PathBuf, Held)>> = copies.collect::<Result<_>>()?;
        let (copies, held): (Vec<_>, Vec<_>) = copies.into_iter().flatten().unzip();
        let synced = crate::disk::sync_files(self.disk, &copies);
        for ((copy, held), synced) in copies.iter().zip(held).zip(synced) {
            match synced.map_err(Error::write("write", copy)) {
                Err(error) if error.is_full() && without(held) => {
                    let _ = self.disk.remove(copy);
                    continue;
                }
                other => other?,
            }
            let named = held.hash().map_or(Ok(()), |hash| self.disk.rename(copy, &self.kept(hash)));
            named.map_err(Error::write("rename", copy))?;
        }
        Ok(())
    }

    /// Copies what is to be kept under a name that counts for nothing yet; nothing where it is kept already.
    fn copy_to_keep(&self, path: &Path, held: Held) -> Result<Option<PathBuf>> {
        let Some(hash) = held.hash() else {
            return Ok(None);
        };
        let kept = self.kept(hash);
        if is_intact(&kept, hash) {
            return Ok(None);
        }
        let unfinished = kept.with_extension(&ledger_dir::UNFINISHED[1..]);
        if unfinished.symlink_metadata().is_ok() {
            let removed = self.disk.remove(&unfinished);
            removed.map_err(Error::write("remove", &unfinished))?;
        }
        match held {
            Held::Link(_) => {
                let target = super::held::target_of(path)?;
                self.write(&mut target.as_bytes(), path, &unfinished, hash, Durable::No)?;
            }
            _ => self.copy(path, &unfinished, hash, Durable::No)?,
        }
        Ok(Some(unfinished))
    }

    /// Copies a file whose contents are known by their hash to where nothing is yet.
    fn copy(&self, from: &Path, to: &Path, hash: Hash, durable: Durable) -> Result<()> {
        let mut options = std::fs::OpenOptions::new();
        let mut source =
            crate::disk::open_plain(options.read(true), from).map_err(Error::read(from))?;
        self.write(&mut source, from, to, hash, durable)
    }

    fn write(
        &self,
        source: &mut dyn io::Read,
        from: &Path,
        to: &Path,
        hash: Hash,
        durable: Durable,
    ) -> Result<()> {
        let mut wrong_end = None;
        let copied = self.disk.create(to).and_then(|mut file| {
            let mut buffer = vec![0; 1 << 16];
            loop {
                match source.read(&mut buffer) {
                    Ok(0) if durable == Durable::Yes => return file.sync(),
                    Ok(0) => return file.flush(),
                    Ok(read) => file.write_all(&buffer[..read])?,
                    Err(error) => {
                        wrong_end = Some(Error::read(from)(error));
                        return Ok(());
                    }
                }
            }
        });
        let copied = copied.map_err(Error::write("write", to));
        let whole = || match Hash::of_file(to)? == hash {
            true => Ok(()),
            false => Err(OddPath::ReadsBackOdd.of(to)),
        };
        copied.and_then(|()| wrong_end.map_or(Ok(()), Err)).and_then(|()| whole()).inspect_err(
            |_| {
                let _ = self.disk.remove(to);
            },
        )
    }

    /// Where the copy of some contents lies.
    pub fn kept(&self, hash: Hash) -> PathBuf {
        super::kept_in(self.dir.folder(), hash)
    }

    /// The kept copy of what a slot held, proved.
    ///
    /// # Errors
    /// [`Error::StockDamaged`].
    pub fn proved(&self, key: &Key, hash: Hash) -> Result<PathBuf> {
        let kept = self.kept(hash);
        match check_intact(&kept, hash)? {
            true => Ok(kept),
            false => Err(Error::StockDamaged { slot: key.to_string(), path: kept }),
        }
    }

    /// Makes a part of a slot that holds kept contents, in place of one that was left by a run that was killed.
    pub(super) fn part_from_kept(
        &self,
        key: &Key,
        held: Held,
        dress: Option<&Attributes>,
        durable: Durable,
    ) -> Result<()> {
        let Some(hash) = held.hash() else {
            return Ok(());
        };
        let (kept, part) = (self.proved(key, hash)?, self.part(key)?);
        if Kind::of(&part)? != Kind::Nothing {
            self.disk.remove(&part).map_err(Error::write("remove", &part))?;
        }
        if let Held::Link(_) = held {
            let target = crate::disk::read_plain(&kept, crate::limits::NAME);
            let target = target.map_err(Error::read(&kept))?;
            let target = String::from_utf8_lossy(&target).into_owned();
            let linked = self.disk.link(&target, &part);
            return linked.map_err(Error::write("make the link", &part));
        }
        if let Some(twin) = dress.and_then(|dress| self.other_name(key, hash, dress))
            && self.disk.link_hard(&twin, &part).is_ok()
        {
            return Ok(());
        }
        self.copy(&kept, &part, hash, durable)
    }

    /// Another name of the file that a slot was, where it had several.
    fn other_name(&self, key: &Key, hash: Hash, dress: &Attributes) -> Option<PathBuf> {
        dress.number?;
        let root = self.state.root_of(&self.root.path, key).ok()?;
        let files = crate::tree::files_below(&root).ok()?.into_iter();
        let is_it =
            |path: &PathBuf| Attributes::number_of(path) == dress.number && is_intact(path, hash);
        files.take(crate::limits::NAMES).find(is_it)
    }

    /// Brings one slot from its part, from its kept copy, or from nothing, to what it should hold.
    /// `wanted` are copies that must stay.
    pub(super) fn settle(
        &self,
        key: &Key,
        held: Held,
        dress: Option<&Attributes>,
        wanted: &BTreeSet<Hash>,
    ) -> Result<()> {
        let place = self.place(key)?;
        refuse_odd(&place)?;
        if held == Held::Nothing {
            return match place.kind {
                Kind::Nothing => Ok(()),
                _ => {
                    let removed = self.disk.remove(&place.path);
                    removed.map_err(Error::write("remove", &place.path))
                }
            };
        }
        let part = self.part(key)?;
        if Kind::of(&part)? == Kind::Nothing {
            self.part_without_room(key, held, dress, &place.path, wanted)?;
        }
        let like = || match place.kind {
            Kind::File => Attributes::of(&place.path).ok().map(Attributes::of_place),
            // A link has none of its own that would do for a file.
            Kind::Link => Attributes::of(&place.path.canonicalize().ok()?)
                .ok()
                .map(|led_to| Attributes { number: None, ..led_to.of_place() }),
            _ => None,
        };
        if Kind::of(&part)? == Kind::File
            && let Some(dress) = dress.cloned().or_else(like)
            && (dress.number.is_none() || Attributes::number_of(&part) != dress.number)
        {
            let dressed = self.disk.dress(&part, &dress);
            dressed.map_err(Error::write("set time and mode of", &part))?;
        } else if place.kind == Kind::Nothing && Kind::of(&part)? == Kind::File {
            let dressed = dress_made(self.disk, &part, &Attributes::usual());
            dressed.map_err(Error::write("set the mode of", &part))?;
        }
        self.disk.rename(&part, &place.path).map_err(Error::write("put in place", &place.path))
    }

    /// Makes a part where there was no room for one beside what the slot holds, which is ours and whose
    /// copy was proved: the copy itself becomes the part, or what the slot holds makes room for it.
    fn part_without_room(
        &self,
        key: &Key,
        held: Held,
        dress: Option<&Attributes>,
        path: &Path,
        wanted: &BTreeSet<Hash>,
    ) -> Result<()> {
        if let Held::File(hash) = held
            && !wanted.contains(&hash)
        {
            let kept = self.proved(key, hash)?;
            if self.disk.rename(&kept, &self.part(key)?).is_ok() {
                return Ok(());
            }
        }
        match self.part_from_kept(key, held, dress, Durable::Yes) {
            Err(error) if error.is_full() && Kind::of(path)? == Kind::File => {
                self.disk.remove(path).map_err(Error::write("remove", path))?;
                self.part_from_kept(key, held, dress, Durable::Yes)
            }
            other => other,
        }
    }

    /// Syncs the folders of slots up to the root: a folder made for a slot is a name in another.
    pub(super) fn sync_folders_of(&self, keys: &[Key]) -> Result<()> {
        let mut folders = BTreeSet::new();
        for key in keys {
            let root = self.state.root_of(&self.root.path, key)?;
            folders.extend(key.folders().iter().map(|folder| folder.path(&root)));
            folders.insert(root);
        }
        let mut existing = folders.iter().filter(|folder| folder.is_dir());
        existing.try_for_each(|folder| self.sync_folder(folder))
    }
}

/// Whether a file is there and holds what it should, as far as it can be read now: the system may have no more open
/// files to give.
///
/// # Errors
/// [`Error::Read`].
pub(crate) fn check_intact(path: &Path, hash: Hash) -> Result<bool> {
    match Kind::of(path)? {
        Kind::File => Ok(Hash::of_file(path)? == hash),
        _ => Ok(false),
    }
}

/// Whether a file is there and holds what it should.
pub(super) fn is_intact(path: &Path, hash: Hash) -> bool {
    Kind::of(path).is_ok_and(|kind| kind == Kind::File)
        && Hash::of_file(path).is_ok_and(|found| found == hash)
}
