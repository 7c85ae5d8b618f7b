//! The true stock of a slot: never our own file, be it long since replaced.

use super::status::{Condition, condition};
use crate::error::{Error, Result};
use crate::ledger::record::Held;
use crate::ledger::state::State;
use crate::ledger::{check_intact, kept_in};
use crate::names::{Difference, Key, Near, family_of, is_a_letter_off, nearest};
use crate::refusal::{OddPath, OddSlot};
use crate::root::{Kind, Place, Root};
use crate::tree::{names_in, through_link};
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
    let here = match now {
        Held::Nothing => None,
        Held::File(_) => Some(path.to_owned()),
        Held::Link(_) => find_linked(root, state, path, None)?,
    };
    let known = state.slots.get(slot);
    let of_ours = known.filter(|known| known.top().is_some());
    let Some((known, expected)) = of_ours.and_then(|known| Some((known, known.expected()?))) else {
        return Ok((here, false));
    };
    match condition(now, expected, known) {
        // An older file of ours is none of the target's either.
        Condition::Changed if !known.is_ours(now) => Ok((here, true)),
        Condition::StockAgain => Ok((here, false)),
        _ => match known.original() {
            Some(Held::File(hash)) => {
                let kept = kept_in(&root.ledger, hash);
                if !check_intact(&kept, hash)? {
                    return Err(Error::StockDamaged { slot: slot.to_string(), path: kept });
                }
                Ok((Some(kept), false))
            }
            Some(Held::Link(hash)) => {
                let text = std::fs::read_to_string(kept_in(&root.ledger, hash)).ok();
                Ok((find_linked(root, state, path, text.as_deref())?, false))
            }
            Some(Held::Nothing) | None => Ok((None, false)),
        },
    }
}

/// The true stock of the file that a link leads to; nothing where that lies outside of the root.
fn find_linked(
    root: &Root,
    state: &State,
    link: &Path,
    text: Option<&str>,
) -> Result<Option<PathBuf>> {
    let Some(within) = through_link(&root.path, link, text) else {
        return Ok(None);
    };
    let key = Key::new(None, &within)?;
    let (stock, _) = find_stock(root, state, &key, &key.path(&root.path))?;
    Ok(stock)
}

/// A link could lead anywhere.
pub(super) fn refuse_link(place: &Place) -> Result<()> {
    match place.kind {
        Kind::Link => Err(OddPath::Link.of(&place.path)),
        _ => Ok(()),
    }
}

/// A slot that is not there, with names that may have been meant.
pub(super) fn no_such_slot(typed: &Path, path: &Path) -> Error {
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    let typed_name = typed.to_string_lossy();
    let Some(folder) = path.parent().filter(|folder| folder.is_dir()) else {
        return match missing_folder(path) {
            Some((folder, near)) => OddSlot::NoFolder { folder, near, new: false }.of(typed_name),
            None => OddSlot::Absent { near: Vec::new() }.of(typed_name),
        };
    };
    let names = names_in(folder);
    let mut near = nearest(&name, names.iter().map(String::as_str), 3);
    let surely = near.first().map(|first| first.how);
    // Where one differs in case or extension alone, it is meant and no other.
    near.retain(|n| surely == Some(Difference::Spelling) || Some(n.how) == surely);
    OddSlot::Absent { near }.of(typed_name)
}

/// A new file in a folder that is not there, and whose name is that of one beside it but for a letter or
/// for case.
pub(super) fn refuse_new_folder(typed: &Path, path: &Path) -> Result<()> {
    let Some((folder, mut near)) = missing_folder(path) else {
        return Ok(());
    };
    let name = |path: &str| path.rsplit('/').next().unwrap_or(path).to_owned();
    let family = |name: &str| family_of(name).map(|family| family.pattern);
    near.retain(|near| {
        let (one, other) = (name(&folder), name(&near.name));
        let counted = family(&one).is_some_and(|one| Some(one) == family(&other));
        near.how == Difference::Case || (is_a_letter_off(&one, &other) && !counted)
    });
    match near.is_empty() {
        true => Ok(()),
        false => Err(OddSlot::NoFolder { folder, near, new: true }.of(typed.to_string_lossy())),
    }
}

/// The first folder on the way to a file that is not there, and folders beside it that are named alike.
fn missing_folder(path: &Path) -> Option<(String, Vec<Near>)> {
    let missing = path.ancestors().skip(1).take_while(|folder| !folder.is_dir()).last()?;
    let above = missing.parent()?;
    let entries = std::fs::read_dir(above).ok()?.flatten().filter(|entry| entry.path().is_dir());
    let folders: Vec<String> =
        entries.filter_map(|entry| entry.file_name().into_string().ok()).collect();
    let name = missing.file_name()?.to_string_lossy();
    let mut near = nearest(&name, folders.iter().map(String::as_str), 3);
    for one in &mut near {
        one.name = shown(&above.join(&one.name));
    }
    Some((shown(missing), near))
}

/// A path from the current folder, where it lies in that.
fn shown(path: &Path) -> String {
    let here = std::env::current_dir().ok();
    let below = here.as_deref().and_then(|here| path.strip_prefix(here).ok());
    below.unwrap_or(path).to_string_lossy().replace('\\', "/")
}
