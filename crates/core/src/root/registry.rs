//! The ledgers that this user has made, on this computer: so that a ledger that comes with a stranger's
//! folder is not believed. A hint: without it, other roots are named again and moved ledgers adopted.

use crate::disk::data_folder;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

/// Bytes of an entry.
const MOST: u64 = 1 << 16;

/// One ledger.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Known {
    /// What tells it from all others.
    pub id: String,
    /// Its main root.
    pub root: PathBuf,
    /// Its folder.
    pub ledger: PathBuf,
    /// Its other roots by their names.
    #[serde(default)]
    pub others: BTreeMap<String, String>,
}

/// A folder with a file a ledger.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Registry {
    folder: Option<PathBuf>,
}

impl Registry {
    /// This user's.
    pub fn of_user() -> Self {
        Self { folder: data_folder().map(|folder| folder.join("roots")) }
    }

    /// One that lies in a folder.
    pub fn in_folder(folder: &Path) -> Self {
        Self { folder: Some(folder.to_owned()) }
    }

    fn file(&self, id: &str) -> Option<PathBuf> {
        let plain = !id.is_empty() && id.bytes().all(|b| b.is_ascii_alphanumeric());
        plain.then(|| self.folder.as_ref().map(|folder| folder.join(format!("{id}.json"))))?
    }

    /// A ledger by what tells it from others.
    pub fn find(&self, id: &str) -> Option<Known> {
        read(&self.file(id)?).filter(|known| known.id == id)
    }

    /// All of them.
    pub fn all(&self) -> Vec<Known> {
        let Some(folder) = &self.folder else {
            return Vec::new();
        };
        let entries = fs::read_dir(folder).into_iter().flatten().flatten();
        let mut all: Vec<Known> = entries.filter_map(|entry| read(&entry.path())).collect();
        all.sort_by(|a, b| (&a.root, &a.id).cmp(&(&b.root, &b.id)));
        all
    }

    /// Writes one down. Where that fails, nothing is lost but the hint.
    pub fn remember(&self, known: &Known) {
        let (Some(folder), Some(file)) = (&self.folder, self.file(&known.id)) else {
            return;
        };
        if self.find(&known.id).as_ref() == Some(known) {
            return;
        }
        let written = || -> std::io::Result<()> {
            fs::create_dir_all(folder)?;
            let mut part = tempfile::NamedTempFile::new_in(folder)?;
            serde_json::to_writer(&mut part, known)?;
            part.persist(&file)?;
            Ok(())
        };
        let _ = written();
    }

    /// Takes one out.
    pub fn forget(&self, id: &str) {
        if let Some(file) = self.file(id) {
            let _ = fs::remove_file(file);
        }
    }
}

fn read(path: &Path) -> Option<Known> {
    serde_json::from_slice(&crate::disk::read_plain(path, MOST).ok()?).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_written_down_is_found_until_it_is_taken_out() {
        let folder = tempfile::tempdir().unwrap();
        let registry = Registry::in_folder(&folder.path().join("roots"));
        let known = Known {
            id: "a1".to_owned(),
            root: "card".into(),
            ledger: "card/.deft-needle".into(),
            others: BTreeMap::from([("settings".to_owned(), "s".to_owned())]),
        };
        assert_eq!(registry.all(), []);
        registry.remember(&known);
        assert_eq!(registry.find("a1"), Some(known.clone()));
        assert_eq!(registry.all(), [known]);
        for odd in ["", "../a1", "b"] {
            assert_eq!(registry.find(odd), None);
        }
        registry.forget("a1");
        assert_eq!(registry.all(), []);
    }
}
