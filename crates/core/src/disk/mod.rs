//! The only way in which anything here changes a disk.

#[cfg(test)]
pub mod faulty;

use std::fs::{self, File, OpenOptions, TryLockError};
use std::io::{self, Seek, SeekFrom, Write};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

/// A file being written.
pub trait OutFile: Write + Seek + Send {
    /// Waits until all that was written is on the disk itself.
    ///
    /// # Errors
    /// The system's.
    fn sync(&mut self) -> io::Result<()>;
}

/// Everything that changes a disk. The tests have disks that fail and disks that forget.
#[expect(
    clippy::missing_errors_doc,
    reason = "all of them give the system's errors"
)]
pub trait Disk: Sync {
    /// Makes a file, empty even where there was one.
    fn create(&self, path: &Path) -> io::Result<Box<dyn OutFile>>;
    /// Opens a file to write at its end, making it where there is none.
    fn append(&self, path: &Path) -> io::Result<Box<dyn OutFile>>;
    /// Cuts a file to so many bytes.
    fn truncate(&self, path: &Path, bytes: u64) -> io::Result<()>;
    /// Puts a file in another's place on the same file system, at once.
    fn rename(&self, from: &Path, to: &Path) -> io::Result<()>;
    /// Removes a file.
    fn remove(&self, path: &Path) -> io::Result<()>;
    /// Makes one folder.
    fn create_folder(&self, path: &Path) -> io::Result<()>;
    /// Removes an empty folder.
    fn remove_folder(&self, path: &Path) -> io::Result<()>;
    /// Waits until a folder's list of names is on the disk itself, where the system can do that.
    fn sync_folder(&self, path: &Path) -> io::Result<()>;
    /// Gives `to` the time stamp of `like`.
    fn copy_time(&self, like: &Path, to: &Path) -> io::Result<()>;
    /// Gives `to` the permissions of `like`.
    fn copy_permissions(&self, like: &Path, to: &Path) -> io::Result<()>;
    /// Makes a lock file and takes its lock; `None` where somebody else has it.
    fn lock(&self, path: &Path) -> io::Result<Option<Lock>>;
}

/// The disk of this computer.
#[derive(Debug, Default)]
pub struct RealDisk {
    unsynced: Arc<AtomicBool>,
}

impl RealDisk {
    /// Whether some file system refused to sync (network drives, some cards): what was written there
    /// is safe from a crash of the program, but not from a loss of power.
    pub fn refused_to_sync(&self) -> bool {
        self.unsynced.load(Ordering::Relaxed)
    }

    fn out_file(&self, file: File) -> Box<dyn OutFile> {
        let unsynced = Arc::clone(&self.unsynced);
        Box::new(RealFile { file, unsynced })
    }
}

/// A lock that is held until it is dropped, or until the program ends in whatever way.
#[derive(Debug)]
pub struct Lock {
    _file: File,
}

struct RealFile {
    file: File,
    unsynced: Arc<AtomicBool>,
}

impl Write for RealFile {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.file.write(bytes)
    }
    fn flush(&mut self) -> io::Result<()> {
        self.file.flush()
    }
}

impl Seek for RealFile {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        self.file.seek(to)
    }
}

impl OutFile for RealFile {
    fn sync(&mut self) -> io::Result<()> {
        match self.file.sync_all() {
            Err(error) if cannot_sync(&error) => {
                self.unsynced.store(true, Ordering::Relaxed);
                Ok(())
            }
            other => other,
        }
    }
}

/// What file systems answer that have no sync.
fn cannot_sync(error: &io::Error) -> bool {
    matches!(
        error.kind(),
        io::ErrorKind::Unsupported | io::ErrorKind::InvalidInput
    )
}

impl Disk for RealDisk {
    fn create(&self, path: &Path) -> io::Result<Box<dyn OutFile>> {
        Ok(self.out_file(File::create(path)?))
    }

    fn append(&self, path: &Path) -> io::Result<Box<dyn OutFile>> {
        let file = OpenOptions::new().append(true).create(true).open(path)?;
        Ok(self.out_file(file))
    }

    fn truncate(&self, path: &Path, bytes: u64) -> io::Result<()> {
        let file = OpenOptions::new().write(true).open(path)?;
        file.set_len(bytes)?;
        file.sync_all()
    }

    fn rename(&self, from: &Path, to: &Path) -> io::Result<()> {
        fs::rename(from, to)
    }

    fn remove(&self, path: &Path) -> io::Result<()> {
        fs::remove_file(path)
    }

    fn create_folder(&self, path: &Path) -> io::Result<()> {
        fs::create_dir(path)
    }

    fn remove_folder(&self, path: &Path) -> io::Result<()> {
        fs::remove_dir(path)
    }

    /// Windows writes names through by itself and cannot open folders.
    fn sync_folder(&self, path: &Path) -> io::Result<()> {
        if cfg!(windows) {
            return Ok(());
        }
        match File::open(path)?.sync_all() {
            Err(error) if cannot_sync(&error) => {
                self.unsynced.store(true, Ordering::Relaxed);
                Ok(())
            }
            other => other,
        }
    }

    fn copy_time(&self, like: &Path, to: &Path) -> io::Result<()> {
        let time = fs::metadata(like)?.modified()?;
        OpenOptions::new().write(true).open(to)?.set_modified(time)
    }

    fn copy_permissions(&self, like: &Path, to: &Path) -> io::Result<()> {
        fs::set_permissions(to, fs::metadata(like)?.permissions())
    }

    fn lock(&self, path: &Path) -> io::Result<Option<Lock>> {
        let file = OpenOptions::new()
            .write(true)
            .create(true)
            .truncate(false)
            .open(path)?;
        match file.try_lock() {
            Ok(()) => Ok(Some(Lock { _file: file })),
            Err(TryLockError::WouldBlock) => Ok(None),
            // Some network drives and cards know no locks: better no lock than no work.
            Err(TryLockError::Error(error)) if cannot_sync(&error) => {
                Ok(Some(Lock { _file: file }))
            }
            Err(TryLockError::Error(error)) => Err(error),
        }
    }
}
