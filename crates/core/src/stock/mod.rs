//! A target's own files, in a folder or an archive; archives are never unpacked to the disk.

mod archive;
mod member;

pub use member::Member;

use crate::error::{Error, Result};
use crate::ledger::{Ledger, kept_in};
use crate::refusal::OddPath;
use crate::root::RootAsk;
use crate::tree::{files_below, slot_name};
use archive::Kind;
use deft_needle_audio::{Error as AudioError, Observer};
use rayon::prelude::*;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::mpsc;

/// Where the files are.
#[derive(Debug, Clone)]
pub struct Stock {
    path: PathBuf,
    place: Place,
    replaced: Replaced,
}

/// Where the stock of replaced slots is kept; `None` where nothing was.
type Replaced = BTreeMap<String, Option<PathBuf>>;

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Place {
    Folder,
    Archive(Kind),
}

/// What a look at every file gave.
#[derive(Debug)]
pub struct Looked<T> {
    /// A result a file, in order of their names.
    pub found: Vec<T>,
    /// Files that could not be looked at, and why.
    pub left_out: Vec<Error>,
}

impl Stock {
    /// A folder, a zip or a tar (gzipped, too), told by content.
    ///
    /// # Errors
    /// [`Error::Read`], and [`Error::Refused`] for any other file.
    pub fn open(path: &Path) -> Result<Self> {
        let found = std::fs::metadata(path).map_err(Error::read(path))?;
        let place = match found.is_dir() {
            true => Place::Folder,
            false => Place::Archive(Kind::of(path)?.ok_or_else(|| OddPath::NotStock.of(path))?),
        };
        Ok(Self { path: path.to_owned(), place, replaced: Replaced::new() })
    }

    /// As it was before anything was installed: the ledger's copies in place of our own files.
    ///
    /// # Errors
    /// As [`Ledger::peek`].
    pub fn before_us(mut self) -> Result<Self> {
        let Some(folder) = self.folder().map(crate::root::absolute).transpose()? else {
            return Ok(self);
        };
        let folder = folder.as_path();
        for root in RootAsk::default().all_of(folder).unwrap_or_default() {
            for (key, slot) in Ledger::peek(&root)?.slots {
                let Some(original) = slot.top().and(slot.original()) else {
                    continue;
                };
                let kept = original.hash().map(|hash| kept_in(&root.ledger, hash));
                if key.root().is_none()
                    && let Ok(name) = slot_name(folder, &key.path(&root.path))
                {
                    self.replaced.insert(name, kept);
                }
            }
        }
        Ok(self)
    }

    /// The files of a folder with the slots that they are.
    fn files(&self) -> Result<Vec<(Result<String>, PathBuf)>> {
        let mut files = Vec::new();
        for file in files_below(&self.path)? {
            let name = slot_name(&self.path, &file);
            let kept = name.as_ref().ok().and_then(|name| self.replaced.get(name));
            match kept {
                Some(None) => {}
                Some(Some(kept)) => files.push((name, kept.clone())),
                None if is_litter(&file) => {}
                None => files.push((name, file)),
            }
        }
        Ok(files)
    }

    /// Whether a file is an archive that can be looked into.
    pub fn is_archive(path: &Path) -> bool {
        path.is_file() && matches!(Kind::of(path), Ok(Some(_)))
    }

    /// Its path.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// The folder that it is, where it is one.
    pub fn folder(&self) -> Option<&Path> {
        (self.place == Place::Folder).then_some(&*self.path)
    }

    /// Looks at every file, several at once; the observer hears of each.
    ///
    /// # Errors
    /// [`Error::Refused`] for an archive with entries that lead out, links, devices, or that inflates
    /// beyond all measure; [`Error::Read`].
    pub fn look<T: Send>(
        &self,
        look: &(dyn Fn(&Member) -> Result<T> + Sync),
        observer: &dyn Observer,
    ) -> Result<Looked<T>> {
        let seen = |member: &Member| {
            observer.advance(1);
            match observer.stopped() {
                true => Err(AudioError::Stopped.into()),
                false => look(member),
            }
        };
        let mut results: Vec<(String, Result<T>)> = Vec::new();
        match self.place {
            Place::Folder => {
                results.par_extend(self.files()?.into_par_iter().map(|(name, file)| match name {
                    Ok(name) => {
                        let looked = Member::of_file(&name, &file).and_then(|m| seen(&m));
                        (name, looked)
                    }
                    Err(error) => (file.to_string_lossy().into_owned(), Err(error)),
                }));
            }
            Place::Archive(kind) => std::thread::scope(|scope| {
                // The next files are inflated while the last ones are looked at.
                let (send, batches) = mpsc::sync_channel(1);
                let reader = scope.spawn(move || {
                    kind.read(&self.path, &mut |batch| {
                        let stopped = |_| Error::from(AudioError::Stopped);
                        send.send(batch).map_err(stopped)
                    })
                });
                for batch in batches {
                    results.par_extend(batch.into_par_iter().map(|member: Member| {
                        let looked = seen(&member);
                        (member.name, looked)
                    }));
                    if observer.stopped() {
                        break;
                    }
                }
                match reader.join() {
                    Ok(read) => read,
                    Err(panic) => std::panic::resume_unwind(panic),
                }
            })?,
        }
        results.sort_by(|a, b| a.0.cmp(&b.0));
        let mut looked = Looked { found: Vec::new(), left_out: Vec::new() };
        for (_, result) in results {
            match result {
                Ok(found) => looked.found.push(found),
                Err(Error::Audio(stopped @ AudioError::Stopped)) => {
                    return Err(stopped.into());
                }
                Err(error) => looked.left_out.push(error),
            }
        }
        Ok(looked)
    }

    /// The names of all files, in order.
    ///
    /// # Errors
    /// As [`Stock::look`].
    pub fn names(&self) -> Result<Vec<String>> {
        let mut names = match self.place {
            Place::Folder => {
                let files = self.files()?.into_iter();
                files.filter_map(|(name, _)| name.ok()).collect()
            }
            Place::Archive(kind) => kind.names(&self.path)?,
        };
        names.sort();
        Ok(names)
    }
}

/// What systems leave in folders, which no target has made.
fn is_litter(path: &Path) -> bool {
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    name.starts_with("._")
        || matches!(&*name, ".DS_Store" | "Thumbs.db" | "desktop.ini")
        || path.components().any(|part| part.as_os_str() == "__MACOSX")
}
