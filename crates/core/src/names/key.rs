//! What the ledger calls a file: the root that it is in, and its path there.

use super::rules::reserved;
use super::{NotWithin, folded};
use crate::limits;
use deft_needle_audio::Invalid;
use schemars::JsonSchema;
use serde::{Deserialize, Deserializer, Serialize};
use std::fmt;
use std::path::{Path, PathBuf};

/// The folder in which a ledger lies, next to the files that it knows.
pub const LEDGER_FOLDER: &str = ".deft-needle";

/// Whether a name is that of a ledger's folder, or of a part of ours, on any file system.
pub fn is_own(name: &str) -> bool {
    let name = folded(name);
    name == LEDGER_FOLDER || name.starts_with(PART)
}

/// How the names of unfinished files begin.
pub const PART: &str = ".deft-needle-";

/// Whether a text is a path within a root: plain names with `/` between them, none of them ours.
pub fn is_within(text: &str) -> bool {
    let device = |name: &str| cfg!(windows) && reserved(name);
    let plain = |name: &str| {
        let fits = name.len() <= limits::NAME_BYTES;
        fits && !matches!(name, "" | "." | "..") && !is_own(name) && !device(name)
    };
    let names = || text.split('/');
    names().take(limits::LEVELS + 1).count() <= limits::LEVELS
        && names().all(plain)
        && !text.contains(['\\', ':', '\0'])
}

/// A file of a target's as the ledger calls it: `sfx/gull.ogg` in the main root, `settings:mix.ini` in
/// another.
///
/// One that the ledger's own functions give is spelt as the disk spells it, so that no file has two.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema, Serialize)]
#[serde(transparent)]
pub struct Key(String);

impl Key {
    /// A path within a root; `None` is the main one.
    ///
    /// # Errors
    /// [`NotWithin`] where it leads out of the root or into a ledger.
    pub fn new(root: Option<&str>, within: &str) -> Result<Self, NotWithin> {
        let fine = root.is_none_or(|root| !root.is_empty() && !root.contains([':', '/', '\\']));
        match fine && is_within(within) {
            true => Ok(Self(match root {
                Some(root) => format!("{root}:{within}"),
                None => within.to_owned(),
            })),
            false => {
                let long = |name: &str| name.len() > limits::NAME_BYTES;
                let most = match within.split('/').any(long) {
                    true => Some(format!("no name of more than {} bytes", limits::NAME_BYTES)),
                    false if within.split('/').count() > limits::LEVELS => {
                        Some(format!("no more than {} folders", limits::LEVELS))
                    }
                    false => None,
                };
                let shown: String = within.chars().take(40).collect();
                let why =
                    most.map(|most| Invalid::new("path (too long)", &format!("{shown}…"), most));
                Err(NotWithin { typed: within.to_owned(), why })
            }
        }
    }

    /// As it is written in the ledger.
    ///
    /// # Errors
    /// As [`Key::new`].
    pub fn parse(text: &str) -> Result<Self, NotWithin> {
        match text.split_once(':') {
            Some((root, within)) => Self::new(Some(root), within),
            None => Self::new(None, text),
        }
    }

    /// The root, where it is not the main one.
    pub fn root(&self) -> Option<&str> {
        Some(self.0.split_once(':')?.0)
    }

    /// The path within the root.
    pub fn within(&self) -> &str {
        self.0.split_once(':').map_or(&self.0, |(_, within)| within)
    }

    /// Whether another lies below it.
    pub fn holds(&self, other: &Self) -> bool {
        other.0.strip_prefix(&self.0).is_some_and(|rest| rest.starts_with('/'))
    }

    /// As it is written in the ledger.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// The path below a folder.
    pub fn path(&self, root: &Path) -> PathBuf {
        let names = self.within().split('/');
        names.fold(root.to_owned(), |path, name| path.join(name))
    }

    /// The folders that it lies in, outermost first.
    pub fn folders(&self) -> Vec<Self> {
        let own = self.within();
        let ends = own.match_indices('/').map(|(at, _)| &own[..at]);
        let prefix = &self.0[..self.0.len() - own.len()];
        ends.map(|folder| Self(format!("{prefix}{folder}"))).collect()
    }

    /// Whether two keys differ in nothing but case and how accents are stored.
    pub fn is_like(&self, other: &Self) -> bool {
        folded(&self.0) == folded(&other.0)
    }
}

impl fmt::Display for Key {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl<'de> Deserialize<'de> for Key {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        Self::parse(&text).map_err(serde::de::Error::custom)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keys_never_lead_out_or_into_a_ledger() {
        let key = Key::parse("settings:a/b c.wav").unwrap();
        assert_eq!((key.root(), key.within()), (Some("settings"), "a/b c.wav"));
        assert_eq!(key.path(Path::new("r")), Path::new("r").join("a").join("b c.wav"));
        assert_eq!(key.folders(), [Key::parse("settings:a").unwrap()]);
        assert!(Key::parse("A/É.wav").unwrap().is_like(&Key::parse("a/e\u{301}.WAV").unwrap()));
        for text in [
            "../x",
            "/x",
            "a//b",
            "",
            ".",
            "C:/x",
            "a\\..\\b",
            "a/\0",
            ":x",
            "r:",
            "r:../x",
            ".deft-needle/x",
            ".Deft-Needle/stock/x",
            "a/.DEFT-NEEDLE",
            "a/.deft-needle-0-1",
        ] {
            assert!(Key::parse(text).is_err(), "{text:?}");
        }
        assert!(serde_json::from_str::<Key>("\"../x\"").is_err());
    }
}
