//! A ledger's folder and its first record.

use super::record::Record;
use super::{Ledger, VERSION};
use crate::disk::random;
use crate::error::{Error, Result};
use crate::root::Known;
use std::io;
use std::path::Path;

impl Ledger<'_> {
    /// Makes the ledger's folder and its first record where there are none; all of it or nothing.
    pub(super) fn establish(&mut self) -> Result<()> {
        let made = self.make_folders().map_err(|error| match error.is_absent() {
            true if self.lock.is_none() && self.place_elsewhere().is_none_or(Path::is_dir) => {
                self.just_changed()
            }
            _ => error,
        });
        made.inspect_err(|error| {
            // What another run has made is not ours to clear away.
            if !matches!(error, Error::Refused { .. }) {
                self.tidy();
            }
        })
    }

    fn make_folders(&mut self) -> Result<()> {
        if let Some(place) = self.place_elsewhere().filter(|place| !place.exists()) {
            // One level, no more: what is missing above it may be a drive that is away.
            self.make_folder(place)?;
        }
        self.make_folder(self.dir.folder())?;
        if self.lock.is_none() {
            self.dir.is_there()?;
            self.take_lock()?;
            // There was no ledger when this one was opened: what is here now, another run has made.
            if !self.dir.read()?.is_empty() {
                self.lock = None;
                return Err(self.just_changed());
            }
        }
        // Only under the lock: a run that ends takes this folder out with its ledger.
        self.make_folder(&self.dir.stock())?;
        let canonical = |path: &Path| path.canonicalize().map_err(Error::read(path));
        let path = canonical(&self.root.path)?.to_string_lossy().into_owned();
        let mut facts = Vec::new();
        let is_new = self.state.root.is_none();
        let is_current = self.state.root.as_ref() == Some(&path) && self.state.version == VERSION;
        if !is_current || self.state.id.is_empty() {
            let id = match self.state.id.is_empty() || self.root.adopt {
                true => random()?,
                false => self.state.id.clone(),
            };
            let version = VERSION;
            facts.push(Record::Root { path, version, id });
        }
        if self.moved {
            let others = self.state.others.clone();
            let real = super::trust::real_places(&others);
            facts.push(Record::Roots { others, real });
        }
        let target = self.target.take();
        facts.extend(target.filter(|target| *target != self.state.target).map(Record::Target));
        if !facts.is_empty() {
            self.append(facts)?;
            self.moved = false;
        }
        if is_new {
            self.sync_folder(&self.dir.stock())?;
            self.sync_folder(self.dir.folder())?;
            if let Some(parent) = self.dir.folder().parent() {
                self.sync_folder(parent)?;
            }
        }
        self.root.registry.remember(&Known {
            id: self.state.id.clone(),
            root: self.root.path.clone(),
            ledger: self.dir.folder().to_owned(),
            others: self.state.others.clone(),
        });
        Ok(())
    }

    /// The folder that the ledger's own lies in, where that is not the root.
    fn place_elsewhere(&self) -> Option<&Path> {
        self.dir.folder().parent().filter(|place| *place != self.root.path)
    }

    fn make_folder(&self, folder: &Path) -> Result<()> {
        match self.disk.create_folder(folder) {
            Err(error) if error.kind() != io::ErrorKind::AlreadyExists => {
                Err(Error::write("make", folder)(error))
            }
            _ => Ok(()),
        }
    }
}
