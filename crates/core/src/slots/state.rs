//! What is in a slot now: stock, something of ours, or nothing.

use super::Slots;
use crate::error::Result;
use crate::hash::Hash;
use crate::ledger::Ledger;
use crate::ledger::record::Held;
use crate::names::Key;
use crate::root::Root;
use rayon::prelude::*;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;
use std::path::Path;

/// What is in a slot.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Present {
    /// The target's own file.
    Stock,
    /// What was installed here.
    Replaced,
    /// A file that is neither what was installed nor what the list says.
    Other,
    /// Nothing.
    Missing,
}

impl Present {
    /// In a word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Stock => "stock",
            Self::Replaced => "replaced",
            Self::Other => "other",
            Self::Missing => "missing",
        }
    }
}

/// What is in each slot.
pub type Found = BTreeMap<String, Present>;

impl Slots {
    /// Looks what is in every slot of a root. Changes nothing.
    ///
    /// # Errors
    /// As [`Ledger::peek`], and files that cannot be read.
    pub fn look(&self, root: &Root) -> Result<Found> {
        let state = Ledger::peek(root)?;
        let names: Vec<&str> = self.names().collect();
        let overlaid: BTreeMap<&str, &str> =
            self.mirrored.iter().map(|(file, slot)| (slot.as_str(), file.as_str())).collect();
        let look = |name: &&str| {
            if overlaid.get(name).is_some_and(|file| root.path.join(file).is_file()) {
                return Ok(((*name).to_owned(), Present::Replaced));
            }
            let elsewhere = self.stock_of(name).map(|place| root.path.join(place));
            if let Some(path) = elsewhere.filter(|path| path.is_file()) {
                return Ok(((*name).to_owned(), self.against_list(name, &path)?));
            }
            let key = Key::new(None, name)?;
            let path = key.path(&root.path);
            let ours = state.slots.get(&key).and_then(|slot| slot.top());
            let present = match (path.is_file(), ours) {
                (false, _) => Present::Missing,
                (true, Some(top)) if Held::File(Hash::of_file(&path)?) == top.held => {
                    Present::Replaced
                }
                (true, _) => self.against_list(name, &path)?,
            };
            Ok(((*name).to_owned(), present))
        };
        names.par_iter().map(look).collect()
    }

    /// A file held against the list, where that knows it; a look at its size is often enough.
    fn against_list(&self, name: &str, path: &Path) -> Result<Present> {
        let Some((listed, hash)) = self.listed(name).and_then(|l| Some((l, l.hash?))) else {
            return Ok(Present::Stock);
        };
        let bytes = std::fs::metadata(path).map_or(0, |found| found.len());
        Ok(match bytes == listed.bytes && Hash::of_file(path)? == hash {
            true => Present::Stock,
            false => Present::Other,
        })
    }
}
