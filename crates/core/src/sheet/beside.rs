//! What a target is told beside the sounds themselves, and how jobs are packed.

use super::pattern::Pattern;
use super::values::{OneOrMany, Size, Within};
use crate::entry::{Format, Put};
use crate::names::is_within;
use crate::refusal::OddText;
use serde::Deserialize;

/// Something that the target must be told beside the file itself.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Entry {
    /// For which slots; once for all by default.
    #[serde(default, rename = "match")]
    pub patterns: OneOrMany<Pattern>,
    /// What a slot must look like; what its brackets hold is known to templates as `{1}`, `{2}` ….
    #[serde(default, deserialize_with = "super::values::expression")]
    pub find: Option<regex::Regex>,
    /// For which ways of installing; all of them by default.
    #[serde(default)]
    pub only: OneOrMany<Way>,
    /// For which of them.
    #[serde(default)]
    pub when: When,
    /// In which root; the main one by default.
    pub root: Option<String>,
    /// In which file.
    pub file: Within,
    /// Where in it.
    pub at: Option<String>,
    /// What is put there.
    pub value: Option<toml::Value>,
    /// What must stand there already.
    pub expect: Option<toml::Value>,
    /// What parts the members of a list in a value, or the columns of a table.
    pub separator: Option<String>,
    /// How the file is written, where its extension does not tell.
    pub format: Option<Format>,
    /// Where in a list a value goes.
    pub order: Option<Sorting>,
    /// The same: where another value stands in another list.
    pub index_of: Option<IndexOf>,
    /// Whether members of a list that differ in case alone are the same.
    #[serde(default)]
    pub ignore_case: bool,
    /// In a script, what becomes of the part that is found.
    #[serde(default)]
    pub put: Put,
}

/// For which slots something is done.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum When {
    /// For all.
    #[default]
    Always,
    /// For those that held nothing before.
    New,
    /// For those whose stock is replaced.
    Replaced,
}

impl When {
    /// Whether a slot is meant.
    pub fn holds(self, is_new: bool) -> bool {
        match self {
            Self::Always => true,
            Self::New => is_new,
            Self::Replaced => !is_new,
        }
    }
}

/// A small file that is made for each slot.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Make {
    /// For which slots.
    #[serde(rename = "match")]
    pub patterns: OneOrMany<Pattern>,
    /// What a slot must look like; what its brackets hold is known to templates as `{1}`, `{2}` ….
    #[serde(default, deserialize_with = "super::values::expression")]
    pub find: Option<regex::Regex>,
    /// For which of them.
    #[serde(default)]
    pub when: When,
    /// In which root; the main one by default.
    pub root: Option<String>,
    /// Which file, as a template.
    pub file: Within,
    /// What it holds, as a template.
    pub text: Option<String>,
    /// A file beside the sheet, as a template.
    pub template: Option<Within>,
    /// A file beside the sheet, unchanged.
    pub from: Option<Within>,
}

/// A file that comes with a clip and belongs to its slot.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Companion {
    /// For which slots.
    #[serde(rename = "match")]
    pub patterns: OneOrMany<Pattern>,
    /// Its extension, without the dot: it is named like the clip, and like the slot.
    pub extension: Extension,
}

/// The extension of a name, without its dot.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(try_from = "String")]
pub struct Extension(pub String);

impl TryFrom<String> for Extension {
    type Error = String;

    fn try_from(text: String) -> Result<Self, String> {
        let plain = !text.is_empty() && !text.starts_with('.') && is_within(&text);
        match plain && !text.contains('/') {
            true => Ok(Self(text)),
            false => Err(format!("\"{text}\" is not an extension: write it as in \"lip\"")),
        }
    }
}

/// Ways of installing.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Way {
    /// Files go into the slots themselves.
    Slots,
    /// Into a mirrored tree.
    Overlay,
    /// Into one archive.
    Archive,
}

/// Where in a list a value goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Sorting {
    /// Behind the last one.
    End,
    /// Before the first one that is greater, as people sort.
    Sorted,
    /// The same, character by character.
    Codepoint,
}

/// A value in another list of the same file.
#[derive(Debug, Clone, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct IndexOf {
    /// The other list.
    pub list: String,
    /// The value.
    pub value: toml::Value,
}

/// A file of the target's that goes into an overlay unchanged.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Carry {
    /// Which.
    pub file: Within,
    /// Where it goes, where that is another place.
    pub to: Option<Within>,
}

/// How a job is packed to be shared.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Pack {
    /// The archive's extension, without its dot.
    pub extension: Option<String>,
    /// What kind of archive it is.
    #[serde(default)]
    pub form: PackForm,
    /// The folder that slots lie in; the archive's own top by default.
    pub folder: Option<Within>,
    /// What goes in beside the sounds.
    #[serde(default)]
    pub files: Vec<PackFile>,
    /// A picture that goes in.
    pub icon: Option<PackIcon>,
    /// Whether a pack holds the target's files alone, and not what installs it again.
    #[serde(default)]
    pub bare: bool,
    /// The largest that it may be.
    #[serde(default, deserialize_with = "crate::names::text")]
    pub largest: Option<Size>,
}

/// What kind of archive a pack is.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum PackForm {
    /// A zip.
    #[default]
    Zip,
    /// A tar, gzipped.
    TarGz,
    /// A folder.
    Folder,
}

/// A square picture of a pack, as PNG.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct PackIcon {
    /// Where it lies in the pack.
    pub path: Within,
    /// Its width and height, in pixels.
    pub size: u32,
}

/// A file of a pack, made from a template.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct PackFile {
    /// Where it lies in the pack.
    pub path: Within,
    /// The template, beside the sheet.
    pub template: Within,
}

impl Entry {
    /// # Errors
    /// What contradicts itself.
    pub(super) fn validate(&self, roots: &[String]) -> Result<(), OddText> {
        if self.value.is_none() && self.expect.is_none() {
            return Err(OddText::NoValue);
        }
        known_root(self.root.as_deref(), roots)
    }
}

impl Make {
    /// # Errors
    /// What contradicts itself.
    pub(super) fn validate(&self, roots: &[String]) -> Result<(), OddText> {
        let given = [self.text.is_some(), self.template.is_some(), self.from.is_some()];
        if given.iter().filter(|given| **given).count() != 1 {
            return Err(OddText::OneContent);
        }
        known_root(self.root.as_deref(), roots)
    }
}

/// # Errors
/// A root that the sheet does not name.
pub(crate) fn known_root(named: Option<&str>, roots: &[String]) -> Result<(), OddText> {
    match named {
        Some(root) if !roots.iter().any(|known| known == root) => {
            Err(OddText::UnknownRoot { root: root.to_owned(), known: roots.to_vec() })
        }
        _ => Ok(()),
    }
}
