//! Where the bytes of a clip come from.

use super::Private;
use crate::error::{Error, Result};
use crate::num::count;
use std::fs::{File, OpenOptions};
use std::io::{self, Cursor, Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use symphonia::core::io::MediaSource;

/// A file, what was spooled from a stream into a private one, or bytes out of an archive.
#[derive(Debug, Clone)]
pub struct Input {
    name: PathBuf,
    place: Place,
}

#[derive(Debug, Clone)]
enum Place {
    Here,
    Spooled { path: PathBuf, _kept: Arc<Private> },
    Stored(PathBuf),
    Memory(Arc<[u8]>),
}

/// An opened input.
#[derive(Debug)]
pub enum Handle {
    /// A file.
    Disk(File),
    /// Bytes in memory.
    Memory(Cursor<Arc<[u8]>>),
}

impl Handle {
    /// The same input once more. Of files, both share one place.
    ///
    /// # Errors
    /// The system's.
    pub fn again(&self) -> io::Result<Self> {
        Ok(match self {
            Self::Disk(file) => Self::Disk(file.try_clone()?),
            Self::Memory(bytes) => Self::Memory(bytes.clone()),
        })
    }
}

impl Read for Handle {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        match self {
            Self::Disk(file) => file.read(buffer),
            Self::Memory(bytes) => bytes.read(buffer),
        }
    }
}

impl Seek for Handle {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        match self {
            Self::Disk(file) => file.seek(to),
            Self::Memory(bytes) => bytes.seek(to),
        }
    }
}

impl MediaSource for Handle {
    fn is_seekable(&self) -> bool {
        true
    }

    fn byte_len(&self) -> Option<u64> {
        match self {
            Self::Disk(file) => file.metadata().ok().map(|found| found.len()),
            Self::Memory(bytes) => Some(count(bytes.get_ref().len())),
        }
    }
}

impl Input {
    /// A file of the user's.
    pub fn file(path: &Path) -> Self {
        Self { name: path.to_owned(), place: Place::Here }
    }

    /// Copies a stream into a private file, since headers and samples may have to be read twice.
    ///
    /// # Errors
    /// [`Error::Read`] where the stream breaks or the private file cannot be written.
    pub fn spool(stream: &mut dyn Read, name: &str) -> Result<Self> {
        let name = PathBuf::from(name);
        let spooled = Private::new().and_then(|private| {
            let path = private.path().join("spool");
            io::copy(stream, &mut File::create_new(&path)?)?;
            Ok((path, private))
        });
        match spooled {
            Ok((path, private)) => {
                Ok(Self { name, place: Place::Spooled { path, _kept: Arc::new(private) } })
            }
            Err(source) => Err(Error::Read { path: name, source }),
        }
    }

    /// A private file, under the name by which messages call it; whoever made it keeps it while it is read.
    pub fn stored(name: &Path, path: PathBuf) -> Self {
        Self { name: name.to_owned(), place: Place::Stored(path) }
    }

    /// Bytes in memory, under the name by which messages call them.
    pub fn memory(name: &Path, bytes: Arc<[u8]>) -> Self {
        Self { name: name.to_owned(), place: Place::Memory(bytes) }
    }

    /// What to call it in messages.
    pub fn name(&self) -> &Path {
        &self.name
    }

    /// The file that it is, or `None` for anything else.
    pub fn path(&self) -> Option<&Path> {
        match &self.place {
            Place::Here => Some(&self.name),
            Place::Spooled { .. } | Place::Stored(_) | Place::Memory(_) => None,
        }
    }

    /// Where its bytes lie on the disk, be it privately; `None` for those in memory.
    pub fn stored_at(&self) -> Option<&Path> {
        match &self.place {
            Place::Here => Some(&self.name),
            Place::Spooled { path, .. } | Place::Stored(path) => Some(path),
            Place::Memory(_) => None,
        }
    }

    /// Opens it at its start.
    ///
    /// # Errors
    /// [`Error::Read`] with the system's reason.
    pub fn open(&self) -> Result<Handle> {
        let path = match &self.place {
            Place::Here => &self.name,
            Place::Spooled { path, .. } | Place::Stored(path) => path,
            Place::Memory(bytes) => return Ok(Handle::Memory(Cursor::new(bytes.clone()))),
        };
        let wrap = |source| Error::Read { path: self.name.clone(), source };
        open_regular(path).map(Handle::Disk).map_err(wrap)
    }
}

/// Opens a regular file to read, links followed: a pipe or a device would be waited for, maybe for ever.
///
/// # Errors
/// The system's; [`io::ErrorKind::InvalidInput`] for a pipe or a device.
pub fn open_regular(path: &Path) -> io::Result<File> {
    let refuse = |found: std::fs::Metadata| match (found.is_file(), found.is_dir()) {
        (true, _) => Ok(()),
        (_, true) => Err(io::ErrorKind::IsADirectory.into()),
        _ => Err(io::Error::new(
            io::ErrorKind::InvalidInput,
            "it is a pipe or a device, not a regular file (- reads standard input)",
        )),
    };
    refuse(std::fs::metadata(path)?)?;
    let mut options = OpenOptions::new();
    options.read(true);
    #[cfg(unix)]
    {
        use std::os::unix::fs::OpenOptionsExt as _;
        options.custom_flags(libc::O_NONBLOCK);
    }
    let file = options.open(path)?;
    refuse(file.metadata()?)?;
    Ok(file)
}
