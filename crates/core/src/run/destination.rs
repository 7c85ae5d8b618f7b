//! Where a job's files lie, as the ledger names them.

use crate::disk::Disk;
use crate::error::Result;
use crate::job::{Job, Place};
use crate::ledger::state::State;
use crate::names::Key;
use crate::refusal::OddPath;
use crate::root::Roots;
use crate::sheet::Way;
use crate::target::Target;
use crate::tree::slot_name;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// The name of a root that is only a job's overlay.
const OWN: &str = "overlay";

/// Where a job's files lie.
#[derive(Debug, Clone)]
pub struct Destination {
    /// The root that they are in, where it is not the main one, and the folder within.
    root: Option<String>,
    folder: String,
    /// Whether that is a mirrored tree.
    pub overlay: bool,
    /// The one file that all of it goes into.
    pub archive: Option<Key>,
    /// The roots beside the main one, the overlay's own among them.
    pub others: BTreeMap<String, PathBuf>,
}

impl Destination {
    /// The slots themselves.
    pub fn slots() -> Self {
        Self {
            root: None,
            folder: String::new(),
            overlay: false,
            archive: None,
            others: BTreeMap::new(),
        }
    }

    /// As a job says.
    ///
    /// # Errors
    /// Those of [`Job::place`].
    pub fn of(job: &Job, target: &Target) -> Result<Self> {
        let mut destination = Self { others: target.roots.others.clone(), ..Self::slots() };
        match job.place(target, &target.roots)? {
            Place::Slots => {}
            Place::Overlay(path) => {
                let (root, folder) = destination.find(target, &path)?;
                (destination.root, destination.folder, destination.overlay) = (root, folder, true);
            }
            Place::Archive(path) => {
                let folder = path.parent().unwrap_or(Path::new("."));
                let name = path.file_name().unwrap_or_default().to_string_lossy();
                let (root, folder) = destination.find(target, folder)?;
                let file = below(&folder, &name);
                destination.archive = Some(Key::new(root.as_deref(), &file)?);
            }
        }
        Ok(destination)
    }

    /// The root that a folder lies in, and its path within; a folder in none becomes one of its own.
    fn find(&mut self, target: &Target, path: &Path) -> Result<(Option<String>, String)> {
        if let Some(found) = within(&target.roots, path)? {
            return Ok(found);
        }
        if !path.is_dir() {
            return Err(OddPath::NoJobFolder.of(path));
        }
        let path = crate::root::RootAsk::default().certain(path, crate::root::Found::Named)?.path;
        self.others.insert(OWN.to_owned(), path);
        Ok((Some(OWN.to_owned()), String::new()))
    }

    /// How files are put there.
    pub fn way(&self) -> Way {
        match (&self.archive, self.overlay) {
            (Some(_), _) => Way::Archive,
            (None, true) => Way::Overlay,
            (None, false) => Way::Slots,
        }
    }

    /// What the ledger calls the file of a slot, by its true name.
    ///
    /// # Errors
    /// As [`State::key`].
    pub fn key(&self, slot: &str, state: &State, main: &Path, disk: &dyn Disk) -> Result<Key> {
        let within = below(&self.folder, slot);
        state.key(main, self.root.as_deref(), &within, disk)
    }

    /// Whether a key lies in the mirrored tree, and the slot that it is there.
    pub fn slot_of(&self, key: &Key) -> Option<String> {
        if !self.overlay || key.root() != self.root.as_deref() {
            return None;
        }
        let rest = key.within().strip_prefix(&self.folder)?;
        match self.folder.is_empty() {
            true => Some(rest.to_owned()),
            false => rest.strip_prefix('/').map(str::to_owned),
        }
    }
}

/// The root that a folder lies in, and its path within; nothing where it lies in none.
pub(crate) fn within(roots: &Roots, path: &Path) -> Result<Option<(Option<String>, String)>> {
    let main = roots.main.as_deref().map(|main| (None, main));
    let others = roots.others.iter();
    let others = others.map(|(name, folder)| (Some(name.clone()), folder.as_path()));
    for (name, folder) in main.into_iter().chain(others) {
        if path == folder {
            return Ok(Some((name, String::new())));
        }
        if path.starts_with(folder) {
            return Ok(Some((name, slot_name(folder, path)?)));
        }
    }
    Ok(None)
}

fn below(folder: &str, name: &str) -> String {
    match folder {
        "" => name.to_owned(),
        folder => format!("{folder}/{name}"),
    }
}
