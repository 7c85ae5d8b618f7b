//! Which folder is the root of a file, and where its ledger lies: one rule for every command.

mod drives;
mod gate;
mod ledger_folder;
pub mod registry;

pub use crate::disk::Kind;
pub use drives::keep_ledgers_of_drives_in;
pub(crate) use drives::ledger_of_drive;
pub use gate::{Place, look, refuse_odd};
pub use ledger_folder::{is_ledger, usual_folder};
pub use registry::{Known, Registry};

use crate::disk::Disk;
use crate::error::{Error, Result};
use crate::limits;
use crate::names::{Key, LEDGER_FOLDER, is_own};
use crate::refusal::{OddLedger, OddPath};
use crate::tree::slot_name;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// Where a target's roots are.
#[derive(Debug, Clone, Default)]
pub struct Roots {
    /// The main one.
    pub main: Option<PathBuf>,
    /// Others by their names in the sheet.
    pub others: BTreeMap<String, PathBuf>,
}

impl Roots {
    /// Only a main one, or none.
    pub fn main(path: Option<&Path>) -> Self {
        Self { main: path.map(Path::to_owned), others: BTreeMap::new() }
    }
}

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

    /// Every root above a file, or at a folder, that has a ledger, the nearest first.
    pub(crate) fn above(&self, path: &Path) -> Vec<Root> {
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
    Ok(Key::new(None, &look(root, &within, disk)?.within)?)
}
