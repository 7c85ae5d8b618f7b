//! Which root a file belongs to: ledgers that know it come first.

use super::Ledger;
use crate::disk::{RealDisk, same_file};
use crate::error::Result;
use crate::refusal::OddLedger;
use crate::root::{Found, Root, RootAsk, absolute};
use std::collections::BTreeMap;
use std::path::{Component, Path};

impl RootAsk {
    /// The root of a file that is to be replaced by `clip`. In this order: the ledger that knows it; the root that the
    /// user names; the nearest folder above that has a ledger; a folder above with one of a sheet's `markers`. Of the
    /// last two, none that holds the clip, too: it may be the folder of everything that a user has.
    ///
    /// # Errors
    /// As [`RootAsk::certain`]; [`Error::Refused`] where nothing speaks for a folder, with the likely one.
    pub fn of_file(&self, typed: &Path, markers: &[&str], clip: &Path) -> Result<Root> {
        let (file, clip) = (absolute(typed)?, absolute(clip)?);
        if self.ledger.is_none()
            && let Some(mut root) = self.knowing(&file)
        {
            let named = self.root.as_ref().is_some_and(|named| same_file(named, &root.path));
            if named {
                root.found = Found::Named;
            }
            return Ok(root);
        }
        if let Some(named) = &self.root {
            return self.certain(named, Found::Named);
        }
        let is_apart = |folder: &Path| !clip.starts_with(folder);
        if let Some(root) = self.above(&file).into_iter().find(|root| is_apart(&root.path)) {
            return Ok(root);
        }
        let above = file.ancestors().skip(1);
        let marked = |folder: &&Path| {
            is_apart(folder) && markers.iter().any(|marker| folder.join(marker).is_file())
        };
        if let Some(marked) = above.clone().find(marked) {
            return self.certain(marked, Found::ByMarker);
        }
        let current = std::env::current_dir().ok();
        let may_be = |folder: &&Path| {
            let below =
                current.as_deref().is_none_or(|here| *folder != here && folder.starts_with(here));
            below && is_apart(folder) && folder.is_dir() && is_modest(folder)
        };
        // The outermost below the current folder, or the file's own.
        let likely = above.clone().filter(may_be).last();
        let own = || above.clone().find(|folder| folder.is_dir() && is_apart(folder));
        Err(OddLedger::NoRoot {
            file: typed.to_owned(),
            likely: likely.or_else(own).map(Path::to_owned),
            turned: !self.above(&clip).is_empty(),
        }
        .into())
    }

    /// The ledger above a file that knows it.
    fn knowing(&self, file: &Path) -> Option<Root> {
        let disk = RealDisk::default();
        let knows = |root: &Root| {
            // Wherever the user says that its other roots are: that is refused once it is opened.
            let known = Root { others: BTreeMap::new(), ..root.clone() };
            Ledger::peek(&known).is_ok_and(|state| state.knows(&root.path, file, &disk))
        };
        let mut root = self.above(file).into_iter().find(knows)?;
        root.found = Found::ByFile;
        Some(root)
    }
}

/// Neither the home folder nor the top of a drive.
fn is_modest(folder: &Path) -> bool {
    let home = etcetera::home_dir().ok();
    let is_home = home.is_some_and(|home| same_file(&home, folder));
    let is_top = !folder.components().any(|part| matches!(part, Component::Normal(_)));
    !is_home && !is_top
}
