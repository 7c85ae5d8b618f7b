//! How far a ledger is believed. It may have come with a stranger's folder, and says where files are
//! written and removed.
//!
//! - What it says of its own root holds, if it was made for that place, or this user's registry knows it,
//!   or the user adopts it.
//! - Other roots are those that the registry knows for it or that the user names now.

use super::change::Before;
use super::state::State;
use super::{Change, Ledger};
use crate::error::Result;
use crate::fit::same_file;
use crate::refusal::OddLedger;
use crate::root::Root;
use std::collections::BTreeSet;
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
    Err(OddLedger::MadeFor { ledger: root.ledger.clone(), place: other.to_owned() }.into())
}

fn is_at(made_for: &str, root: &Root) -> bool {
    let other = Path::new(made_for);
    other == root.path || same_file(other, &root.path)
}

/// Whether where the roots are has to be written down again.
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

impl Change<'_, '_> {
    /// A file that two ledgers know would be taken for stock by one of them.
    pub(super) fn refuse_known_elsewhere(&self) -> Result<()> {
        let own = self.ledger.attic.folder();
        let folders: BTreeSet<&Path> =
            self.before.values().flat_map(|before| before.path.ancestors().skip(1)).collect();
        let registered = self.ledger.root.registry.all();
        let usual =
            folders.iter().map(|folder| (folder.to_path_buf(), super::usual_folder(folder)));
        let elsewhere = registered.iter().filter(|known| folders.contains(known.root.as_path()));
        let elsewhere = elsewhere.map(|known| (known.root.clone(), known.ledger.clone()));
        let of_drives = folders.iter().filter_map(|folder| {
            Some((folder.to_path_buf(), crate::root::ledger_of_drive(folder)?))
        });
        for (root, ledger) in usual.chain(of_drives).chain(elsewhere) {
            if !ledger.is_dir() || crate::fit::same_file(&ledger, own) {
                continue;
            }
            let other = crate::root::Root { path: root, ledger, ..self.ledger.root.clone() };
            let state = Ledger::peek(&other)?;
            let knows = |before: &&Before| state.knows(&other.path, &before.path, self.ledger.disk);
            if let Some(known) = self.before.values().find(knows) {
                return Err(OddLedger::KnownElsewhere {
                    path: known.path.clone(),
                    ledger: other.ledger,
                    root: other.path,
                }
                .into());
            }
        }
        Ok(())
    }
}
