//! The gate of a root: whatever is read or changed in one goes through [`look`], which follows no link,
//! enters no ledger, and finds the true name of what was typed.

use super::is_ledger;
use crate::disk::{Disk, Kind};
use crate::error::{Error, Result};
use crate::names::{Key, is_own};
use crate::refusal::OddPath;
use std::ffi::OsStr;
use std::path::{Path, PathBuf};

/// A place within a root.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Place {
    /// Its path.
    pub path: PathBuf,
    /// Its name within the root, as the disk spells it.
    pub within: String,
    /// What lies there.
    pub kind: Kind,
}

/// Looks at a place within a root, folder by folder.
///
/// # Errors
/// [`Error::Refused`] where a folder on the way is a link, a file or a ledger; [`Error::Read`].
pub fn look(root: &Path, within: &str, disk: &dyn Disk) -> Result<Place> {
    // Only for its checks: what is no key is no place either.
    Key::new(None, within)?;
    let mut place = Place { path: root.to_owned(), within: String::new(), kind: Kind::Folder };
    let mut names = within.split('/').peekable();
    while let Some(name) = names.next() {
        let spelt = match place.kind {
            Kind::Nothing => None,
            _ => disk.spelling(&place.path, OsStr::new(name)).map_err(Error::read(&place.path))?,
        };
        let name = spelt.as_deref().unwrap_or(OsStr::new(name));
        let name = name.to_str().ok_or_else(|| not_unicode(&place.path.join(name)))?;
        if is_own(name) {
            return Err(into_ledger(&place.path.join(name)));
        }
        place.path.push(name);
        if !place.within.is_empty() {
            place.within.push('/');
        }
        place.within.push_str(name);
        place.kind = match place.kind {
            Kind::Nothing => Kind::Nothing,
            _ => Kind::of(&place.path)?,
        };
        if names.peek().is_some() {
            pass(&place.path, place.kind)?;
        }
    }
    Ok(place)
}

/// A folder on the way.
fn pass(path: &Path, kind: Kind) -> Result<()> {
    match kind {
        Kind::Nothing => Ok(()),
        Kind::Folder if is_ledger(path) => Err(into_ledger(path)),
        Kind::Folder => Ok(()),
        Kind::Link => Err(OddPath::Link.of(path)),
        Kind::File | Kind::Other => Err(OddPath::NotFolder.of(path)),
    }
}

fn into_ledger(path: &Path) -> Error {
    OddPath::OfLedger.of(path)
}

/// A name that no sheet, ledger or list can hold.
pub(super) fn not_unicode(path: &Path) -> Error {
    OddPath::NotUnicode.of(path)
}

/// Refuses what no slot can be: a folder, a pipe, a device.
///
/// # Errors
/// [`Error::Refused`].
pub fn refuse_odd(place: &Place) -> Result<()> {
    match place.kind {
        Kind::Nothing | Kind::File | Kind::Link => Ok(()),
        Kind::Folder => Err(OddPath::Folder.of(&place.path)),
        Kind::Other => Err(OddPath::Device.of(&place.path)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::disk::tests::faulty::ShortNameDisk;
    use std::fs;

    /// Only the disk tells what a short name stands for.
    #[test]
    fn a_short_name_of_the_ledger_is_no_way_into_it() {
        let folder = tempfile::tempdir().unwrap();
        for name in [".deft-needle/stock", "sounds"] {
            fs::create_dir_all(folder.path().join(name)).unwrap();
        }
        fs::write(folder.path().join("sounds/a.wav"), b"x").unwrap();
        let look = |within| look(folder.path(), within, &ShortNameDisk);
        assert_eq!(look("SOUNDS~1/a.wav").unwrap().within, "sounds/a.wav");
        for within in ["DEFT-N~1", "DEFT-N~1/stock/a", "DEFT-N~1/ledger.log"] {
            assert!(look(within).unwrap_err().to_string().contains("OfLedger"), "{within}");
        }
    }
}
