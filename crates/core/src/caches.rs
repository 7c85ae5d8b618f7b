//! Caches of a target's: files that it makes anew from what it finds.

use crate::error::{Error, Result};
use crate::sheet::Pattern;
use crate::tree::{files_below, slot_name};
use std::path::Path;

/// The files of a root that these patterns match.
///
/// # Errors
/// [`Error::Refused`] for a malformed pattern, [`Error::Read`].
pub fn find(root: &Path, patterns: &[String]) -> Result<Vec<String>> {
    let parsed = patterns.iter().map(|text| text.parse::<Pattern>());
    let parsed: Vec<Pattern> = parsed
        .collect::<Result<_, String>>()
        .map_err(|what| Error::refused(what, "mend the sheet's key clear"))?;
    if parsed.is_empty() {
        return Ok(Vec::new());
    }
    let names = files_below(root)?.into_iter();
    Ok(names
        .filter_map(|file| slot_name(root, &file).ok())
        .filter(|name| parsed.iter().any(|pattern| pattern.matches(name)))
        .collect())
}
