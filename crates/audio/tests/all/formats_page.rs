//! The page of formats says what the tables say.

use deft_needle_audio::spec::{CONTAINERS, ENCODINGS};
use std::collections::BTreeSet;

const PAGE: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/formats.md");

/// The rows of a section's table, each by its cells.
fn rows(text: &str, section: &str) -> Vec<Vec<String>> {
    let part = text.split("\n## ").find(|part| part.starts_with(section)).unwrap();
    let lines = part.lines().filter(|line| line.starts_with("| `"));
    lines
        .map(|line| {
            line.trim_matches('|').split(" | ").map(|cell| cell.trim().to_owned()).collect()
        })
        .collect()
}

/// The words in code marks of a cell.
fn words(cell: &str) -> BTreeSet<&str> {
    let marked = cell.split('`').skip(1).step_by(2);
    marked.flat_map(str::split_whitespace).collect()
}

#[test]
fn every_container_has_its_row() {
    let text = std::fs::read_to_string(PAGE).unwrap();
    let rows = rows(&text, "Containers");
    let named: BTreeSet<&str> = rows.iter().flat_map(|row| words(&row[0])).collect();
    let known: BTreeSet<&str> = CONTAINERS.iter().map(|facts| facts.word).collect();
    assert_eq!(named, known);
    for facts in CONTAINERS.iter().filter(|facts| facts.word != "rf64") {
        let row = rows.iter().find(|row| words(&row[0]).contains(facts.word)).unwrap();
        let written: BTreeSet<&str> = facts.writes.iter().map(|codec| codec.facts().word).collect();
        let told = match row[3].as_str() {
            "no" => BTreeSet::new(),
            // These two rows tell it in words.
            _ if matches!(facts.word, "aifc" | "raw") => continue,
            cell => words(cell),
        };
        assert_eq!(told, written, "{}", facts.word);
    }
}

#[test]
fn every_encoding_has_its_row_and_what_is_written_says_so() {
    let text = std::fs::read_to_string(PAGE).unwrap();
    let rows = rows(&text, "Encodings");
    let named: BTreeSet<&str> = rows.iter().flat_map(|row| words(&row[0])).collect();
    let known: BTreeSet<&str> = ENCODINGS.iter().map(|facts| facts.word).collect();
    assert_eq!(named, known);
    for facts in ENCODINGS {
        let row = rows.iter().find(|row| words(&row[0]).contains(facts.word)).unwrap();
        let written = CONTAINERS.iter().any(|container| container.writes.contains(&facts.codec));
        assert_eq!(written, !row[2].contains("read only"), "{}", facts.word);
    }
}

/// No word means two things, and each is what the other tables take it for.
#[test]
fn words_and_extensions_are_unique() {
    let mut words = BTreeSet::new();
    for word in CONTAINERS.iter().map(|c| c.word).chain(["any"]) {
        assert!(words.insert(word), "{word}");
    }
    let mut encodings = BTreeSet::new();
    for facts in ENCODINGS {
        assert!(encodings.insert(facts.word), "{}", facts.word);
        assert!(!facts.about.is_empty() && facts.about.is_ascii(), "{}", facts.word);
    }
    for container in CONTAINERS {
        assert!(!container.extensions.is_empty(), "{}", container.word);
        let lower = |e: &&str| e.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit());
        assert!(container.extensions.iter().all(lower), "{}", container.word);
    }
}
