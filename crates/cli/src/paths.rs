//! What was typed, as files: wildcards, folders, standard input, output names.

use crate::failure::Failure;
use crate::progress::waiting;
use deft_needle_audio::Clip;
use deft_needle_audio::read::{Hints, Input};
use std::path::{Path, PathBuf, is_separator};

/// A path as text, whatever its bytes: what no Unicode can tell becomes U+FFFD.
pub fn text(path: &Path) -> String {
    path.to_string_lossy().into_owned()
}

/// A path as it can be pasted into a command line.
pub fn quoted(path: &Path) -> String {
    let text = text(path);
    if text.contains([' ', '\'', '(', '&', ';']) { format!("\"{text}\"") } else { text }
}

/// Whether a path stands for standard input or output.
pub fn is_stream(path: &Path) -> bool {
    path.as_os_str() == "-"
}

/// Where a clip's bytes come from; `-` is standard input.
pub fn input(path: &Path) -> Result<Input, Failure> {
    Ok(match is_stream(path) {
        true => waiting(|| Input::spool(&mut std::io::stdin().lock(), "standard input"))?,
        false => Input::file(path),
    })
}

/// Opens a clip; `-` is standard input.
pub fn open_clip(path: &Path, hints: &Hints) -> Result<Clip, Failure> {
    Ok(Clip::from_input(input(path)?, hints)?)
}

/// Expands wildcards where the shell has not. A name that exists is never a pattern.
///
/// # Errors
/// [`Failure::Usage`] where a pattern is malformed or matches nothing.
pub fn expand(typed: &[PathBuf]) -> Result<Vec<PathBuf>, Failure> {
    let mut all = Vec::new();
    for path in typed {
        let text = path.to_string_lossy();
        if is_stream(path) || !text.contains(['*', '?', '[']) || path.exists() {
            all.push(path.clone());
            continue;
        }
        let found = glob::glob(&text).map_err(|error| {
            Failure::usage(
                format!("the pattern {text} is malformed: {error}"),
                "write * for any letters, ? for one",
            )
        })?;
        let before = all.len();
        all.extend(found.flatten().filter(|path| path.is_file()));
        if all.len() == before {
            return Err(Failure::usage(
                format!("no file matches {text}"),
                "check the folder and the spelling",
            ));
        }
    }
    Ok(all)
}

/// Whether an output path means a folder: it is one, or ends like one.
pub fn means_folder(path: &Path) -> bool {
    path.is_dir() || path.to_string_lossy().ends_with(is_separator)
}

/// The extension of a path, without its dot; empty where it has none.
pub fn extension(path: &Path) -> String {
    let extension = path.extension().unwrap_or_default();
    extension.to_string_lossy().into_owned()
}
