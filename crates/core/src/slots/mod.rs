//! The slots of a target: their names from lists, archives and folders, and what is in them now.

mod family;
mod listed;
mod names;
mod search;
mod state;

pub use family::{Group, families};
pub use listed::{COLUMNS, Listed, from_csv, is_list, thousandths, to_csv};
pub use names::is_named_like_sound;
pub use search::{Query, Searched};
pub use state::{Found, Present};

use crate::error::Result;
use crate::sheet::Sheet;
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

/// Where a target's roots are.
#[derive(Debug, Clone, Default)]
pub struct Roots {
    /// The main one.
    pub main: Option<PathBuf>,
    /// Others by their names in the sheet.
    pub others: BTreeMap<String, PathBuf>,
}

impl Roots {
    /// Only a main one, or none.
    pub fn main(path: Option<&Path>) -> Self {
        Self { main: path.map(Path::to_owned), others: BTreeMap::new() }
    }

    /// The folder of a root by its name; none is the main one.
    pub fn folder(&self, sheet: &Sheet, name: Option<&str>) -> Option<&Path> {
        match name {
            None => self.main.as_deref(),
            Some(name) if sheet.roots.first().is_some_and(|first| first == name) => {
                self.main.as_deref()
            }
            Some(name) => self.others.get(name).map(PathBuf::as_path),
        }
    }
}

/// All names that are known, with what is known of their stock.
#[derive(Debug, Clone, Default)]
pub struct Slots {
    known: BTreeMap<String, Option<Listed>>,
    /// Names that were only found on the disk, which no list gives.
    found: BTreeSet<String>,
    /// Lists that could not be read since their root is not at hand.
    pub unread: Vec<String>,
}

impl Slots {
    /// The names that a sheet's lists give.
    ///
    /// # Errors
    /// Lists that cannot be read, or hold names that lead out.
    pub fn of_sheet(sheet: &Sheet, roots: &Roots) -> Result<Self> {
        names::collect(sheet, roots)
    }

    /// Takes in a name that lies on the disk.
    pub fn add_found(&mut self, name: String) {
        if !self.has(&name) {
            self.found.insert(name.clone());
            self.known.insert(name, None);
        }
    }

    /// Takes in a name that a list gives, and what is known of it where nothing was.
    pub fn add(&mut self, name: String, listed: Option<Listed>) {
        self.found.remove(&name);
        let known = self.known.entry(name).or_default();
        if known.is_none() {
            *known = listed;
        }
    }

    /// Whether a list gives this name, be it not on the disk.
    pub fn is_listed(&self, name: &str) -> bool {
        self.has(name) && !self.found.contains(name)
    }

    /// Whether there is a slot of this name.
    pub fn has(&self, name: &str) -> bool {
        self.known.contains_key(name)
    }

    /// What is known of a slot's stock.
    pub fn listed(&self, name: &str) -> Option<&Listed> {
        self.known.get(name)?.as_ref()
    }

    /// All names, in order.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.known.keys().map(String::as_str)
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        self.known.len()
    }

    /// Whether there is no name at all.
    pub fn is_empty(&self) -> bool {
        self.known.is_empty()
    }
}
