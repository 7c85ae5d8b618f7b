//! What was typed, as files: wildcards, folders, standard input, output names.

use crate::failure::Failure;
use crate::progress::waiting;
use deft_needle_audio::Clip;
use deft_needle_audio::read::sniff::{self, Sniffed};
use deft_needle_audio::read::{Hints, Input, open_regular};
use deft_needle_audio::spec::Container;
use deft_needle_core::names::{Near, shell_word};
use deft_needle_core::stock::input_at;
use deft_needle_core::tree::{files_below, near_files};
use std::io::IsTerminal as _;
use std::path::{Path, PathBuf, is_separator};

/// A path as text, whatever its bytes: what no Unicode can tell becomes U+FFFD.
pub fn text(path: &Path) -> String {
    path.to_string_lossy().into_owned()
}

/// A path for the user: relative to the current folder where it lies there, as it was most likely typed.
pub fn shown(path: &Path) -> String {
    let current = std::env::current_dir().ok();
    let below = current.and_then(|current| path.strip_prefix(current).ok().map(Path::to_owned));
    match below {
        Some(below) if below.as_os_str().is_empty() => ".".to_owned(),
        Some(below) => text(&below),
        None => text(path),
    }
}

/// The command line as it was typed, with one more option: to be pasted.
pub fn typed_with(option: &str) -> String {
    let words = std::env::args_os().skip(1).map(|word| shell_word(Path::new(&word)));
    let words: Vec<String> = words.collect();
    format!("deft-needle {} {option}", words.join(" "))
}

/// Whether a path stands for standard input or output.
pub fn is_stream(path: &Path) -> bool {
    path.as_os_str() == "-"
}

/// Where a clip's bytes come from; `-` is standard input.
pub fn input(path: &Path) -> Result<Input, Failure> {
    Ok(match is_stream(path) {
        true => waiting(|| Input::spool(&mut std::io::stdin().lock(), "standard input"))?,
        false => input_at(path)?,
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

/// A sound that was typed, or that lies in a folder that was typed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sound {
    /// The file, or `-`.
    pub path: PathBuf,
    /// The folders between the folder that was typed and the file; empty for a file that was typed.
    pub within: PathBuf,
}

/// Expands wildcards and folders: of a folder, all that are sounds, or claim to be by their extension.
///
/// # Errors
/// As [`expand`]; [`Failure::Usage`] for a folder without a sound; those of listing it.
pub fn sounds(typed: &[PathBuf]) -> Result<Vec<Sound>, Failure> {
    let mut all = Vec::new();
    for path in expand(typed)? {
        if !path.is_dir() {
            all.push(Sound { path, within: PathBuf::new() });
            continue;
        }
        let before = all.len();
        let files = files_below(&path)?.into_iter().filter(|file| seems_sound(file));
        all.extend(files.map(|file| {
            let within = file.strip_prefix(&path).ok().and_then(Path::parent);
            Sound { within: within.unwrap_or(Path::new("")).to_owned(), path: file }
        }));
        if all.len() == before {
            let what = format!("no audio file in {}", path.display());
            return Err(Failure::usage(what, "check the folder"));
        }
    }
    Ok(all)
}

/// Files in a tree that are sounds, or claim to be by their extension.
fn seems_sound(file: &Path) -> bool {
    if Container::from_extension(&extension(file)).is_some() {
        return true;
    }
    let sniffed = open_regular(file).ok().and_then(|mut open| sniff::sniff(&mut open, file).ok());
    sniffed.is_some_and(|sniffed| !matches!(sniffed, Sniffed::Unknown { .. }))
}

/// Files that may have been meant by one that is not there, next to it.
pub fn near(missing: &Path) -> Vec<Near> {
    let whole = |near: Near| Near { name: text(&missing.with_file_name(&near.name)), ..near };
    near_files(missing).into_iter().map(whole).collect()
}

/// Refuses to send bytes of sound to a terminal.
///
/// # Errors
/// [`Failure::Usage`].
pub fn refuse_terminal(out: &Path) -> Result<(), Failure> {
    match is_stream(out) && std::io::stdout().is_terminal() {
        true => Err(Failure::usage(
            "standard output is a terminal: it cannot show a sound file",
            "name a file with -o, or send it on with > or |",
        )),
        false => Ok(()),
    }
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
