//! How a folder spells the names in it.

use crate::names::folded;
use same_file::Handle;
use std::ffi::{OsStr, OsString};
use std::fs;
use std::io;
use std::path::Path;

/// The name under which a folder lists what it finds as `name`; `None` where it finds nothing.
///
/// A file system that ignores case, or how accents are stored, finds one file under many names. The one
/// that it lists is the true one, and tells whether two names mean one file.
///
/// # Errors
/// The system's.
pub fn of(folder: &Path, name: &OsStr) -> io::Result<Option<OsString>> {
    let folder = match folder.as_os_str().is_empty() {
        true => Path::new("."),
        false => folder,
    };
    match fs::symlink_metadata(folder.join(name)) {
        Ok(_) => {}
        Err(error) if is_absent(&error) => return Ok(None),
        Err(error) => return Err(error),
    }
    if is_only_so(folder, name) {
        return Ok(Some(name.to_owned()));
    }
    // These systems tell the name that a file was made with; a link would be followed.
    let path = folder.join(name);
    if cfg!(any(windows, target_os = "macos")) && !path.is_symlink() {
        return Ok(fs::canonicalize(path)?.file_name().map(OsStr::to_owned));
    }
    let wanted = folded(&name.to_string_lossy());
    let mut alike = Vec::new();
    for entry in fs::read_dir(folder)? {
        let listed = entry?.file_name();
        if listed == name {
            return Ok(Some(listed));
        }
        if folded(&listed.to_string_lossy()) == wanted {
            alike.push(listed);
        }
    }
    // A short name of Windows is listed nowhere.
    let same = |listed: &OsString| -> bool {
        let other = Handle::from_path(folder.join(listed));
        Handle::from_path(folder.join(name)).is_ok_and(|own| other.is_ok_and(|other| own == other))
    };
    let is_only = alike.len() == 1;
    let found = alike.into_iter().find(|listed| is_only || same(listed));
    Ok(Some(found.unwrap_or_else(|| name.to_owned())))
}

/// Whether a plain name is found with its letters in the other case, too: where it is not, case
/// matters, and what it finds is spelt so. Listing a large folder for every name would take long.
fn is_only_so(folder: &Path, name: &OsStr) -> bool {
    let Some(plain) = name.to_str().filter(|name| name.is_ascii()) else {
        return false;
    };
    let other = turned(plain);
    let found = fs::symlink_metadata(folder.join(&other));
    other != plain && found.is_err_and(|error| is_absent(&error))
}

/// A name with its plain letters in the other case.
pub fn turned(name: &str) -> String {
    let turn = |c: char| match c.is_ascii_lowercase() {
        true => c.to_ascii_uppercase(),
        false => c.to_ascii_lowercase(),
    };
    name.chars().map(turn).collect()
}

/// Whether an error says that there is nothing of that name.
pub fn is_absent(error: &io::Error) -> bool {
    matches!(error.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory)
}
