//! The slots of a target: their names from lists, archives and folders, and what is in them now.

mod family;
mod listed;
mod lists;
mod names;
mod search;
mod state;

pub use family::{Group, families};
pub use listed::{COLUMNS, Listed, from_csv, is_list, thousandths, to_csv};
pub use names::is_named_like_sound;
pub use search::{Query, Searched};
pub use state::{Found, Present};

use crate::error::Result;
use crate::refusal::OddJob;
use crate::root::Roots;
use crate::sheet::Sheet;
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

impl Roots {
    /// The same with the main root told from the others, which a sheet names first.
    ///
    /// # Errors
    /// [`Error::Refused`] for a name that is none of the sheet's.
    pub(crate) fn of_sheet(mut self, sheet: &Sheet) -> Result<Self> {
        if let Some(main) = sheet.roots.first().and_then(|first| self.others.remove(first)) {
            self.main.get_or_insert(main);
        }
        match self.others.keys().find(|name| !sheet.roots.is_empty() && !sheet.roots.contains(name))
        {
            None => Ok(self),
            Some(name) => Err(OddJob::UnknownRoot {
                name: name.clone(),
                target: sheet.name.clone(),
                roots: sheet.roots.clone(),
            }
            .into()),
        }
    }

    /// The folder of a root by its name; none is the main one.
    pub fn folder(&self, sheet: &Sheet, name: Option<&str>) -> Option<&Path> {
        let named = |name: &str| self.others.get(name);
        let found = match name.filter(|_| !sheet.is_main(name)) {
            None => self.main.as_ref().or_else(|| named(sheet.roots.first()?)),
            Some(name) => named(name),
        };
        found.map(PathBuf::as_path)
    }
}

/// A list of names, as a sheet has it.
#[derive(Debug, Clone)]
pub struct NameList {
    /// Its file, as the sheet writes it.
    pub title: String,
    /// Whether every name of it must be there.
    pub complete: bool,
    /// Its names.
    pub names: BTreeSet<String>,
}

/// All names that are known, with what is known of their stock.
#[derive(Debug, Clone, Default)]
pub struct Slots {
    known: BTreeMap<String, Option<Listed>>,
    /// Names that were only found on the disk, which no list gives.
    found: BTreeSet<String>,
    /// Names that are links, each with the slot that it leads to.
    links: BTreeMap<String, String>,
    /// Where in the main root the stock of names lies that have none of their own.
    stock: BTreeMap<String, String>,
    /// The same the other way round: the first name of each place.
    held: BTreeMap<String, String>,
    /// The lists that name them.
    lists: Vec<NameList>,
    /// Files of mirrored trees that jobs have made in the main root, and the slots that they stand for.
    mirrored: BTreeMap<String, String>,
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
        if let Some(to) = listed.as_ref().and_then(|listed| listed.link.clone()) {
            self.links.insert(name.clone(), to);
        }
        self.found.remove(&name);
        if let Some(list) = self.lists.last_mut() {
            list.names.insert(name.clone());
        }
        let known = self.known.entry(name).or_default();
        if known.is_none() {
            *known = listed;
        }
    }

    /// Where in the main root the stock of a name lies, where that is not under the name itself.
    pub fn stock_of(&self, name: &str) -> Option<&str> {
        self.stock.get(name).map(String::as_str)
    }

    /// All names whose stock lies elsewhere in the main root, each with where.
    pub fn stock_elsewhere(&self) -> &BTreeMap<String, String> {
        &self.stock
    }

    /// The slot that a file of the main root stands for: one of the target's overlay or of one that a job
    /// has made, or the stock of a name that has none of its own.
    pub fn stands_for<'a>(&'a self, sheet: &Sheet, name: &'a str) -> Option<&'a str> {
        let known = self.mirrored.get(name).or_else(|| self.held.get(name)).map(String::as_str);
        known.or_else(|| sheet.mirrored(name))
    }

    /// Where in the main root what is played of a name lies now: in a mirrored tree, under the name, or
    /// where its stock lies.
    pub fn place_of(&self, name: &str) -> Option<String> {
        let mirrored = self.mirrored.iter().find(|(_, slot)| *slot == name);
        let own = || self.stock_of(name).unwrap_or(name).to_owned();
        Some(mirrored.map_or_else(own, |(file, _)| file.clone()))
    }

    /// Takes in where the stock of a name lies that has none of its own.
    pub(crate) fn add_stock(&mut self, name: String, place: String) {
        self.held.entry(place.clone()).or_insert_with(|| name.clone());
        self.stock.insert(name, place);
    }

    /// Whether a list gives this name, be it not on the disk.
    pub fn is_listed(&self, name: &str) -> bool {
        self.has(name) && !self.found.contains(name)
    }

    /// The lists that name them; what only lies on the disk is in none.
    pub fn lists(&self) -> &[NameList] {
        &self.lists
    }

    /// Names that must all be there: those of complete lists, and those that complete rules match.
    pub fn complete(&self, sheet: &Sheet) -> BTreeSet<&str> {
        let lists = self.lists.iter().filter(|list| list.complete);
        let of_lists = lists.flat_map(|list| list.names.iter().map(String::as_str));
        let ruled = |name: &&str| sheet.rule_for(name).is_some_and(|rule| rule.complete);
        let any = sheet.rules.iter().any(|rule| rule.complete);
        let of_rules = self.names().filter(|name| any && self.is_listed(name) && ruled(name));
        of_lists.chain(of_rules).collect()
    }

    /// Whether there is a slot of this name.
    pub fn has(&self, name: &str) -> bool {
        self.known.contains_key(name)
    }

    /// What is known of a slot's stock.
    pub fn listed(&self, name: &str) -> Option<&Listed> {
        self.known.get(name)?.as_ref()
    }

    /// Takes in names that are links, each with the slot that it leads to.
    pub fn add_links(&mut self, links: BTreeMap<String, String>) {
        self.links.extend(links);
    }

    /// The slot that a name leads to, where it is a link.
    pub fn link(&self, name: &str) -> Option<&str> {
        self.links.get(name).map(String::as_str)
    }

    /// The links that lead to a slot.
    pub fn linked_by(&self, name: &str) -> Vec<String> {
        let links = self.links.iter().filter(|(_, to)| *to == name);
        links.map(|(link, _)| link.clone()).collect()
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
