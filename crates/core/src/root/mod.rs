//! Which folder is the root of a file, and where its ledger lies: one rule for every command.

mod drives;
mod gate;
pub mod registry;

pub use drives::keep_ledgers_of_drives_in;
pub(crate) use drives::ledger_of_drive;
pub use gate::{Kind, Place, look, refuse_odd};
pub(crate) use registry::data_folder;
pub use registry::{Known, Registry};

use crate::disk::{Disk, RealDisk};
use crate::error::{Error, Result};
use crate::fit::same_file;
use crate::ledger::{Ledger, is_ledger, usual_folder};
use crate::limits;
use crate::names::{Key, LEDGER_FOLDER, is_own};
use crate::refusal::{OddLedger, OddPath};
use crate::slots::Roots;
use crate::tree::slot_name;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;
use std::path::{Component, Path, PathBuf};

/// How a root was found.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Found {
    /// The user named it.
    Named,
    /// It has a ledger that knows the file already.
    ByFile,
    /// It is the nearest folder above the file that has a ledger.
    ByLedger,
    /// A sheet's marker lies in it.
    ByMarker,
}

/// A root, its ledger's folder, and whom to believe about both.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Root {
    /// The root.
    #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
    pub path: PathBuf,
    /// The folder of its ledger, which may not exist yet.
    #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
    pub ledger: PathBuf,
    /// How it was found.
    pub found: Found,
    /// Other roots by their names, as the user named them.
    #[serde(skip)]
    pub others: BTreeMap<String, PathBuf>,
    /// The ledgers that this user has made.
    #[serde(skip)]
    pub registry: Registry,
    /// Whether a ledger that was made for another place is taken over.
    #[serde(skip)]
    pub adopt: bool,
}

/// What the user says about roots.
#[derive(Debug, Clone, Default)]
pub struct RootAsk {
    /// The main root.
    pub root: Option<PathBuf>,
    /// Other roots by their names.
    pub others: BTreeMap<String, PathBuf>,
    /// The ledger's folder, where it is not in the root.
    pub ledger: Option<PathBuf>,
    /// Whether a ledger that was made for another place is taken over.
    pub adopt: bool,
}

impl RootAsk {
    /// Where the user says that they are.
    pub fn roots(&self) -> Roots {
        Roots { main: self.root.clone(), others: self.others.clone() }
    }

    /// A root that is certain.
    ///
    /// # Errors
    /// [`Error::Refused`] where it is not a folder, or lies in a ledger.
    pub fn certain(&self, path: &Path, found: Found) -> Result<Root> {
        let path = folder(path)?;
        let mut others = BTreeMap::new();
        for (name, other) in &self.others {
            others.insert(name.clone(), folder(other)?);
        }
        let ledger = self.ledger.as_ref().map(|l| absolute(l)).transpose()?;
        Ok(Root {
            ledger: ledger.unwrap_or_else(|| ledger_folder(&path)),
            path,
            found,
            others,
            registry: Registry::of_user(),
            adopt: self.adopt,
        })
    }

    /// The root of a file that is to be replaced by `clip`. In this order: the ledger that knows it; the root that the
    /// user names; the nearest folder above that has a ledger; a folder above with one of a sheet's `markers`. Of the
    /// last two, none that holds the clip, too: it may be the folder of everything that a user has.
    ///
    /// # Errors
    /// As [`RootAsk::certain`]; [`Error::Refused`] where nothing speaks for a folder, with the likely one.
    pub fn of_file(&self, typed: &Path, markers: &[&str], clip: &Path) -> Result<Root> {
        let (file, clip) = (absolute(typed)?, absolute(clip)?);
        if self.ledger.is_none()
            && let Some(mut root) = self.knowing(&file)
        {
            let named = self.root.as_ref().is_some_and(|named| same_file(named, &root.path));
            if named {
                root.found = Found::Named;
            }
            return Ok(root);
        }
        if let Some(named) = &self.root {
            return self.certain(named, Found::Named);
        }
        let is_apart = |folder: &Path| !clip.starts_with(folder);
        if let Some(root) = self.above(&file).into_iter().find(|root| is_apart(&root.path)) {
            return Ok(root);
        }
        let above = file.ancestors().skip(1);
        let marked = |folder: &&Path| {
            is_apart(folder) && markers.iter().any(|marker| folder.join(marker).is_file())
        };
        if let Some(marked) = above.clone().find(marked) {
            return self.certain(marked, Found::ByMarker);
        }
        let current = std::env::current_dir().ok();
        let may_be = |folder: &&Path| {
            let below =
                current.as_deref().is_none_or(|here| *folder != here && folder.starts_with(here));
            below && is_apart(folder) && folder.is_dir() && is_modest(folder)
        };
        // The outermost below the current folder, or the file's own.
        let likely = above.clone().filter(may_be).last();
        let own = || above.clone().find(|folder| folder.is_dir() && is_apart(folder));
        Err(OddLedger::NoRoot {
            file: typed.to_owned(),
            likely: likely.or_else(own).map(Path::to_owned),
            turned: !self.above(&clip).is_empty(),
        }
        .into())
    }

    /// The ledger above a file that knows it.
    fn knowing(&self, file: &Path) -> Option<Root> {
        let disk = RealDisk::default();
        let knows = |root: &Root| {
            // Wherever the user says that its other roots are: that is refused once it is opened.
            let known = Root { others: BTreeMap::new(), ..root.clone() };
            Ledger::peek(&known).is_ok_and(|state| state.knows(&root.path, file, &disk))
        };
        let mut root = self.above(file).into_iter().find(knows)?;
        root.found = Found::ByFile;
        Some(root)
    }

    /// Every root above a file, or at a folder, that has a ledger, the nearest first.
    fn above(&self, path: &Path) -> Vec<Root> {
        let known = Registry::of_user().all();
        let elsewhere = |folder: &Path| {
            let known = known.iter().find(|known| known.root == folder)?;
            is_ledger(&known.ledger).then(|| known.ledger.clone())
        };
        let has_ledger = |folder: &Path| match ledger_folder(folder) {
            its if its.is_dir() => Some(its),
            _ => elsewhere(folder),
        };
        let with_ledger = path.ancestors().filter_map(|folder| {
            let ledger = has_ledger(folder)?;
            let mut root = self.certain(folder, Found::ByLedger).ok()?;
            root.ledger = ledger;
            Some(root)
        });
        with_ledger.collect()
    }

    /// Every root that has a ledger and lies at, above or below what was typed.
    ///
    /// # Errors
    /// [`Error::Refused`] where there is none, or the named ones are wrong.
    pub fn all_of(&self, typed: &Path) -> Result<Vec<Root>> {
        let path = absolute(typed)?;
        let named = match (&self.root, &self.ledger) {
            (Some(root), _) => Some(folder(root)?),
            (None, Some(_)) if path.is_dir() => Some(path.clone()),
            (None, _) => None,
        };
        if let Some(named) = named {
            let root = self.certain(&named, Found::Named)?;
            return match root.ledger.is_dir() {
                true => Ok(vec![root]),
                false => Err(nothing_installed(&named)),
            };
        }
        let mut all = self.above(&path);
        all.extend(self.below(&path)?);
        match all.is_empty() {
            true => Err(nothing_installed(typed)),
            false => Ok(all),
        }
    }

    fn below(&self, path: &Path) -> Result<Vec<Root>> {
        let walk = walkdir::WalkDir::new(path).min_depth(1).sort_by_file_name();
        let walk = walk.into_iter().filter_entry(|entry| entry.file_type().is_dir());
        let mut roots = Vec::new();
        let mut inside = walk;
        let mut seen = 0;
        while let Some(entry) = inside.next() {
            seen += 1;
            if seen > limits::FOLDERS {
                break;
            }
            let Ok(entry) = entry else { continue };
            if !is_own(&entry.file_name().to_string_lossy()) {
                continue;
            }
            inside.skip_current_dir();
            let above = entry.path().parent().unwrap_or(path);
            if above != path && entry.file_name() == LEDGER_FOLDER {
                roots.push(self.certain(above, Found::ByLedger)?);
            }
        }
        let elsewhere = Registry::of_user().all().into_iter();
        for known in elsewhere.filter(|k| k.root != path && k.root.starts_with(path)) {
            if known.ledger != usual_folder(&known.root) && is_ledger(&known.ledger) {
                let mut root = self.certain(&known.root, Found::ByLedger)?;
                root.ledger = known.ledger;
                roots.push(root);
            }
        }
        Ok(roots)
    }
}

fn nothing_installed(path: &Path) -> Error {
    OddLedger::NothingInstalled { path: path.to_owned() }.into()
}

/// Where a root's ledger is, or would be, where nobody names its folder.
fn ledger_folder(root: &Path) -> PathBuf {
    let usual = usual_folder(root);
    match usual.is_dir() {
        true => usual,
        false => ledger_of_drive(root).unwrap_or(usual),
    }
}

/// Neither the home folder nor the top of a drive.
fn is_modest(folder: &Path) -> bool {
    let home = etcetera::home_dir().ok();
    let is_home = home.is_some_and(|home| same_file(&home, folder));
    let is_top = !folder.components().any(|part| matches!(part, Component::Normal(_)));
    !is_home && !is_top
}

/// A path from the top of its drive.
///
/// # Errors
/// [`Error::Read`].
pub fn absolute(path: &Path) -> Result<PathBuf> {
    std::path::absolute(path).map_err(Error::read(path))
}

/// A folder as a path that `strip_prefix` and `join` can work with.
fn folder(path: &Path) -> Result<PathBuf> {
    let path = match path.as_os_str().is_empty() {
        true => Path::new("."),
        false => path,
    };
    if !path.is_dir() {
        let odd = if path.exists() { OddPath::NotFolder } else { OddPath::Absent };
        return Err(odd.of(path));
    }
    let path = absolute(path)?;
    let real = path.canonicalize().map_err(Error::read(&path))?;
    let own = |folder: &Path| {
        folder.file_name().is_some_and(|name| is_own(&name.to_string_lossy())) || is_ledger(folder)
    };
    if path.ancestors().chain(real.ancestors()).any(own) {
        return Err(OddPath::OfLedger.of(path));
    }
    Ok(path)
}

/// The key of a file in a root, by its true name.
///
/// # Errors
/// [`Error::Refused`] where it does not lie in the root; those of [`look`].
pub fn key_of(root: &Path, file: &Path, disk: &dyn Disk) -> Result<Key> {
    let file = absolute(file)?;
    let within = slot_name(root, &file)?;
    Key::new(None, &look(root, &within, disk)?.within)
}
