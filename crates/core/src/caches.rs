//! Caches of a target's: files that it rebuilds from what it finds.
//!
//! A pattern of caches removes files for good, so it may meet nothing that is not one: no slot, list,
//! entry's file or marker, and nothing that the ledger knows. It looks through the main root; begun with the name
//! of another one and a colon, through that, for the caches of what other additions have put there.

use crate::disk::RealDisk;
use crate::error::{Error, Result};
use crate::ledger::state::State;
use crate::limits;
use crate::names::{Key, folded};
use crate::refusal::{FileKind, OddCaches, OddText};
use crate::root::{Kind, look};
use crate::sheet::{Fault, Pattern, Sheet, known_root};
use crate::target::Target;
use crate::tree::{files_below, slot_name};
use deft_needle_audio::Invalid;
use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

/// The caches of a target that its sheet's patterns find now.
///
/// # Errors
/// [`Error::Sheet`] where a pattern finds what is no cache; [`Error::Read`].
pub fn of_target(root: &Path, target: &Target, state: &State, more: &[&str]) -> Result<Vec<Key>> {
    let sheet = &target.sheet;
    let mut known: BTreeSet<String> = target.slots.names().map(folded).collect();
    known.extend(more.iter().map(|slot| folded(slot)));
    let guarded = |key: &Key| {
        if known.contains(&folded(key.within())) {
            return Some(FileKind::Slot);
        }
        guarded(sheet, key.within()).or_else(|| held(state, key))
    };
    let mut others = state.others.clone();
    others.extend(
        target
            .roots
            .others
            .iter()
            .map(|(name, folder)| (name.clone(), folder.to_string_lossy().into_owned())),
    );
    find(root, &others, &sheet.clear.0, &|key| {
        guarded(key).map(|kind| not_cache(sheet, None, key.as_str(), Some(kind)))
    })
}

/// The caches that a ledger's own patterns find now, where nobody has the sheet at hand.
///
/// # Errors
/// As [`of_target`].
pub fn of_ledger(root: &Path, patterns: &[String], state: &State) -> Result<Vec<Key>> {
    let parsed = patterns.iter().map(|text| text.parse::<Pattern>());
    let parsed: Vec<Pattern> =
        parsed.collect::<Result<_, Invalid>>().map_err(OddCaches::Pattern)?;
    find(root, &state.others, &parsed, &|key| {
        let kind = held(state, key)?;
        Some(OddCaches::Meets { name: key.to_string(), kind }.into())
    })
}

/// What a ledger knows a file as.
fn held(state: &State, key: &Key) -> Option<FileKind> {
    let name = folded(key.as_str());
    let known = state.slots.iter().filter(|(_, slot)| slot.matters());
    let mut known = known.map(|(key, _)| folded(key.as_str()));
    known.any(|key| key == name).then_some(FileKind::Replaced)
}

/// What a sheet knows a file of its main root as, if anything.
pub(crate) fn guarded(sheet: &Sheet, name: &str) -> Option<FileKind> {
    let is = |path: &str| folded(path) == folded(name);
    if sheet.marker.0.iter().any(|marker| is(&marker.0)) {
        return Some(FileKind::Marker);
    }
    let lists = sheet.slots.iter().filter_map(|source| source.get_ref().in_root.as_ref());
    if lists.into_iter().any(|list| is(&list.0)) {
        return Some(FileKind::List);
    }
    let entries = sheet.entries.iter().map(|entry| &entry.get_ref().file);
    let carried = sheet.carry.iter().map(|carry| &carry.file);
    if entries.chain(carried).any(|file| is(&file.0)) {
        return Some(FileKind::Entries);
    }
    let container = Path::new(name).extension().and_then(|e| e.to_str());
    let sound = container.and_then(deft_needle_audio::spec::Container::from_extension);
    let ruled = sheet.rule_for(name).filter(|rule| {
        let extensions = rule.extensions();
        let own = |e: &String| container.is_some_and(|c| c.eq_ignore_ascii_case(e));
        sound.is_some() || extensions.iter().any(own)
    });
    ruled.map(|_| FileKind::Slot)
}

fn not_cache(
    sheet: &Sheet,
    pattern: Option<&Pattern>,
    file: &str,
    kind: Option<FileKind>,
) -> Error {
    let (pattern, file) = (pattern.map(ToString::to_string), file.to_owned());
    Fault::whole(sheet.path(), OddText::NotCache { pattern, file, kind }).into()
}

/// What a sheet's own patterns would remove that is no cache, without a look at any file.
///
/// # Errors
/// [`Error::Sheet`].
pub fn check(sheet: &Sheet) -> Result<()> {
    let named = sheet.marker.0.iter().map(|file| file.0.clone());
    let lists = sheet.slots.iter().filter_map(|s| Some(s.get_ref().in_root.as_ref()?.0.clone()));
    let entries = sheet.entries.iter().map(|entry| entry.get_ref().file.0.clone());
    let mut samples: Vec<String> = named.chain(lists).chain(entries).collect();
    samples.retain(|sample| sample != "." && !sample.contains('{'));
    for rule in &sheet.rules {
        for pattern in &rule.patterns.get_ref().0 {
            samples.extend(samples_of(pattern.text(), &rule.extensions()));
        }
    }
    for pattern in &sheet.clear.0 {
        let (root, within) = within_root(pattern)?;
        // The main root needs no name, and another one must be the sheet's.
        let others = sheet.roots.get(1..).unwrap_or_default();
        known_root(root, others).map_err(|odd| Fault::whole(sheet.path(), odd))?;
        if let Some(met) = samples.iter().find(|sample| within.matches(sample)) {
            return Err(not_cache(sheet, Some(pattern), met, None));
        }
    }
    Ok(())
}

/// Names that a rule's pattern matches.
fn samples_of(pattern: &str, extensions: &[String]) -> Vec<String> {
    let name = pattern.split('/').next_back().unwrap_or(pattern);
    let has_extension =
        name.rsplit_once('.').is_some_and(|(_, e)| !e.contains(['*', '?', '[', '{']));
    let fill = |(folders, rest): (&str, &str)| {
        let plain = pattern.replace("**/", folders).replace("**", rest);
        plain.replace('*', "any").replace(['?', '#'], "1")
    };
    let mut all = Vec::new();
    let depths = [("", "any"), ("folder/", "any"), ("folder/deep/", "any/name")];
    for filled in depths.map(fill) {
        match has_extension || extensions.is_empty() {
            true => all.push(filled),
            false => all.extend(extensions.iter().map(|e| format!("{filled}.{e}"))),
        }
    }
    all
}

/// The root that a pattern is for, where it is not the main one, and the pattern within it.
fn within_root(pattern: &Pattern) -> Result<(Option<&str>, Pattern)> {
    match pattern.text().split_once(':') {
        Some((name, rest)) if !name.contains('/') => {
            Ok((Some(name), rest.parse().map_err(OddCaches::Pattern)?))
        }
        _ => Ok((None, pattern.clone())),
    }
}

/// The files of roots that these patterns match; none may be guarded.
fn find(
    root: &Path,
    others: &BTreeMap<String, String>,
    patterns: &[Pattern],
    guarded: &dyn Fn(&Key) -> Option<Error>,
) -> Result<Vec<Key>> {
    let mut by_root: BTreeMap<Option<&str>, Vec<Pattern>> = BTreeMap::new();
    for pattern in patterns {
        let (name, within) = within_root(pattern)?;
        by_root.entry(name).or_default().push(within);
    }
    let disk = RealDisk::default();
    let mut found = Vec::new();
    for (root_name, patterns) in by_root {
        let folder = match root_name {
            None => root,
            // A root that a job does not name has nothing of its own to grow stale.
            Some(name) => match others.get(name) {
                Some(folder) => Path::new(folder),
                None => continue,
            },
        };
        for file in files_below(folder)? {
            let Ok(name) = slot_name(folder, &file) else {
                continue;
            };
            if !patterns.iter().any(|pattern| pattern.matches(&name)) {
                continue;
            }
            let Ok(key) = Key::new(root_name, &name) else {
                continue;
            };
            if let Some(error) = guarded(&key) {
                return Err(error);
            }
            if look(folder, &name, &disk)?.kind == Kind::File {
                found.push(key);
            }
            if found.len() > limits::CACHES {
                return Err(OddCaches::TooMany { most: limits::CACHES }.into());
            }
        }
    }
    Ok(found)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sheet(clear: &str) -> Result<Sheet> {
        let text = format!(
            "name = 'x'\nroots = ['game', 'added']\nmarker = 'game.toml'\nclear = {clear}\n[[slots]]\nin-root = 'names.txt'\n\
             [[rule]]\nmatch = 'music/**'\nspec = 'ogg vorbis:q5 44100 stereo'\n\
             [[entry]]\nfile = 'cues.json'\nat = '/a'\nvalue = 1\n"
        );
        Sheet::parse(&text, Path::new("x.toml"))
    }

    #[test]
    fn patterns_that_meet_what_is_no_cache_are_refused() {
        for good in
            ["'**/warm.idx'", "['*.idx', 'music/**/*.tmp']", "'cache/**'", "'added:**/warm.idx'"]
        {
            assert!(sheet(good).is_ok(), "{good}");
        }
        for bad in [
            "'**'",
            "'**/*'",
            "'*'",
            "'**/*.ogg'",
            "'music/*'",
            "'music/**'",
            "'*.toml'",
            "'names.*'",
            "['*.idx', '*.json']",
            "'**/*.o?g'",
            "'added:**/*.json'",
            "'other:**/warm.idx'",
        ] {
            assert!(sheet(bad).is_err(), "{bad}");
        }
    }
}
