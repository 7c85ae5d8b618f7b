//! One file of a target's, wherever it lies.

use crate::disk::read_input;
use crate::error::{Error, Result};
use crate::hash::Hash;
use crate::limits;
use deft_needle_audio::Clip;
use deft_needle_audio::num::size;
use deft_needle_audio::read::sniff::{Sniffed, by_first_bytes};
use deft_needle_audio::read::{Hints, Input, Private, open_regular};
use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// How much of a file tells what it is; tags before MP3 may take more, and tell enough by themselves.
const HEAD: u64 = 4096;

/// A file.
#[derive(Debug)]
pub struct Member {
    /// Its path in the target, with `/` between its folders.
    pub name: String,
    /// Its size.
    pub bytes: u64,
    /// Its first bytes.
    pub head: Vec<u8>,
    /// The name of the file that it leads to, where it is a link.
    pub link: Option<String>,
    content: Content,
}

#[derive(Debug)]
enum Content {
    /// In a file of its own.
    Own(PathBuf),
    /// Out of an archive, which tells where it was found.
    Memory(PathBuf, Arc<[u8]>),
    /// The same, too large for memory: in a private folder.
    Stored(PathBuf, Private),
}

/// The file of a private folder that a member lies in.
pub(super) const STORED: &str = "member";

impl Member {
    /// A file by itself.
    ///
    /// # Errors
    /// [`Error::Read`].
    pub fn of_file(name: &str, path: &Path) -> Result<Self> {
        let read = || {
            let file = open_regular(path)?;
            let bytes = file.metadata()?.len();
            let mut head = Vec::with_capacity(size(HEAD.min(bytes)));
            file.take(HEAD).read_to_end(&mut head)?;
            Ok((bytes, head))
        };
        let (bytes, head) = read().map_err(Error::read(path))?;
        Ok(Self {
            name: name.to_owned(),
            bytes,
            head,
            link: None,
            content: Content::Own(path.to_owned()),
        })
    }

    /// A file of an archive.
    pub(super) fn of_archive(name: String, archive: &Path, content: Vec<u8>) -> Self {
        Self {
            bytes: deft_needle_audio::num::count(content.len()),
            head: content[..content.len().min(size(HEAD))].to_vec(),
            link: None,
            content: Content::Memory(archive.join(&name), content.into()),
            name,
        }
    }

    /// A large file of an archive, stored in a private folder under [`STORED`].
    pub(super) fn stored(name: String, archive: &Path, private: Private) -> Result<Self> {
        let of_file = Self::of_file(&name, &private.path().join(STORED))?;
        Ok(Self { content: Content::Stored(archive.join(&name), private), ..of_file })
    }

    /// The same, as a link to this file.
    pub(super) fn linked(self, link: Option<String>) -> Self {
        Self { link, ..self }
    }

    /// What its first bytes tell.
    pub fn sniffed(&self) -> Sniffed {
        by_first_bytes(&self.head)
    }

    /// Opens it as a sound.
    ///
    /// # Errors
    /// As [`Clip::open`].
    pub fn clip(&self, hints: &Hints) -> Result<Clip> {
        let input = match &self.content {
            Content::Own(path) => Input::file(path),
            Content::Memory(name, bytes) => Input::memory(name, bytes.clone()),
            Content::Stored(name, private) => Input::stored(name, private.path().join(STORED)),
        };
        Ok(Clip::from_input(input, hints)?)
    }

    /// All its bytes.
    ///
    /// # Errors
    /// [`Error::Read`].
    pub fn bytes_of(&self) -> Result<Vec<u8>> {
        match &self.content {
            Content::Own(path) => read_input(path, limits::MEMBER).map_err(Error::read(path)),
            Content::Memory(_, bytes) => Ok(bytes.to_vec()),
            Content::Stored(_, private) => {
                let path = private.path().join(STORED);
                read_input(&path, limits::MEMBER).map_err(Error::read(&path))
            }
        }
    }

    /// The hash of all its bytes.
    ///
    /// # Errors
    /// [`Error::Read`].
    pub fn hash(&self) -> Result<Hash> {
        match &self.content {
            Content::Own(path) => Hash::of_file(path),
            Content::Memory(_, bytes) => Ok(Hash::of(bytes)),
            Content::Stored(_, private) => Hash::of_file(&private.path().join(STORED)),
        }
    }
}
