//! The only way in which anything here changes a disk.

mod attributes;
mod files;
mod kind;
mod own;
mod part;
mod plain;
mod promises;
mod random;
mod real;
mod spelling;

pub use attributes::Attributes;
pub use files::{
    Durable, copy_file, make_file, put_bytes, put_copy, put_file, put_in_place, same_file,
    write_part,
};
pub use kind::Kind;
pub use own::{DATA, data_folder};
pub use part::{Part, sweep_once};
pub use plain::{open_plain, read_at_most, read_input, read_plain};
pub use promises::{Promises, promises};
pub(crate) use random::random;
pub use real::RealDisk;

use real::cannot_sync;
use std::ffi::{OsStr, OsString};
use std::fs::File;
use std::io::{self, Seek, Write};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};

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

/// A lock that is held until it is dropped, or until the program ends in whatever way.
#[derive(Debug)]
pub struct Lock {
    _file: File,
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

#[cfg(test)]
pub(crate) mod tests {
    pub mod faulty;
}
