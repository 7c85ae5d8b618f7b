//! Ledgers of roots on other drives: a memory card that is to hold nothing but what its target reads.

use crate::hash::Hash;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;

static FOLDER: OnceLock<PathBuf> = OnceLock::new();

/// Digits of a path's hash that tell roots of the same name apart.
const DIGITS: usize = 12;

/// Says once where the user keeps the ledgers of roots on other drives.
pub fn keep_ledgers_of_drives_in(folder: &Path) {
    let _ = FOLDER.set(folder.to_owned());
}

/// The folder of a root's ledger, where the user has said where such ledgers are kept and the root lies
/// on another drive than that.
pub(crate) fn ledger_of_drive(root: &Path) -> Option<PathBuf> {
    let folder = std::path::absolute(FOLDER.get()?).ok()?;
    let there = folder.ancestors().find(|above| above.exists())?;
    let root = root.canonicalize().ok()?;
    if same_drive(there, &root) {
        return None;
    }
    let name = root.file_name().map_or_else(|| "root".into(), |name| name.to_string_lossy());
    let hash = Hash::of(root.as_os_str().as_encoded_bytes()).hex();
    Some(folder.join(format!("{name}-{}", &hash[..DIGITS])))
}

#[cfg(unix)]
fn same_drive(a: &Path, b: &Path) -> bool {
    use std::os::unix::fs::MetadataExt;
    let drive = |path: &Path| path.metadata().ok().map(|met| met.dev());
    drive(a) == drive(b)
}

#[cfg(not(unix))]
fn same_drive(a: &Path, b: &Path) -> bool {
    use std::path::Component;
    let drive = |path: &Path| {
        let real = path.canonicalize().ok()?;
        match real.components().next()? {
            Component::Prefix(prefix) => Some(prefix.as_os_str().to_ascii_lowercase()),
            _ => None,
        }
    };
    drive(a) == drive(b)
}
