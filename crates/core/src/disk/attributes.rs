//! What a file has beside its contents: time, mode, owner, extended attributes.

#[cfg(unix)]
use deft_needle_audio::read::Private;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::fs::{self, FileTimes, OpenOptions};
use std::io;
use std::path::Path;
#[cfg(unix)]
use std::sync::OnceLock;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

/// Bytes of extended attributes that are kept of one file.
#[cfg(unix)]
const MOST_EXTENDED: usize = 1 << 16;

/// What a file has beside its contents, as far as the platform tells.
#[derive(Debug, Clone, Default, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct Attributes {
    /// When it was last changed, in nanoseconds since 1970; negative before.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub modified: Option<i64>,
    /// The mode of Unix.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mode: Option<u32>,
    /// User and group of Unix.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub owner: Option<(u32, u32)>,
    /// Whether it is read-only, where there is no mode.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub read_only: bool,
    /// Extended attributes, access lists of Linux among them, in hexadecimal.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub extended: BTreeMap<String, String>,
    /// The number that the file system knows it by, where it has several names (hard links).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub number: Option<u64>,
}

impl Attributes {
    /// Those of a file; links are not followed.
    ///
    /// # Errors
    /// The system's, where it cannot even be looked at.
    pub fn of(path: &Path) -> io::Result<Self> {
        let found = fs::symlink_metadata(path)?;
        let mut all =
            Self { modified: found.modified().ok().and_then(since_1970), ..Self::default() };
        #[cfg(unix)]
        {
            use std::os::unix::fs::MetadataExt as _;
            all.mode = Some(found.mode() & 0o7777);
            all.owner = Some((found.uid(), found.gid()));
            if found.nlink() > 1 {
                all.number = Some(found.ino());
            }
            if found.is_file() {
                all.extended = extended(path);
            }
        }
        #[cfg(not(unix))]
        {
            all.read_only = found.permissions().readonly();
        }
        Ok(all)
    }

    /// When the file was last changed, in whole seconds since 1970.
    pub fn changed_at(&self) -> Option<u64> {
        u64::try_from(self.modified? / 1_000_000_000).ok()
    }

    /// The number that the file system knows a file by, where it tells.
    pub fn number_of(path: &Path) -> Option<u64> {
        #[cfg(unix)]
        {
            use std::os::unix::fs::MetadataExt as _;
            fs::symlink_metadata(path).ok().map(|found| found.ino())
        }
        #[cfg(not(unix))]
        {
            let _ = path;
            None
        }
    }

    /// What of these another file lacks, in words.
    pub fn lacking(&self, other: &Self) -> Vec<&'static str> {
        let mut all = Vec::new();
        if self.modified.is_some() && self.modified != other.modified {
            all.push("the time");
        }
        if self.mode != other.mode || self.read_only != other.read_only {
            all.push("the mode");
        }
        if self.owner.is_some() && self.owner != other.owner {
            all.push("the owner");
        }
        if self.extended != other.extended {
            all.push("extended attributes");
        }
        if self.number.is_some() && self.number != other.number {
            all.push("hard links");
        }
        all
    }

    /// Those that a new file takes over from the one whose place it takes: all but the time.
    #[must_use]
    pub fn of_place(mut self) -> Self {
        self.modified = None;
        self
    }

    /// Those of a file that this user makes anew: others may read it as far as the user's mask lets them.
    pub fn usual() -> Self {
        #[cfg(unix)]
        {
            use std::os::unix::fs::PermissionsExt as _;
            static MODE: OnceLock<u32> = OnceLock::new();
            // Only a file tells the mask without changing it for other threads.
            let told = || {
                let folder = Private::new().ok()?;
                let made = fs::File::create_new(folder.path().join("usual")).ok()?;
                Some(made.metadata().ok()?.permissions().mode() & 0o7777)
            };
            // A disk that failed once is asked again.
            let mode = MODE.get().copied().or_else(told).or_else(told);
            let mode = mode.map(|mode| *MODE.get_or_init(|| mode));
            Self { mode, ..Self::default() }
        }
        #[cfg(not(unix))]
        Self::default()
    }

    /// Gives them to a file that this user may write. What the platform or the user's rights do not
    /// allow is left out.
    ///
    /// # Errors
    /// The system's, where the time or the mode could not be set.
    pub fn give(&self, path: &Path) -> io::Result<()> {
        if let Some(time) = self.modified.and_then(after_1970) {
            let file = OpenOptions::new().write(true).open(path)?;
            let mut times = FileTimes::new().set_modified(time);
            // Some file systems take both times or none.
            if let Ok(accessed) = file.metadata().and_then(|found| found.accessed()) {
                times = times.set_accessed(accessed);
            }
            file.set_times(times)?;
        }
        #[cfg(unix)]
        {
            use std::os::unix::fs::{PermissionsExt as _, chown};
            if let Some((user, group)) = self.owner {
                // Only the superuser may give files away.
                let _ = chown(path, Some(user), Some(group));
            }
            for (name, value) in &self.extended {
                if let Some(value) = unhex(value) {
                    let _ = xattr::set(path, name, &value);
                }
            }
            if let Some(mode) = self.mode {
                fs::File::open(path)?.set_permissions(fs::Permissions::from_mode(mode))?;
            }
        }
        #[cfg(not(unix))]
        if self.read_only {
            let mut permissions = fs::metadata(path)?.permissions();
            permissions.set_readonly(true);
            fs::set_permissions(path, permissions)?;
        }
        Ok(())
    }
}

fn since_1970(time: SystemTime) -> Option<i64> {
    let nanos = |since: Duration| i64::try_from(since.as_nanos()).ok();
    match time.duration_since(UNIX_EPOCH) {
        Ok(since) => nanos(since),
        Err(before) => nanos(before.duration()).map(|nanos| -nanos),
    }
}

fn after_1970(nanos: i64) -> Option<SystemTime> {
    let since = Duration::from_nanos(nanos.unsigned_abs());
    match nanos < 0 {
        true => UNIX_EPOCH.checked_sub(since),
        false => UNIX_EPOCH.checked_add(since),
    }
}

#[cfg(unix)]
fn extended(path: &Path) -> BTreeMap<String, String> {
    let mut all = BTreeMap::new();
    let mut room = MOST_EXTENDED;
    for name in xattr::list(path).into_iter().flatten() {
        let Some(name) = name.to_str().map(str::to_owned) else {
            continue;
        };
        let Ok(Some(value)) = xattr::get(path, &name) else {
            continue;
        };
        let Some(left) = room.checked_sub(value.len()) else {
            break;
        };
        room = left;
        all.insert(name, hex(&value));
    }
    all
}

#[cfg(unix)]
fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

#[cfg(unix)]
fn unhex(text: &str) -> Option<Vec<u8>> {
    let pairs = text.as_bytes().chunks(2);
    let byte = |pair: &[u8]| u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok();
    pairs.map(byte).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_gets_all_that_another_had() {
        let folder = tempfile::tempdir().unwrap();
        let (from, to) = (folder.path().join("a"), folder.path().join("b"));
        for path in [&from, &to] {
            fs::write(path, b"x").unwrap();
        }
        let old = UNIX_EPOCH + Duration::new(981_173_106, 123_456_700);
        let file = fs::File::options().write(true).open(&from).unwrap();
        file.set_modified(old).unwrap();
        #[cfg(unix)]
        {
            use std::os::unix::fs::PermissionsExt as _;
            fs::set_permissions(&from, fs::Permissions::from_mode(0o440)).unwrap();
            let _ = xattr::set(&from, "user.note", b"ours");
        }
        let kept = Attributes::of(&from).unwrap();
        let json = serde_json::to_string(&kept).unwrap();
        let read: Attributes = serde_json::from_str(&json).unwrap();
        read.give(&to).unwrap();
        assert_eq!(Attributes::of(&to).unwrap(), kept);
        assert_eq!(fs::metadata(&to).unwrap().modified().unwrap(), old);
    }
}
