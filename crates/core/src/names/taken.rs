//! Names that are there already, and which of them a further one would clash with.

use super::rules::parts;
use super::{OddName, folded};
use std::collections::HashMap;

/// Names of files, found by what file systems and targets confuse.
#[derive(Debug, Clone, Default)]
pub struct Taken {
    by_name: HashMap<String, String>,
    by_stem: HashMap<String, Vec<String>>,
}

impl Taken {
    /// These names.
    pub fn of<'a>(names: impl IntoIterator<Item = &'a str>) -> Self {
        let mut taken = Self::default();
        for name in names {
            taken.add(name);
        }
        taken
    }

    /// One more.
    pub fn add(&mut self, name: &str) {
        self.by_name.entry(folded(name)).or_insert_with(|| name.to_owned());
        let known = self.by_stem.entry(stem(name)).or_default();
        if !known.iter().any(|n| n == name) {
            known.push(name.to_owned());
        }
    }

    /// What a file of this name, which is none of these, would clash with.
    pub fn faults(&self, name: &str) -> Vec<OddName> {
        if let Some(other) = self.by_name.get(&folded(name)) {
            return match other == name {
                true => Vec::new(),
                false => vec![OddName::Twin(other.clone())],
            };
        }
        let alike = self.by_stem.get(&stem(name)).into_iter().flatten();
        let others: Vec<String> = alike.filter(|n| *n != name).cloned().collect();
        if others.is_empty() { Vec::new() } else { vec![OddName::Stem(others)] }
    }
}

/// Folder and stem, as they are confused.
fn stem(name: &str) -> String {
    let (file, stem, _) = parts(name);
    let folder = &name[..name.len() - file.len()];
    folded(&format!("{folder}{stem}"))
}
