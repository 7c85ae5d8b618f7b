//! Caches that a job's sheet finds.

use crate::error::Result;
use crate::ledger::caches::{find, known_in};
use crate::ledger::state::State;
use crate::names::{Key, folded};
use crate::refusal::FileKind;
use crate::sheet::caches::{beside_slot, guarded, not_cache, templated};
use crate::target::Target;
use std::collections::BTreeSet;
use std::path::Path;

/// The caches of a target that its sheet's patterns find now.
///
/// # Errors
/// [`Error::Sheet`] where a pattern finds what is no cache; [`Error::Read`].
pub fn of_target<'a>(
    root: &Path,
    target: &Target,
    state: &State,
    slots: &[&str],
    files: impl Iterator<Item = &'a Key>,
) -> Result<Vec<Key>> {
    let sheet = &target.sheet;
    // Patterns that find nothing meet nothing.
    if sheet.clear.0.is_empty() {
        return Ok(Vec::new());
    }
    let slots: BTreeSet<&str> = target.slots.names().chain(slots.iter().copied()).collect();
    let sides: BTreeSet<String> =
        slots.iter().flat_map(|slot| beside_slot(sheet, slot)).map(|side| folded(&side)).collect();
    let slots: BTreeSet<String> = slots.into_iter().map(folded).collect();
    let replaced = known_in(state);
    let files: BTreeSet<String> = files.map(|key| folded(key.as_str())).collect();
    let guarded = |key: &Key| {
        let (name, whole) = (folded(key.within()), folded(key.as_str()));
        if slots.contains(&name) {
            return Some(FileKind::Slot);
        }
        if sides.contains(&name) || files.contains(&whole) {
            return Some(FileKind::Beside);
        }
        let known = replaced.contains(&whole).then_some(FileKind::Replaced);
        guarded(sheet, key.within()).or(known).or_else(|| templated(sheet, key.within()))
    };
    let mut others = state.others.clone();
    others.extend(
        target
            .roots
            .others
            .iter()
            .map(|(name, folder)| (name.clone(), folder.to_string_lossy().into_owned())),
    );
    find(root, &others, &sheet.clear.0, &|key| {
        guarded(key).map(|kind| not_cache(sheet, None, key.as_str(), Some(kind)))
    })
}
