//! Sets of characters that names may consist of.

use deft_needle_audio::Invalid;
use serde::de::Error as _;
use serde::{Deserialize as _, Deserializer, Serialize};
use std::fmt;
use std::ops::RangeInclusive;
use std::str::FromStr;

/// Reads an optional value that is written as text.
///
/// # Errors
/// What the value's own parser says.
pub fn text<'de, D, T>(deserializer: D) -> Result<Option<T>, D::Error>
where
    D: Deserializer<'de>,
    T: FromStr<Err: fmt::Display>,
{
    let text = String::deserialize(deserializer)?;
    text.parse().map(Some).map_err(D::Error::custom)
}

/// A set of characters, written as in `a-z0-9_`; a `-` that is meant itself stands at an end.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(into = "String")]
pub struct CharSet(Vec<RangeInclusive<char>>);

impl CharSet {
    /// Whether a character is in it.
    pub fn holds(&self, c: char) -> bool {
        self.0.iter().any(|range| range.contains(&c))
    }

    /// The fewest ranges that hold just these.
    pub fn of(characters: impl IntoIterator<Item = char>) -> Self {
        let sorted: std::collections::BTreeSet<char> = characters.into_iter().collect();
        let mut ranges: Vec<RangeInclusive<char>> = Vec::new();
        for c in sorted {
            match ranges.last_mut() {
                Some(last) if u32::from(*last.end()) + 1 == u32::from(c) => {
                    *last = *last.start()..=c
                }
                _ => ranges.push(c..=c),
            }
        }
        Self(ranges)
    }

    /// Whether it holds nothing.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
}

impl FromStr for CharSet {
    type Err = Invalid;

    fn from_str(text: &str) -> Result<Self, Invalid> {
        let letters: Vec<char> = text.chars().collect();
        let mut ranges = Vec::new();
        let mut at = 0;
        while at < letters.len() {
            let range = match letters[at..] {
                [from, '-', to, ..] if from <= to => {
                    at += 2;
                    from..=to
                }
                [from, '-', to, ..] => {
                    let found = format!("{from}-{to}");
                    return Err(Invalid::new(
                        "range of characters",
                        &found,
                        format!("{to}-{from}"),
                    ));
                }
                [one, ..] => one..=one,
                [] => break,
            };
            at += 1;
            ranges.push(range);
        }
        match ranges.is_empty() {
            true => Err(Invalid::new("set of characters", text, "some, as in a-z0-9_")),
            false => Ok(Self(ranges)),
        }
    }
}

impl fmt::Display for CharSet {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        // A hyphen between others would read as a range.
        let hyphen = self.0.contains(&('-'..='-'));
        for range in self.0.iter().filter(|r| **r != ('-'..='-')) {
            let (from, to) = (*range.start(), *range.end());
            match u32::from(to) - u32::from(from) {
                0 => write!(f, "{from}")?,
                1 => write!(f, "{from}{to}")?,
                _ => write!(f, "{from}-{to}")?,
            }
        }
        f.write_str(if hyphen { "-" } else { "" })
    }
}

impl From<CharSet> for String {
    fn from(set: CharSet) -> Self {
        set.to_string()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn sets() {
        let set: CharSet = "a-z0-9_-".parse().unwrap();
        assert!("az09_-".chars().all(|c| set.holds(c)) && !"A .é".chars().any(|c| set.holds(c)));
        assert!("z-a".parse::<CharSet>().is_err() && "".parse::<CharSet>().is_err());
        assert_eq!(CharSet::of("ab-cx_y".chars()).to_string(), "_a-cxy-");
    }

    proptest! {
        #[test]
        fn sets_come_back_as_they_went(letters in "[a-zA-Z0-9_()\\- ~]{1,20}", other in any::<char>()) {
            let set = CharSet::of(letters.chars());
            let again: CharSet = set.to_string().parse().unwrap();
            prop_assert!(letters.chars().all(|c| again.holds(c)));
            prop_assert_eq!(again.holds(other), letters.contains(other));
        }
    }
}
