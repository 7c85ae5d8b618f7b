//! The fewest rules that tell files of one kind from those of another, by folder and name.
//!
//! Files lie in cells: one folder and one extension. Where a cell holds several kinds, the rarer ones
//! are told by their names, if a few patterns are enough; else the kinds become alternatives of one
//! rule. Cells of the same kinds are then covered by as few patterns as there are.

use crate::names::family_of;
use crate::sheet::pattern::literal;
use std::collections::{BTreeMap, BTreeSet};

/// A file: its name and its kind.
#[derive(Debug, Clone, Copy)]
pub struct Named<'a> {
    /// The slot.
    pub name: &'a str,
    /// What tells it from others.
    pub kind: usize,
    /// Whether its format is closed: such a kind is no alternative to sounds.
    pub closed: bool,
}

/// A rule to be.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Group {
    /// Kinds, the most frequent first; more than one are alternatives.
    pub kinds: Vec<usize>,
    /// Patterns, of which one must match.
    pub patterns: Vec<String>,
}

/// A folder and an extension.
type Cell<'a> = (&'a str, &'a str);

/// Patterns for the rarer kinds of a cell, before alternatives are better.
const MOST_PATTERNS: usize = 3;

/// The rules in the order in which they count.
pub fn groups(files: &[Named<'_>]) -> Vec<Group> {
    let mut cells: BTreeMap<Cell<'_>, Vec<Named<'_>>> = BTreeMap::new();
    for file in files {
        cells.entry(cell_of(file.name)).or_default().push(*file);
    }
    let mut exceptions: BTreeMap<usize, Vec<String>> = BTreeMap::new();
    let mut main: BTreeMap<Vec<usize>, Vec<Cell<'_>>> = BTreeMap::new();
    let mut mixed: BTreeSet<Vec<usize>> = BTreeSet::new();
    for (cell, files) in &cells {
        let kinds = by_frequency(files);
        let mut kept = kinds.clone();
        let closed = files.iter().filter(|file| file.closed).count();
        let most = match closed > 0 && closed < files.len() {
            true => usize::MAX,
            false => MOST_PATTERNS,
        };
        if kinds.len() > 1
            && let Some(found) = told_by_names(files, &kinds[1..], most)
        {
            for (kind, patterns) in found {
                exceptions.entry(kind).or_default().extend(patterns);
            }
            kept.truncate(1);
            mixed.insert(kept.clone());
        }
        main.entry(kept).or_default().push(*cell);
    }
    let all: Vec<(Cell<'_>, Vec<usize>)> = main
        .iter()
        .flat_map(|(kinds, cells)| cells.iter().map(|cell| (*cell, kinds.clone())))
        .collect();
    let mut rules: Vec<Group> = Vec::new();
    let mut rest: Vec<(Cell<'_>, Vec<usize>)> = Vec::new();
    for (kind, patterns) in exceptions {
        let own = vec![kind];
        // A kind whose cells have no exceptions of their own may come first as a whole.
        let mut patterns = patterns;
        if !mixed.contains(&own)
            && let Some(cells) = main.get(&own)
        {
            patterns.extend(cover(cells, &own, &all, &mut rest));
            main.remove(&own);
        }
        rules.push(Group { kinds: own, patterns });
    }
    for (kinds, cells) in &main {
        let patterns = cover(cells, kinds, &all, &mut rest);
        rules.push(Group { patterns, kinds: kinds.clone() });
    }
    rules.retain(|rule| !rule.patterns.is_empty());
    rules.extend(last(&rest));
    rules
}

/// Rules for files without an extension next to others of other kinds: no pattern means them alone, so they come last,
/// after all that have an extension.
fn last(rest: &[(Cell<'_>, Vec<usize>)]) -> Vec<Group> {
    let mut cells: BTreeMap<&[usize], Vec<Cell<'_>>> = BTreeMap::new();
    for (cell, kinds) in rest {
        cells.entry(kinds).or_default().push(*cell);
    }
    let rule = |(kinds, cells): (&[usize], Vec<Cell<'_>>)| Group {
        patterns: cover(&cells, kinds, rest, &mut Vec::new()),
        kinds: kinds.to_vec(),
    };
    cells.into_iter().map(rule).collect()
}

/// Where a name belongs.
fn cell_of(name: &str) -> Cell<'_> {
    let (folder, file) = name.rsplit_once('/').unwrap_or(("", name));
    (folder, file.rsplit_once('.').map_or("", |(_, e)| e))
}

/// The kinds of some files, the most frequent first.
fn by_frequency(files: &[Named<'_>]) -> Vec<usize> {
    let mut counts: BTreeMap<usize, usize> = BTreeMap::new();
    for file in files {
        *counts.entry(file.kind).or_default() += 1;
    }
    let mut kinds: Vec<(usize, usize)> = counts.into_iter().collect();
    kinds.sort_by(|a, b| b.1.cmp(&a.1).then(a.0.cmp(&b.0)));
    kinds.into_iter().map(|(kind, _)| kind).collect()
}

/// Patterns for each of the rarer kinds of a cell; `None` where names do not tell them.
fn told_by_names(
    files: &[Named<'_>],
    rarer: &[usize],
    most: usize,
) -> Option<Vec<(usize, Vec<String>)>> {
    rarer
        .iter()
        .map(|&kind| {
            let (own, others): (Vec<Named<'_>>, Vec<Named<'_>>) =
                files.iter().partition(|f| f.kind == kind);
            let own: Vec<&str> = own.iter().map(|f| f.name).collect();
            let others: Vec<&str> = others.iter().map(|f| f.name).collect();
            Some((kind, few_patterns(&own, &others, most)?))
        })
        .collect()
}

/// At most so many patterns that match all of some names and none of others.
fn few_patterns(own: &[&str], others: &[&str], most: usize) -> Option<Vec<String>> {
    let mut left: Vec<&str> = own.to_vec();
    let mut patterns = Vec::new();
    while let Some(name) = left.first() {
        let best = candidates(name)
            .into_iter()
            .filter(|c| !others.iter().any(|other| c.holds(other)))
            .rev()
            .max_by_key(|c| left.iter().filter(|n| c.holds(n)).count())?;
        left.retain(|name| !best.holds(name));
        patterns.push(best.pattern);
        if patterns.len() > most {
            return None;
        }
    }
    Some(patterns)
}

/// A pattern, and what it matches.
struct Candidate {
    pattern: String,
    start: String,
    end: String,
    /// Whether `start` is a whole name.
    whole: bool,
    family: Option<String>,
}

impl Candidate {
    fn holds(&self, name: &str) -> bool {
        match &self.family {
            Some(family) => family_of(name).is_some_and(|f| f.pattern == *family),
            None if self.whole => name == self.start,
            None => {
                name.len() >= self.start.len() + self.end.len()
                    && name.starts_with(&self.start)
                    && name.ends_with(&self.end)
                    && !name[self.start.len()..].contains('/')
            }
        }
    }
}

/// Patterns that a name suggests, the narrowest first: itself, its family, its first word, its last.
fn candidates(name: &str) -> Vec<Candidate> {
    let (folder, extension) = cell_of(name);
    let slash = if folder.is_empty() { 0 } else { folder.len() + 1 };
    let dot = if extension.is_empty() { name.len() } else { name.len() - extension.len() - 1 };
    let stem = &name[slash..dot];
    let candidate = |start: &str, end: &str| Candidate {
        pattern: format!("{}*{}", literal(start), literal(end)),
        start: start.to_owned(),
        end: end.to_owned(),
        whole: false,
        family: None,
    };
    let mut all = vec![Candidate {
        pattern: literal(name),
        start: name.to_owned(),
        end: String::new(),
        whole: true,
        family: None,
    }];
    if let Some(family) = family_of(name) {
        // The sign for what differs must not be taken for itself.
        let pattern: Vec<String> = family.pattern.split('#').map(literal).collect();
        all.push(Candidate {
            pattern: pattern.join("#"),
            start: String::new(),
            end: String::new(),
            whole: false,
            family: Some(family.pattern),
        });
    }
    let parts = |c: char| matches!(c, '_' | '-' | ' ' | '(' | '.');
    for (at, _) in stem.match_indices(parts) {
        all.push(candidate(&name[..slash + at + 1], &name[dot..]));
        all.push(candidate(&name[..slash], &name[slash + at..]));
    }
    all
}

/// The fewest patterns that cover cells and touch none of other kinds. Cells without an extension may have none: what
/// holds them holds all of their folder. Those are added to `rest`.
fn cover<'a>(
    cells: &[Cell<'a>],
    kinds: &[usize],
    all: &[(Cell<'_>, Vec<usize>)],
    rest: &mut Vec<(Cell<'a>, Vec<usize>)>,
) -> Vec<String> {
    let mut open: Vec<Cell<'a>> = cells.to_vec();
    let mut patterns = Vec::new();
    while let Some(&first) = open.first() {
        let fits =
            |area: &Area<'_>| all.iter().all(|(cell, own)| *own == kinds || !area.holds(cell));
        let best = areas(&first)
            .into_iter()
            .filter(|area| area.holds(&first) && fits(area))
            .rev()
            .max_by_key(|area| open.iter().filter(|cell| area.holds(cell)).count());
        match best {
            Some(best) => {
                open.retain(|cell| !best.holds(cell));
                patterns.push(best.pattern());
            }
            None => {
                open.retain(|cell| *cell != first);
                rest.push((first, kinds.to_vec()));
            }
        }
    }
    patterns
}

/// Some cells.
struct Area<'a> {
    folder: &'a str,
    deep: bool,
    extension: Option<&'a str>,
}

impl Area<'_> {
    fn holds(&self, (folder, extension): &Cell<'_>) -> bool {
        let below = self.folder.is_empty()
            || folder.strip_prefix(self.folder).is_some_and(|rest| rest.starts_with('/'));
        (*folder == self.folder || (self.deep && below))
            && self.extension.is_none_or(|own| own == *extension)
    }

    fn pattern(&self) -> String {
        let slash = if self.folder.is_empty() { "" } else { "/" };
        let folder = literal(self.folder);
        match (self.deep, self.extension) {
            (true, None) => format!("{folder}{slash}**"),
            (false, None) => format!("{folder}{slash}*"),
            (true, Some(e)) => format!("{folder}{slash}**/*.{}", literal(e)),
            (false, Some(e)) => format!("{folder}{slash}*.{}", literal(e)),
        }
    }
}

/// The areas around a cell, of those that hold as many the first preferred: narrow folders before wide
/// ones, plain patterns before those with an extension, but for the root.
fn areas<'a>(&(folder, extension): &Cell<'a>) -> Vec<Area<'a>> {
    let mut all = Vec::new();
    let above = folder.match_indices('/').map(|(at, _)| &folder[..at]);
    let mut folders: Vec<&str> = std::iter::once("").chain(above).collect();
    if !folder.is_empty() {
        folders.push(folder);
    }
    let own = (!extension.is_empty()).then_some(extension);
    for folder in folders.into_iter().rev() {
        let plain = [(true, None), (false, None)];
        let named = [(true, own), (false, own)];
        // A root holds more than sounds: there, extensions come first.
        let both = match folder {
            "" => [named, plain],
            _ => [plain, named],
        };
        for (deep, extension) in both.concat() {
            all.push(Area { folder, deep, extension });
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sheet::Pattern;
    use proptest::prelude::*;

    /// The first rule that matches a name.
    fn counts(rules: &[Group], name: &str) -> Option<Vec<usize>> {
        let matches = |rule: &&Group| {
            rule.patterns.iter().any(|p| p.parse::<Pattern>().unwrap().matches(name))
        };
        rules.iter().find(matches).map(|rule| rule.kinds.clone())
    }

    fn rules_of(files: &[(&str, usize)]) -> Vec<Group> {
        let files: Vec<Named<'_>> =
            files.iter().map(|&(name, kind)| Named { name, kind, closed: kind == 9 }).collect();
        groups(&files)
    }

    #[test]
    fn the_fewest_rules() {
        for (files, want) in [
            (vec![("a.wav", 0), ("b.wav", 0)], vec!["**/*.wav"]),
            (
                vec![("music/a.ogg", 0), ("sfx/b.ogg", 1), ("sfx/x/c.ogg", 1)],
                vec!["music/**", "sfx/**"],
            ),
            (
                vec![("a/x.ogg", 0), ("a/x.wav", 1), ("b/y.ogg", 0), ("b/y.wav", 1)],
                vec!["**/*.ogg", "**/*.wav"],
            ),
            // One odd file is told by its name.
            (vec![("a/1.wav", 0), ("a/2.wav", 0), ("a/long.wav", 1)], vec!["a/long.wav", "a/**"]),
            (
                vec![
                    ("a/gull_1.wav", 1),
                    ("a/gull_2.wav", 1),
                    ("a/x.wav", 0),
                    ("a/y.wav", 0),
                    ("a/gull_wing.wav", 0),
                ],
                vec!["a/gull_#.wav", "a/**"],
            ),
            (
                vec![
                    ("a/say_up.wav", 1),
                    ("a/say_on.wav", 1),
                    ("a/x.wav", 0),
                    ("a/y.wav", 0),
                    ("a/z.wav", 0),
                ],
                vec!["a/say_*.wav", "a/**"],
            ),
        ] {
            let rules = rules_of(&files);
            let found: Vec<String> = rules.iter().map(|rule| rule.patterns.join(" ")).collect();
            assert_eq!(found, want, "{files:?}");
        }
    }

    /// What has no extension next to what has one is told by coming last; it once was looked for without an end.
    #[test]
    fn files_without_an_extension_come_last() {
        for (files, want) in [
            (vec![("a/x", 0), ("a/x.wav", 1)], vec!["a/*.wav", "a/**"]),
            (
                vec![("a/b/x", 0), ("a/b/x.wav", 1), ("a/y.wav", 0)],
                vec!["a/*.wav", "a/b/*.wav", "a/b/**"],
            ),
            (
                vec![("x", 0), ("x.wav", 1), ("b/x", 2), ("b/x.wav", 1)],
                vec!["**/*.wav", "*", "b/**"],
            ),
        ] {
            let rules = rules_of(&files);
            for (name, kind) in &files {
                assert_eq!(counts(&rules, name), Some(vec![*kind]), "{name}: {rules:?}");
            }
            assert_eq!(rules.len(), want.len(), "{rules:?}");
        }
    }

    #[test]
    fn what_no_name_tells_becomes_alternatives() {
        let names: Vec<String> = ["ab", "kx", "pq", "rt", "uv", "wz", "xy", "zz"]
            .iter()
            .map(|n| format!("{n}.wav"))
            .collect();
        let files: Vec<(&str, usize)> =
            names.iter().enumerate().map(|(i, n)| (n.as_str(), i % 2)).collect();
        let rules = rules_of(&files);
        assert_eq!(rules.len(), 1);
        assert_eq!(rules[0].kinds, [0, 1]);
    }

    #[test]
    fn closed_formats_are_no_alternative_to_sounds() {
        let names: Vec<String> = ["ab", "kx", "pq", "rt", "uv", "wz", "xy", "zz"]
            .iter()
            .map(|name| format!("{name}.wav"))
            .collect();
        let files: Vec<(&str, usize)> =
            (0..).zip(&names).map(|(i, n)| (n.as_str(), if i % 2 == 0 { 0 } else { 9 })).collect();
        let rules = rules_of(&files);
        assert_eq!(rules.len(), 2);
        assert_eq!((&*rules[0].kinds, rules[0].patterns.len()), (&[9][..], 4));
    }

    proptest! {
        #[test]
        fn every_file_is_met_by_a_rule_of_its_kind(
            files in prop::collection::btree_map("([a-c]/){0,2}[a-d]{1,2}(_[1-3])?(\\.(wav|ogg))?", 0usize..4, 1..40)
        ) {
            let files: Vec<(&str, usize)> = files.iter().map(|(n, k)| (n.as_str(), *k)).collect();
            let rules = rules_of(&files);
            for (name, kind) in files {
                let found = counts(&rules, name);
                prop_assert!(found.as_ref().is_some_and(|kinds| kinds.contains(&kind)), "{name} {kind}: {found:?} {rules:?}");
            }
        }
    }
}
