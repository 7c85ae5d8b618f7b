//! Paths within a root: names with `/`, never leading out, never through the ledger.

use crate::error::{Error, Result};
use crate::limits;
use crate::names::{Key, Near, is_own, nearest};
use crate::refusal::{OddPath, Refusal};
use std::collections::BTreeMap;
use std::fs;
use std::path::{Component, Path, PathBuf};

/// All files below `folder` in order of their names, links not followed, ledgers left out.
///
/// # Errors
/// [`Error::Read`] where a folder cannot be listed.
pub fn files_below(folder: &Path) -> Result<Vec<PathBuf>> {
    let all = files_and_links_below(folder)?.into_iter();
    Ok(all.filter(|(_, is_link)| !is_link).map(|(path, _)| path).collect())
}

/// The same with symbolic links, and which of both each is.
pub(crate) fn files_and_links_below(folder: &Path) -> Result<Vec<(PathBuf, bool)>> {
    let mut all = Vec::new();
    let walk = walkdir::WalkDir::new(folder)
        .sort_by_file_name()
        .into_iter()
        .filter_entry(|entry| !is_own(&entry.file_name().to_string_lossy()));
    for entry in walk {
        let entry = entry.map_err(|error| {
            let path = error.path().unwrap_or(folder).to_owned();
            let source = error.into_io_error().unwrap_or_else(|| std::io::ErrorKind::Other.into());
            Error::Read { path, source }
        })?;
        let kind = entry.file_type();
        if kind.is_file() || kind.is_symlink() {
            all.push((entry.into_path(), kind.is_symlink()));
        }
    }
    Ok(all)
}

/// The file that a link leads to, by its true name within the root; nothing where it leads out of the root,
/// into a ledger, or to no file. `text` is what the link says, where it lies there no more.
pub(crate) fn through_link(root: &Path, link: &Path, text: Option<&str>) -> Option<String> {
    let real = match text {
        Some(text) => link.parent()?.join(text).canonicalize().ok()?,
        None => link.canonicalize().ok()?,
    };
    let within = slot_name(&root.canonicalize().ok()?, &real).ok()?;
    real.is_file().then_some(within)
}

/// The links of a root to files of its own, each with what it leads to; of a root with very many files,
/// those of the first [`limits::LINKS`].
pub(crate) fn links_below(root: &Path) -> BTreeMap<String, String> {
    let entries = walkdir::WalkDir::new(root)
        .into_iter()
        .filter_entry(|entry| !is_own(&entry.file_name().to_string_lossy()))
        .take(limits::LINKS)
        .flatten();
    let links = entries.filter(|entry| entry.path_is_symlink());
    let named = |entry: walkdir::DirEntry| {
        let name = slot_name(root, entry.path()).ok()?;
        Some((name, through_link(root, entry.path(), None)?))
    };
    links.filter_map(named).collect()
}

/// Names in its folder that are near to that of a file which is not there.
pub fn near_files(missing: &Path) -> Vec<Near> {
    let (Some(folder), Some(name)) = (missing.parent(), missing.file_name()) else {
        return Vec::new();
    };
    let here = folder.as_os_str().is_empty();
    let names = names_in(if here { Path::new(".") } else { folder });
    nearest(&name.to_string_lossy(), names.iter().map(String::as_str), 3)
}

/// The name of a file within a root, with `/` between its folders.
///
/// # Errors
/// [`Error::Refused`] where it does not lie in the root, or its name is not valid Unicode.
pub fn slot_name(root: &Path, file: &Path) -> Result<String> {
    let outside =
        || Error::from(Refusal::OutsideRoot { path: file.to_owned(), root: root.to_owned() });
    let below = file.strip_prefix(root).map_err(|_| outside())?;
    let mut names = Vec::new();
    for part in below.components() {
        match part {
            Component::Normal(name) => {
                names.push(name.to_str().ok_or_else(|| OddPath::NotUnicode.of(file))?)
            }
            _ => return Err(outside()),
        }
    }
    if names.is_empty() {
        return Err(outside());
    }
    if names.iter().any(|name| is_own(name)) {
        return Err(OddPath::OfLedger.of(file));
    }
    Ok(names.join("/"))
}

/// The path of a slot within a root, as it is written.
///
/// # Errors
/// [`Error::Refused`] where the name leads out of the root.
pub fn slot_path(root: &Path, slot: &str) -> Result<PathBuf> {
    Ok(Key::new(None, slot)?.path(root))
}

/// The names of all files in a folder; empty where there is no such folder.
pub fn names_in(folder: &Path) -> Vec<String> {
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    let mut names: Vec<String> = entries
        .map(|entry| entry.path())
        .filter(|path| path.is_file())
        .filter_map(|path| Some(path.file_name()?.to_str()?.to_owned()))
        .filter(|name| !is_own(name))
        .collect();
    names.sort();
    names
}

/// Whether a file, links on the way to it followed, lies below a folder.
pub(crate) fn stays_below(folder: &Path, file: &Path) -> bool {
    let real = |path: &Path| path.canonicalize().ok();
    real(file).zip(real(folder)).is_some_and(|(file, folder)| file.starts_with(folder))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn slots_never_lead_out() {
        let root = Path::new("card");
        assert_eq!(slot_path(root, "a/b c.wav").unwrap(), root.join("a").join("b c.wav"));
        for slot in ["../x", "/x", "a//b", "", ".", "C:/x", "a\\..\\b", ".deft-needle/x", "a/\0"] {
            assert!(slot_path(root, slot).is_err(), "{slot:?}");
        }
        assert_eq!(slot_name(root, &root.join("a").join("b")).unwrap(), "a/b");
        for file in ["other/x", "card", "card/../x", "card/.deft-needle/ledger.log"] {
            assert!(slot_name(root, Path::new(file)).is_err(), "{file}");
        }
    }
}
