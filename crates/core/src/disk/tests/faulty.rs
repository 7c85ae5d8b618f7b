//! Disks for the tests: one that fails on command, one that forgets what was not synced, one that
//! ignores case and how accents are stored, and one that is full.

use crate::disk::{Attributes, Disk, Lock, OutFile, RealDisk};
use crate::names::folded;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::ffi::{OsStr, OsString};
use std::fs;
use std::io::{self, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};

/// A folder in memory where the machine has one: these disks strike thousands of times, and syncing a
/// real one is slow.
pub fn folder() -> tempfile::TempDir {
    let memory = Path::new("/dev/shm");
    let made = match memory.is_dir() {
        true => tempfile::tempdir_in(memory),
        false => tempfile::tempdir(),
    };
    made.unwrap()
}

/// What happens at the chosen call.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fault {
    /// This one call fails, as on a full disk.
    Error,
    /// This call and all later ones fail, as if the program had been killed.
    Kill,
}

/// Counts every call that changes the disk, and lets the `at`th one fail.
#[derive(Clone)]
pub struct FaultyDisk {
    inner: Arc<dyn Disk + Send + Sync>,
    calls: Arc<AtomicUsize>,
    at: usize,
    fault: Fault,
}

impl FaultyDisk {
    /// Passes calls on to `inner` until the `at`th.
    pub fn new(inner: Arc<dyn Disk + Send + Sync>, at: usize, fault: Fault) -> Self {
        Self { inner, calls: Arc::default(), at, fault }
    }

    /// Whether the fault has come.
    pub fn struck(&self) -> bool {
        self.calls.load(Ordering::Relaxed) > self.at
    }

    fn call(&self) -> io::Result<()> {
        let call = self.calls.fetch_add(1, Ordering::Relaxed);
        let fails = match self.fault {
            Fault::Error => call == self.at,
            Fault::Kill => call >= self.at,
        };
        match fails {
            true => Err(io::ErrorKind::StorageFull.into()),
            false => Ok(()),
        }
    }
}

struct FaultyFile {
    inner: Box<dyn OutFile>,
    disk: FaultyDisk,
}

impl Write for FaultyFile {
    /// A write that fails has written half of its bytes.
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        match self.disk.call() {
            Ok(()) => self.inner.write(bytes),
            Err(error) => {
                if self.disk.fault == Fault::Error {
                    self.inner.write_all(&bytes[..bytes.len() / 2])?;
                }
                Err(error)
            }
        }
    }
    fn flush(&mut self) -> io::Result<()> {
        self.inner.flush()
    }
}

impl Seek for FaultyFile {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        self.inner.seek(to)
    }
}

impl OutFile for FaultyFile {
    fn sync(&mut self) -> io::Result<()> {
        self.disk.call()?;
        self.inner.sync()
    }
}

impl Disk for FaultyDisk {
    fn create(&self, path: &Path) -> io::Result<Box<dyn OutFile>> {
        self.call()?;
        let inner = self.inner.create(path)?;
        Ok(Box::new(FaultyFile { inner, disk: self.clone() }))
    }
    fn append(&self, path: &Path) -> io::Result<Box<dyn OutFile>> {
        self.call()?;
        let inner = self.inner.append(path)?;
        Ok(Box::new(FaultyFile { inner, disk: self.clone() }))
    }
    fn sync_file(&self, path: &Path) -> io::Result<()> {
        self.call()?;
        self.inner.sync_file(path)
    }
    fn truncate(&self, path: &Path, bytes: u64) -> io::Result<()> {
        self.call()?;
        self.inner.truncate(path, bytes)
    }
    fn rename(&self, from: &Path, to: &Path) -> io::Result<()> {
        self.call()?;
        self.inner.rename(from, to)
    }
    fn remove(&self, path: &Path) -> io::Result<()> {
        self.call()?;
        self.inner.remove(path)
    }
    fn create_folder(&self, path: &Path) -> io::Result<()> {
        self.call()?;
        self.inner.create_folder(path)
    }
    fn remove_folder(&self, path: &Path) -> io::Result<()> {
        self.call()?;
        self.inner.remove_folder(path)
    }
    fn sync_folder(&self, path: &Path) -> io::Result<()> {
        self.call()?;
        self.inner.sync_folder(path)
    }
    fn link(&self, target: &str, path: &Path) -> io::Result<()> {
        self.call()?;
        self.inner.link(target, path)
    }
    fn link_hard(&self, file: &Path, path: &Path) -> io::Result<()> {
        self.call()?;
        self.inner.link_hard(file, path)
    }
    fn dress(&self, path: &Path, attributes: &Attributes) -> io::Result<()> {
        self.call()?;
        self.inner.dress(path, attributes)
    }
    fn lock(&self, path: &Path) -> io::Result<Option<Lock>> {
        self.call()?;
        self.inner.lock(path)
    }
    fn spelling(&self, folder: &Path, name: &OsStr) -> io::Result<Option<OsString>> {
        self.inner.spelling(folder, name)
    }
}

/// What a loss of power takes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Loss {
    /// All names and contents that were not synced.
    NamesAndContents,
    /// Only contents: names are there, and files behind them empty.
    Contents,
}

/// Knows for every file below a folder what would be left of it.
#[derive(Clone)]
pub struct ForgetfulDisk {
    root: PathBuf,
    memory: Arc<Mutex<Memory>>,
}

/// Files are told apart by a number, as a file system does: names come and go.
#[derive(Default)]
struct Memory {
    live: BTreeMap<PathBuf, usize>,
    synced_names: BTreeMap<PathBuf, usize>,
    synced_contents: HashMap<usize, Vec<u8>>,
    synced_folders: BTreeSet<PathBuf>,
    files: usize,
}

impl ForgetfulDisk {
    /// Everything that is below `root` now is synced.
    pub fn new(root: &Path) -> Self {
        let mut memory = Memory::default();
        for entry in walkdir::WalkDir::new(root).into_iter().flatten() {
            let path = entry.path().to_owned();
            if entry.file_type().is_dir() {
                memory.synced_folders.insert(path);
            } else {
                let file = memory.add(&path);
                memory.synced_names.insert(path.clone(), file);
                memory.synced_contents.insert(file, fs::read(path).unwrap());
            }
        }
        Self { root: root.to_owned(), memory: Arc::new(Mutex::new(memory)) }
    }

    /// Leaves on the real disk only what survives.
    pub fn lose_power(&self, loss: Loss) {
        let memory = self.memory.lock().unwrap();
        let live_folders: BTreeSet<PathBuf> = walkdir::WalkDir::new(&self.root)
            .into_iter()
            .flatten()
            .filter(|entry| entry.file_type().is_dir())
            .map(walkdir::DirEntry::into_path)
            .collect();
        let (names, folders) = match loss {
            Loss::NamesAndContents => (&memory.synced_names, &memory.synced_folders),
            Loss::Contents => (&memory.live, &live_folders),
        };
        fs::remove_dir_all(&self.root).unwrap();
        for folder in folders {
            fs::create_dir_all(folder).unwrap();
        }
        for (path, file) in names {
            if path.parent().is_some_and(Path::is_dir) {
                let contents = memory.synced_contents.get(file);
                fs::write(path, contents.cloned().unwrap_or_default()).unwrap();
            }
        }
    }

    fn open(&self, path: &Path, inner: Box<dyn OutFile>) -> Box<dyn OutFile> {
        self.memory.lock().unwrap().add(path);
        Box::new(ForgetfulFile { inner, path: path.to_owned(), disk: self.clone() })
    }

    fn sync_contents(&self, path: &Path) {
        let mut memory = self.memory.lock().unwrap();
        if let Some(file) = memory.live.get(path).copied() {
            memory.synced_contents.insert(file, fs::read(path).unwrap());
        }
    }
}

impl Memory {
    /// The file of a name, a new one where there is none.
    fn add(&mut self, path: &Path) -> usize {
        self.files += 1;
        *self.live.entry(path.to_owned()).or_insert(self.files)
    }
}

struct ForgetfulFile {
    inner: Box<dyn OutFile>,
    path: PathBuf,
    disk: ForgetfulDisk,
}

impl Write for ForgetfulFile {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.inner.write(bytes)
    }
    fn flush(&mut self) -> io::Result<()> {
        self.inner.flush()
    }
}

impl Seek for ForgetfulFile {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        self.inner.seek(to)
    }
}

impl OutFile for ForgetfulFile {
    fn sync(&mut self) -> io::Result<()> {
        self.inner.sync()?;
        self.disk.sync_contents(&self.path);
        Ok(())
    }
}

impl Disk for ForgetfulDisk {
    fn create(&self, path: &Path) -> io::Result<Box<dyn OutFile>> {
        let file = RealDisk::default().create(path)?;
        Ok(self.open(path, file))
    }
    fn append(&self, path: &Path) -> io::Result<Box<dyn OutFile>> {
        let file = RealDisk::default().append(path)?;
        Ok(self.open(path, file))
    }
    fn sync_file(&self, path: &Path) -> io::Result<()> {
        RealDisk::default().sync_file(path)?;
        self.sync_contents(path);
        Ok(())
    }
    fn truncate(&self, path: &Path, bytes: u64) -> io::Result<()> {
        RealDisk::default().truncate(path, bytes)?;
        self.sync_contents(path);
        Ok(())
    }
    fn rename(&self, from: &Path, to: &Path) -> io::Result<()> {
        RealDisk::default().rename(from, to)?;
        let mut memory = self.memory.lock().unwrap();
        if let Some(file) = memory.live.remove(from) {
            memory.live.insert(to.to_owned(), file);
        }
        Ok(())
    }
    fn remove(&self, path: &Path) -> io::Result<()> {
        RealDisk::default().remove(path)?;
        self.memory.lock().unwrap().live.remove(path);
        Ok(())
    }
    fn create_folder(&self, path: &Path) -> io::Result<()> {
        RealDisk::default().create_folder(path)
    }
    fn remove_folder(&self, path: &Path) -> io::Result<()> {
        RealDisk::default().remove_folder(path)
    }
    fn sync_folder(&self, path: &Path) -> io::Result<()> {
        let mut memory = self.memory.lock().unwrap();
        let inside = |name: &PathBuf| name.parent() == Some(path);
        memory.synced_names.retain(|name, _| !inside(name));
        memory.synced_folders.retain(|name| !inside(name));
        let live: Vec<_> = memory.live.iter().map(|(n, f)| (n.clone(), *f)).collect();
        let names = live.into_iter().filter(|(name, _)| inside(name));
        memory.synced_names.extend(names);
        for entry in fs::read_dir(path)?.flatten() {
            if entry.path().is_dir() {
                memory.synced_folders.insert(entry.path());
            }
        }
        Ok(())
    }
    fn link(&self, target: &str, path: &Path) -> io::Result<()> {
        RealDisk::default().link(target, path)
    }
    fn link_hard(&self, file: &Path, path: &Path) -> io::Result<()> {
        RealDisk::default().link_hard(file, path)?;
        let mut memory = self.memory.lock().unwrap();
        if let Some(known) = memory.live.get(file).copied() {
            memory.live.insert(path.to_owned(), known);
        }
        Ok(())
    }
    fn dress(&self, path: &Path, attributes: &Attributes) -> io::Result<()> {
        RealDisk::default().dress(path, attributes)
    }
    fn spelling(&self, folder: &Path, name: &OsStr) -> io::Result<Option<OsString>> {
        RealDisk::default().spelling(folder, name)
    }
    fn lock(&self, path: &Path) -> io::Result<Option<Lock>> {
        let lock = RealDisk::default().lock(path)?;
        self.memory.lock().unwrap().add(path);
        Ok(lock)
    }
}

/// Passes everything on but what it says otherwise itself.
macro_rules! pass_on {
    ($($name:ident($($arg:ident: $type:ty),*) -> $out:ty;)*) => {
        $(fn $name(&self, $($arg: $type),*) -> io::Result<$out> {
            RealDisk::default().$name($($arg),*)
        })*
    };
}

macro_rules! all_but_spelling {
    () => {
        pass_on! {
            create(path: &Path) -> Box<dyn OutFile>;
            append(path: &Path) -> Box<dyn OutFile>;
            sync_file(path: &Path) -> ();
            truncate(path: &Path, bytes: u64) -> ();
            rename(from: &Path, to: &Path) -> ();
            remove(path: &Path) -> ();
            create_folder(path: &Path) -> ();
            remove_folder(path: &Path) -> ();
            sync_folder(path: &Path) -> ();
            link(target: &str, path: &Path) -> ();
            link_hard(file: &Path, path: &Path) -> ();
            dress(path: &Path, attributes: &Attributes) -> ();
            lock(path: &Path) -> Option<Lock>;
        }
    };
}

/// A disk that finds a name whatever its case and however its accents are stored, as FAT, exFAT, NTFS and
/// APFS do, on a real one that does not.
#[derive(Debug, Default)]
pub struct CaseBlindDisk;

impl Disk for CaseBlindDisk {
    all_but_spelling!();
    fn spelling(&self, folder: &Path, name: &OsStr) -> io::Result<Option<OsString>> {
        let wanted = folded(&name.to_string_lossy());
        let names = fs::read_dir(folder)?.flatten().map(|entry| entry.file_name());
        Ok(names.into_iter().find(|listed| folded(&listed.to_string_lossy()) == wanted))
    }
}

/// A disk that finds files under short names, too, as some do: `DEFT-N~1`.
pub struct ShortNameDisk;

impl Disk for ShortNameDisk {
    all_but_spelling!();
    fn spelling(&self, folder: &Path, name: &OsStr) -> io::Result<Option<OsString>> {
        let wanted = name.to_string_lossy().to_uppercase();
        let short = |long: &str| {
            let plain: String = long.chars().filter(|c| *c != '.').take(6).collect();
            format!("{}~1", plain.to_uppercase())
        };
        let names = fs::read_dir(folder)?.flatten().map(|entry| entry.file_name());
        Ok(names.into_iter().find(|listed| {
            let listed = listed.to_string_lossy();
            listed == name.to_string_lossy() || short(&listed) == wanted
        }))
    }
}

/// What happens meanwhile.
type Meanwhile = Box<dyn FnOnce() + Send>;

/// A disk on which something else happens right after a file was removed: another run has its turn there.
pub struct AfterRemoval {
    path: PathBuf,
    then: Mutex<Option<Meanwhile>>,
}

impl AfterRemoval {
    /// Once, after this file was removed.
    pub fn of(path: PathBuf, then: impl FnOnce() + Send + 'static) -> Self {
        Self { path, then: Mutex::new(Some(Box::new(then))) }
    }

    /// Whether it has happened.
    pub fn has_happened(&self) -> bool {
        self.then.lock().unwrap().is_none()
    }
}

impl Disk for AfterRemoval {
    pass_on! {
        create(path: &Path) -> Box<dyn OutFile>;
        append(path: &Path) -> Box<dyn OutFile>;
        sync_file(path: &Path) -> ();
        truncate(path: &Path, bytes: u64) -> ();
        rename(from: &Path, to: &Path) -> ();
        create_folder(path: &Path) -> ();
        remove_folder(path: &Path) -> ();
        sync_folder(path: &Path) -> ();
        link(target: &str, path: &Path) -> ();
        link_hard(file: &Path, path: &Path) -> ();
        dress(path: &Path, attributes: &Attributes) -> ();
        lock(path: &Path) -> Option<Lock>;
        spelling(folder: &Path, name: &OsStr) -> Option<OsString>;
    }
    fn remove(&self, path: &Path) -> io::Result<()> {
        RealDisk::default().remove(path)?;
        if path == self.path
            && let Some(then) = self.then.lock().unwrap().take()
        {
            then();
        }
        Ok(())
    }
}

/// A disk with this many bytes left; what is removed makes room, an overwritten file, too.
#[derive(Clone)]
pub struct FullDisk {
    free: Arc<Mutex<u64>>,
}

impl FullDisk {
    /// With this many bytes left.
    pub fn new(free: u64) -> Self {
        Self { free: Arc::new(Mutex::new(free)) }
    }
}

struct FullFile {
    inner: Box<dyn OutFile>,
    free: Arc<Mutex<u64>>,
}

impl Write for FullFile {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let mut free = self.free.lock().unwrap();
        let fits = bytes.len().min(*free as usize);
        if fits == 0 && !bytes.is_empty() {
            return Err(io::ErrorKind::StorageFull.into());
        }
        let written = self.inner.write(&bytes[..fits])?;
        *free -= written as u64;
        Ok(written)
    }
    fn flush(&mut self) -> io::Result<()> {
        self.inner.flush()
    }
}

impl Seek for FullFile {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        self.inner.seek(to)
    }
}

impl OutFile for FullFile {
    fn sync(&mut self) -> io::Result<()> {
        self.inner.sync()
    }
}

impl Disk for FullDisk {
    pass_on! {
        sync_file(path: &Path) -> ();
        create_folder(path: &Path) -> ();
        remove_folder(path: &Path) -> ();
        sync_folder(path: &Path) -> ();
        link(target: &str, path: &Path) -> ();
        link_hard(file: &Path, path: &Path) -> ();
        dress(path: &Path, attributes: &Attributes) -> ();
        lock(path: &Path) -> Option<Lock>;
        spelling(folder: &Path, name: &OsStr) -> Option<OsString>;
    }
    fn create(&self, path: &Path) -> io::Result<Box<dyn OutFile>> {
        let inner = RealDisk::default().create(path)?;
        let free = Arc::clone(&self.free);
        Ok(Box::new(FullFile { inner, free }))
    }
    fn append(&self, path: &Path) -> io::Result<Box<dyn OutFile>> {
        let inner = RealDisk::default().append(path)?;
        let free = Arc::clone(&self.free);
        Ok(Box::new(FullFile { inner, free }))
    }
    fn truncate(&self, path: &Path, bytes: u64) -> io::Result<()> {
        let before = fs::symlink_metadata(path)?.len();
        RealDisk::default().truncate(path, bytes)?;
        *self.free.lock().unwrap() += before.saturating_sub(bytes);
        Ok(())
    }
    fn rename(&self, from: &Path, to: &Path) -> io::Result<()> {
        let over = fs::symlink_metadata(to).map_or(0, |found| found.len());
        RealDisk::default().rename(from, to)?;
        *self.free.lock().unwrap() += over;
        Ok(())
    }
    fn remove(&self, path: &Path) -> io::Result<()> {
        let bytes = fs::symlink_metadata(path).map_or(0, |found| found.len());
        RealDisk::default().remove(path)?;
        *self.free.lock().unwrap() += bytes;
        Ok(())
    }
}

/// A disk that loses what is written to every part, and tells it once for each.
pub struct TellsOnce {
    fault: io::ErrorKind,
    told: Mutex<BTreeSet<PathBuf>>,
}

impl TellsOnce {
    pub fn new(fault: io::ErrorKind) -> Self {
        Self { fault, told: Mutex::default() }
    }

    /// Of how many it has told.
    pub fn told(&self) -> usize {
        self.told.lock().unwrap().len()
    }
}

impl Disk for TellsOnce {
    pass_on! {
        create(path: &Path) -> Box<dyn OutFile>;
        append(path: &Path) -> Box<dyn OutFile>;
        truncate(path: &Path, bytes: u64) -> ();
        rename(from: &Path, to: &Path) -> ();
        remove(path: &Path) -> ();
        create_folder(path: &Path) -> ();
        remove_folder(path: &Path) -> ();
        sync_folder(path: &Path) -> ();
        link(target: &str, path: &Path) -> ();
        link_hard(file: &Path, path: &Path) -> ();
        dress(path: &Path, attributes: &Attributes) -> ();
        lock(path: &Path) -> Option<Lock>;
        spelling(folder: &Path, name: &OsStr) -> Option<OsString>;
    }
    fn sync_file(&self, path: &Path) -> io::Result<()> {
        let name = path.file_name().unwrap_or_default().to_string_lossy();
        if name.starts_with(crate::names::PART) && self.told.lock().unwrap().insert(path.to_owned())
        {
            return Err(self.fault.into());
        }
        RealDisk::default().sync_file(path)
    }
}
