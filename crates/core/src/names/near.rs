//! "Did you mean …": names that differ in case, in a doubled extension or by a few letters.

use super::{folded, folder_of};
use deft_needle_audio::num::count32;
use schemars::JsonSchema;
use serde::Serialize;
use std::fmt;
use std::path::Path;

/// A name that may have been meant, and how it differs from what was typed.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Near {
    /// The name that exists.
    pub name: String,
    /// How the typed one differs.
    pub how: Difference,
}

/// How a typed name differs from one that exists.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Difference {
    /// Only in upper and lower case, or in how accents are stored.
    Case,
    /// One of both has a second extension.
    DoubledExtension,
    /// Only in the extension.
    Extension,
    /// In some letters.
    Spelling,
}

impl fmt::Display for Near {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let how = match self.how {
            Difference::Case => " (upper and lower case differ)",
            Difference::DoubledExtension => " (one has a second extension)",
            Difference::Extension => " (another extension)",
            Difference::Spelling => "",
        };
        write!(f, "{}{how}", self.name)
    }
}

/// `did you mean A, B or C?`, or `None` where there is nothing near.
pub fn did_you_mean(near: &[Near]) -> Option<String> {
    let (last, others) = near.split_last()?;
    let others: Vec<String> = others.iter().map(ToString::to_string).collect();
    Some(match others.as_slice() {
        [] => format!("did you mean {last}?"),
        others => format!("did you mean {} or {last}?", others.join(", ")),
    })
}

/// What a common folder counts beside the likeness of spellings.
const NEARNESS: f64 = 0.05;

/// How alike two spellings must be, of 1.
const ALIKE: f64 = 0.72;

/// At most `most` of the names that are near to the one typed, nearest first.
pub fn nearest<'a>(
    typed: &str,
    names: impl IntoIterator<Item = &'a str>,
    most: usize,
) -> Vec<Near> {
    let wanted = folded(typed);
    let mut found: Vec<(Difference, f64, &str)> = names
        .into_iter()
        .filter_map(|name| {
            let other = folded(name);
            let (how, alike) = compare(&wanted, &other)?;
            Some((how, alike, name))
        })
        .collect();
    // Of names that are much alike, the one that lies nearest is meant.
    let near = |(_, alike, name): &(Difference, f64, &str)| {
        alike + NEARNESS * f64::from(count32(common_folders(typed, name)))
    };
    found.sort_by(|a, b| a.0.cmp(&b.0).then(near(b).total_cmp(&near(a))).then(a.2.cmp(b.2)));
    let near = |(how, _, name): (Difference, f64, &str)| Near { name: name.to_owned(), how };
    found.into_iter().take(most).map(near).collect()
}

fn compare(wanted: &str, other: &str) -> Option<(Difference, f64)> {
    let stem = |name: &str| {
        let path = Path::new(name);
        path.with_extension("").to_string_lossy().into_owned()
    };
    if wanted == other {
        return Some((Difference::Case, 1.0));
    }
    if stem(wanted) == other || stem(other) == wanted {
        return Some((Difference::DoubledExtension, 1.0));
    }
    if stem(wanted) == stem(other) {
        return Some((Difference::Extension, 1.0));
    }
    let alike = strsim::normalized_damerau_levenshtein(wanted, other);
    (alike >= ALIKE || is_a_letter_off(wanted, other)).then_some((Difference::Spelling, alike))
}

/// Whether two names of three letters or more differ in one of them, or in two that changed places.
pub fn is_a_letter_off(one: &str, other: &str) -> bool {
    let shortest = one.chars().count().min(other.chars().count());
    shortest >= 3 && strsim::damerau_levenshtein(&folded(one), &folded(other)) == 1
}

/// How many folders two paths have in common, from the first.
pub fn common_folders(one: &str, other: &str) -> usize {
    let folders = |path: &str| folder_of(path).split('/').map(folded).collect::<Vec<_>>();
    folders(one).iter().zip(&folders(other)).take_while(|(a, b)| a == b).count()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_meant() {
        let names = [
            "TICK01.PRM",
            "TICK02.PRM",
            "KUCKOO.PRM",
            "x.prm.wav",
            "crossing.ogg",
            "sfx",
            "a/deep/open.ogg",
            "b/deep/open.ogg",
        ];
        for (typed, want, how) in [
            ("tick01.prm", "TICK01.PRM", Difference::Case),
            ("TICK01.PRM.wav", "TICK01.PRM", Difference::DoubledExtension),
            ("x.prm", "x.prm.wav", Difference::DoubledExtension),
            ("TICK01.WAV", "TICK01.PRM", Difference::Extension),
            ("crosing.ogg", "crossing.ogg", Difference::Spelling),
            ("KUCOKO.PRM", "KUCKOO.PRM", Difference::Spelling),
            ("sfz", "sfx", Difference::Spelling),
            ("b/deep/opn.ogg", "b/deep/open.ogg", Difference::Spelling),
        ] {
            let found = nearest(typed, names, 3);
            assert_eq!((found[0].name.as_str(), found[0].how), (want, how), "{typed}");
        }
        assert!(nearest("nothing-like-it", names, 3).is_empty());
        assert_eq!(nearest("e\u{301}.wav", ["\u{e9}.wav"], 1)[0].how, Difference::Case);
    }
}
