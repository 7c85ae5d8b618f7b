//! What the file system of a folder can promise.

use super::spelling::turned;
use schemars::JsonSchema;
use serde::Serialize;
use std::fs;
use std::path::Path;

/// Names that are tried at most.
const NAMES: usize = 200;

/// What a file system can promise at a folder.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Promises {
    /// Bytes that are free for this user; `None` where the system does not say.
    pub free: Option<u64>,
    /// Whether files can be made here.
    pub writable: bool,
    /// Whether two spellings that differ in case are one file; `None` where no name here shows it.
    pub ignores_case: Option<bool>,
}

/// Finds out by trying; what it makes for that has no name, or none for long.
pub fn promises(folder: &Path) -> Promises {
    Promises {
        free: fs4::available_space(folder).ok(),
        writable: tempfile::tempfile_in(folder).is_ok(),
        ignores_case: ignores_case(folder),
    }
}

fn ignores_case(folder: &Path) -> Option<bool> {
    let entries = fs::read_dir(folder).ok()?.flatten().take(NAMES);
    let names: Vec<String> =
        entries.filter_map(|entry| entry.file_name().into_string().ok()).collect();
    // A name that is there in both cases shows nothing by being found.
    let name =
        names.iter().find(|name| turned(name) != **name && !names.contains(&turned(name)))?;
    Some(folder.join(turned(name)).exists())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_folder_says_what_it_can() {
        let folder = tempfile::tempdir().unwrap();
        assert_eq!(promises(folder.path()).ignores_case, None);
        fs::write(folder.path().join("TICK01.PRM"), b"x").unwrap();
        let found = promises(folder.path());
        let blind = fs::metadata(folder.path().join("tick01.prm")).is_ok();
        assert_eq!(found.ignores_case, Some(blind));
        assert!(found.writable && found.free.is_some_and(|free| free > 0));
        assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 1);
        assert!(!promises(&folder.path().join("none")).writable);
    }
}
