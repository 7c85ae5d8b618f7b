//! What a check found, in words.

use crate::report::error::core;
use deft_needle_core::check::{Short, Whole};
use deft_needle_core::names::{OddName, did_you_mean};
use deft_needle_core::run::{Condition, SlotStatus};
use std::collections::BTreeSet;

/// Properties that follow from another container or encoding, and need not be told beside it.
const FOLLOW: &[&str] = &["header", "block size", "chunks", "loop tags", "whole"];
/// The words of a spec line.
const LINE: &[&str] = &["container", "encoding", "sample rate", "channels"];

/// What is wrong with a file, a line each; what only follows from something else is left out. `is` and
/// `asked` are the spec lines.
pub fn shortfalls(all: &[Short], is: &str, asked: Option<&str>) -> Vec<String> {
    let property = |short: &Short| match short {
        Short::Property(short) => Some(short.what),
        _ => None,
    };
    let of_line: Vec<&str> =
        all.iter().filter_map(property).filter(|what| LINE.contains(what)).collect();
    let other = of_line.iter().any(|what| matches!(*what, "container" | "encoding"));
    let mut lines = Vec::new();
    if let (Some(asked), true) = (asked, of_line.len() > 1) {
        lines.push(format!("is {is}, should be {asked}"));
    }
    let folded = !lines.is_empty();
    let told = |short: &&Short| match property(short) {
        Some(what) => !(folded && LINE.contains(&what) || other && FOLLOW.contains(&what)),
        None => true,
    };
    // One name mends all that is wrong with a name.
    let last = all.iter().rposition(|short| matches!(short, Short::Name { .. }));
    let line = |(at, one): (usize, &Short)| match one {
        Short::Name { odd, .. } if Some(at) != last => format!("its name {}", odd_name(odd)),
        one => short(one),
    };
    lines.extend(all.iter().enumerate().filter(|(_, one)| told(one)).map(line));
    lines
}

/// What kinds of things are wrong with a file, for counting.
pub fn kinds(all: &[Short]) -> BTreeSet<&'static str> {
    let kinds: BTreeSet<&str> = all.iter().map(kind).collect();
    let of_line = kinds.iter().filter(|kind| LINE.contains(kind)).count();
    match of_line {
        0 | 1 => kinds,
        _ => kinds.into_iter().filter(|kind| !LINE.contains(kind)).chain(["format"]).collect(),
    }
}

/// One thing that is wrong.
pub fn short(short: &Short) -> String {
    match short {
        Short::NoRule => "no rule of the sheet matches it".to_owned(),
        Short::NoSuchName(near) => {
            let near = did_you_mean(near).map_or_else(String::new, |near| format!("; {near}"));
            format!("the target knows no such name{near}")
        }
        Short::Name { odd, right } => format!("its name {}", name(odd, right.as_deref())),
        Short::Property(short) => short.to_string(),
        Short::Other { is, asked } => format!("is {is}, should be {asked}"),
        Short::Begins { found, asked } => begins(found, asked),
        Short::Unread(error) => core(error),
        _ => "it is not as it should be".to_owned(),
    }
}

/// How a file begins, and how it should.
pub fn begins(found: &str, asked: &[String]) -> String {
    format!("begins with {found}, should be {}", asked.join(" or "))
}

fn kind(short: &Short) -> &'static str {
    match short {
        Short::NoRule => "without a rule",
        Short::NoSuchName(_) => "unknown name",
        Short::Name { .. } => "name",
        Short::Property(short) => short.what,
        Short::Other { .. } | Short::Begins { .. } => "format",
        _ => "unreadable",
    }
}

/// An entry that is no longer there.
pub fn entry(what: &str) -> String {
    format!("lacks the entry {what}, which what is installed needs")
}

/// A slot that no longer holds what was installed; nothing where it does. `there` is whether it holds anything.
pub fn slot(slot: &SlotStatus, there: bool) -> Vec<String> {
    let held = match slot.condition {
        Condition::Installed | Condition::Covered => None,
        Condition::Changed => Some("no longer holds what was installed"),
        // The stock of a new file is that there was none.
        Condition::StockAgain if there => {
            Some("holds its stock again, though another file was installed")
        }
        Condition::StockAgain | Condition::Missing => Some("is gone, though it was installed"),
    };
    let lost = "its kept stock is gone or damaged: deft-needle rescue looks for it";
    let said = held.into_iter().chain(slot.stock_lost.then_some(lost));
    said.map(str::to_owned).collect()
}

/// What is wrong with a tree: of what, and what.
pub fn whole(whole: &Whole) -> (String, String) {
    match whole {
        Whole::Missing(slot) => (slot.clone(), "missing".to_owned()),
        Whole::Variants { family, count, works } => {
            let works: Vec<String> = works.iter().map(u32::to_string).collect();
            (family.clone(), format!("{count} variants, and {} work", works.join(", ")))
        }
        Whole::Entry { file, what } => (file.to_string(), entry(what)),
        Whole::Cache(file) => {
            (file.to_string(), "a cache from before the last change; remove it".to_owned())
        }
        Whole::Budget { takes, most } => {
            ("all slots together".to_owned(), format!("{takes}, and {most} is there"))
        }
        _ => (String::new(), "it is not as it should be".to_owned()),
    }
}

/// What is wrong with a name, with one that would be right.
pub fn name(odd: &OddName, right: Option<&str>) -> String {
    let right = right.map_or_else(String::new, |right| format!("; use {right}"));
    format!("{}{right}", odd_name(odd))
}

fn odd_name(odd: &OddName) -> String {
    match odd {
        OddName::Extension(wanted) => format!("should end in .{wanted}"),
        OddName::SecondExtension(second) => format!("has a second extension, .{second}"),
        OddName::Long { length, most } => {
            format!("has {length} characters before the extension, {most} are allowed")
        }
        OddName::Letters { odd, allowed } => format!("has \"{odd}\"; allowed are \"{allowed}\""),
        OddName::Upper => "has upper-case letters, must be lower case".to_owned(),
        OddName::Lower => "has lower-case letters, must be upper case".to_owned(),
        OddName::NotShort => {
            "is not an 8.3 name: up to 8 plain characters, a dot, up to 3 more".to_owned()
        }
        OddName::Windows(odd) => format!("has {odd}, which Windows does not take"),
        OddName::Device => "is the name of a device on Windows".to_owned(),
        OddName::End => "ends in a dot or a blank, which Windows takes away".to_owned(),
        OddName::Apart => "stores its accents apart from the letters (decomposed Unicode): other \
                           systems see another name"
            .to_owned(),
        OddName::Twin(other) => format!(
            "differs only in upper and lower case, or in how accents are stored, from {other}"
        ),
        OddName::Stem(others) => {
            format!("has the stem of {}: a target may load either", others.join(", "))
        }
        _ => "is not as it should be".to_owned(),
    }
}
