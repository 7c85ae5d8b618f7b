//! The true stock of a slot: never our own file, be it long since replaced.

use super::status::{Condition, condition};
use crate::error::{Error, Result};
use crate::hash::Hash;
use crate::ledger::kept_in;
use crate::ledger::record::Held;
use crate::ledger::state::State;
use crate::names::{Difference, Key, nearest};
use crate::refusal::{OddPath, OddSlot};
use crate::root::{Kind, Place, Root};
use crate::tree::names_in;
use std::path::{Path, PathBuf};

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
        Kind::Link => Err(OddPath::Link.of(&place.path)),
        _ => Ok(()),
    }
}

/// A slot that is not there, with names that may have been meant.
pub(super) fn no_such_slot(typed: &Path, path: &Path) -> Error {
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    let Some(folder) = path.parent().filter(|folder| folder.is_dir()) else {
        return OddSlot::Absent { near: None }.of(typed.to_string_lossy());
    };
    let names = names_in(folder);
    let mut near = nearest(&name, names.iter().map(String::as_str), 3);
    let surely = near.first().map(|first| first.how);
    // Where one differs in case or extension alone, it is meant and no other.
    near.retain(|n| surely == Some(Difference::Spelling) || Some(n.how) == surely);
    OddSlot::Absent { near: Some(near) }.of(typed.to_string_lossy())
}
