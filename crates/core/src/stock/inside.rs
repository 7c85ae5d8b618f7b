//! Paths that lead into a file: `game/base.zip/sfx/gull.ogg` into an archive, `radio.ogg#2` to the second clip of a chain.
//! What reads a file reads these, too.

use super::archive::Kind;
use crate::disk::{read_at_most, read_input};
use crate::error::{Error, Result};
use crate::limits;
use crate::names::nearest;
use crate::refusal::OddArchive;
use deft_needle_audio::read::ogg::links::links;
use deft_needle_audio::read::sniff::sniff;
use deft_needle_audio::read::{Handle, Input, open_regular};
use deft_needle_audio::spec::Container;
use std::io::{Read, Seek as _, SeekFrom};
use std::path::{Component, Path, PathBuf};

/// An archive, and what a path names in it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Inside {
    /// The archive.
    pub archive: PathBuf,
    /// The name in it, with `/` between folders.
    pub within: String,
    pub(super) kind: Kind,
}

impl Inside {
    /// Where a path leads into an archive; nothing where it is there by itself, or leads into none.
    pub fn of(path: &Path) -> Option<Self> {
        if path.symlink_metadata().is_ok() {
            return None;
        }
        let archive = path.ancestors().skip(1).find(|above| above.is_file())?;
        let kind = Kind::of(archive).ok()??;
        let mut names = Vec::new();
        for part in path.strip_prefix(archive).ok()?.components() {
            match part {
                Component::Normal(name) => names.push(name.to_str()?),
                _ => return None,
            }
        }
        Some(Self { archive: archive.to_owned(), within: names.join("/"), kind })
    }

    /// Whether it is a folder of the archive.
    pub(super) fn is_folder(&self) -> bool {
        let below = format!("{}/", self.within);
        let names = self.kind.names(&self.archive).unwrap_or_default();
        names.iter().any(|name| name.starts_with(&below))
    }

    fn absent(&self) -> Error {
        let names = self.kind.names(&self.archive).unwrap_or_default();
        let near = nearest(&self.within, names.iter().map(String::as_str), 3);
        OddArchive::NoEntry { name: self.within.clone(), near }.of(&self.archive)
    }
}

/// What a path names, as an input.
///
/// # Errors
/// An archive that cannot be read, or has no such file.
pub fn input_at(path: &Path) -> Result<Input> {
    let Some(inside) = Inside::of(path) else {
        return Ok(link_at(path)?.unwrap_or_else(|| Input::file(path)));
    };
    let name = path.to_string_lossy();
    let mut spooled = None;
    inside.kind.find(&inside.archive, &inside.within, &mut |content| {
        spooled = Some(Input::spool(&mut Read::take(content, limits::MEMBER), &name)?);
        Ok(())
    })?;
    spooled.ok_or_else(|| inside.absent())
}

/// The file that holds what a path names.
pub fn file_of(path: &Path) -> PathBuf {
    let archive = Inside::of(path).map(|inside| inside.archive);
    let chain = || chained(path).map(|(file, _)| file);
    archive.or_else(chain).unwrap_or_else(|| path.to_owned())
}

/// A link of a chain, where a path names one.
fn link_at(path: &Path) -> Result<Option<Input>> {
    let Some((file, number)) = chained(path) else { return Ok(None) };
    let wrap = |error: std::io::Error| Error::read(&file)(error);
    let mut chain = open_regular(&file).map_err(wrap)?;
    // What is no Ogg is not searched for pages to its end.
    if sniff(&mut chain, &file)?.container() != Some(Container::Ogg) {
        return Ok(None);
    }
    let links = links(Handle::Disk(chain.try_clone().map_err(wrap)?), &file)?;
    if links.is_empty() {
        return Ok(None);
    }
    let Some(link) = number.checked_sub(1).and_then(|at| links.get(at)) else {
        return Err(OddArchive::NoLink { number, links: links.len() }.of(&file));
    };
    chain.seek(SeekFrom::Start(link.start)).map_err(wrap)?;
    let mut bytes = Read::take(chain, link.end - link.start);
    Ok(Some(Input::spool(&mut bytes, &path.to_string_lossy())?))
}

/// The file and the number of a path such as `radio.ogg#2`, where there is no file of that name.
fn chained(path: &Path) -> Option<(PathBuf, usize)> {
    let (name, number) = path.file_name()?.to_str()?.rsplit_once('#')?;
    let file = path.with_file_name(name);
    let number = number.parse().ok()?;
    (path.symlink_metadata().is_err() && file.is_file()).then_some((file, number))
}

/// All bytes of what a path names.
///
/// # Errors
/// As [`input_at`]; [`Error::Read`] for one with more than `most`.
pub fn bytes_at(path: &Path, most: u64) -> Result<Vec<u8>> {
    let Some(inside) = Inside::of(path) else {
        return read_input(path, most).map_err(Error::read(path));
    };
    let mut bytes = None;
    inside.kind.find(&inside.archive, &inside.within, &mut |content| {
        bytes = Some(read_at_most(content, most).map_err(Error::read(path))?);
        Ok(())
    })?;
    bytes.ok_or_else(|| inside.absent())
}
