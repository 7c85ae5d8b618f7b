//! The sheet as text, with what is sure and what was only observed told apart.

use super::habits::{Habits, by_extension, names_of};
use crate::names::{Case, NameRules};
use crate::sheet::{FirstBytes, Size, quoted};
use deft_needle_audio::num::real;
use deft_needle_audio::spec::{LoopTags, Second};
use deft_needle_audio::units::Duration;
use std::fmt::Write;
use std::path::Path;

/// A rule to be written.
pub struct Rule {
    /// Spec lines, or `opaque`.
    pub specs: Vec<String>,
    /// For which slots.
    pub patterns: Vec<String>,
    /// What its files have in common.
    pub habits: Habits,
    /// How its files begin, in a closed format.
    pub first: Option<[u8; 4]>,
}

/// All that is told.
pub struct Learning<'a> {
    /// What it was learnt from.
    pub stock: &'a Path,
    /// The list beside the sheet.
    pub list: &'a str,
    /// The names of all slots.
    pub names: &'a [&'a str],
    /// The names of files that hold nothing to hear.
    pub others: &'a [&'a str],
    /// The rules.
    pub rules: &'a [Rule],
    /// How many files could not be read.
    pub left_out: usize,
}

/// Comments begin here where there is room.
const COLUMN: usize = 40;
/// Families that are named.
const FAMILIES: usize = 6;

/// Writes it.
pub fn write(told: &Learning<'_>) -> String {
    let stock = told.stock.file_name().unwrap_or(told.stock.as_os_str());
    let stock = stock.to_string_lossy();
    let title = told.stock.file_stem().map_or(stock.clone(), |s| s.to_string_lossy());
    let slots = told.names.len();
    let mut text = String::new();
    let mut say = |line: &str| {
        text.push_str(line);
        text.push('\n');
    };
    say(&format!("# Learnt from {} ({}).", one_line(&stock), counted(slots, "slot")));
    say("# Sure: what the rules say was read from the headers of every file. Only observed: what");
    say("# stands in comments (lengths, loudness, sizes), and how files are named. The target may");
    say("# take more; take the sign # away from a limit that you know of, and it counts.");
    say("");
    say(&format!("name = {}", quoted(&title)));
    match told.others.iter().find(|name| !name.contains('/')) {
        Some(marker) => say(&told_line(
            &format!("# marker = {}", quoted(marker)),
            "a file of its root: it guards against the wrong folder",
        )),
        None => say(
            "# marker = 'FILE'   a file that every real root has guards against the wrong folder",
        ),
    }
    if told.left_out > 0 {
        let what = format!(
            "# {} could not be read and are not spoken of here.",
            counted(told.left_out, "file")
        );
        say(&what);
    }
    if !told.others.is_empty() {
        let kinds: Vec<String> = by_extension(told.others.iter().copied())
            .iter()
            .map(|(extension, count)| match extension.is_empty() {
                true => format!("{count} without extension"),
                false => format!("{count} {extension}"),
            })
            .collect();
        say(&format!("# No sounds, and left aside: {}.", one_line(&kinds.join(", "))));
    }
    say("");
    let (names, longest) = names_of(told.names.iter().copied());
    text.push_str(&names_text(&names, &longest, slots));
    let _ = writeln!(
        text,
        "\n[[slots]]\n{}",
        told_line(
            &format!("from = {}", quoted(told.list)),
            "each name with its spec, length, loudness, loop and hash"
        )
    );
    for rule in told.rules {
        text.push('\n');
        text.push_str(&rule_text(rule));
    }
    text
}

fn names_text(names: &NameRules, longest: &str, slots: usize) -> String {
    let mut lines = vec![told_line(
        "[names]",
        &format!("as observed in {}; they judge new names alone", counted(slots, "name")),
    )];
    if let Some(most) = names.stem_longest {
        lines.push(told_line(
            &format!("stem-longest = {most}"),
            &format!("as {}", one_line(longest)),
        ));
    }
    if let Some(allowed) = &names.allowed {
        lines.push(format!("allowed = {}", quoted(&allowed.to_string())));
    }
    match names.case {
        Some(Case::Lower) => lines.push("case = 'lower'".to_owned()),
        Some(Case::Upper) => lines.push("case = 'upper'".to_owned()),
        None => {}
    }
    if names.form.is_some() {
        lines.push(told_line("form = '8.3'", "all names fit it"));
    }
    lines.join("\n") + "\n"
}

fn rule_text(rule: &Rule) -> String {
    let habits = &rule.habits;
    let mut lines = vec!["[[rule]]".to_owned(), format!("# {}", observed(habits))];
    if !habits.families.is_empty() {
        let named: Vec<String> = habits
            .families
            .iter()
            .take(FAMILIES)
            .map(|(name, count)| format!("{} ({count})", name.rsplit('/').next().unwrap_or(name)))
            .collect();
        let more = habits.families.len().saturating_sub(FAMILIES);
        let more = if more > 0 { format!(" and {more} more") } else { String::new() };
        lines.push(format!("# variants: {}{more}", one_line(&named.join(", "))));
    }
    lines.push(format!("match = {}", list(&rule.patterns)));
    match rule.specs.len() {
        1 => lines.push(format!("spec = {}", list(&rule.specs))),
        _ => lines.push(told_line(
            &format!("spec = {}", list(&rule.specs)),
            "no name tells them apart; the most frequent first",
        )),
    }
    lines.extend(header_lines(rule));
    lines.extend(loop_lines(habits));
    if !habits.odd_extensions.is_empty() {
        let extensions: Vec<String> = habits.odd_extensions.clone();
        let all: Vec<String> = extensions.iter().map(|e| quoted(e)).collect();
        lines.push(told_line(
            &format!("extensions = [{}]", all.join(", ")),
            "not what such files usually have",
        ));
    }
    if let Some((_, longest)) = habits.seconds.filter(|_| rule.first.is_none()) {
        lines.push(told_line(
            &format!("# longest = '{}s'", tenth_up(longest)),
            "the longest that was seen",
        ));
    }
    lines.push(told_line(
        &format!("# largest = '{}B'", habits.largest),
        "the largest that was seen",
    ));
    lines.join("\n") + "\n"
}

/// How the files begin, and what stands beside their samples.
fn header_lines(rule: &Rule) -> Vec<String> {
    let habits = &rule.habits;
    let mut lines = Vec::new();
    if let Some(first) = rule.first {
        let bytes = FirstBytes(first.to_vec()).to_string();
        lines.push(told_line(
            &format!("first-bytes = {}", quoted(&bytes)),
            "of a closed format: how its files begin",
        ));
    }
    if let Some(header) = habits.header {
        lines.push(format!("header = '{header}'"));
    }
    if let Some(bytes) = habits.block_bytes {
        lines.push(told_line(&format!("block-bytes = {bytes}"), "the ADPCM blocks of all"));
    }
    if habits.stripped {
        let why = match habits.loops {
            0 => "none has anything beside its samples",
            _ => "none has anything beside samples and loop",
        };
        lines.push(told_line("tags = 'strip'", why));
    }
    lines
}

/// Lengths, loudness and bit rates.
fn observed(habits: &Habits) -> String {
    let mut parts = vec![counted(habits.files, "file")];
    let between = |a: String, b: String| if a == b { a } else { format!("{a} to {b}") };
    if let Some((least, most)) = habits.seconds {
        parts.push(between(Duration(least).to_string(), Duration(most).to_string()));
    }
    if let Some((least, most)) = habits.lufs {
        let text = between(format!("{least:.1}"), format!("{most:.1}"));
        parts.push(format!("{text} LUFS"));
    }
    if let Some((least, most)) = habits.bit_rate {
        let kilo = |rate: u64| format!("{:.0}", real(rate) / 1000.0);
        parts.push(format!("{} kbit/s", between(kilo(least), kilo(most))));
    }
    if habits.seconds.is_none() {
        parts.push(format!("up to {}", Size(habits.largest)));
    }
    parts.join(", ")
}

fn loop_lines(habits: &Habits) -> Vec<String> {
    let mut lines = Vec::new();
    match habits.loops {
        0 => return lines,
        all if all == habits.files => {
            let why = if all == 1 { "this one does" } else { "all of them do" };
            lines.push(told_line("loop = 'required'", why));
        }
        some => lines.push(format!("# {some} of {} loop", habits.files)),
    }
    if let Some(LoopTags { start, second, .. }) = &habits.loop_tags {
        let (key, name) = match second {
            Second::Length(name) => ("length", name),
            Second::End(name) => ("end", name),
        };
        lines.push(format!(
            "loop-tags = {{ start = {}, {key} = {} }}",
            quoted(start),
            quoted(name)
        ));
    }
    if let Some(multiple) = habits.loop_multiple {
        lines.push(told_line(
            &format!("# loop-multiple = {multiple}"),
            "all starts and lengths are multiples",
        ));
    }
    lines
}

/// One string, or an array that is broken where a line would be long.
fn list(texts: &[String]) -> String {
    const WIDTH: usize = 96;
    let all: Vec<String> = texts.iter().map(|text| quoted(text)).collect();
    let line = all.join(", ");
    if let [one] = all.as_slice() {
        return one.clone();
    }
    if line.len() < WIDTH {
        return format!("[{line}]");
    }
    let (mut lines, mut last) = (Vec::new(), String::from("   "));
    for text in all {
        if last.len() + text.len() + 2 > WIDTH {
            lines.push(std::mem::replace(&mut last, String::from("   ")));
        }
        last += &format!(" {text},");
    }
    lines.push(last);
    format!("[\n{}\n]", lines.join("\n"))
}

/// A key and a comment behind it.
fn told_line(line: &str, comment: &str) -> String {
    format!("{line:<COLUMN$} # {comment}")
}

fn counted(count: usize, what: &str) -> String {
    let plural = if count == 1 { "" } else { "s" };
    format!("{count} {what}{plural}")
}

/// To a tenth of a second, never below.
fn tenth_up(seconds: f64) -> f64 {
    (seconds * 10.0 - 1e-6).ceil() / 10.0
}

/// Fit for a comment.
fn one_line(text: &str) -> String {
    let plain = |c: char| if c.is_control() { '\u{fffd}' } else { c };
    text.chars().map(plain).collect()
}
