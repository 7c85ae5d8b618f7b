//! What a place holds now, and which name of the ledger is its own.

use super::ledger_dir::LedgerDir;
use super::record::Held;
use super::state::{Slot, State};
use crate::disk::Disk;
use crate::error::{Error, Result};
use crate::hash::Hash;
use crate::names::Key;
use crate::refusal::OddPath;
use crate::root::{Kind, Place, look, refuse_odd};
use std::path::{Path, PathBuf};

impl State {
    /// The key of a file of a root, by its true name.
    ///
    /// # Errors
    /// As [`Ledger::key`].
    pub fn key(
        &self,
        main: &Path,
        root: Option<&str>,
        within: &str,
        disk: &dyn Disk,
    ) -> Result<Key> {
        let typed = Key::new(root, within)?;
        let folder = self.root_of(main, &typed)?;
        let place = look(&folder, within, disk)?;
        let key = self.outermost(main, &place.path)?;
        let key = match key {
            Some(key) => key,
            None => Key::new(root, &place.within)?,
        };
        self.known(key, |key| {
            let place = look(&self.root_of(main, key)?, key.within(), disk)?;
            let there = place.kind != Kind::Nothing;
            Ok(there.then(|| Key::new(key.root(), &place.within)).transpose()?)
        })
    }

    /// The key of a file that lies in several roots, one of which lies in another: it counts to the
    /// main one, or else to the outermost of them, so that it has no two.
    fn outermost(&self, main: &Path, file: &Path) -> Result<Option<Key>> {
        let others = self.others.iter();
        let others = others.map(|(name, path)| (Some(name.as_str()), Path::new(path)));
        let holding = others.chain([(None, main)]).filter(|(_, root)| file.starts_with(root));
        let outermost =
            holding.min_by_key(|(name, root)| (name.is_some(), root.components().count(), *name));
        let key = |(name, root): (Option<&str>, &Path)| {
            Ok(Key::new(name, &crate::tree::slot_name(root, file)?)?)
        };
        outermost.map(key).transpose()
    }

    /// Whether a file is one that was replaced, or is being replaced now.
    pub fn knows(&self, main: &Path, file: &Path, disk: &dyn Disk) -> bool {
        let others = self.others.iter().map(|(name, path)| (Some(name.as_str()), Path::new(path)));
        std::iter::once((None, main)).chain(others).any(|(name, folder)| {
            let Ok(within) = crate::tree::slot_name(folder, file) else {
                return false;
            };
            let Ok(key) = self.key(main, name, &within, disk) else {
                return false;
            };
            let pending = self.pending.as_ref().is_some_and(|p| p.slots.contains(&key));
            pending || self.slots.get(&key).is_some_and(Slot::matters)
        })
    }
}

/// Where a ledger keeps the copy of some contents.
pub fn kept_in(folder: &Path, hash: Hash) -> PathBuf {
    folder.join("stock").join(hash.hex())
}

/// The names of the copies that a ledger keeps.
pub fn copies_in(folder: &Path) -> Vec<String> {
    LedgerDir::new(folder).copies()
}

/// What lies at a path now, links not followed.
///
/// # Errors
/// [`Error::Refused`] where it is neither file nor link; [`Error::Read`].
pub fn held_at(path: &Path) -> Result<Held> {
    held_of(&Place { path: path.to_owned(), within: String::new(), kind: Kind::of(path)? })
}

pub(crate) fn held_of(place: &Place) -> Result<Held> {
    refuse_odd(place)?;
    match place.kind {
        Kind::Link => Ok(Held::Link(Hash::of(target_of(&place.path)?.as_bytes()))),
        Kind::File => Hash::of_file(&place.path).map(Held::File),
        _ => Ok(Held::Nothing),
    }
}

/// Where a link leads, as it says.
pub(super) fn target_of(link: &Path) -> Result<String> {
    let target = std::fs::read_link(link).map_err(Error::read(link))?;
    let text = target.to_str().map(str::to_owned);
    text.ok_or_else(|| OddPath::LinkNotUnicode.of(link))
}
