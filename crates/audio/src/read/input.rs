//! Where the bytes of a clip come from.

use crate::error::{Error, Result};
use std::fs::File;
use std::io::{self, Read};
use std::path::{Path, PathBuf};

/// A file, or what was spooled from a stream into a private one.
#[derive(Debug)]
pub struct Input {
    name: PathBuf,
    place: Place,
}

#[derive(Debug)]
enum Place {
    Here,
    Spooled(tempfile::NamedTempFile),
}

impl Input {
    /// A file of the user's.
    pub fn file(path: &Path) -> Self {
        Self {
            name: path.to_owned(),
            place: Place::Here,
        }
    }

    /// Copies a stream into a private file, since headers and samples may have to be read twice.
    ///
    /// # Errors
    /// [`Error::Read`] where the stream breaks or the private file cannot be written.
    pub fn spool(stream: &mut dyn Read, name: &str) -> Result<Self> {
        let name = PathBuf::from(name);
        let spooled = tempfile::NamedTempFile::with_prefix("deft-needle-").and_then(|mut file| {
            io::copy(stream, &mut file)?;
            Ok(file)
        });
        match spooled {
            Ok(file) => Ok(Self {
                name,
                place: Place::Spooled(file),
            }),
            Err(source) => Err(Error::Read { path: name, source }),
        }
    }

    /// What to call it in messages.
    pub fn name(&self) -> &Path {
        &self.name
    }

    /// The file that it is, or `None` for a spooled stream.
    pub fn path(&self) -> Option<&Path> {
        match &self.place {
            Place::Here => Some(&self.name),
            Place::Spooled(_) => None,
        }
    }

    /// Opens it at its start.
    ///
    /// # Errors
    /// [`Error::Read`] with the system's reason.
    pub fn open(&self) -> Result<File> {
        let path = match &self.place {
            Place::Here => &self.name,
            Place::Spooled(file) => file.path(),
        };
        let wrap = |source| Error::Read {
            path: self.name.clone(),
            source,
        };
        let file = File::open(path).map_err(wrap)?;
        // A folder opens like a file on some systems and fails only later, with a stranger message.
        if file.metadata().map_err(wrap)?.is_dir() {
            return Err(wrap(io::ErrorKind::IsADirectory.into()));
        }
        Ok(file)
    }
}
