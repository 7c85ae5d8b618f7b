//! Caches of a target's: files that it rebuilds from what it finds.
//!
//! A pattern of caches removes files for good, so it may meet nothing that is not one: no slot, list,
//! entry's file or marker, and nothing that the ledger knows. It looks through the main root; begun with the name
//! of another one and a colon, through that, for the caches of what other additions have put there.

use super::{Fault, Pattern, Sheet, known_root};
use crate::error::{Error, Result};
use crate::names::folded;
use crate::refusal::{FileKind, OddCaches, OddText};
use crate::template::{Piece, pieces};
use regex::Regex;
use std::path::Path;

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

/// The files that a sheet keeps beside a slot: texts that tell its loop, companions of its clip.
pub(crate) fn beside_slot(sheet: &Sheet, slot: &str) -> Vec<String> {
    let loops = sheet.rule_for(slot).into_iter().flat_map(|rule| &rule.loop_file.0);
    let mut all: Vec<String> = loops.filter_map(|file| file.path(slot).ok()).collect();
    let bare = slot.rsplit_once('.').map_or(slot, |(bare, _)| bare);
    let companions = sheet.companions.0.iter();
    let of_slot = companions.filter(|one| one.patterns.0.iter().any(|p| p.matches(slot)));
    all.extend(of_slot.map(|companion| format!("{bare}.{}", companion.extension.0)));
    all
}

/// What a sheet's templates may become the name of.
pub(crate) fn templated(sheet: &Sheet, name: &str) -> Option<FileKind> {
    let mut entries = sheet.entries.iter().map(|entry| &entry.get_ref().file.0);
    if entries.any(|file| may_be(file, name)) {
        return Some(FileKind::Entries);
    }
    let mut makes = sheet.makes.iter().map(|make| &make.get_ref().file.0);
    makes.any(|file| may_be(file, name)).then_some(FileKind::Beside)
}

/// Whether a template may become a name. One that is all places, and so could become any, is known once it is filled.
fn may_be(template: &str, name: &str) -> bool {
    let Ok(pieces) = pieces(template) else { return false };
    let is_plain = |piece: &Piece| matches!(piece, Piece::Text(text) if text.len() > 1);
    if !pieces.iter().any(is_plain) {
        return false;
    }
    let parts = pieces.iter().map(|piece| match piece {
        Piece::Text(text) => regex::escape(&folded(text)),
        Piece::Place(_) => ".*".to_owned(),
    });
    let expression = format!("^{}$", parts.collect::<String>());
    Regex::new(&expression).is_ok_and(|built| built.is_match(&folded(name)))
}

pub(crate) fn not_cache(
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
    samples.extend(sheet.makes.iter().map(|make| make.get_ref().file.0.clone()));
    samples.retain(|sample| sample != ".");
    for sample in &mut samples {
        *sample = filled(sample);
    }
    for rule in &sheet.rules {
        for pattern in &rule.patterns.get_ref().0 {
            let slots = samples_of(pattern.text(), &rule.extensions());
            samples.extend(slots.iter().flat_map(|slot| beside_slot(sheet, slot)));
            samples.extend(slots);
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

/// A name that a template may become.
fn filled(template: &str) -> String {
    let Ok(pieces) = pieces(template) else { return template.to_owned() };
    let parts = pieces.into_iter().map(|piece| match piece {
        Piece::Text(text) => text,
        Piece::Place(_) => "any".to_owned(),
    });
    parts.collect()
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
pub(crate) fn within_root(pattern: &Pattern) -> Result<(Option<&str>, Pattern)> {
    match pattern.text().split_once(':') {
        Some((name, rest)) if !name.contains('/') => {
            Ok((Some(name), rest.parse().map_err(OddCaches::Pattern)?))
        }
        _ => Ok((None, pattern.clone())),
    }
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
