//! The disk of this computer.

use super::{Attributes, Disk, Lock, OutFile, open_plain, spelling};
use same_file::Handle;
use std::ffi::{OsStr, OsString};
use std::fs::{self, File, OpenOptions, TryLockError};
use std::io::{self, Seek, SeekFrom, Write};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

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
        sync(&self.file, &self.unsynced)
    }
}

/// Not every file system can; that is remembered.
fn sync(file: &File, unsynced: &AtomicBool) -> io::Result<()> {
    match file.sync_all() {
        Err(error) if cannot_sync(&error) => {
            unsynced.store(true, Ordering::Relaxed);
            Ok(())
        }
        other => other,
    }
}

/// What file systems answer that have no sync.
pub(super) fn cannot_sync(error: &io::Error) -> bool {
    matches!(error.kind(), io::ErrorKind::Unsupported | io::ErrorKind::InvalidInput)
}

impl Disk for RealDisk {
    fn create(&self, path: &Path) -> io::Result<Box<dyn OutFile>> {
        let mut options = OpenOptions::new();
        options.write(true).create_new(true);
        private(&mut options);
        Ok(self.out_file(options.open(path)?))
    }

    fn append(&self, path: &Path) -> io::Result<Box<dyn OutFile>> {
        let mut options = OpenOptions::new();
        options.append(true).create(true);
        private(&mut options);
        Ok(self.out_file(open_plain(&mut options, path)?))
    }

    fn sync_file(&self, path: &Path) -> io::Result<()> {
        // Windows writes through only what is open for writing; elsewhere a file that may only be read is synced, too.
        let mut options = OpenOptions::new();
        sync(&open_plain(options.read(true).write(cfg!(windows)), path)?, &self.unsynced)
    }

    fn truncate(&self, path: &Path, bytes: u64) -> io::Result<()> {
        let file = open_plain(OpenOptions::new().write(true), path)?;
        file.set_len(bytes)?;
        file.sync_all()
    }

    /// The room of a replaced file is freed once nobody has it open. While it is held here, that is not done under the
    /// lock of its folder, where every other rename would wait for it.
    fn rename(&self, from: &Path, to: &Path) -> io::Result<()> {
        let held = || open_plain(OpenOptions::new().read(true), to).ok();
        let replaced = cfg!(unix).then(held).flatten();
        match (fs::rename(from, to), replaced) {
            // Some network drives refuse to replace what is open.
            (Err(_), Some(replaced)) => {
                drop(replaced);
                fs::rename(from, to)
            }
            (done, _) => done,
        }
    }

    fn remove(&self, path: &Path) -> io::Result<()> {
        match fs::remove_file(path) {
            // Windows keeps files that are read-only.
            Err(error) if cfg!(windows) && error.kind() == io::ErrorKind::PermissionDenied => {
                let mut permissions = fs::symlink_metadata(path)?.permissions();
                #[allow(clippy::permissions_set_readonly_false, reason = "on Windows alone")]
                permissions.set_readonly(false);
                fs::set_permissions(path, permissions)?;
                fs::remove_file(path)
            }
            other => other,
        }
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
        sync(&File::open(path)?, &self.unsynced)
    }

    #[cfg(unix)]
    fn link(&self, target: &str, path: &Path) -> io::Result<()> {
        std::os::unix::fs::symlink(target, path)
    }

    #[cfg(windows)]
    fn link(&self, target: &str, path: &Path) -> io::Result<()> {
        std::os::windows::fs::symlink_file(target, path)
    }

    fn link_hard(&self, file: &Path, path: &Path) -> io::Result<()> {
        fs::hard_link(file, path)
    }

    fn dress(&self, path: &Path, attributes: &Attributes) -> io::Result<()> {
        attributes.give(path)
    }

    fn lock(&self, path: &Path) -> io::Result<Option<Lock>> {
        // Whoever had the lock before may have removed the file: then this lock is worth nothing.
        for _ in 0..LOCK_TRIES {
            let mut options = OpenOptions::new();
            options.write(true).create(true).truncate(false);
            let file = open_plain(&mut options, path)?;
            match file.try_lock() {
                Ok(()) => {}
                Err(TryLockError::WouldBlock) => return Ok(None),
                // Some network drives and cards know no locks: better no lock than no work.
                Err(TryLockError::Error(error)) if cannot_sync(&error) => {
                    return Ok(Some(Lock { _file: file }));
                }
                Err(TryLockError::Error(error)) => return Err(error),
            }
            let locked = Handle::from_file(file.try_clone()?)?;
            match Handle::from_path(path) {
                Ok(named) if named == locked => return Ok(Some(Lock { _file: file })),
                Ok(_) => {}
                Err(error) if error.kind() == io::ErrorKind::NotFound => {}
                Err(error) => return Err(error),
            }
        }
        Ok(None)
    }

    fn spelling(&self, folder: &Path, name: &OsStr) -> io::Result<Option<OsString>> {
        spelling::of(folder, name)
    }
}

/// How often a lock file that was removed while it was taken is made again.
const LOCK_TRIES: u32 = 16;

/// Files that hold a user's own are not for everybody.
fn private(options: &mut OpenOptions) {
    #[cfg(unix)]
    {
        use std::os::unix::fs::OpenOptionsExt as _;
        options.mode(0o600);
    }
    #[cfg(not(unix))]
    let _ = options;
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::atomic::AtomicU32;

    /// Whoever ends takes the lock's file out while it still holds it; whoever waited for that file then holds a
    /// lock that nobody else sees.
    #[test]
    fn no_two_ever_hold_a_lock_whose_file_comes_and_goes() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("lock");
        let (holding, taken) = (AtomicU32::new(0), AtomicU32::new(0));
        let turn = || {
            let disk = RealDisk::default();
            for _ in 0..4_000 {
                if let Ok(Some(lock)) = disk.lock(&path) {
                    assert_eq!(holding.fetch_add(1, Ordering::SeqCst), 0, "two hold it");
                    std::thread::yield_now();
                    holding.fetch_sub(1, Ordering::SeqCst);
                    taken.fetch_add(1, Ordering::SeqCst);
                    let _ = disk.remove(&path);
                    drop(lock);
                }
            }
        };
        std::thread::scope(|scope| (0..4).for_each(|_| drop(scope.spawn(turn))));
        assert!(taken.into_inner() > 100);
    }

    /// A file system that cannot sync, as some network drives and cards, is no reason to fail; it is remembered, and
    /// told once.
    #[cfg(unix)]
    #[test]
    fn a_disk_that_cannot_sync_is_remembered() {
        let folder = tempfile::tempdir().unwrap();
        let disk = RealDisk::default();
        disk.create(&folder.path().join("a")).unwrap().sync().unwrap();
        disk.sync_folder(folder.path()).unwrap();
        assert!(!disk.refused_to_sync());
        let null = OpenOptions::new().write(true).open("/dev/null").unwrap();
        assert!(cannot_sync(&null.sync_all().unwrap_err()), "a device that has nothing to sync");
        disk.out_file(null).sync().unwrap();
        assert!(disk.refused_to_sync());
        for (kind, refused) in [
            (io::ErrorKind::Unsupported, true),
            (io::ErrorKind::InvalidInput, true),
            (io::ErrorKind::StorageFull, false),
            (io::ErrorKind::Other, false),
        ] {
            assert_eq!(cannot_sync(&io::Error::from(kind)), refused, "{kind:?}");
        }
    }
}
