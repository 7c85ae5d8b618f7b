//! Private folders for what has to lie in a file for a while. One of a run that was killed is removed by
//! the next run.

use std::fs::{self, File, TryLockError};
use std::io::{self, Write as _};
use std::path::{Path, PathBuf};
use std::sync::Once;
use tempfile::TempDir;

/// How their names begin.
const PREFIX: &str = "deft-needle-run-";
/// What tells whether a folder's run still lives.
const LOCK: &str = "lock";
/// Entries of the temporary folder that are looked at for leftovers.
const MOST: usize = 10_000;

static SWEPT: Once = Once::new();

/// A folder that only this user can look into, gone with its owner.
#[derive(Debug)]
pub struct Private {
    _lock: Option<File>,
    _folder: TempDir,
    files: PathBuf,
}

impl Private {
    /// A new one in the system's temporary folder.
    ///
    /// # Errors
    /// The system's.
    pub fn new() -> io::Result<Self> {
        let within = std::env::temp_dir();
        SWEPT.call_once(|| sweep(&within));
        Self::within(&within)
    }

    fn within(within: &Path) -> io::Result<Self> {
        let folder = tempfile::Builder::new().prefix(PREFIX).tempdir_in(within)?;
        // Without one, nothing is ever swept either.
        let lock = held(&folder.path().join(LOCK), &[]).ok();
        let files = folder.path().join("files");
        fs::create_dir(&files)?;
        Ok(Self { _lock: lock, _folder: folder, files })
    }

    /// Where it is.
    pub fn path(&self) -> &Path {
        &self.files
    }
}

/// How the name of a file ends that does not count yet.
pub const UNHELD: &str = "unheld";

/// Makes a file by which a run tells that it lives: it is locked before it has its name, so that whoever sweeps never
/// finds one that nobody holds yet.
///
/// # Errors
/// The system's; nothing is left then.
pub fn held(path: &Path, bytes: &[u8]) -> io::Result<File> {
    let unheld = path.with_extension(UNHELD);
    let mut file = File::create_new(&unheld)?;
    // Where there are no locks, none is ever taken for free either.
    let _ = file.try_lock();
    let named = file.write_all(bytes).and_then(|()| fs::rename(&unheld, path));
    named.inspect_err(|_| {
        let _ = fs::remove_file(&unheld);
    })?;
    Ok(file)
}

/// Removes the folders of runs that are gone.
fn sweep(within: &Path) {
    for entry in fs::read_dir(within).into_iter().flatten().flatten().take(MOST) {
        let name = entry.file_name();
        let is_folder = entry.file_type().is_ok_and(|kind| kind.is_dir());
        if !is_folder || !name.to_string_lossy().starts_with(PREFIX) || !is_ours(&entry) {
            continue;
        }
        let lock = entry.path().join(LOCK);
        let is_file = fs::symlink_metadata(&lock).is_ok_and(|found| found.is_file());
        let Some(lock) = is_file.then(|| File::open(&lock).ok()).flatten() else {
            continue;
        };
        match lock.try_lock() {
            Ok(()) => {
                // Links within are removed, never followed.
                let _ = fs::remove_dir_all(entry.path());
            }
            Err(TryLockError::WouldBlock | TryLockError::Error(_)) => {}
        }
    }
}

/// Whether this user has made a folder, and nobody else can write into it.
#[cfg(unix)]
fn is_ours(entry: &fs::DirEntry) -> bool {
    use std::os::unix::fs::MetadataExt as _;
    let own = tempfile::tempfile().and_then(|file| file.metadata());
    let found = fs::symlink_metadata(entry.path());
    found.is_ok_and(|found| {
        own.is_ok_and(|own| own.uid() == found.uid()) && found.mode() & 0o022 == 0
    })
}

#[cfg(not(unix))]
fn is_ours(_: &fs::DirEntry) -> bool {
    true
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::atomic::{AtomicBool, Ordering};

    #[test]
    fn nothing_is_swept_while_it_is_made() {
        let within = tempfile::tempdir().unwrap();
        let done = AtomicBool::new(false);
        std::thread::scope(|scope| {
            for _ in 0..2 {
                scope.spawn(|| {
                    while !done.load(Ordering::Relaxed) {
                        sweep(within.path());
                    }
                });
            }
            let all = (0..2000).all(|_| {
                let made = Private::within(within.path());
                made.is_ok_and(|made| fs::write(made.path().join("spool"), b"x").is_ok())
            });
            done.store(true, Ordering::Relaxed);
            assert!(all);
        });
    }

    #[test]
    fn only_folders_whose_run_is_gone_are_swept() {
        let within = tempfile::tempdir().unwrap();
        let living = Private::within(within.path()).unwrap();
        let dead = within.path().join(format!("{PREFIX}dead"));
        let strange = within.path().join("deft-needle-other");
        for folder in [&dead, &strange] {
            fs::create_dir(folder).unwrap();
            fs::write(folder.join(LOCK), b"").unwrap();
            fs::write(folder.join("spool"), b"x").unwrap();
        }
        sweep(within.path());
        assert!(living.path().is_dir() && strange.is_dir() && !dead.exists());
    }
}
