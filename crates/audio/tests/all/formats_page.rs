//! The page of formats says what the tables say.

use deft_needle_audio::spec::{CONTAINERS, CodecFacts, ContainerFacts, ENCODINGS, Kind};
use std::collections::BTreeSet;

const PAGE: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/formats.md");

/// A table of the page, between its marks.
fn written(text: &str, name: &str, head: &[&str], rows: Vec<Vec<String>>) -> String {
    let (begin, end) = (format!("<!-- {name} -->\n"), "<!-- end -->");
    let (before, rest) = text.split_once(&begin).unwrap();
    let (_, after) = rest.split_once(end).unwrap();
    let line = |cells: &[String]| format!("| {} |\n", cells.join(" | "));
    let mut table = line(&head.iter().map(|cell| (*cell).to_owned()).collect::<Vec<_>>());
    table += &line(&vec!["---".to_owned(); head.len()]);
    rows.iter().for_each(|row| table += &line(row));
    format!("{before}{begin}\n{table}\n{end}{after}")
}

fn or_no(text: &str) -> String {
    if text.is_empty() { "no".to_owned() } else { text.to_owned() }
}

fn containers() -> Vec<Vec<String>> {
    let cells = |facts: &ContainerFacts| {
        let written: Vec<&str> = facts.writes.iter().map(|codec| codec.facts().word).collect();
        let most = match facts.loops.0 {
            0 => String::new(),
            usize::MAX => "any number, ".to_owned(),
            most => format!("{most}, "),
        };
        let directions: Vec<String> =
            facts.container.directions().iter().map(ToString::to_string).collect();
        let ways = match directions.len() {
            1 => String::new(),
            _ => format!("; {}", directions.join(", ")),
        };
        vec![
            format!("`{}`", facts.word),
            facts.about.to_owned(),
            facts.extensions.join(" "),
            if written.is_empty() {
                "read only".to_owned()
            } else {
                format!("`{}`", written.join(" "))
            },
            or_no(&(most + facts.loops.1 + &ways)),
            or_no(facts.markers),
            or_no(facts.texts),
            facts.order.to_owned(),
        ]
    };
    CONTAINERS.iter().map(cells).collect()
}

fn encodings() -> Vec<Vec<String>> {
    let cells = |facts: &CodecFacts| {
        let proof = match facts.kind {
            Kind::Integer(_) | Kind::Float(_) => "every sample",
            Kind::Lossy => "length, place and level of every channel",
        };
        vec![
            format!("`{}`", facts.word),
            facts.about.to_owned(),
            facts.limits.to_owned(),
            facts.order.unwrap_or("that of WAV").to_owned(),
            proof.to_owned(),
        ]
    };
    ENCODINGS.iter().map(cells).collect()
}

/// `DEFT_NEEDLE_WRITE_DOCS` writes them anew.
#[test]
fn the_tables_are_those_of_the_program() {
    let text = std::fs::read_to_string(PAGE).unwrap();
    let head = [
        "word",
        "what it is",
        "extensions",
        "written with",
        "loops",
        "markers",
        "texts",
        "order of channels",
    ];
    let page = written(&text, "containers", &head, containers());
    let head = ["word", "what it is", "what it can carry", "order of channels", "proved by"];
    let page = written(&page, "encodings", &head, encodings());
    if std::env::var_os("DEFT_NEEDLE_WRITE_DOCS").is_some() {
        std::fs::write(PAGE, &page).unwrap();
    }
    let there = std::fs::read_to_string(PAGE).unwrap();
    assert!(
        there == page,
        "docs/formats.md says something else (DEFT_NEEDLE_WRITE_DOCS writes it)"
    );
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
