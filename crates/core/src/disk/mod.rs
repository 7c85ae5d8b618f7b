//! The only way in which anything here changes a disk.

mod attributes;
mod part;
mod promises;
mod spelling;

pub use attributes::Attributes;
pub use part::{Part, sweep_once};
pub use promises::{Promises, promises};

use same_file::Handle;
use std::ffi::{OsStr, OsString};
use std::fs::{self, File, OpenOptions, TryLockError};
use std::io::{self, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};

/// A file being written.
pub trait OutFile: Write + Seek + Send {
    /// Waits until all that was written is on the disk itself.
    ///
    /// # Errors
    /// The system's.
    fn sync(&mut self) -> io::Result<()>;
}

/// Everything that changes a disk. The tests have disks that fail and disks that forget.
#[expect(clippy::missing_errors_doc, reason = "all of them give the system's errors")]
pub trait Disk: Sync {
    /// Makes a file where nothing is yet, readable to this user alone until it is given its
    /// [`Attributes`]. Anything that has the name already, a link too, is an error.
    fn create(&self, path: &Path) -> io::Result<Box<dyn OutFile>>;
    /// Opens a regular file to write at its end, making it where there is none; a link is an error.
    fn append(&self, path: &Path) -> io::Result<Box<dyn OutFile>>;
    /// Waits until all that was written to a file is on the disk itself; a link is an error.
    fn sync_file(&self, path: &Path) -> io::Result<()>;
    /// Cuts a file to this many bytes.
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
    /// Makes a symbolic link that says `target`.
    fn link(&self, target: &str, path: &Path) -> io::Result<()>;
    /// Makes another name for a file, on the same file system.
    fn link_hard(&self, file: &Path, path: &Path) -> io::Result<()>;
    /// Gives a file the attributes of another.
    fn dress(&self, path: &Path, attributes: &Attributes) -> io::Result<()>;
    /// Makes a lock file and takes its lock; `None` where somebody else has it. The lock is that of the
    /// file that has the name once it is taken.
    fn lock(&self, path: &Path) -> io::Result<Option<Lock>>;
    /// How a folder itself spells a name, which a file system that ignores case or the form of accents
    /// finds under others, too; `None` where it has nothing of that name.
    fn spelling(&self, folder: &Path, name: &OsStr) -> io::Result<Option<OsString>>;
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

/// Gives a file that was made here its attributes, as far as its file system has them: some cards have no modes.
///
/// # Errors
/// The system's, for all else: a file that stays its maker's alone is no use where others are to read it.
pub fn dress_made(disk: &dyn Disk, path: &Path, attributes: &Attributes) -> io::Result<()> {
    match disk.dress(path, attributes) {
        Err(error) if has_none(&error) => Ok(()),
        other => other,
    }
}

/// What file systems answer that have no modes, or let nobody set them.
fn has_none(error: &io::Error) -> bool {
    error.kind() == io::ErrorKind::PermissionDenied || cannot_sync(error)
}

/// Files that wait for the disk at once: file systems write what waits together in one go.
const WAITING: usize = 64;

/// Waits until all files are on the disk itself; what the system said of each, in their order.
pub fn sync_files(disk: &dyn Disk, paths: &[PathBuf]) -> Vec<io::Result<()>> {
    let synced = at_once(paths, |path| disk.sync_file(path));
    // What no thread has told of is not on the disk.
    let untold = || Err(io::Error::other("nothing waited for the disk"));
    synced.into_iter().map(|synced| synced.unwrap_or_else(untold)).collect()
}

/// Work that waits for the disk, done for many at once; what came of each, in their order, and nothing where a thread
/// did not come back.
pub fn at_once<T: Sync, R: Send>(all: &[T], work: impl Fn(&T) -> R + Sync) -> Vec<Option<R>> {
    let next = AtomicUsize::new(0);
    let turn = || {
        let mut done = Vec::new();
        while let at = next.fetch_add(1, Ordering::Relaxed)
            && let Some(one) = all.get(at)
        {
            done.push((at, work(one)));
        }
        done
    };
    let mut results: Vec<Option<R>> = all.iter().map(|_| None).collect();
    let done = std::thread::scope(|scope| {
        let more = 1..all.len().min(WAITING);
        let threads =
            more.map_while(|_| std::thread::Builder::new().spawn_scoped(scope, turn).ok());
        let threads: Vec<_> = threads.collect();
        let mut done = turn();
        done.extend(threads.into_iter().filter_map(|thread| thread.join().ok()).flatten());
        done
    });
    for (at, result) in done {
        results[at] = Some(result);
    }
    results
}

/// What file systems answer that have no sync.
fn cannot_sync(error: &io::Error) -> bool {
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

/// Opens a regular file: no link is followed, and a pipe or a device is not waited for.
///
/// # Errors
/// The system's; [`io::ErrorKind::InvalidInput`] where it is something else.
pub fn open_plain(options: &mut OpenOptions, path: &Path) -> io::Result<File> {
    #[cfg(unix)]
    {
        use std::os::unix::fs::OpenOptionsExt as _;
        options.custom_flags(libc::O_NOFOLLOW | libc::O_NONBLOCK);
    }
    if fs::symlink_metadata(path).is_ok_and(|found| !found.is_file()) {
        return Err(not_plain());
    }
    let file = options.open(path)?;
    match file.metadata()?.is_file() {
        true => Ok(file),
        false => Err(not_plain()),
    }
}

fn not_plain() -> io::Error {
    io::Error::new(
        io::ErrorKind::InvalidInput,
        "a link, pipe, device or folder, not a regular file",
    )
}

/// All bytes of a regular file of at most `most` bytes, links not followed.
///
/// # Errors
/// As [`open_plain`]; [`io::ErrorKind::FileTooLarge`].
pub fn read_plain(path: &Path, most: u64) -> io::Result<Vec<u8>> {
    read_at_most(open_plain(OpenOptions::new().read(true), path)?, most)
}

/// All bytes of a regular file of the user's, links followed, of at most `most` bytes.
///
/// # Errors
/// The system's; [`io::ErrorKind::FileTooLarge`].
pub fn read_input(path: &Path, most: u64) -> io::Result<Vec<u8>> {
    read_at_most(deft_needle_audio::read::open_regular(path)?, most)
}

/// All that a reader gives, which must be at most `most` bytes.
///
/// # Errors
/// The reader's; [`io::ErrorKind::FileTooLarge`].
pub fn read_at_most(reader: impl io::Read, most: u64) -> io::Result<Vec<u8>> {
    use io::Read as _;
    let mut bytes = Vec::new();
    reader.take(most.saturating_add(1)).read_to_end(&mut bytes)?;
    match deft_needle_audio::num::count(bytes.len()) > most {
        true => Err(io::Error::new(
            io::ErrorKind::FileTooLarge,
            format!("it is larger than {most} bytes"),
        )),
        false => Ok(bytes),
    }
}

#[cfg(test)]
pub(crate) mod tests {
    pub mod faulty;

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
