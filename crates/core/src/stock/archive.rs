//! Archives: zip (APPNOTE 6.3) and tar (POSIX.1-2017, pax), read entry by entry into memory.
//!
//! Archives come from strangers: where a name leads out, or an entry is a link, a device or inflates
//! beyond measure, the whole archive is refused.

use super::{Member, is_litter};
use crate::error::{Error, Result};
use crate::sheet::{Size, Within};
use deft_needle_audio::num::{count, size};
use flate2::read::MultiGzDecoder;
use std::fs::File;
use std::io::{self, BufReader, Read};
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

/// The largest entry; a sound of an hour in CD quality takes 600 MB, and lies in no archive.
const LARGEST: u64 = 256 << 20;
/// All entries together.
const LARGEST_IN_ALL: u64 = 64 << 30;
/// The most entries.
const MOST: usize = 1_000_000;
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
        File::open(path)
            .and_then(|file| file.take(512).read_to_end(&mut head))
            .map_err(Error::read(path))?;
        let named_tar = path
            .extension()
            .is_some_and(|e| e.eq_ignore_ascii_case("tar"));
        Ok(match head.as_slice() {
            [b'P', b'K', 3, 4, ..] | [b'P', b'K', 5, 6, ..] => Some(Self::Zip),
            [0x1F, 0x8B, ..] => Some(Self::GzippedTar),
            head if head.get(257..262) == Some(b"ustar") || named_tar => Some(Self::Tar),
            _ => None,
        })
    }

    /// All entries, in batches.
    pub fn read(self, path: &Path, take: Take<'_>) -> Result<()> {
        let mut batch = Batch::new(path, take);
        self.each(path, &mut |name, length, content| {
            let mut bytes = Vec::with_capacity(size(length.min(LARGEST)));
            // One more than is allowed tells that there is more.
            let read = content.take(LARGEST + 1).read_to_end(&mut bytes);
            read.map_err(broken(path, &name))?;
            batch.add(name, bytes)
        })?;
        batch.hand_over()
    }

    /// The names of all entries.
    pub fn names(self, path: &Path) -> Result<Vec<String>> {
        let mut names = Vec::new();
        self.each(path, &mut |name, _, _| {
            names.push(name);
            Ok(())
        })?;
        Ok(names)
    }

    fn each(self, path: &Path, found: Found<'_>) -> Result<()> {
        let file = BufReader::new(File::open(path).map_err(Error::read(path))?);
        match self {
            Self::Zip => each_of_zip(path, file, found),
            Self::Tar => each_of_tar(path, file, found),
            Self::GzippedTar => each_of_tar(path, MultiGzDecoder::new(file), found),
        }
    }
}

/// What is told of each entry: its name, its stated length, its bytes.
type Found<'a> = &'a mut dyn FnMut(String, u64, &mut dyn Read) -> Result<()>;

/// Entries that are handed over together.
struct Batch<'a> {
    archive: &'a Path,
    take: Take<'a>,
    members: Vec<Member>,
    bytes: u64,
    in_all: u64,
}

impl<'a> Batch<'a> {
    fn new(archive: &'a Path, take: Take<'a>) -> Self {
        Self {
            archive,
            take,
            members: Vec::new(),
            bytes: 0,
            in_all: 0,
        }
    }

    fn add(&mut self, name: String, content: Vec<u8>) -> Result<()> {
        let bytes = count(content.len());
        self.bytes += bytes;
        self.in_all += bytes;
        for (is, most, what) in [
            (bytes, LARGEST, format!("its entry {name}")),
            (
                self.in_all,
                LARGEST_IN_ALL,
                "all its entries together".to_owned(),
            ),
        ] {
            if is > most {
                return Err(Error::refused(
                    format!(
                        "{}: {what} would take more than {}",
                        self.archive.display(),
                        Size(most)
                    ),
                    "if that is meant, unpack it yourself and name the folder",
                ));
            }
        }
        self.members
            .push(Member::of_archive(name, self.archive, content));
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

fn each_of_zip(path: &Path, file: BufReader<File>, found: Found<'_>) -> Result<()> {
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
        let Some(name) = proper(path, &name, odd)? else {
            continue;
        };
        let mut entry = archive.by_index(index).map_err(wrong)?;
        let length = entry.size();
        found(name, length, &mut entry)?;
    }
    Ok(())
}

fn each_of_tar(path: &Path, file: impl Read, found: Found<'_>) -> Result<()> {
    let mut archive = tar::Archive::new(file);
    let entries = archive.entries().map_err(Error::read(path))?;
    for (index, entry) in entries.enumerate() {
        limit_entries(path, index)?;
        let mut entry = entry.map_err(Error::read(path))?;
        let name = String::from_utf8_lossy(&entry.path_bytes()).into_owned();
        let odd = match entry.header().entry_type() {
            EntryType::Directory | EntryType::XGlobalHeader => continue,
            EntryType::Regular | EntryType::Continuous => "",
            EntryType::Symlink | EntryType::Link => "is a link",
            _ => "is no file",
        };
        let name = name.strip_prefix("./").unwrap_or(&name).to_owned();
        let Some(name) = proper(path, &name, odd)? else {
            continue;
        };
        let length = entry.size();
        found(name, length, &mut entry)?;
    }
    Ok(())
}

/// An entry's name as a slot; `None` for litter.
fn proper(archive: &Path, name: &str, odd: &str) -> Result<Option<String>> {
    let refused = |what: String| {
        Error::refused(
            format!("{}: {what}", archive.display()),
            "nothing was taken from it; unpack it yourself if you trust it, and name the folder",
        )
    };
    let shown = crate::sheet::fault::clipped(name);
    if !odd.is_empty() {
        return Err(refused(format!("its entry \"{shown}\" {odd}")));
    }
    let within: Within = name
        .parse()
        .map_err(|why: String| refused(format!("an entry is not safe: {why}")))?;
    Ok((!is_litter(Path::new(&within.0))).then_some(within.0))
}

fn limit_entries(path: &Path, entries: usize) -> Result<()> {
    match entries > MOST {
        true => Err(Error::refused(
            format!("{} has more than {MOST} entries", path.display()),
            "unpack it yourself and name the folder",
        )),
        false => Ok(()),
    }
}

fn broken(archive: &Path, name: &str) -> impl FnOnce(io::Error) -> Error {
    Error::read(&archive.join(name))
}
