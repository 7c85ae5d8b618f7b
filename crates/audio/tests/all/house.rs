//! The floors of the crate, told from the `use` lines: each folder uses only what lies below it, and what is
//! proved shares nothing with its proof.

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;

/// From the bottom up; those of one row do not use each other's like, but in the order of the row.
const FLOORS: &[&str] = &[
    "num", "invalid", "units", "unmet", "error", "observe", "clip", "tags", "crc", "block",
    "digest", "likeness", "spec", "read", "write", "shape", "measure", "seam", "edit", "plan",
    "render", "verify", "hear",
];

/// What is re-exported at the top, and where it lives.
const TOP: &[(&str, &str)] = &[
    ("Block", "block"),
    ("Clip", "read"),
    ("Demand", "spec"),
    ("Edits", "edit"),
    ("Error", "error"),
    ("Facts", "spec"),
    ("Invalid", "invalid"),
    ("Loop", "clip"),
    ("Note", "clip"),
    ("Observer", "observe"),
    ("Plan", "plan"),
    ("Result", "error"),
    ("Source", "block"),
    ("Spec", "spec"),
    ("Unmet", "unmet"),
];

/// The modules that a text uses, tests left aside.
fn used(text: &str) -> Vec<String> {
    let product = text.split("#[cfg(test)]").next().unwrap_or_default();
    let mut all = Vec::new();
    for (at, _) in product.match_indices("crate::") {
        let before = product[..at].chars().next_back();
        if before.is_some_and(|c| c.is_alphanumeric() || c == '_' || c == '$') {
            continue;
        }
        let rest = &product[at + 7..];
        let names = match rest.strip_prefix('{') {
            Some(group) => group.split('}').next().unwrap_or_default().to_owned(),
            None => rest.chars().take_while(|c| c.is_alphanumeric() || *c == '_').collect(),
        };
        for name in names.split(',').map(|name| name.split("::").next().unwrap_or_default().trim())
        {
            let home = TOP.iter().find(|(top, _)| *top == name);
            all.push(home.map_or(name, |(_, home)| home).to_owned());
        }
    }
    all
}

fn files(folder: &Path, all: &mut Vec<std::path::PathBuf>) {
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        match path.is_dir() {
            true => files(&path, all),
            false => all.push(path),
        }
    }
}

#[test]
fn every_folder_uses_only_what_lies_below_it() {
    let source = Path::new(env!("CARGO_MANIFEST_DIR")).join("src");
    let rank: BTreeMap<&str, usize> = FLOORS.iter().copied().zip(0..).collect();
    let mut all = Vec::new();
    files(&source, &mut all);
    assert!(all.len() > 100);
    for file in all {
        let within = file.strip_prefix(&source).unwrap();
        let first = within.components().next().unwrap().as_os_str().to_string_lossy().into_owned();
        let own = first.trim_end_matches(".rs");
        if own == "lib" {
            continue;
        }
        let Some(floor) = rank.get(own) else { panic!("{own} has no floor") };
        for name in used(&fs::read_to_string(&file).unwrap()) {
            let below = rank.get(name.as_str());
            assert!(
                name == own || below.is_none_or(|below| below < floor),
                "{} uses {name}, which does not lie below {own}",
                within.display()
            );
        }
    }
}

/// What reads back must share nothing with what wrote: constants are proved against published tables.
#[test]
fn verification_uses_nothing_of_the_writers() {
    let verify = Path::new(env!("CARGO_MANIFEST_DIR")).join("src/verify");
    let mut all = Vec::new();
    files(&verify, &mut all);
    for file in all {
        let names = used(&fs::read_to_string(&file).unwrap());
        assert!(!names.iter().any(|name| name == "write"), "{}", file.display());
    }
}

#[test]
fn uses_are_told_from_text() {
    let text = "use crate::{Clip, plan::Plan};\nuse crate::read::x;\nlet a = crate::num::b();\n\
                macro($crate::no);\n#[cfg(test)]\nuse crate::hear;";
    assert_eq!(used(text), ["read", "plan", "read", "num"]);
}
