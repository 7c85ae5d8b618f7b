//! A pack that is made ready, and where its files go.

use crate::error::Result;
use crate::hash::Hash;
use crate::job::{Job, Place};
use crate::ledger::record::Installed;
use crate::refusal::OddJob;
use crate::root::Roots;
use crate::target::Target;
use deft_needle_audio::read::Private;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::path::PathBuf;

/// A pack that is made ready.
pub struct Packed {
    /// Its files, by their paths in it.
    pub members: BTreeMap<String, PathBuf>,
    /// What the ledger is told of those that are slots, by their paths in it.
    pub(crate) made: BTreeMap<String, Installed>,
    /// Kept until the archive is written.
    #[expect(dead_code, reason = "what is in it goes with it")]
    pub(crate) folder: Private,
}

impl Packed {
    /// The hash of all names and contents.
    ///
    /// # Errors
    /// [`Error::Read`].
    pub fn fingerprint(&self) -> Result<Hash> {
        let mut text = String::new();
        for (name, path) in &self.members {
            text += &format!("{} {name}\n", Hash::of_file(path)?);
        }
        Ok(Hash::of(text.as_bytes()))
    }
}

/// A place in one of the roots of whoever takes a pack in.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct PackedPlace {
    /// How its files go there.
    pub way: PackedWay,
    /// The root; the main one by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub root: Option<String>,
    /// The folder or the archive within it; nothing: the root itself.
    #[serde(default)]
    pub path: String,
}

/// How a pack's files go to their place.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum PackedWay {
    /// Into a mirrored tree.
    Overlay,
    /// Into one archive.
    Archive,
}

impl PackedPlace {
    /// Where a job's files go, as far as that lies in a root.
    ///
    /// # Errors
    /// As [`Job::place`].
    pub fn of(job: &Job, target: &Target, roots: &Roots) -> Result<Option<Self>> {
        let (way, path) = match job.place(target, roots)? {
            Place::Slots => return Ok(None),
            Place::Overlay(path) => (PackedWay::Overlay, path),
            Place::Archive(path) => (PackedWay::Archive, path),
        };
        let found = super::within(roots, &path)?;
        Ok(found.map(|(root, path)| Self { way, root, path }))
    }

    /// Where that is for somebody with these roots.
    ///
    /// # Errors
    /// [`Error::Refused`] for a root that was not named, and a path that leads out of it.
    pub fn in_roots(&self, roots: &Roots) -> Result<Place> {
        let root = match &self.root {
            None => roots.main.as_ref(),
            Some(name) => roots.others.get(name),
        };
        let name = || self.root.clone().unwrap_or_default();
        let root = root.ok_or_else(|| OddJob::OtherRootUnsaid { name: name() })?;
        let path = match self.path.as_str() {
            "" => root.clone(),
            path => crate::tree::slot_path(root, path)?,
        };
        Ok(match self.way {
            PackedWay::Overlay => Place::Overlay(path),
            PackedWay::Archive => Place::Archive(path),
        })
    }
}
