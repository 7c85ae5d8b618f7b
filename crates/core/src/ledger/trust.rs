//! How far a ledger is believed. It may have come with a stranger's folder, and says where files are
//! written and removed.
//!
//! - What it says of its own root holds, if it was made for that place, or this user's registry knows it,
//!   or the user adopts it.
//! - Other roots are those that the registry knows for it or that the user names now.

use super::state::State;
use crate::error::{Error, Result};
use crate::fit::same_file;
use crate::root::Root;
use std::path::Path;

/// Refuses a ledger that was made for another place.
///
/// # Errors
/// [`Error::Refused`].
pub fn check(state: &mut State, root: &Root) -> Result<()> {
    let known = root.registry.find(&state.id);
    let trusted = |name: &String, path: &String| {
        let known = known.as_ref().and_then(|known| known.others.get(name));
        known == Some(path)
    };
    state.others.retain(|name, path| trusted(name, path));
    let Some(made_for) = &state.root else {
        return Ok(());
    };
    if root.adopt || is_at(made_for, root) {
        return Ok(());
    }
    let other = Path::new(made_for);
    // A card under another letter, a folder that was moved: but not a copy whose original is still there.
    if known.is_some() && !other.is_dir() {
        return Ok(());
    }
    Err(Error::refused(
        format!("the ledger in {} was made for {}", root.ledger.display(), other.display()),
        "if you trust where it comes from, take it over with --adopt",
    ))
}

fn is_at(made_for: &str, root: &Root) -> bool {
    let other = Path::new(made_for);
    other == root.path || same_file(other, &root.path)
}

/// Whether where the roots are has to be written down anew.
pub fn is_moved(state: &State, root: &Root) -> bool {
    let text = |path: &Path| path.to_string_lossy().into_owned();
    let mut named = root.others.iter();
    named.any(|(name, path)| state.others.get(name) != Some(&text(path)))
}

/// Lets what the user says of other roots win over what is written down.
pub fn place_others(state: &mut State, root: &Root) {
    let named = root.others.iter();
    let named = named.map(|(name, path)| (name.clone(), path.to_string_lossy().into_owned()));
    state.others.extend(named);
}
