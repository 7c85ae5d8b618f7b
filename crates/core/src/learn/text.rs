//! The sheet as text, with what is sure and what was only observed told apart.

use super::habits::{Habits, NameHabits, by_extension, names_of};
use super::index::Index;
use super::mark::{extension, folder};
use crate::limits;
use crate::names::Case;
use crate::sheet::{FirstBytes, LoopFile, Size, quoted};
use deft_needle_audio::num::real;
use deft_needle_audio::spec::{LoopTags, Second};
use deft_needle_audio::units::Duration;
use std::collections::{BTreeMap, BTreeSet};
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
    /// Texts beside its files that tell where they loop.
    pub loop_files: Vec<LoopFile>,
    /// How its files begin, in a closed format.
    pub first: Vec<FirstBytes>,
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
    /// The names of files that could not be read.
    pub left_out: &'a [&'a str],
    /// What tells the real names of files that are named by hashes.
    pub index: Option<&'a Index>,
}

/// What a learnt sheet says of itself.
const EXPLAINED: &str = "\
# Sure: what the rules say was read from the headers of every file. Only observed: what
# stands in comments (lengths, loudness, sizes), and how files are named. The target may
# take more; take the sign # away from a limit that you know of, and it counts.
";

/// Comments begin here where there is room.
const COLUMN: usize = 40;
/// Names left aside in one place that are told one by one.
const FEW: usize = 8;
/// Families that are named.
const FAMILIES: usize = 6;

/// Writes it.
pub fn write(told: &Learning<'_>) -> String {
    // A folder's name has no extension, though it may have dots.
    let full = std::path::absolute(told.stock).unwrap_or_else(|_| told.stock.to_owned());
    let stock = full.file_name().unwrap_or(full.as_os_str()).to_string_lossy();
    let title = match full.is_dir() {
        true => stock.clone(),
        false => full.file_stem().map_or(stock.clone(), |stem| stem.to_string_lossy()),
    };
    let slots = told.names.len();
    let mut text = format!(
        "# Learnt from {} ({}).\n{EXPLAINED}\nname = {}\n",
        one_line(&stock),
        counted(slots, "slot"),
        quoted(&title)
    );
    for line in head(told) {
        text += &format!("{line}\n");
    }
    text.push('\n');
    text.push_str(&names_text(&names_of(told.names), slots));
    let _ = writeln!(
        text,
        "\n[[slots]]\n{}",
        told_line(
            &format!("from = {}", quoted(told.list)),
            "each name with its spec, length, loudness, loop and hash"
        )
    );
    if let Some(index) = told.index {
        let _ = write!(
            text,
            "\n[[slots]]\n{}\npointer = {}\n{}\n",
            told_line(&format!("in-root = {}", quoted(&index.file)), "the real names"),
            quoted(&index.pointer),
            told_line(&format!("stock = {}", quoted(&index.stock)), "where each lies"),
        );
    }
    for rule in told.rules {
        text.push('\n');
        text.push_str(&rule_text(rule));
    }
    text
}

/// What is said of the target as a whole.
fn head(told: &Learning<'_>) -> Vec<String> {
    let mut lines = Vec::new();
    let top = told.others.iter().find(|name| !name.contains('/'));
    if let Some(marker) = top.or(told.others.first()).or(told.names.first()) {
        lines.push(told_line(
            &format!("# marker = {}", quoted(marker)),
            "a file that every real root has guards against the wrong folder",
        ));
    }
    if told.index.is_some() {
        lines.push(told_line(
            "# overlay = 'FOLDER'",
            "replacements go there under their real names: name the folder, and it counts",
        ));
    }
    let patterns = patterns_of(told.left_out, told.names);
    if !patterns.is_empty() {
        lines.push(told_line(
            &format!("ignore = {}", list(&patterns)),
            "not read, or no sounds in spite of their names",
        ));
    }
    if !told.others.is_empty() {
        let kinds: Vec<String> = by_extension(told.others.iter().copied())
            .iter()
            .map(|(extension, count)| match extension.is_empty() {
                true => format!("{count} without extension"),
                false => format!("{count} {extension}"),
            })
            .collect();
        lines.push(format!("# No sounds, and left aside: {}.", one_line(&kinds.join(", "))));
    }
    lines
}

fn names_text(habits: &NameHabits, slots: usize) -> String {
    let names = &habits.rules;
    let mut lines = vec![told_line(
        "[names]",
        &format!("as observed in {}; they judge new names alone", counted(slots, "name")),
    )];
    // What is not sure by the number of names, or by names that reach a limit, is left to the reader.
    let line = |sure: bool, text: String| if sure { text } else { format!("# {text}") };
    if let Some(most) = names.stem_longest {
        let many = counted(habits.at_limit, "name");
        let why = match habits.limited {
            true => format!("{many} reach it, as {}", one_line(&habits.longest)),
            false => format!("the longest that was seen: {}", one_line(&habits.longest)),
        };
        lines.push(told_line(&line(habits.limited, format!("stem-longest = {most}")), &why));
    }
    if let Some(allowed) = &names.allowed {
        lines.push(line(habits.very_many, format!("allowed = {}", quoted(&allowed.to_string()))));
    }
    match names.case {
        Some(Case::Lower) => lines.push(line(habits.many, "case = 'lower'".to_owned())),
        Some(Case::Upper) => lines.push(line(habits.many, "case = 'upper'".to_owned())),
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
        // The same in each of many folders is told once.
        let mut alike: BTreeMap<&str, (usize, usize)> = BTreeMap::new();
        for (name, count) in &habits.families {
            let (files, folders) =
                alike.entry(name.rsplit('/').next().unwrap_or(name)).or_default();
            (*files, *folders) = (*files + count, *folders + 1);
        }
        let told = |(name, (files, folders)): (&&str, &(usize, usize))| match folders {
            1 => format!("{name} ({files})"),
            folders => format!("{name} ({files} in {folders} folders)"),
        };
        let named: Vec<String> = alike.iter().take(FAMILIES).map(told).collect();
        let more = alike.len().saturating_sub(FAMILIES);
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
    lines.extend(loop_file_line(&rule.loop_files));
    if !habits.odd_extensions.is_empty() {
        let extensions: Vec<String> = habits.odd_extensions.clone();
        let all: Vec<String> = extensions.iter().map(|e| quoted(e)).collect();
        lines.push(told_line(
            &format!("extensions = [{}]", all.join(", ")),
            "what these files are named by",
        ));
    }
    if let Some((_, longest)) = habits.seconds {
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
    if !rule.first.is_empty() {
        let first: Vec<String> = rule.first.iter().map(ToString::to_string).collect();
        lines.push(told_line(
            &format!("first-bytes = {}", list(&first)),
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

/// The texts beside the files that tell their loops.
fn loop_file_line(files: &[LoopFile]) -> Option<String> {
    let one = |file: &LoopFile| {
        // JSON's escapes are those of TOML's strings, too.
        let text = serde_json::Value::from(file.text.as_str());
        format!("{{ file = {}, text = {text} }}", quoted(&file.file))
    };
    let all: Vec<String> = files.iter().map(one).collect();
    match all.as_slice() {
        [] => None,
        [one] => Some(format!("loop-file = {one}")),
        many => Some(format!("loop-file = [\n    {},\n]", many.join(",\n    "))),
    }
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

/// Patterns for names that are left aside: one for those of an extension in a folder where no slot has it.
fn patterns_of(left_out: &[&str], slots: &[&str]) -> Vec<String> {
    let place = |name: &str| (folder(name).to_owned(), extension(name));
    let taken: BTreeSet<(String, String)> = slots.iter().map(|name| place(name)).collect();
    let mut places: BTreeMap<(String, String), Vec<&str>> = BTreeMap::new();
    for name in left_out {
        places.entry(place(name)).or_default().push(name);
    }
    let mut all = Vec::new();
    for (at, names) in places {
        let written = names[0].rsplit_once('.').map_or("", |(_, extension)| extension);
        let slash = if at.0.is_empty() { "" } else { "/" };
        let whole = format!("{}{slash}*.{}", at.0, written);
        let alike = names.iter().all(|name| name.ends_with(&format!(".{written}")));
        match names.len() > FEW && alike && !at.1.is_empty() && !taken.contains(&at) {
            true => all.extend(pattern_of(&whole).map(|text| text.replace("[*]", "*"))),
            false => all.extend(names.into_iter().filter_map(pattern_of)),
        }
    }
    // A sheet holds no more patterns than this, and its rules need some.
    all.truncate(limits::PATTERNS / 2);
    all
}

/// A pattern for a name that no sheet can hold as it is; none for one that leads out, as of archives.
fn pattern_of(name: &str) -> Option<String> {
    let literal = crate::sheet::pattern::literal(name);
    let text = literal.replace(|c: char| c.is_control() || c == char::REPLACEMENT_CHARACTER, "*");
    text.parse::<crate::sheet::Pattern>().is_ok().then_some(text)
}

/// Fit for a comment.
fn one_line(text: &str) -> String {
    let plain = |c: char| if c.is_control() { '\u{fffd}' } else { c };
    text.chars().map(plain).collect()
}
