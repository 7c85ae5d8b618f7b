//! The slot that somebody typed: its root, its name, and what is known of its stock.

use super::Warning;
use super::status::{Condition, condition};
use crate::disk::{Disk, RealDisk};
use crate::error::{Error, Result};
use crate::fit::same_file;
use crate::hash::Hash;
use crate::ledger::record::Held;
use crate::ledger::{Ledger, Recovered, kept_in, state::State};
use crate::names::{Difference, Key, did_you_mean, nearest};
use crate::root::{Kind, Place, Root, absolute, look, refuse_odd};
use crate::tree::{names_in, slot_name};
use std::path::{Path, PathBuf};

/// What was typed.
pub struct Asked<'a> {
    /// The file that is to be put there, where it is one.
    pub file: Option<&'a Path>,
    /// The file to replace.
    pub slot: &'a Path,
    /// The root.
    pub root: &'a Root,
    /// Whether a file may be put where none was.
    pub new: bool,
}

/// What was found.
#[derive(Debug)]
pub struct Slot {
    /// What the ledger calls it.
    pub key: Key,
    /// Where it lies.
    pub path: PathBuf,
    /// The stock's copy or the stock itself; `None` where nothing was.
    pub stock: Option<PathBuf>,
    /// What the user should know of it.
    pub warning: Option<Warning>,
    /// A change that had been interrupted earlier.
    pub recovered: Option<Recovered>,
}

impl Asked<'_> {
    /// Finds the slot. A change that was interrupted earlier is dealt with first, on `disk`; without
    /// one nothing is changed at all.
    ///
    /// # Errors
    /// [`Error::Refused`] where the slot does not exist (naming near ones), is a link or a folder, or
    /// is the file itself; those of the ledger.
    pub fn look_up(&self, disk: Option<&dyn Disk>) -> Result<Slot> {
        let root = self.root;
        let within = slot_name(&root.path, &absolute(self.slot)?)?;
        let (state, recovered) = match disk {
            Some(disk) => {
                let ledger = Ledger::open(root, disk)?;
                (ledger.state().clone(), ledger.recovered().cloned())
            }
            None => (Ledger::peek(root)?, None),
        };
        let real = RealDisk::default();
        let key = state.key(&root.path, None, &within, disk.unwrap_or(&real))?;
        let place = look(&root.path, key.within(), disk.unwrap_or(&real))?;
        refuse_odd(&place)?;
        refuse_link(&place)?;
        let path = place.path;
        if self.file.is_some_and(|file| same_file(file, &path)) {
            return Err(Error::refused(
                format!("the clip and the slot are the same file: {}", path.display()),
                "name the clip first, then the file that it replaces",
            ));
        }
        let (stock, changed_since) = find_stock(root, &state, &key, &path)?;
        let known = state.slots.get(&key);
        let ours = known.is_some_and(|known| known.top().is_some());
        if stock.is_none() && !self.new && !ours {
            return Err(no_such_slot(self.slot, &path));
        }
        let kept = known.map_or(0, |known| known.stock.len()) + 1;
        Ok(Slot {
            key,
            path,
            stock,
            warning: changed_since.then_some(Warning::ChangedSince { kept }),
            recovered,
        })
    }
}

/// Whether there is a stock of a slot, be it in the ledger.
///
/// # Errors
/// Those of the ledger, and of reading what the slot holds.
pub fn has_stock(root: &Root, slot: &str) -> Result<bool> {
    let state = Ledger::peek(root)?;
    let key = state.key(&root.path, None, slot, &RealDisk::default())?;
    let path = key.path(&root.path);
    Ok(find_stock(root, &state, &key, &path)?.0.is_some())
}

/// Where the true stock lies, and whether it is another than the ledger knows. Our own file is
/// never the stock: specs and levels must not feed back.
pub(super) fn find_stock(
    root: &Root,
    state: &State,
    slot: &Key,
    path: &Path,
) -> Result<(Option<PathBuf>, bool)> {
    let now = crate::ledger::held_at(path)?;
    let here = (now != Held::Nothing).then(|| path.to_owned());
    let known = state.slots.get(slot);
    let Some((known, top)) = known.and_then(|known| Some((known, known.top()?))) else {
        return Ok((here, false));
    };
    match condition(now, top.held, known) {
        // An older file of ours is none of the target's either.
        Condition::Changed if !known.ours.contains(&now) => Ok((here, true)),
        Condition::StockAgain => Ok((here, false)),
        Condition::Installed | Condition::Missing | Condition::Changed => match known.original() {
            Some(Held::File(hash)) => {
                let kept = kept_in(&root.ledger, hash);
                if !kept.is_file() || Hash::of_file(&kept)? != hash {
                    return Err(Error::StockDamaged { slot: slot.to_string(), path: kept });
                }
                Ok((Some(kept), false))
            }
            Some(Held::Nothing | Held::Link(_)) | None => Ok((None, false)),
        },
    }
}

/// A link could lead anywhere, and a rename would replace it instead of the file.
pub(super) fn refuse_link(place: &Place) -> Result<()> {
    match place.kind {
        Kind::Link => Err(Error::refused(
            format!("{} is a link", place.path.display()),
            "name the file that it leads to",
        )),
        _ => Ok(()),
    }
}

fn no_such_slot(typed: &Path, path: &Path) -> Error {
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    let Some(folder) = path.parent().filter(|folder| folder.is_dir()) else {
        return Error::refused(
            format!("there is no {}, nor its folder", typed.display()),
            "check the path; --new makes a new file and its folder",
        );
    };
    let names = names_in(folder);
    let mut near = nearest(&name, names.iter().map(String::as_str), 3);
    let surely = near.first().map(|first| first.how);
    // Where one differs in case or extension alone, it is meant and no other.
    near.retain(|n| surely == Some(Difference::Spelling) || Some(n.how) == surely);
    let what = format!("there is no {}", typed.display());
    match did_you_mean(&near) {
        None => Error::refused(what, "check the name; --new puts a file where none was"),
        Some(question) => {
            Error::refused(what, format!("{question} (--new puts a file where none was)"))
        }
    }
}
