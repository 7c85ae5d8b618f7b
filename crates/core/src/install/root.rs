//! Which folder is the root, and where its ledger lies.

use crate::error::{Error, Result};
use crate::ledger::usual_folder;
use crate::tree::LEDGER_FOLDER;
use serde::Serialize;
use std::path::{Path, PathBuf};

/// How a root was found.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Found {
    /// The user named it.
    Named,
    /// The nearest folder above the slot that has a ledger.
    ByLedger,
    /// Nothing told more: the slot's own folder.
    SlotFolder,
}

/// A root and its ledger's folder.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Root {
    /// The root.
    pub path: PathBuf,
    /// The folder of its ledger, which may not exist yet.
    pub ledger: PathBuf,
    /// How it was found.
    pub found: Found,
}

/// A folder as a path that `strip_prefix` and `join` can work with.
fn folder(path: &Path) -> Result<PathBuf> {
    let path = match path.as_os_str().is_empty() {
        true => Path::new("."),
        false => path,
    };
    if !path.is_dir() {
        return Err(Error::refused(
            format!("{} is no folder", path.display()),
            "check the path of the root",
        ));
    }
    std::path::absolute(path).map_err(Error::read(path))
}

fn nearest_with_ledger(start: &Path) -> Option<PathBuf> {
    let above = start.ancestors().find(|f| f.join(LEDGER_FOLDER).is_dir());
    above.map(Path::to_owned)
}

/// The root of a slot file: the named one, else the nearest folder above that has a ledger, else the
/// slot's folder (the nearest one that exists).
///
/// # Errors
/// [`Error::Refused`] where the named root is no folder.
pub fn find_root(slot: &Path, named: Option<&Path>, ledger: Option<&Path>) -> Result<Root> {
    let slot = std::path::absolute(slot).map_err(Error::read(slot))?;
    let (path, found) = match named {
        Some(root) => (folder(root)?, Found::Named),
        None => match nearest_with_ledger(&slot) {
            Some(root) => (root, Found::ByLedger),
            None => {
                let existing = slot.ancestors().skip(1).find(|f| f.is_dir());
                let root = existing.unwrap_or(Path::new("."));
                (root.to_owned(), Found::SlotFolder)
            }
        },
    };
    Ok(Root {
        ledger: ledger.map_or_else(|| usual_folder(&path), Path::to_owned),
        path,
        found,
    })
}

/// The root that a folder or a slot file, as typed, belongs to; it must have a ledger.
///
/// # Errors
/// [`Error::Refused`] where no ledger is found.
pub fn find_root_above(typed: &Path, named: Option<&Path>, ledger: Option<&Path>) -> Result<Root> {
    let absolute = std::path::absolute(typed).map_err(Error::read(typed))?;
    let path = match (named, ledger) {
        (Some(root), _) => folder(root)?,
        (None, Some(_)) if absolute.is_dir() => absolute,
        (None, _) => nearest_with_ledger(&absolute).ok_or_else(|| {
            Error::refused(
                format!("nothing is installed in {} or above it", typed.display()),
                "check the path; name a ledger that lies elsewhere with --ledger",
            )
        })?,
    };
    let ledger = ledger.map_or_else(|| usual_folder(&path), Path::to_owned);
    if !ledger.is_dir() {
        return Err(Error::refused(
            format!("{} has no ledger: nothing is installed", path.display()),
            "check the path; name a ledger that lies elsewhere with --ledger",
        ));
    }
    Ok(Root {
        path,
        ledger,
        found: Found::ByLedger,
    })
}
