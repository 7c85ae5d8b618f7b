//! A target's own files, in a folder or an archive; archives are never unpacked to the disk.

mod archive;
mod inside;
mod member;

pub(crate) use archive::is_archive;
pub use inside::{Inside, bytes_at, file_of, input_at};
pub use member::Member;

use crate::error::{Error, Result};
use crate::ledger::record::Held;
use crate::ledger::{Ledger, kept_in};
use crate::refusal::OddPath;
use crate::root::RootAsk;
use crate::sheet::Pattern;
use crate::tree::{files_and_links_below, slot_name, through_link};
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
    /// The folder of an archive that it is, with a `/` behind it; empty for all of it.
    below: String,
    replaced: Replaced,
    /// Names that files have beside their own, by their own.
    renamed: BTreeMap<String, Vec<String>>,
    /// What is passed over, and what names begin with where patterns are held against them.
    ignored: (String, Vec<Pattern>),
}

/// What replaced slots held.
type Replaced = BTreeMap<String, Original>;

/// What a replaced slot held.
#[derive(Debug, Clone)]
enum Original {
    Nothing,
    /// A file, of which there is a copy.
    Kept(PathBuf),
    /// A link to this file.
    Link(String),
}

/// A file of a folder.
struct Own {
    name: Result<String>,
    path: PathBuf,
    link: Option<String>,
}

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
    pub left_out: Vec<LeftOut>,
}

/// A file that could not be looked at.
#[derive(Debug)]
pub struct LeftOut {
    /// Its name; what is not Unicode in it is U+FFFD.
    pub name: String,
    /// Why.
    pub error: Error,
}

impl Stock {
    /// A folder, a zip or a tar (gzipped, too), told by content; or a folder in an archive.
    ///
    /// # Errors
    /// [`Error::Read`], and [`Error::Refused`] for any other file.
    pub fn open(path: &Path) -> Result<Self> {
        if let Some(inside) = Inside::of(path).filter(Inside::is_folder) {
            return Ok(Self {
                below: format!("{}/", inside.within),
                ..Self::at(&inside.archive, Place::Archive(inside.kind))
            });
        }
        let found = std::fs::metadata(path).map_err(Error::read(path))?;
        let place = match found.is_dir() {
            true => Place::Folder,
            false => Place::Archive(Kind::of(path)?.ok_or_else(|| OddPath::NotStock.of(path))?),
        };
        Ok(Self::at(path, place))
    }

    fn at(path: &Path, place: Place) -> Self {
        Self {
            path: path.to_owned(),
            place,
            below: String::new(),
            replaced: Replaced::new(),
            renamed: BTreeMap::new(),
            ignored: Default::default(),
        }
    }

    /// Whether a path is a folder or an archive, or a folder in one.
    pub fn is_one(path: &Path) -> bool {
        path.is_dir()
            || Self::is_archive(path)
            || Inside::of(path).is_some_and(|inside| inside.is_folder())
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
                let path = key.path(&root.path);
                if key.root().is_none()
                    && let Ok(name) = slot_name(folder, &path)
                {
                    let original = Original::of(original, &root.ledger, folder, &path);
                    self.replaced.insert(name, original);
                }
            }
        }
        Ok(self)
    }

    /// The same with files under other names than those on the disk; `names` tells where each lies.
    #[must_use]
    pub fn renamed(mut self, names: &BTreeMap<String, String>) -> Self {
        for (name, place) in names {
            self.renamed.entry(place.clone()).or_default().push(name.clone());
        }
        self
    }

    /// The same without the names that a sheet ignores, which begin with `prefix` in its root.
    #[must_use]
    pub fn ignoring(self, prefix: &str, patterns: &[Pattern]) -> Self {
        Self { ignored: (prefix.to_owned(), patterns.to_vec()), ..self }
    }

    fn ignores(&self, name: &str) -> bool {
        let (prefix, patterns) = &self.ignored;
        let name = || format!("{prefix}{name}");
        !patterns.is_empty() && patterns.iter().any(|pattern| pattern.matches(&name()))
    }

    /// A file's name below the folder, whatever its bytes.
    fn lossy(&self, file: &Path) -> String {
        let below = file.strip_prefix(&self.path).unwrap_or(file);
        below.to_string_lossy().replace(std::path::MAIN_SEPARATOR, "/")
    }

    /// The files of a folder with the slots that they are; links to files of it are files, too.
    fn files(&self) -> Result<Vec<Own>> {
        let mut files = Vec::new();
        for (file, is_link) in files_and_links_below(&self.path)? {
            if self.ignores(&self.lossy(&file)) {
                continue;
            }
            let name = slot_name(&self.path, &file);
            let original = name.as_ref().ok().and_then(|name| self.replaced.get(name));
            let linked = |to: String| (self.path_of(&to), Some(to));
            let found = match original {
                Some(Original::Nothing) => None,
                Some(Original::Kept(kept)) => Some((kept.clone(), None)),
                Some(Original::Link(to)) => Some(linked(to.clone())),
                None if is_litter(&file) => None,
                None if is_link => through_link(&self.path, &file, None).map(linked),
                None => Some((file, None)),
            };
            let Some((path, link)) = found else { continue };
            match name.as_ref().ok().and_then(|name| self.renamed.get(name)) {
                None => files.push(Own { name, path, link }),
                Some(names) => {
                    let own = |name: &String| Own {
                        name: Ok(name.clone()),
                        path: path.clone(),
                        link: None,
                    };
                    files.extend(names.iter().map(own));
                }
            }
        }
        Ok(files)
    }

    /// Where the stock of a file lies that a link leads to.
    fn path_of(&self, name: &str) -> PathBuf {
        match self.replaced.get(name) {
            Some(Original::Kept(kept)) => kept.clone(),
            Some(Original::Link(to)) if to != name => self.path.join(to),
            _ => self.path.join(name),
        }
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
        let mut aside: Vec<LeftOut> = Vec::new();
        match self.place {
            Place::Folder => {
                results.par_extend(self.files()?.into_par_iter().map(|own| match own.name {
                    Ok(name) => {
                        let member = Member::of_file(&name, &own.path);
                        let looked = member.and_then(|member| seen(&member.linked(own.link)));
                        (name, looked)
                    }
                    Err(error) => (self.lossy(&own.path), Err(error)),
                }));
            }
            Place::Archive(kind) => {
                aside = self.look_into(kind, &seen, &mut results, observer)?;
            }
        }
        results.sort_by(|a, b| a.0.cmp(&b.0));
        aside.retain(|left| !self.ignores(&left.name));
        let mut looked = Looked { found: Vec::new(), left_out: aside };
        for (name, result) in results {
            match result {
                Ok(found) => looked.found.push(found),
                Err(Error::Audio(stopped @ AudioError::Stopped)) => {
                    return Err(stopped.into());
                }
                Err(error) => looked.left_out.push(LeftOut { name, error }),
            }
        }
        Ok(looked)
    }

    /// Looks at every entry of an archive: the next ones are inflated while the last ones are looked at.
    fn look_into<T: Send>(
        &self,
        kind: Kind,
        seen: &(dyn Fn(&Member) -> Result<T> + Sync),
        results: &mut Vec<(String, Result<T>)>,
        observer: &dyn Observer,
    ) -> Result<Vec<LeftOut>> {
        std::thread::scope(|scope| {
            let (send, batches) = mpsc::sync_channel(1);
            let reader = scope.spawn(move || {
                kind.read(&self.path, &mut |batch| {
                    let stopped = |_| Error::from(AudioError::Stopped);
                    send.send(batch).map_err(stopped)
                })
            });
            for batch in batches {
                let members = batch.into_par_iter().filter_map(|mut member: Member| {
                    member.name = member.name.strip_prefix(&self.below)?.to_owned();
                    (!self.ignores(&member.name)).then_some(member)
                });
                results.par_extend(members.map(|member: Member| {
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
        })
    }

    /// The names that are links, each with the name of the file that it leads to.
    ///
    /// # Errors
    /// As [`Stock::look`].
    pub fn links(&self) -> Result<BTreeMap<String, String>> {
        let files = match self.place {
            Place::Folder => self.files()?,
            Place::Archive(_) => Vec::new(),
        };
        Ok(files.into_iter().filter_map(|own| Some((own.name.ok()?, own.link?))).collect())
    }

    /// The names of all files, in order.
    ///
    /// # Errors
    /// As [`Stock::look`].
    pub fn names(&self) -> Result<Vec<String>> {
        let mut names: Vec<String> = match self.place {
            Place::Folder => {
                let files = self.files()?.into_iter();
                files.filter_map(|own| own.name.ok()).collect()
            }
            Place::Archive(kind) => {
                let names = kind.names(&self.path)?.into_iter();
                let below = |name: String| name.strip_prefix(&self.below).map(str::to_owned);
                names.filter_map(below).filter(|name| !self.ignores(name)).collect()
            }
        };
        names.sort();
        Ok(names)
    }
}

impl Original {
    fn of(held: Held, ledger: &Path, folder: &Path, path: &Path) -> Self {
        let kept = held.hash().map(|hash| kept_in(ledger, hash));
        match (held, kept) {
            (Held::File(_), Some(kept)) => Self::Kept(kept),
            (Held::Link(_), Some(kept)) => {
                let text = std::fs::read_to_string(kept).ok();
                let to = text.and_then(|text| through_link(folder, path, Some(&text)));
                to.map_or(Self::Nothing, Self::Link)
            }
            _ => Self::Nothing,
        }
    }
}

/// What systems leave in folders, which no target has made.
fn is_litter(path: &Path) -> bool {
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    name.starts_with("._")
        || matches!(&*name, ".DS_Store" | "Thumbs.db" | "desktop.ini")
        || path.components().any(|part| part.as_os_str() == "__MACOSX")
}
