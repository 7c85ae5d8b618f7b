//! The folder of a ledger: its log, kept twice, and the copies of stock.

use super::log::{self, Log};
use super::record::Record;
use super::state::State;
use crate::disk::Disk;
use crate::error::{Error, Result};
use crate::names::PART;
use crate::refusal::OddPath;
use crate::root::Kind;
use std::collections::BTreeMap;
use std::io::{self, Read as _, Write as _};
use std::path::{Path, PathBuf};

/// How the name of a copy ends that is being made.
pub const UNFINISHED: &str = ".new";
/// Digits of a copy's name.
const DIGITS: usize = 64;
/// How the names of logs begin that were damaged.
const RETIRED: &str = "damaged-";
/// Room that is held back for the log beside what a restore of all that is installed writes, so that it goes on when the
/// disk is full.
const RESERVE: u64 = 1 << 15;

/// The folder of a ledger.
#[derive(Debug, Clone)]
pub struct LedgerDir {
    folder: PathBuf,
}

/// Both files of the log.
#[derive(Debug)]
pub struct Written {
    folder: PathBuf,
    files: [Log; 2],
    /// Copies of stock.
    copies: Vec<String>,
}

impl LedgerDir {
    pub fn new(folder: &Path) -> Self {
        Self { folder: folder.to_owned() }
    }

    pub fn folder(&self) -> &Path {
        &self.folder
    }

    pub fn stock(&self) -> PathBuf {
        self.folder.join("stock")
    }

    pub fn log(&self) -> PathBuf {
        self.folder.join("ledger.log")
    }

    /// The log once more, next to the copies that it names.
    pub fn twin(&self) -> PathBuf {
        self.stock().join("ledger.log")
    }

    pub fn lock(&self) -> PathBuf {
        self.folder.join("lock")
    }

    fn reserved(&self) -> PathBuf {
        self.folder.join("reserve")
    }

    /// Whether there is a folder, and nothing in it that could lead elsewhere.
    ///
    /// # Errors
    /// [`Error::Refused`] where the folder, or something in it, is a link or of another kind than ours
    /// are, or where the folder holds what is not ours.
    pub fn is_there(&self) -> Result<bool> {
        let odd = |path: &Path| Err(OddPath::NotOurLedger.of(path));
        match Kind::of(&self.folder)? {
            Kind::Nothing => return Ok(false),
            Kind::Folder => {}
            Kind::Link | Kind::File | Kind::Other => return odd(&self.folder),
        }
        for (path, wanted) in [
            (self.stock(), Kind::Folder),
            (self.log(), Kind::File),
            (self.twin(), Kind::File),
            (self.lock(), Kind::File),
            (self.reserved(), Kind::File),
        ] {
            match Kind::of(&path)? {
                Kind::Nothing => {}
                found if found == wanted => {}
                _ => return odd(&path),
            }
        }
        if !crate::root::is_ledger(&self.folder) {
            const OURS: [&str; 5] = ["stock", "ledger.log", "lock", "reserve", "stamps.json"];
            let entries = std::fs::read_dir(&self.folder).map_err(Error::read(&self.folder))?;
            let names = entries.flatten().map(|entry| entry.file_name());
            let strange = |name: &std::ffi::OsString| {
                let name = name.to_string_lossy();
                let own = name.starts_with(RETIRED) || name.starts_with(PART);
                !own && !OURS.iter().any(|own| name == *own)
            };
            if let Some(name) = names.into_iter().find(strange) {
                return odd(&self.folder.join(name));
            }
            let copies = self.copies();
            for entry in std::fs::read_dir(self.stock()).into_iter().flatten().flatten() {
                let name = entry.file_name().to_string_lossy().into_owned();
                let own =
                    name == "ledger.log" || copies.contains(&name) || name.ends_with(UNFINISHED);
                if !own || !entry.file_type().is_ok_and(|kind| kind.is_file()) {
                    return odd(&entry.path());
                }
            }
            // Copies without a log are dealt with as a damaged ledger.
            for path in [self.log(), self.twin()] {
                let file = log::read(&path)?;
                if copies.is_empty() && file.bytes > 0 && !file.torn && file.records.is_empty() {
                    return odd(&path);
                }
            }
        }
        Ok(true)
    }

    /// The names of copies.
    pub fn copies(&self) -> Vec<String> {
        let is_copy =
            |name: &String| name.len() == DIGITS && name.bytes().all(|b| b.is_ascii_hexdigit());
        let names = crate::tree::names_in(&self.stock()).into_iter();
        names.filter(is_copy).collect()
    }

    /// The names of copies that were never finished.
    pub fn unfinished(&self) -> Vec<String> {
        let names = crate::tree::names_in(&self.stock()).into_iter();
        names.filter(|name| name.ends_with(UNFINISHED)).collect()
    }

    /// Reads both files of the log.
    ///
    /// # Errors
    /// [`Error::Read`].
    pub fn read(&self) -> Result<Written> {
        Ok(Written {
            folder: self.folder.clone(),
            files: [log::read(&self.log())?, log::read(&self.twin())?],
            copies: self.copies(),
        })
    }

    /// All records that can be read, those of logs that were retired first.
    ///
    /// # Errors
    /// [`Error::Read`].
    pub fn all_records(&self) -> Result<Vec<Record>> {
        let mut all = Vec::new();
        let retired = self.retired();
        for pair in retired.chunks(2) {
            let mut records = BTreeMap::new();
            for name in pair {
                records.extend(log::read(&self.folder.join(name))?.records);
            }
            all.extend(records.into_values());
        }
        all.extend(self.read()?.records().into_values());
        Ok(all)
    }

    /// The names of logs that were damaged, two of each time.
    fn retired(&self) -> Vec<String> {
        let names = crate::tree::names_in(&self.folder).into_iter();
        names.filter(|name| name.starts_with(RETIRED)).collect()
    }

    /// Puts a damaged log aside.
    ///
    /// # Errors
    /// [`Error::Write`].
    pub fn retire(&self, disk: &dyn Disk) -> Result<()> {
        let number = self.retired().len() / 2 + 1;
        for (path, which) in [(self.log(), "a"), (self.twin(), "b")] {
            let to = self.folder.join(format!("{RETIRED}{number:04}{which}.log"));
            let moved = match path.exists() {
                true => disk.rename(&path, &to),
                false => disk.create(&to).map(drop),
            };
            moved.map_err(Error::write("put aside", &path))?;
        }
        Ok(())
    }

    /// Writes at the end of both files. What failed is told with whether both were cut back.
    pub fn append(&self, bytes: &[u8], disk: &dyn Disk) -> Result<(), (Error, bool)> {
        let files = [self.log(), self.twin()];
        let length = |path: &PathBuf| path.symlink_metadata().map_or(0, |found| found.len());
        let before = files.each_ref().map(length);
        let write = || -> Result<()> {
            for path in &files {
                let written = log::append(path, bytes, disk);
                written.map_err(Error::write("write", path))?;
            }
            Ok(())
        };
        let cut = || {
            let mut pairs = files.iter().zip(before);
            pairs.all(|(path, length)| !path.exists() || disk.truncate(path, length).is_ok())
        };
        let Err(error) = write() else {
            return Ok(());
        };
        let is_cut = cut();
        let full = matches!(&error, Error::Write { source, .. } if source.kind() == io::ErrorKind::StorageFull);
        if full && is_cut && disk.remove(&self.reserved()).is_ok() {
            return match write() {
                Ok(()) => Ok(()),
                Err(error) => Err((error, cut())),
            };
        }
        Err((error, is_cut))
    }

    /// Holds room back for what a restore of everything writes into the log.
    ///
    /// # Errors
    /// [`Error::Write`], as where there is no room.
    pub fn reserve(&self, bytes: u64, disk: &dyn Disk) -> Result<()> {
        let path = self.reserved();
        let there = path.symlink_metadata().map_or(0, |found| found.len());
        let Some(lacking) = (bytes + RESERVE).checked_sub(there).filter(|lacking| *lacking > 0)
        else {
            return Ok(());
        };
        // Written, and not only stretched: a file of holes has no room. What is not yet on the disk after a loss of
        // power is made again by the next change.
        let made = disk.append(&path).and_then(|mut file| {
            io::copy(&mut io::repeat(b' ').take(lacking), &mut file)?;
            file.flush()
        });
        made.map_err(Error::write("hold back room in", &path)).inspect_err(|_| {
            let _ = disk.truncate(&path, there);
        })
    }

    /// Removes everything but the lock and the folder itself; whether the log is gone.
    pub fn clear(&self, disk: &dyn Disk) -> bool {
        for path in [self.log(), self.twin()] {
            if path.exists() && disk.remove(&path).is_err() {
                return false;
            }
        }
        let retired = self.retired().into_iter().map(|name| self.folder.join(name));
        let own = [self.reserved(), crate::hash_cache::path_in(&self.folder)];
        for path in own.into_iter().chain(retired) {
            if path.exists() {
                let _ = disk.remove(&path);
            }
        }
        let _ = disk.remove_folder(&self.stock());
        true
    }
}

impl Written {
    /// Whether there is nothing in either.
    pub fn is_empty(&self) -> bool {
        self.files.iter().all(|file| file.bytes == 0)
    }

    /// All records of both by their numbers.
    pub fn records(&self) -> BTreeMap<usize, Record> {
        let [first, twin] = &self.files;
        let mut all = twin.records.clone();
        all.extend(first.records.clone());
        all
    }

    /// What they add up to.
    ///
    /// # Errors
    /// [`Error::Refused`] where both files are damaged in the same place, or copies lie there that
    /// neither knows of.
    pub fn state(&self) -> Result<State> {
        let all = self.records();
        let whole = (0..).take_while(|n| all.contains_key(n)).count();
        let [first, twin] = &self.files;
        let disagree = |n: &usize| {
            let both = first.records.get(n).zip(twin.records.get(n));
            both.is_some_and(|(a, b)| a != b)
        };
        let has_root = matches!(all.get(&0), Some(Record::Root { .. }));
        let is_new = whole == 0 && self.files.iter().all(|file| file.torn || file.bytes == 0);
        let odd = whole < all.len() || (0..whole).any(|n| disagree(&n)) || !(has_root || is_new);
        // What stood at a damaged end, only the other file can tell; and no crash leaves two unfinished lines, since
        // one file is on the disk before the other is written.
        let lost = !is_new && self.files.iter().all(|file| !file.ends || file.torn);
        let records: Vec<Record> = all.into_values().take(whole).collect();
        let state = State::replay(&records);
        let strange = |copy: &String| !state.taken.contains(copy) && !state.strays.contains(copy);
        if odd || lost || self.copies.iter().any(strange) {
            return Err(self.damaged());
        }
        Ok(state)
    }

    fn damaged(&self) -> Error {
        Error::Damaged { ledger: self.folder.clone(), copies: self.copies.len() }
    }

    /// Makes both files whole again; how many records they have. A file whose records are not in their
    /// places is written from nothing, once the other one has them all.
    ///
    /// # Errors
    /// [`Error::Write`].
    pub fn heal(&self, dir: &LedgerDir, disk: &dyn Disk) -> Result<usize> {
        let all: Vec<Record> = self.records().into_values().collect();
        let paths = [dir.log(), dir.twin()];
        let mut files: Vec<_> = paths.iter().zip(&self.files).collect();
        // First what loses nothing by being made whole: what is cut off of one file must be in the other.
        files.sort_by_key(|(_, file)| (file.misplaced, file.records.len() > file.whole_lines()));
        let none_is_sound = self.files.iter().all(|file| file.misplaced);
        for (path, file) in files {
            let is_whole = file.intact == file.bytes && file.records.len() == all.len();
            if none_is_sound || (is_whole && !file.misplaced) {
                continue;
            }
            // Lines that stay as they are.
            let (bytes, lines) = match file.misplaced {
                true => (0, 0),
                false => (file.intact, file.whole_lines()),
            };
            if !dir.stock().is_dir() {
                let made = disk.create_folder(&dir.stock());
                made.map_err(Error::write("make", &dir.stock()))?;
            }
            if bytes < file.bytes {
                let cut = disk.truncate(path, bytes);
                cut.map_err(Error::write("repair", path))?;
            }
            let missing = log::lines(&all[lines.min(all.len())..], lines)?;
            if !missing.is_empty() {
                let added = log::append(path, missing.as_bytes(), disk);
                added.map_err(Error::write("repair", path))?;
            }
        }
        Ok(all.len())
    }
}
