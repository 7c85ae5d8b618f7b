//! Archives: zip (APPNOTE 6.3) and tar (POSIX.1-2017, pax), read entry by entry into memory.
//!
//! Archives come from strangers: an entry whose name leads out, a link or a device is left aside, and told; where
//! one inflates beyond measure, the whole archive is refused.

use super::member::STORED;
use super::{LeftOut, Member, is_litter};
use crate::disk::read_at_most;
use crate::error::{Error, Result};
use crate::limits;
use crate::refusal::OddArchive;
use crate::sheet::Within;
use deft_needle_audio::Invalid;
use deft_needle_audio::num::count;
use deft_needle_audio::read::{Private, open_regular};
use flate2::read::MultiGzDecoder;
use std::fs::File;
use std::io::{self, BufReader, Read, Write as _};
use std::path::Path;
use tar::EntryType;
use zip::ZipArchive;

/// What an archive is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    Zip,
    Tar,
    GzippedTar,
}

/// Whether the first bytes of a file are those of an archive.
pub fn is_archive(head: &[u8]) -> bool {
    Kind::of_head(head).is_some()
}

/// Bytes and entries that are worked on at once.
const BATCH: (u64, usize) = (16 << 20, 256);

/// What takes batches of entries.
type Take<'a> = &'a mut dyn FnMut(Vec<Member>) -> Result<()>;

impl Kind {
    /// By content; `None` for anything else.
    ///
    /// # Errors
    /// [`Error::Read`].
    pub fn of(path: &Path) -> Result<Option<Self>> {
        let mut head = Vec::new();
        open_regular(path)
            .and_then(|file| file.take(512).read_to_end(&mut head))
            .map_err(Error::read(path))?;
        let named_tar = path.extension().is_some_and(|e| e.eq_ignore_ascii_case("tar"));
        Ok(Self::of_head(&head).or(named_tar.then_some(Self::Tar)))
    }

    fn of_head(head: &[u8]) -> Option<Self> {
        match head {
            [b'P', b'K', 3, 4, ..] | [b'P', b'K', 5, 6, ..] => Some(Self::Zip),
            [0x1F, 0x8B, ..] => Some(Self::GzippedTar),
            head if head.get(257..262) == Some(b"ustar") => Some(Self::Tar),
            _ => None,
        }
    }

    /// All entries, in batches; gives those that are left aside.
    pub fn read(self, path: &Path, take: Take<'_>) -> Result<Vec<LeftOut>> {
        let mut batch = Batch::new(take);
        let mut aside = Vec::new();
        self.each(path, &mut |name, content| {
            let name = match name {
                Ok(name) => name,
                Err(left) => {
                    aside.push(left);
                    return Ok(());
                }
            };
            let mut bytes = Vec::new();
            let mut start = content.take(limits::IN_MEMORY + 1);
            let read = start.read_to_end(&mut bytes);
            read.map_err(broken(path, &name))?;
            let content = start.into_inner();
            let member = match count(bytes.len()) > limits::IN_MEMORY {
                false => Member::of_archive(name, path, bytes),
                true => store(name, path, &bytes, content)?,
            };
            batch.add(member)
        })?;
        batch.hand_over()?;
        Ok(aside)
    }

    /// Hands over the content of one entry, where there is one of that name.
    pub fn find(
        self,
        path: &Path,
        wanted: &str,
        take: &mut dyn FnMut(&mut dyn Read) -> Result<()>,
    ) -> Result<()> {
        let mut found = false;
        self.each(path, &mut |name, content| match name {
            Ok(name) if name == wanted && !found => {
                found = true;
                take(content)
            }
            _ => Ok(()),
        })
    }

    /// The names of all entries.
    pub fn names(self, path: &Path) -> Result<Vec<String>> {
        let mut names = Vec::new();
        self.each(path, &mut |name, _| {
            names.extend(name.ok());
            Ok(())
        })?;
        Ok(names)
    }

    fn each(self, path: &Path, found: Found<'_>) -> Result<()> {
        let file = open_regular(path).map_err(Error::read(path))?;
        let bytes = file.metadata().map_err(Error::read(path))?.len();
        let most = limits::INFLATED_AT_LEAST.saturating_add(bytes.saturating_mul(limits::INFLATED));
        let file = BufReader::new(file);
        match self {
            Self::Zip => each_of_zip(path, file, most, found),
            Self::Tar => each_of_tar(path, Metered { from: file, left: most }, found),
            Self::GzippedTar => {
                let from = MultiGzDecoder::new(file);
                each_of_tar(path, Metered { from, left: most }, found)
            }
        }
    }
}

/// What is told of each entry: its name, or why it is left aside, and its bytes.
type Found<'a> = &'a mut dyn FnMut(Result<String, LeftOut>, &mut dyn Read) -> Result<()>;

/// A reader that gives no more than an archive of its size may hold.
struct Metered<R> {
    from: R,
    left: u64,
}

impl<R: Read> Read for Metered<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.from.read(buffer)?;
        let left = self.left.checked_sub(count(read));
        self.left = left.ok_or_else(|| {
            let what = "it inflates to more than a hundred times its own size";
            io::Error::new(io::ErrorKind::FileTooLarge, what)
        })?;
        Ok(read)
    }
}

/// Puts a large entry into a private folder.
fn store(name: String, archive: &Path, start: &[u8], rest: &mut dyn Read) -> Result<Member> {
    let private = Private::new().map_err(Error::read(archive))?;
    let path = private.path().join(STORED);
    let stored = File::create_new(&path).and_then(|mut file| {
        file.write_all(start)?;
        let left = limits::MEMBER - limits::IN_MEMORY;
        io::copy(&mut rest.take(left), &mut file)
    });
    let stored = stored.map_err(broken(archive, &name))?;
    if count(start.len()) + stored > limits::MEMBER {
        return Err(OddArchive::EntryTooLarge { name, most: limits::MEMBER }.of(archive));
    }
    Member::stored(name, archive, private)
}

/// Entries that are handed over together.
struct Batch<'a> {
    take: Take<'a>,
    members: Vec<Member>,
    bytes: u64,
}

impl<'a> Batch<'a> {
    fn new(take: Take<'a>) -> Self {
        Self { take, members: Vec::new(), bytes: 0 }
    }

    fn add(&mut self, member: Member) -> Result<()> {
        self.bytes += member.bytes;
        self.members.push(member);
        match self.bytes > BATCH.0 || self.members.len() >= BATCH.1 {
            true => self.hand_over(),
            false => Ok(()),
        }
    }

    fn hand_over(&mut self) -> Result<()> {
        self.bytes = 0;
        (self.take)(std::mem::take(&mut self.members))
    }
}

fn each_of_zip(path: &Path, file: BufReader<File>, most: u64, found: Found<'_>) -> Result<()> {
    let mut left = most;
    let wrong = |error: zip::result::ZipError| {
        Error::read(path)(io::Error::new(io::ErrorKind::InvalidData, error))
    };
    let mut archive = ZipArchive::new(file).map_err(wrong)?;
    limit_entries(path, archive.len())?;
    for index in 0..archive.len() {
        // A look without decoding tells what it is, and needs no password.
        let (name, kind) = {
            let entry = archive.by_index_raw(index).map_err(wrong)?;
            let name = String::from_utf8_lossy(entry.name_raw()).into_owned();
            let kind = match (entry.is_dir(), entry.is_symlink(), entry.encrypted()) {
                (true, ..) => None,
                (_, true, _) => Some("is a link"),
                (.., true) => Some("is locked with a password"),
                _ => Some(""),
            };
            (name, kind)
        };
        let Some(odd) = kind else { continue };
        let Some(name) = proper(path, name, odd) else {
            continue;
        };
        if let Err(left) = name {
            found(Err(left), &mut io::empty())?;
            continue;
        }
        let entry = archive.by_index(index).map_err(wrong)?;
        let mut entry = Metered { from: entry, left };
        found(name, &mut entry)?;
        left = entry.left;
    }
    Ok(())
}

/// Long names come as entries of their own before the one that they name: of the older kind (GNU `L`) or
/// as records (pax `x`). They are read here, since their lengths are a stranger's.
fn each_of_tar(path: &Path, file: impl Read, found: Found<'_>) -> Result<()> {
    let mut archive = tar::Archive::new(file);
    let entries = archive.entries().map_err(Error::read(path))?.raw(true);
    let mut long_name = None;
    for (index, entry) in entries.enumerate() {
        limit_entries(path, index)?;
        let mut entry = entry.map_err(Error::read(path))?;
        let header = |entry: &mut dyn Read| {
            read_at_most(entry, limits::NAME).map_err(|error| {
                let what = format!("a name in it: {error}");
                Error::read(path)(io::Error::new(error.kind(), what))
            })
        };
        let odd = match entry.header().entry_type() {
            EntryType::GNULongName => {
                let mut name = header(&mut entry)?;
                name.retain(|&byte| byte != 0);
                long_name = Some(name);
                continue;
            }
            EntryType::XHeader => {
                long_name = name_of_pax(&header(&mut entry)?).or(long_name);
                continue;
            }
            EntryType::Directory | EntryType::XGlobalHeader => {
                long_name = None;
                continue;
            }
            EntryType::Regular | EntryType::Continuous => "",
            EntryType::Symlink | EntryType::Link => "is a link",
            _ => "is not a file",
        };
        let name = long_name.take().unwrap_or_else(|| entry.path_bytes().into_owned());
        let name = String::from_utf8_lossy(&name).into_owned();
        let name = name.strip_prefix("./").unwrap_or(&name).to_owned();
        if let Some(name) = proper(path, name, odd) {
            found(name, &mut entry)?;
        }
    }
    Ok(())
}

/// The record of pax that names the next entry (POSIX.1-2017, pax, "pax Extended Header").
fn name_of_pax(records: &[u8]) -> Option<Vec<u8>> {
    let records = tar::PaxExtensions::new(records).flatten();
    let mut named = records.filter(|record| record.key() == Ok("path"));
    named.next().map(|record| record.value_bytes().to_vec())
}

/// An entry's name as a slot, or why it is left aside; `None` for litter.
fn proper(archive: &Path, name: String, odd: &str) -> Option<Result<String, LeftOut>> {
    let short = || crate::refusal::fault::clipped(&name);
    if !odd.is_empty() {
        let error = OddArchive::OddEntry { name: short(), what: odd.to_owned() }.of(archive);
        return Some(Err(LeftOut { name, error }));
    }
    let within: Result<Within, Invalid> = name.parse();
    match within {
        Ok(within) => (!is_litter(Path::new(&within.0))).then_some(Ok(within.0)),
        Err(bad) => {
            let error = OddArchive::UnsafeName(bad).of(archive);
            Some(Err(LeftOut { name, error }))
        }
    }
}

fn limit_entries(path: &Path, entries: usize) -> Result<()> {
    match entries > limits::NAMES {
        true => Err(OddArchive::TooMany { most: limits::NAMES }.of(path)),
        false => Ok(()),
    }
}

fn broken(archive: &Path, name: &str) -> impl FnOnce(io::Error) -> Error {
    Error::read(&archive.join(name))
}
