//! Caches that a ledger knows the patterns of.

use super::state::State;
use crate::disk::RealDisk;
use crate::error::{Error, Result};
use crate::limits;
use crate::names::{Key, folded};
use crate::refusal::OddCaches;
use crate::root::{Kind, look};
use crate::sheet::Pattern;
use crate::sheet::caches::within_root;
use crate::tree::{files_below, slot_name};
use deft_needle_audio::Invalid;
use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

/// The caches that a ledger's own patterns find now, where nobody has the sheet at hand.
///
/// What the ledger knows is no cache, whatever its patterns find: nobody could put it right, and a restore goes on.
///
/// # Errors
/// [`Error::Read`]; a malformed pattern.
pub fn of_ledger(root: &Path, patterns: &[String], state: &State) -> Result<Vec<Key>> {
    let parsed = patterns.iter().map(|text| text.parse::<Pattern>());
    let parsed: Vec<Pattern> =
        parsed.collect::<Result<_, Invalid>>().map_err(OddCaches::Pattern)?;
    let known = known_in(state);
    let mut found = find(root, &state.others, &parsed, &|_| None)?;
    found.retain(|key| !known.contains(&folded(key.as_str())));
    Ok(found)
}

/// The files that a ledger knows.
pub(crate) fn known_in(state: &State) -> BTreeSet<String> {
    let known = state.slots.iter().filter(|(_, slot)| slot.matters());
    known.map(|(key, _)| folded(key.as_str())).collect()
}

/// The files of roots that these patterns match; none may be guarded.
pub(crate) fn find(
    root: &Path,
    others: &BTreeMap<String, String>,
    patterns: &[Pattern],
    guarded: &dyn Fn(&Key) -> Option<Error>,
) -> Result<Vec<Key>> {
    let mut by_root: BTreeMap<Option<&str>, Vec<Pattern>> = BTreeMap::new();
    for pattern in patterns {
        let (name, within) = within_root(pattern)?;
        by_root.entry(name).or_default().push(within);
    }
    let disk = RealDisk::default();
    let mut found = Vec::new();
    for (root_name, patterns) in by_root {
        let folder = match root_name {
            None => root,
            // A root that a job does not name has nothing of its own to grow stale.
            Some(name) => match others.get(name) {
                Some(folder) => Path::new(folder),
                None => continue,
            },
        };
        for file in files_below(folder)? {
            let Ok(name) = slot_name(folder, &file) else {
                continue;
            };
            if !patterns.iter().any(|pattern| pattern.matches(&name)) {
                continue;
            }
            let Ok(key) = Key::new(root_name, &name) else {
                continue;
            };
            if let Some(error) = guarded(&key) {
                return Err(error);
            }
            if look(folder, &name, &disk)?.kind == Kind::File {
                found.push(key);
            }
            if found.len() > limits::CACHES {
                return Err(OddCaches::TooMany { most: limits::CACHES }.into());
            }
        }
    }
    Ok(found)
}
