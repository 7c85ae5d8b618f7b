//! Names out of lists: folders, archives, JSON documents, tables, lines of text.

use super::listed::{from_csv, in_line, is_list};
use super::{Roots, Slots};
use crate::disk::read_input;
use crate::error::{Error, Result};
use crate::limits;
use crate::sheet::{Column, Fault, Sheet, Size, Source, Within};
use crate::stock::Stock;
use crate::tree::slot_path;
use deft_needle_audio::num::count;
use deft_needle_audio::read::open_regular;
use deft_needle_audio::read::sniff::{self, Sniffed};
use deft_needle_audio::spec::Container;
use std::path::{Path, PathBuf};

/// Reads all lists of a sheet; several add up.
pub(super) fn collect(sheet: &Sheet, roots: &Roots) -> Result<Slots> {
    let mut slots = Slots::default();
    for source in &sheet.slots {
        if slots.len() > limits::NAMES {
            break;
        }
        let source = source.get_ref();
        let Some(path) = place(sheet, source, roots)? else {
            let file = source.in_root.as_ref().map_or(".", |within| &within.0);
            let root = source.root.as_deref().unwrap_or("the main root");
            slots.unread.push(format!("{file} in {root}"));
            continue;
        };
        if path.is_dir() || Stock::is_archive(&path) {
            let stock = Stock::open(&path)?;
            for name in stock.names()? {
                let slot = source.slot(&name).filter(|slot| {
                    is_named_like_sound(sheet, slot) || is_sound(stock.folder(), &name)
                });
                let Some(slot) = slot else { continue };
                let within: Result<Within, String> = slot.parse();
                match within {
                    Ok(slot) if stock.folder().is_some() => slots.add_found(slot.0),
                    Ok(slot) => slots.add(slot.0, None),
                    Err(what) if source.make.is_some() => {
                        let instead = "check what find finds and make makes of it";
                        return Err(Fault::whole(sheet.path(), what, instead).into());
                    }
                    // What no root can hold is no slot.
                    Err(_) => {}
                }
            }
            continue;
        }
        let text = text_of(&path)?;
        if is_list(&text) && source.column.is_none() {
            for one in from_csv(&text, &path)? {
                slots.add(one.name.clone(), Some(one));
            }
            continue;
        }
        for (line, entry) in entries(source, &text, &path)? {
            let Some(slot) = source.slot(&entry) else {
                continue;
            };
            let within: Within =
                slot.parse().map_err(|what: String| in_line(&path, &text, line, what))?;
            slots.add(within.0, None);
            if slots.len() > limits::NAMES {
                break;
            }
        }
    }
    if slots.len() > limits::NAMES {
        let what = format!("its lists give more than {} names", limits::NAMES);
        return Err(Fault::whole(sheet.path(), what, "name a shorter list, or part of it").into());
    }
    Ok(slots)
}

/// Names of sounds: by their extension, or one that the slot's rule names.
pub fn is_named_like_sound(sheet: &Sheet, name: &str) -> bool {
    let extension = Path::new(name).extension().unwrap_or_default();
    let extension = extension.to_string_lossy();
    let dotted = format!(".{extension}");
    Container::from_extension(&extension).is_some()
        || sheet.rule_for(name).is_some_and(|rule| {
            let named = |e: &String| e.eq_ignore_ascii_case(&extension);
            rule.extensions().iter().any(named)
                || rule.title().split(", ").any(|pattern| pattern.ends_with(&dotted))
        })
}

/// A sound by its content, where that is at hand.
fn is_sound(folder: Option<&Path>, name: &str) -> bool {
    let Some(path) = folder.and_then(|folder| slot_path(folder, name).ok()) else {
        return false;
    };
    let sniffed = open_regular(&path).ok().and_then(|mut file| sniff::sniff(&mut file, &path).ok());
    sniffed.is_some_and(|sniffed| !matches!(sniffed, Sniffed::Unknown { .. }))
}

/// Where a list is; `None` where its root is not at hand.
fn place(sheet: &Sheet, source: &Source, roots: &Roots) -> Result<Option<PathBuf>> {
    if let Some(within) = &source.from {
        let folder = sheet.path().parent().unwrap_or(Path::new(""));
        return Ok(Some(folder.join(&within.0)));
    }
    let Some(folder) = roots.folder(sheet, source.root.as_deref()) else {
        return Ok(None);
    };
    match &source.in_root {
        Some(within) if within.0 != "." => slot_path(folder, &within.0).map(Some),
        _ => Ok(Some(folder.to_owned())),
    }
}

/// UTF-8 or UTF-16 with its mark.
fn text_of(path: &Path) -> Result<String> {
    let bytes = match read_input(path, limits::LIST) {
        Err(error) if error.kind() == std::io::ErrorKind::FileTooLarge => {
            let most = Size(limits::LIST);
            let what = format!("it is larger than {most}, the most that a list may take");
            return Err(Fault::whole(path, what, "name a list of names").into());
        }
        other => other.map_err(Error::read(path))?,
    };
    let wide = |pair: fn([u8; 2]) -> u16| {
        let units: Vec<u16> = bytes[2..].chunks_exact(2).map(|c| pair([c[0], c[1]])).collect();
        String::from_utf16(&units).ok()
    };
    let text = match bytes.as_slice() {
        [0xFF, 0xFE, ..] => wide(u16::from_le_bytes),
        [0xFE, 0xFF, ..] => wide(u16::from_be_bytes),
        [0xEF, 0xBB, 0xBF, rest @ ..] => std::str::from_utf8(rest).ok().map(str::to_owned),
        all => std::str::from_utf8(all).ok().map(str::to_owned),
    };
    text.ok_or_else(|| {
        Fault::whole(path, "it is not text in UTF-8 or UTF-16", "save it as UTF-8").into()
    })
}

/// The entries of a list with the lines where they stand.
fn entries(source: &Source, text: &str, path: &Path) -> Result<Vec<(u64, String)>> {
    let extension = path.extension().unwrap_or_default().to_ascii_lowercase();
    if source.pointer.is_some() || extension == "json" {
        return of_json(source, text, path);
    }
    let tabled = extension == "csv" || extension == "tsv";
    if tabled || source.column.is_some() || source.delimiter.is_some() {
        let usual = if extension == "tsv" { '\t' } else { ',' };
        return of_table(source, text, path, source.delimiter.unwrap_or(usual));
    }
    let lines = text.lines().enumerate().skip(source.headings.unwrap_or(0));
    Ok(lines
        .map(|(index, line)| (count(index) + 1, line.trim().to_owned()))
        .filter(|(_, line)| !line.is_empty())
        .collect())
}

fn of_table(
    source: &Source,
    text: &str,
    path: &Path,
    delimiter: char,
) -> Result<Vec<(u64, String)>> {
    let delimiter = u8::try_from(delimiter).map_err(|_| {
        Fault::whole(path, format!("\"{delimiter}\" cannot part columns"), "name a plain character")
    })?;
    let named = matches!(source.column, Some(Column::Named(_)));
    let headings = source.headings.unwrap_or(usize::from(named));
    // Lines before the headings are no table yet.
    let skipped: usize = text
        .split_inclusive('\n')
        .take(headings.saturating_sub(usize::from(named)))
        .map(str::len)
        .sum();
    let before = text[..skipped].matches('\n').count();
    let mut reader = csv::ReaderBuilder::new()
        .delimiter(delimiter)
        .has_headers(false)
        .flexible(true)
        .quoting(delimiter != b'\t')
        .from_reader(&text.as_bytes()[skipped..]);
    let (mut all, mut column) = (Vec::new(), None);
    for row in reader.records() {
        let row = row.map_err(|error| Fault::whole(path, error.to_string(), ""))?;
        let line = row.position().map_or(1, csv::Position::line) + count(before);
        let at = match (&source.column, column) {
            (_, Some(at)) => at,
            (Some(Column::Numbered(number)), None) => number - 1,
            (None, None) => 0,
            (Some(Column::Named(name)), None) => {
                let at = row.iter().position(|heading| heading.trim() == name);
                let headings: Vec<&str> = row.iter().collect();
                column = Some(at.ok_or_else(|| {
                    in_line(
                        path,
                        text,
                        line,
                        format!("no column \"{name}\" among {}", headings.join(", ")),
                    )
                })?);
                continue;
            }
        };
        let entry = row.get(at).unwrap_or_default().trim();
        if !entry.is_empty() {
            all.push((line, entry.to_owned()));
        }
    }
    Ok(all)
}

fn of_json(source: &Source, text: &str, path: &Path) -> Result<Vec<(u64, String)>> {
    let document: serde_json::Value = serde_json::from_str(text)
        .map_err(|error| in_line(path, text, count(error.line()), error.to_string()))?;
    let pointer = source.pointer.as_deref().unwrap_or_default();
    let whole = |what: String| Error::from(Fault::whole(path, what, "check pointer and field"));
    let found = document
        .pointer(pointer)
        .ok_or_else(|| whole(format!("there is nothing at \"{pointer}\"")))?;
    let line_of = |entry: &str| {
        let quoted = serde_json::Value::from(entry).to_string();
        let before = text.find(&quoted).map_or(0, |at| text[..at].matches('\n').count());
        count(before) + 1
    };
    let field = |member: &serde_json::Value| match &source.field {
        Some(field) => member.get(field).and_then(|v| v.as_str()).map(str::to_owned),
        None => member.as_str().map(str::to_owned),
    };
    let names: Vec<String> = match (found, &source.field) {
        (serde_json::Value::Object(map), None) => map.keys().cloned().collect(),
        (serde_json::Value::Object(map), Some(_)) => map.values().filter_map(field).collect(),
        (serde_json::Value::Array(members), _) => members.iter().filter_map(field).collect(),
        _ => {
            return Err(whole(format!("\"{pointer}\" is neither an object nor an array")));
        }
    };
    // Looking for each in a long text takes long, and only matters where a name is bad.
    let bad = |name: &String| source.slot(name).is_some_and(|slot| slot.parse::<Within>().is_err());
    Ok(names.into_iter().map(|name| (if bad(&name) { line_of(&name) } else { 0 }, name)).collect())
}
