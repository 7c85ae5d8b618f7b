//! The user's own sheets, found by name like the built-in ones.

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;

static FOLDER: OnceLock<PathBuf> = OnceLock::new();

/// A sheet of the user's own folder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OwnSheet {
    /// Its name, as it is typed: the file's name without `.toml`.
    pub name: String,
    /// Where it is.
    pub path: PathBuf,
}

/// Says once where the user keeps sheets.
pub fn keep_own_sheets_in(folder: &Path) {
    let _ = FOLDER.set(folder.to_owned());
}

/// All sheets in that folder, by name; none where no folder was named.
pub fn own_sheets() -> Vec<OwnSheet> {
    FOLDER.get().map(|folder| sheets_in(folder)).unwrap_or_default()
}

fn sheets_in(folder: &Path) -> Vec<OwnSheet> {
    let files = fs::read_dir(folder).into_iter().flatten().flatten().map(|entry| entry.path());
    let sheet = |path: PathBuf| {
        let is_sheet = path.extension().is_some_and(|extension| extension == "toml");
        let name = path.file_stem()?.to_str()?.to_owned();
        is_sheet.then_some(OwnSheet { name, path })
    };
    let mut all: Vec<OwnSheet> = files.filter_map(sheet).collect();
    all.sort_by(|a, b| a.name.cmp(&b.name));
    all
}
