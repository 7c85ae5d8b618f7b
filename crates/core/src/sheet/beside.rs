//! What a target is told beside the sounds themselves, and how jobs are packed.

use super::pattern::Pattern;
use super::values::{OneOrMany, Within};
use serde::Deserialize;

/// Something that the target must be told beside the file itself.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Entry {
    /// For which slots; once for all where nothing is said.
    #[serde(default, rename = "match")]
    pub patterns: OneOrMany<Pattern>,
    /// In which root; the main one where nothing is said.
    pub root: Option<String>,
    /// In which file.
    pub file: Within,
    /// Where in it.
    pub at: Option<String>,
    /// What is put there.
    pub value: Option<toml::Value>,
    /// What must stand there already.
    pub expect: Option<toml::Value>,
    /// What parts the members of a list in a value.
    pub separator: Option<String>,
}

/// A file of the target's that goes into an overlay unchanged.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Carry {
    /// Which.
    pub file: Within,
}

/// How a job is packed to be shared.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Pack {
    /// The archive's extension, without its dot.
    pub extension: Option<String>,
    /// What goes in beside the sounds.
    #[serde(default)]
    pub files: Vec<PackFile>,
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
    pub(super) fn validate(&self, roots: &[String]) -> Result<(), String> {
        if self.value.is_none() && self.expect.is_none() {
            return Err("an entry needs a value to set or to expect".to_owned());
        }
        known_root(self.root.as_deref(), roots)
    }
}

/// # Errors
/// A root that the sheet does not name.
pub(super) fn known_root(named: Option<&str>, roots: &[String]) -> Result<(), String> {
    match named {
        Some(root) if !roots.iter().any(|known| known == root) => Err(match roots {
            [] => {
                format!("there is no root \"{root}\": the sheet names none (roots = [\"{root}\"])")
            }
            roots => format!(
                "there is no root \"{root}\"; there are: {}",
                roots.join(", ")
            ),
        }),
        _ => Ok(()),
    }
}
