//! Files that a proof has made, kept for the installation that follows: nothing is fitted twice. They lie in the user's own
//! folder, named by all that decides their bytes, and are never believed further than their hashes.

use crate::disk::Disk;
use crate::disk::data_folder;
use crate::disk::{Durable, make_file, write_part};
use crate::error::{Error, Result};
use crate::hash::Hash;
use crate::limits;
use deft_needle_audio::Error as AudioError;
use deft_needle_audio::read::open_regular;
use deft_needle_audio::render::Outcome;
use deft_needle_audio::write::Out;
use serde::{Deserialize, Serialize};
use std::path::{Path, PathBuf};
use std::time::SystemTime;

/// What all of them may take; the oldest make room.
const MOST: u64 = 512 << 20;

/// Whether a file is named as those that are kept here.
fn is_ours(path: &Path) -> bool {
    let part =
        |part: Option<&std::ffi::OsStr>| part.unwrap_or_default().to_string_lossy().into_owned();
    let (stem, extension) = (part(path.file_stem()), part(path.extension()));
    let is_hash = stem.len() == 64 && stem.bytes().all(|byte| byte.is_ascii_hexdigit());
    is_hash && ["file", "json"].contains(&extension.as_str())
}

/// What is known of a kept file beside its bytes.
#[derive(Serialize, Deserialize)]
struct Kept {
    hash: Hash,
    outcome: Outcome,
}

/// The kept files of this user; nothing is kept where the system names no folder.
#[derive(Debug, Clone)]
pub struct FitCache {
    folder: Option<PathBuf>,
}

impl FitCache {
    /// This user's.
    pub fn of_user() -> Self {
        Self { folder: data_folder().map(|folder| folder.join("fitted")) }
    }

    fn paths(&self, key: Hash) -> Option<[PathBuf; 2]> {
        let folder = self.folder.as_ref()?;
        Some(["file", "json"].map(|extension| folder.join(format!("{}.{extension}", key.hex()))))
    }

    /// Copies the file of a key to `part`, and proves it; gives what only rendering knew of it. Whatever is wrong with it,
    /// nothing is left at `part` and the file is made anew.
    pub fn take(&self, key: Hash, part: &Path, disk: &dyn Disk) -> Option<Outcome> {
        let [file, told] = self.paths(key)?;
        let text = crate::disk::read_plain(&told, limits::LIST).ok()?;
        let kept: Kept = serde_json::from_slice(&text).ok()?;
        copy(&file, part, disk).ok()?;
        if Hash::of_file(part).is_ok_and(|found| found == kept.hash) {
            return Some(kept.outcome);
        }
        let _ = disk.remove(part);
        None
    }

    /// Keeps a file that was made and proved, and has this hash: what a broken write leaves does not, and is never used.
    ///
    /// # Errors
    /// Those of writing; who keeps files for later may pass over them.
    pub fn keep(
        &self,
        key: Hash,
        made: &Path,
        hash: Hash,
        outcome: &Outcome,
        disk: &dyn Disk,
    ) -> Result<()> {
        let Some([file, told]) = self.paths(key) else {
            return Ok(());
        };
        if let Some(folder) = file.parent().filter(|folder| !folder.is_dir()) {
            std::fs::create_dir_all(folder).map_err(Error::write("make", folder))?;
        }
        let kept = Kept { hash, outcome: outcome.clone() };
        let text = serde_json::to_vec(&kept).unwrap_or_default();
        for old in [&told, &file] {
            let _ = disk.remove(old);
        }
        copy(made, &file, disk)?;
        write_part(&told, &text, disk)
    }

    /// Makes room: the oldest go.
    pub fn trim(&self, disk: &dyn Disk) {
        let Some(entries) = self.folder.as_ref().and_then(|folder| folder.read_dir().ok()) else {
            return;
        };
        let mut all: Vec<(SystemTime, u64, PathBuf)> = entries
            .flatten()
            .filter_map(|entry| {
                let found = entry.metadata().ok().filter(std::fs::Metadata::is_file)?;
                is_ours(&entry.path()).then_some(())?;
                Some((found.modified().ok()?, found.len(), entry.path()))
            })
            .collect();
        all.sort();
        let mut takes: u64 = all.iter().map(|(_, bytes, _)| bytes).sum();
        for (_, bytes, path) in all {
            if takes <= MOST {
                break;
            }
            if disk.remove(&path).is_ok() {
                takes -= bytes;
            }
        }
    }
}

/// Copies a file; only its hash tells whether all of it came.
fn copy(from: &Path, to: &Path, disk: &dyn Disk) -> Result<()> {
    let mut source = open_regular(from).map_err(Error::read(from))?;
    let make = |file: &mut dyn Out| {
        std::io::copy(&mut source, file).map_err(|source| AudioError::Write { source })
    };
    make_file(to, Durable::No, disk, make, |_, _| Ok(())).map(drop)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::disk::RealDisk;
    use deft_needle_audio::render::Proof;
    use deft_needle_audio::shape::limit::Limited;

    #[test]
    fn what_is_kept_comes_back_or_is_made_anew() {
        let folder = tempfile::tempdir().unwrap();
        let fit_cache = FitCache { folder: Some(folder.path().join("fitted")) };
        let disk = RealDisk::default();
        let (made, part) = (folder.path().join("made"), folder.path().join("part"));
        std::fs::write(&made, b"a fitted file").unwrap();
        let outcome = Outcome {
            overs: 3,
            not_numbers: 0,
            limited: Limited { most: -2.5, frames: 7, distortion: 0.01 },
            correlation: None,
            proof: Proof::SameFile,
        };
        let key = Hash::of(b"all that decides it");
        assert_eq!(fit_cache.take(key, &part, &disk), None);
        let hash = Hash::of(b"a fitted file");
        // Again, over what is there.
        for _ in 0..2 {
            fit_cache.keep(key, &made, hash, &outcome, &disk).unwrap();
        }
        assert_eq!(fit_cache.take(key, &part, &disk), Some(outcome));
        assert_eq!(std::fs::read(&part).unwrap(), b"a fitted file");
        std::fs::remove_file(&part).unwrap();
        // A byte that has changed, and a text that is none.
        let [file, told] = fit_cache.paths(key).unwrap();
        std::fs::write(&file, b"another file!").unwrap();
        assert_eq!(fit_cache.take(key, &part, &disk), None);
        std::fs::write(&told, b"{").unwrap();
        assert_eq!(fit_cache.take(key, &part, &disk), None);
        assert!(!part.exists());
        fit_cache.trim(&disk);
        assert!(file.exists());
    }
}
