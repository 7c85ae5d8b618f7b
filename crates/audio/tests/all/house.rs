//! The floors of the libraries, told from the `use` lines: each folder uses only what lies below it, and what is
//! proved shares nothing with its proof.

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;

/// From the bottom up; those of one row do not use each other's like, but in the order of the row.
const FLOORS: &[&str] = &[
    "num",
    "dot",
    "path_text",
    "invalid",
    "units",
    "unmet",
    "error",
    "observe",
    "clip",
    "tags",
    "crc",
    "masking",
    "block",
    "digest",
    "spec",
    "likeness",
    "read",
    "write",
    "shape",
    "measure",
    "seam",
    "edit",
    "plan",
    "render",
    "verify",
    "hear",
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

/// The same of the crate of files and names.
const CORE_FLOORS: &[&str] = &[
    "limits",
    "names",
    "refusal",
    "error",
    "hash",
    "digests",
    "tree",
    "disk",
    "hash_cache",
    "entry",
    "template",
    "sheet",
    "root",
    "fit_cache",
    "encoder",
    "notice",
    "ledger",
    "stock",
    "rows",
    "slots",
    "learn",
    "target",
    "job",
    "run",
    "check",
    "pack",
];

const CORE_TOP: &[(&str, &str)] = &[
    ("Disk", "disk"),
    ("Error", "error"),
    ("Hash", "hash"),
    ("RealDisk", "disk"),
    ("Refusal", "refusal"),
    ("Result", "error"),
];

/// The modules that a text uses, tests left aside.
fn used(text: &str, top: &[(&str, &str)]) -> Vec<String> {
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
            let home = top.iter().find(|(short, _)| *short == name);
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
    let crates = Path::new(env!("CARGO_MANIFEST_DIR")).join("..");
    for (name, floors, top) in [("audio", FLOORS, TOP), ("core", CORE_FLOORS, CORE_TOP)] {
        let source = crates.join(name).join("src");
        let rank: BTreeMap<&str, usize> = floors.iter().copied().zip(0..).collect();
        let mut all = Vec::new();
        files(&source, &mut all);
        assert!(all.len() > 100);
        for file in all {
            let within = file.strip_prefix(&source).unwrap();
            let mut parts = within.components().map(|part| part.as_os_str().to_string_lossy());
            let first = parts.next().unwrap().into_owned();
            let own = first.trim_end_matches(".rs");
            if own == "lib" || parts.any(|part| part == "tests" || part == "tests.rs") {
                continue;
            }
            let Some(floor) = rank.get(own) else { panic!("{name}: {own} has no floor") };
            for used in used(&fs::read_to_string(&file).unwrap(), top) {
                let below = rank.get(used.as_str());
                assert!(
                    used == own || below.is_none_or(|below| below < floor),
                    "{name}: {} uses {used}, which does not lie below {own}",
                    within.display()
                );
            }
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
        let names = used(&fs::read_to_string(&file).unwrap(), TOP);
        assert!(!names.iter().any(|name| name == "write"), "{}", file.display());
    }
}

#[test]
fn uses_are_told_from_text() {
    let text = "use crate::{Clip, plan::Plan};\nuse crate::read::x;\nlet a = crate::num::b();\n\
                macro($crate::no);\n#[cfg(test)]\nuse crate::hear;";
    assert_eq!(used(text, TOP), ["read", "plan", "read", "num"]);
}

/// The texts of a source file outside of its comments and tests.
fn texts(source: &str) -> Vec<String> {
    let product = source.split("#[cfg(test)]\nmod tests").next().unwrap();
    let lines = product.lines().filter(|line| !line.trim_start().starts_with("//"));
    let code = lines.collect::<Vec<_>>().join("\n");
    let (mut all, mut open, mut escaped) = (Vec::new(), None::<String>, false);
    for c in code.chars() {
        match (&mut open, c) {
            (Some(text), c) if escaped => {
                text.push(c);
                escaped = false;
            }
            (Some(_), '\\') => escaped = true,
            (Some(text), '"') => {
                all.push(std::mem::take(text));
                open = None;
            }
            (Some(text), c) => text.push(c),
            (None, '"') => open = Some(String::new()),
            (None, _) => {}
        }
    }
    all
}

/// Libraries say what is wrong as values; which option or command helps, only the command line knows.
#[test]
fn libraries_name_no_option_and_no_command() {
    let here = Path::new(env!("CARGO_MANIFEST_DIR"));
    let mut seen = 0;
    for source in [here.join("src"), here.join("../core/src")] {
        let mut all = Vec::new();
        self::files(&source, &mut all);
        for file in
            all.iter().filter(|file| !file.components().any(|part| part.as_os_str() == "tests"))
        {
            seen += 1;
            for text in texts(&std::fs::read_to_string(file).unwrap()) {
                let words = text.split(|c: char| c.is_whitespace() || "(\"'`".contains(c));
                let option = |word: &&str| {
                    word.strip_prefix("--")
                        .is_some_and(|name| name.starts_with(|c: char| c.is_ascii_lowercase()))
                };
                let named = words.clone().find(option);
                let command = text.contains("deft-needle ").then_some("deft-needle");
                assert_eq!(named.or(command), None, "{}: \"{text}\"", file.display());
            }
        }
    }
    assert!(seen > 150, "{seen}");
}
