//! Hashes of files that need not be read again while their size and time stamp tell nothing new.

use crate::disk::put_bytes;
use crate::disk::{Disk, read_plain};
use crate::error::Result;
use crate::hash::Hash;
use crate::limits;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

/// A file that was changed later than this before it was hashed may change again under the same stamp:
/// the time stamps of FAT count two seconds, and clocks of network drives go their own way.
const RECENT: Duration = Duration::from_secs(3);

/// What was known of a file when it was read.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
struct Stamp {
    bytes: u64,
    changed: Duration,
    hash: Hash,
}

/// Hashes by path. Losing them costs time, nothing else.
#[derive(Debug, Default)]
pub struct HashCache {
    known: Mutex<BTreeMap<String, Stamp>>,
    new: Mutex<bool>,
}

/// Where they are kept in a ledger's folder.
pub fn path_in(ledger: &Path) -> PathBuf {
    ledger.join("stamps.json")
}

fn look(path: &Path) -> Option<(u64, Duration)> {
    let found = fs::metadata(path).ok()?;
    let changed = found.modified().ok()?.duration_since(UNIX_EPOCH).ok()?;
    Some((found.len(), changed))
}

impl HashCache {
    /// Those that a ledger keeps; none where they cannot be read.
    pub fn load(ledger: &Path) -> Self {
        let bytes = read_plain(&path_in(ledger), limits::LIST).unwrap_or_default();
        Self {
            known: Mutex::new(serde_json::from_slice(&bytes).unwrap_or_default()),
            new: Mutex::new(false),
        }
    }

    /// The hash of a file: read again unless its stamp is old enough to be trusted.
    ///
    /// # Errors
    /// As [`Hash::of_file`].
    pub fn hash(&self, path: &Path) -> Result<Hash> {
        let Some((bytes, changed)) = look(path) else {
            return Hash::of_file(path);
        };
        let name = path.to_string_lossy().into_owned();
        let known = self.known.lock().ok().and_then(|k| k.get(&name).copied());
        if let Some(known) = known.filter(|k| (k.bytes, k.changed) == (bytes, changed)) {
            return Ok(known.hash);
        }
        let hash = Hash::of_file(path)?;
        let now = SystemTime::now().duration_since(UNIX_EPOCH);
        let settled = now.is_ok_and(|now| now > changed + RECENT);
        if settled
            && look(path) == Some((bytes, changed))
            && let (Ok(mut all), Ok(mut new)) = (self.known.lock(), self.new.lock())
        {
            let stamp = Stamp { bytes, changed, hash };
            all.insert(name, stamp);
            *new = true;
        }
        Ok(hash)
    }

    /// Keeps them beside a ledger that is there, leaving out files that are gone.
    pub fn save(&self, ledger: &Path, disk: &dyn Disk) {
        let (Ok(mut known), Ok(new)) = (self.known.lock(), self.new.lock()) else {
            return;
        };
        if !*new || !ledger.is_dir() {
            return;
        }
        known.retain(|path, _| Path::new(path).exists());
        if let Ok(bytes) = serde_json::to_vec(&*known) {
            let _ = put_bytes(&path_in(ledger), &bytes, disk);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::disk::RealDisk;

    fn aged(path: &Path, bytes: &[u8], seconds: u64) {
        fs::write(path, bytes).unwrap();
        let time = SystemTime::now() - Duration::from_secs(seconds);
        let file = fs::File::options().write(true).open(path).unwrap();
        file.set_modified(time).unwrap();
    }

    #[test]
    fn only_settled_stamps_are_trusted() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("a");
        aged(&file, b"one", 60);
        let hash_cache = HashCache::default();
        assert_eq!(hash_cache.hash(&file).unwrap(), Hash::of(b"one"));
        let before = look(&file).unwrap();
        hash_cache.save(folder.path(), &RealDisk::default());
        // Other contents under the old stamp show that the file was not read again …
        let time = fs::metadata(&file).unwrap().modified().unwrap();
        fs::write(&file, b"two").unwrap();
        let open = fs::File::options().write(true).open(&file).unwrap();
        open.set_modified(time).unwrap();
        assert_eq!(look(&file).unwrap(), before);
        let again = HashCache::load(folder.path());
        assert_eq!(again.hash(&file).unwrap(), Hash::of(b"one"));
        // … a new size or stamp that it was, and a recent stamp is never kept.
        fs::write(&file, b"three").unwrap();
        assert_eq!(again.hash(&file).unwrap(), Hash::of(b"three"));
        fs::write(&file, b"THREE").unwrap();
        assert_eq!(again.hash(&file).unwrap(), Hash::of(b"THREE"));
    }
}
