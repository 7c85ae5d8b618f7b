//! The names of a target's slots.

use super::tell_unread;
use crate::args::SlotsArgs;
use crate::console::{BAD, BOLD, Console, FAINT, GOOD, WARN, paint, safe};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::object;
use crate::progress::Progress;
use crate::table::{Room, Table};
use deft_needle_audio::num::count;
use deft_needle_audio::units::Duration;
use deft_needle_core::learn::list;
use deft_needle_core::root::Found as HowFound;
use deft_needle_core::sheet::{Sheet, quoted};
use deft_needle_core::slots::{Found, Group, Listed, Present, Query, Searched, Slots, families};
use deft_needle_core::stock::Stock;
use deft_needle_core::target::Target;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::Path;

/// Lists what matches.
pub fn run(args: &SlotsArgs, console: &Console) -> Result<Exit, Failure> {
    let query = Query::new(&args.words).map_err(|bad| {
        Failure::usage(bad.to_string(), "write * for any letters, # for what variants differ in")
    })?;
    let known = look_up(args, console)?;
    tell_unread(&known.slots, console);
    let names: Vec<&str> = known.slots.names().collect();
    let searched = query.search(&names, known.sheet.as_ref());
    if searched.slots.is_empty() {
        let typed = args.words.join(" ");
        let what = match names.is_empty() {
            true => format!("{} gives no names", args.of.display()),
            false => format!("no name or label of {} matches {typed}", names.len()),
        };
        console.say(safe(&what));
        console.object(|| object::SlotList {
            near: false,
            slots: Vec::new(),
            families: Vec::new(),
        });
        return Ok(Exit::Short);
    }
    if searched.near && !args.words.is_empty() {
        console.warn(format!("no exact match for {}; similar names:", safe(&args.words.join(" "))));
    }
    for note in &searched.notes {
        console.warn(safe(note));
    }
    let groups = families(searched.slots.iter().map(String::as_str));
    if args.as_job {
        console.find(as_job(&groups, &known));
    } else {
        console.find(table(&groups, &known, console.room()));
        console.say(summary(&searched, names.len()));
    }
    console.object(|| object::SlotList {
        near: searched.near,
        slots: searched.slots.iter().map(|slot| known.one(slot)).collect(),
        families: groups,
    });
    Ok(Exit::Done)
}

/// All that is known of a target's slots.
struct Known {
    sheet: Option<Sheet>,
    slots: Slots,
    present: Option<Found>,
}

/// One slot in JSON.
#[derive(JsonSchema, Serialize)]
pub struct One<'a> {
    name: &'a str,
    label: Option<&'a str>,
    spec: Option<String>,
    stock: Option<&'a Listed>,
    /// The slot that it leads to, where it is a link.
    link: Option<&'a str>,
    present: Option<Present>,
}

impl Known {
    fn label(&self, slot: &str) -> Option<&str> {
        self.sheet.as_ref()?.label(slot)
    }

    /// The stock's spec, else what the rule asks.
    fn spec(&self, slot: &str) -> Option<String> {
        if let Some(listed) = self.slots.listed(slot) {
            return Some(listed.spec.clone());
        }
        let rule = self.sheet.as_ref()?.rule_for(slot)?;
        let demand = rule.demand();
        Some(demand.map_or_else(|| "opaque".to_owned(), |d| d.specs[0].to_string()))
    }

    fn present(&self, slot: &str) -> Option<Present> {
        self.present.as_ref()?.get(slot).copied()
    }

    fn one<'a>(&'a self, slot: &'a str) -> One<'a> {
        One {
            name: slot,
            label: self.label(slot),
            spec: self.spec(slot),
            stock: self.slots.listed(slot),
            link: self.slots.link(slot),
            present: self.present(slot),
        }
    }
}

/// From a sheet and its lists, or from the files themselves.
fn look_up(args: &SlotsArgs, console: &Console) -> Result<Known, Failure> {
    if args.of.is_dir() || Stock::is_archive(&args.of) {
        let stock = Stock::open(&args.of)?.before_us()?;
        let progress = Progress::new(console, "reading", count(stock.names()?.len()));
        let mut slots = Slots::default();
        for listed in list(&stock, None, &progress)? {
            slots.add(listed.name.clone(), Some(listed));
        }
        let present = match stock.folder() {
            Some(folder) => {
                let root = args.place.asked().certain(folder, HowFound::Named)?;
                Some(slots.look(&root)?)
            }
            None => None,
        };
        return Ok(Known { sheet: None, slots, present });
    }
    let sheet = Sheet::find(&args.of)?;
    let asked = args.place.asked();
    let mut target = Target::new(sheet, asked.roots())?;
    let main = target.roots.main.clone();
    let now = match &main {
        Some(root) => Some(target.slots.look(&asked.certain(root, HowFound::Named)?)?),
        None => None,
    };
    if let Some(root) = &main {
        measure_unlisted(&mut target, root, console)?;
    }
    Ok(Known { sheet: Some(target.sheet), slots: target.slots, present: now })
}

/// What no list tells of the stock is measured.
fn measure_unlisted(target: &mut Target, root: &Path, console: &Console) -> Result<(), Failure> {
    let unlisted = |slots: &Slots, name: &str| slots.has(name) && slots.listed(name).is_none();
    if !target.slots.names().any(|name| unlisted(&target.slots, name)) {
        return Ok(());
    }
    let stock = Stock::open(root)?.before_us()?.renamed(target.slots.stock_elsewhere());
    let progress = Progress::new(console, "reading", count(stock.names()?.len()));
    for listed in list(&stock, Some(&target.sheet), &progress)? {
        if unlisted(&target.slots, &listed.name) {
            target.slots.add(listed.name.clone(), Some(listed));
        }
    }
    Ok(())
}

fn table(groups: &[Group], known: &Known, room: Room) -> String {
    let state = known.present.is_some();
    let mut heading = vec!["slot", "variants", "spec", "length", "LUFS", "loop", "link to"];
    if state {
        heading.push("now");
    }
    heading.push("label");
    let mut rows = vec![heading.iter().map(|name| paint(FAINT, *name)).collect()];
    for group in groups {
        let mut row = vec![paint(BOLD, safe(&group.name)), members(group)];
        row.extend(figures(group, known));
        row.push(safe(&links(group, known)));
        if state {
            row.push(states(group, known));
        }
        row.push(safe(&labels(group, known)));
        rows.push(row);
    }
    // A column that says nothing is left out.
    for column in (1..heading.len()).rev() {
        if rows[1..].iter().all(|row: &Vec<String>| row[column].is_empty()) {
            rows.iter_mut().for_each(|row| drop(row.remove(column)));
        }
    }
    Table::new(rows, &[], &[4, 5, 3]).text(room)
}

/// `1 2 3`, or how many where there are many.
fn members(group: &Group) -> String {
    const SHOWN: usize = 6;
    match group.members.as_slice() {
        [first, .., last] if group.members.len() > SHOWN => {
            format!("{first} to {last} ({})", group.members.len())
        }
        members => members.join(" "),
    }
}

/// Spec, length, loudness and loop of all members.
fn figures(group: &Group, known: &Known) -> [String; 4] {
    let listed: Vec<&Listed> =
        group.slots.iter().filter_map(|slot| known.slots.listed(slot)).collect();
    let mut specs: Vec<String> = group.slots.iter().filter_map(|slot| known.spec(slot)).collect();
    specs.dedup();
    let spec = match specs.as_slice() {
        [] => String::new(),
        [one] => one.clone(),
        [first, ..] => format!("{first} and others"),
    };
    let seconds = listed.iter().filter_map(|one| one.seconds);
    let lufs = listed.iter().filter_map(|one| one.lufs);
    let loops = listed.iter().filter(|one| one.looped.is_some()).count();
    [
        spec,
        range(seconds, |seconds| Duration(seconds).to_string()),
        range(lufs, |lufs| format!("{lufs:.1}")),
        match loops {
            0 => String::new(),
            all if all == group.slots.len() => "yes".to_owned(),
            some => format!("{some} of {}", group.slots.len()),
        },
    ]
}

fn range(values: impl Iterator<Item = f64>, shown: impl Fn(f64) -> String) -> String {
    let (mut least, mut most) = (f64::INFINITY, f64::NEG_INFINITY);
    for value in values {
        (least, most) = (least.min(value), most.max(value));
    }
    if least > most {
        return String::new();
    }
    let (a, b) = (shown(least), shown(most));
    if a == b { a } else { format!("{a} to {b}") }
}

fn states(group: &Group, known: &Known) -> String {
    let all = [Present::Replaced, Present::Other, Present::Missing, Present::Stock];
    let told = all.into_iter().filter_map(|state| {
        let count = group.slots.iter().filter(|slot| known.present(slot) == Some(state)).count();
        let style = match state {
            Present::Stock => FAINT,
            Present::Replaced => GOOD,
            Present::Other => WARN,
            Present::Missing => BAD,
        };
        match count {
            0 => None,
            all if all == group.slots.len() => Some(paint(style, state.word())),
            some => Some(paint(style, format!("{some} {}", state.word()))),
        }
    });
    told.collect::<Vec<_>>().join(", ")
}

fn links(group: &Group, known: &Known) -> String {
    let links: Vec<&str> = group.slots.iter().filter_map(|slot| known.slots.link(slot)).collect();
    match links.as_slice() {
        [a, b, _, ..] => format!("{a}, {b} and {} more", links.len() - 2),
        few => few.join(", "),
    }
}

fn labels(group: &Group, known: &Known) -> String {
    let mut labels: Vec<&str> = group.slots.iter().filter_map(|slot| known.label(slot)).collect();
    labels.dedup();
    labels.join(", ")
}

fn summary(searched: &Searched, all: usize) -> String {
    match searched.slots.len() {
        found if found == all => format!("{all} slots"),
        found => format!("{found} of {all} slots"),
    }
}

/// Entries of a job sheet, ready to be filled in.
fn as_job(groups: &[Group], known: &Known) -> String {
    let entry = |group: &Group| {
        let [spec, length, ..] = figures(group, known);
        let variants = match group.slots.len() {
            1 => String::new(),
            many => format!("{many} variants"),
        };
        let told: Vec<String> = [labels(group, known), variants, spec, length]
            .into_iter()
            .filter(|text| !text.is_empty())
            .collect();
        // Where the sign for variants would take in others, they are named one by one.
        let slots = match group.slots.len() {
            1 => format!("slot = {}", quoted(&group.slots[0])),
            _ => format!("slot = {}", quoted(&group.name)),
        };
        format!("[[replace]]  # {}\n{slots}\nclip = ''\n", safe(&told.join("; ")))
    };
    groups.iter().map(entry).collect::<Vec<_>>().join("\n").trim_end().to_owned()
}
