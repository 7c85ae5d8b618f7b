//! Names out of lists: folders, archives, JSON documents, tables, lines of text.

use super::listed::{from_csv, in_line, is_list};
use super::lists;
use super::{NameList, Slots};
use crate::error::Result;
use crate::ledger::Ledger;
use crate::limits;
use crate::refusal::{Many, OddList, OddText};
use crate::root::Roots;
use crate::root::{RootAsk, absolute};
use crate::sheet::{Fault, Sheet, Source, Within};
use crate::stock::Stock;
use crate::tree::{slot_name, slot_path};
use deft_needle_audio::Invalid;
use deft_needle_audio::read::open_regular;
use deft_needle_audio::read::sniff::{self, Sniffed};
use deft_needle_audio::spec::Container;
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use toml::Spanned;

/// Reads all lists of a sheet; several add up.
pub(super) fn collect(sheet: &Sheet, roots: &Roots) -> Result<Slots> {
    let mut slots = Slots { mirrored: mirrored(roots), ..Slots::default() };
    for part in &sheet.slots {
        let source = part.get_ref();
        if slots.len() > limits::NAMES {
            break;
        }
        slots.lists.push(NameList {
            title: source.title().to_owned(),
            complete: source.complete,
            names: BTreeSet::new(),
        });
        let Some(path) = place(sheet, source, roots)? else {
            let file = source.title();
            let root = source.root.as_deref().unwrap_or("the main root");
            slots.unread.push(format!("{file} in {root}"));
            continue;
        };
        match Stock::is_one(&path) {
            true => of_stock(&mut slots, sheet, source, &path)?,
            false => of_list(&mut slots, sheet, part, &path)?,
        }
    }
    if slots.len() > limits::NAMES {
        let odd = OddText::TooMany(Many::Names, limits::NAMES);
        return Err(Fault::whole(sheet.path(), odd).into());
    }
    Ok(slots)
}

/// The names of the sounds of a folder or an archive.
fn of_stock(slots: &mut Slots, sheet: &Sheet, source: &Source, path: &Path) -> Result<()> {
    let stock = Stock::open(path)?;
    for (link, to) in stock.links()? {
        if let (Some(link), Some(to)) = (source.slot(&link), source.slot(&to)) {
            slots.add_links([(link, to)].into());
        }
    }
    for name in stock.names()? {
        let is_one =
            |slot: &String| is_named_like_sound(sheet, slot) || is_sound(stock.folder(), &name);
        let slot = source.slot(&name).filter(|slot| is_one(slot) && !sheet.ignores(slot));
        let Some(slot) = slot.filter(|slot| slots.stands_for(sheet, slot).is_none()) else {
            continue;
        };
        let within: Result<Within, Invalid> = slot.parse();
        match within {
            Ok(slot) if stock.folder().is_some() => slots.add_found(slot.0),
            Ok(slot) => slots.add(slot.0, None),
            Err(invalid) if source.make.is_some() => {
                return Err(Fault::whole(sheet.path(), OddList::Made(invalid)).into());
            }
            // What no root can hold is no slot.
            Err(_) => {}
        }
    }
    Ok(())
}

/// The names of a list.
fn of_list(slots: &mut Slots, sheet: &Sheet, part: &Spanned<Source>, path: &Path) -> Result<()> {
    let source = part.get_ref();
    let text = crate::rows::text_of(path)?;
    if is_list(&text) && source.column.0.is_empty() {
        for one in from_csv(&text, path)?.into_iter().filter(|one| !sheet.ignores(&one.name)) {
            slots.add(one.name.clone(), Some(one));
        }
        return Ok(());
    }
    for entry in lists::entries(source, &text, path)? {
        let Some(slot) = source.slot(&entry.name).filter(|slot| !sheet.ignores(slot)) else {
            continue;
        };
        let in_list = |odd: OddText| in_line(path, &text, entry.line, odd);
        let within: Within = slot.parse().map_err(|bad: Invalid| in_list(bad.into()))?;
        if let Some(stock) = &source.stock {
            let stock = entry.filled(stock).map_err(|odd| match odd {
                OddText::Template(odd) => sheet.fault_in(part, odd),
                odd => in_list(odd),
            })?;
            slots.add_stock(within.0.clone(), stock);
        }
        slots.add(within.0, None);
        if slots.len() > limits::NAMES {
            break;
        }
    }
    Ok(())
}

/// Files of mirrored trees in the main root, as its ledger knows them. One that cannot be read is told of
/// where something is changed.
fn mirrored(roots: &Roots) -> BTreeMap<String, String> {
    let Some(main) = roots.main.as_deref().and_then(|main| absolute(main).ok()) else {
        return BTreeMap::new();
    };
    let mut all = BTreeMap::new();
    for root in RootAsk::default().all_of(&main).unwrap_or_default() {
        let state = Ledger::peek(&root).unwrap_or_default();
        for (key, slot) in &state.slots {
            let Ok(path) = state.path_of(&root.path, key) else { continue };
            let stands_for = slot.top().and_then(|top| top.installed.stands_for.clone());
            if let (Some(slot), Ok(name)) = (stands_for, slot_name(&main, &path)) {
                all.insert(name, slot);
            }
        }
    }
    all
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
