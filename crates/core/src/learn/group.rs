//! The fewest rules that tell files of one kind from those of another, by folder and name.
//!
//! Files lie in cells: one folder and one extension. Where a cell holds several kinds, the rarer ones
//! are told by their names, if a few patterns are enough; else the kinds become alternatives of one
//! rule. Cells of the same kinds are then covered by as few patterns as there are.

use super::area::{Cell, cell_of, cover};
use super::by_name::few_patterns;
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
    let one = |kind: &&usize| files.iter().filter(|f| f.kind == **kind).count() == 1;
    // Several single files are no rule: they are what the folder takes besides.
    if most != usize::MAX && rarer.iter().filter(one).count() > 1 {
        return None;
    }
    let told = |&kind: &usize| {
        let (own, others): (Vec<Named<'_>>, Vec<Named<'_>>) =
            files.iter().partition(|f| f.kind == kind);
        let own: Vec<&str> = own.iter().map(|f| f.name).collect();
        let others: Vec<&str> = others.iter().map(|f| f.name).collect();
        Some((kind, few_patterns(&own, &others, most)?))
    };
    let told: Vec<(usize, Vec<String>)> = rarer.iter().map(told).collect::<Option<_>>()?;
    let patterns: usize = told.iter().map(|(_, patterns)| patterns.len()).sum();
    (patterns <= most).then_some(told)
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
