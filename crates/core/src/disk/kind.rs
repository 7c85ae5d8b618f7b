//! What lies at a path: links are not followed.

use crate::error::{Error, Result};
use std::path::Path;
use std::{fs, io};

/// What lies at a place.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// Nothing.
    Nothing,
    /// A regular file.
    File,
    /// A symbolic link.
    Link,
    /// A folder.
    Folder,
    /// A pipe, a device, a socket.
    Other,
}

impl Kind {
    /// Of a path, links not followed.
    ///
    /// # Errors
    /// [`Error::Read`].
    pub fn of(path: &Path) -> Result<Self> {
        match fs::symlink_metadata(path) {
            Ok(found) if found.is_file() => Ok(Self::File),
            Ok(found) if found.is_symlink() => Ok(Self::Link),
            Ok(found) if found.is_dir() => Ok(Self::Folder),
            Ok(_) => Ok(Self::Other),
            Err(error) if is_absent(&error) => Ok(Self::Nothing),
            Err(error) => Err(Error::read(path)(error)),
        }
    }
}

fn is_absent(error: &io::Error) -> bool {
    matches!(error.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory)
}
