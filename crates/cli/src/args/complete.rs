//! What a shell is offered for a word that is typed: names of sheets, and of the slots of a sheet.

use clap_complete::engine::{
    ArgValueCompleter, CompletionCandidate, PathCompleter, ValueCompleter,
};
use deft_needle_core::root::Roots;
use deft_needle_core::sheet::{SHIPPED, Sheet, own_sheets};
use deft_needle_core::slots::Slots;
use std::ffi::OsStr;
use std::path::{Path, PathBuf};

/// Slots that are offered at most.
const MOST: usize = 200;

/// Sheets: files, the user's own and the built-in ones.
pub fn sheets() -> ArgValueCompleter {
    ArgValueCompleter::new(|typed: &OsStr| {
        let start = typed.to_string_lossy();
        let named = |name: &str| name.starts_with(&*start);
        let built_in = SHIPPED.iter().filter(|sheet| named(sheet.name));
        let built_in = built_in
            .map(|sheet| CompletionCandidate::new(sheet.name).help(Some(sheet.about.into())));
        let own = own_sheets().into_iter().filter(|sheet| named(&sheet.name));
        let own = own.map(|sheet| CompletionCandidate::new(sheet.name));
        built_in.chain(own).chain(PathCompleter::file().complete(typed)).collect()
    })
}

/// Slots of the sheet that `--target` names in the line that is completed.
pub fn slots() -> ArgValueCompleter {
    ArgValueCompleter::new(|typed: &OsStr| {
        let words: Vec<PathBuf> = std::env::args_os().map(PathBuf::from).collect();
        let after = |option: &str| {
            let at = words.iter().position(|word| word == Path::new(option))?;
            words.get(at + 1).cloned()
        };
        let names = after("--target").map(|sheet| names(&sheet, after("--root").as_deref()));
        let start = typed.to_string_lossy();
        let alike = names.unwrap_or_default().into_iter().filter(|name| name.starts_with(&*start));
        alike.take(MOST).map(CompletionCandidate::new).collect()
    })
}

fn names(sheet: &Path, root: Option<&Path>) -> Vec<String> {
    let Ok(sheet) = Sheet::find(sheet) else { return Vec::new() };
    let slots = Slots::of_sheet(&sheet, &Roots::main(root));
    slots.map(|slots| slots.names().map(str::to_owned).collect()).unwrap_or_default()
}
