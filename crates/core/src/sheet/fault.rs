//! What is wrong in a file that somebody wrote by hand: where, and what to write instead.

use crate::error::Error;
use crate::refusal::Refusal;
use deft_needle_audio::Unmet;
use serde::Serialize;
use std::fmt;
use std::ops::Range;
use std::path::{Path, PathBuf};

/// Something wrong, and the place where it stands.
#[derive(Debug, Clone, PartialEq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct Fault {
    /// The file.
    #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
    pub path: PathBuf,
    /// The place, where it is known.
    pub spot: Option<Spot>,
    /// What is wrong.
    pub what: String,
    /// What to write instead; empty where the message says it.
    pub instead: String,
    /// Whether it is soundly written, and the target does not take it.
    pub refused: bool,
    /// What is wrong as a value, in place of words.
    pub because: Option<Because>,
}

/// What is wrong, where it has a kind of its own.
#[derive(Debug, Clone, PartialEq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Because {
    /// No clip can be made so.
    Unmet(Unmet),
    /// The target does not take it.
    Refusal(Refusal),
}

/// A place in a text.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Spot {
    /// Counted from 1.
    pub line: usize,
    /// Counted from 1, in characters.
    pub column: usize,
    /// The line, or the part of it around the place where it is long.
    pub text: String,
    /// How many characters of `text` come before the place.
    pub before: usize,
    /// How many characters are meant, at least 1.
    pub length: usize,
}

/// Characters of a line that are shown at most.
const SHOWN: usize = 96;

impl Spot {
    /// The place of a range of bytes.
    pub fn of(text: &str, span: &Range<usize>) -> Self {
        let start = text.floor_char_boundary(span.start.min(text.len()));
        let before = &text[..start];
        let line_start = before.rfind('\n').map_or(0, |at| at + 1);
        let rest = &text[line_start..];
        let line = rest.lines().next().unwrap_or_default();
        let column = text[line_start..start].chars().count();
        let first = column.saturating_sub(SHOWN / 2);
        let shown: String = line.chars().skip(first).take(SHOWN).collect();
        let end = text.floor_char_boundary(span.end.min(line_start + line.len()).max(start));
        let room = shown.chars().count().saturating_sub(column - first);
        Self {
            line: before.matches('\n').count() + 1,
            column: column + 1,
            text: shown,
            before: column - first,
            length: text[start..end].chars().count().min(room).max(1),
        }
    }
}

impl Fault {
    /// About a whole file.
    pub fn whole(path: &Path, what: impl Into<String>, instead: impl Into<String>) -> Self {
        Self {
            path: path.to_owned(),
            spot: None,
            what: what.into(),
            instead: instead.into(),
            refused: false,
            because: None,
        }
    }

    /// The same, where what is written is sound and the target does not take it.
    #[must_use]
    pub fn refused(self, because: Refusal) -> Self {
        Self { refused: true, because: Some(Because::Refusal(because)), ..self }
    }

    /// About a place in a text.
    pub fn at(
        path: &Path,
        text: &str,
        span: &Range<usize>,
        what: impl Into<String>,
        instead: impl Into<String>,
    ) -> Self {
        Self { spot: Some(Spot::of(text, span)), ..Self::whole(path, what, instead) }
    }

    /// What `toml` found, with the nearest known word where one is unknown.
    pub fn of_toml(path: &Path, text: &str, error: &toml::de::Error) -> Self {
        let (what, instead) = plainly(error.message());
        match error.span() {
            Some(span) => Self::at(path, text, &span, what, instead),
            None => Self::whole(path, what, instead),
        }
    }

    /// The line with the place marked below it.
    pub fn excerpt(&self) -> Option<[String; 2]> {
        let spot = self.spot.as_ref()?;
        let number = spot.line.to_string();
        let margin = " ".repeat(number.len());
        let (gap, marks) = (" ".repeat(spot.before), "^".repeat(spot.length));
        let text = spot.text.replace('\t', " ");
        Some([format!("{number} | {text}"), format!("{margin} | {gap}{marks}")])
    }
}

impl fmt::Display for Fault {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let path = self.path.display();
        match &self.spot {
            Some(spot) => {
                write!(f, "{path}, line {}, column {}: {}", spot.line, spot.column, self.what)
            }
            None => write!(f, "{path}: {}", self.what),
        }
    }
}

impl From<Fault> for Error {
    fn from(fault: Fault) -> Self {
        Self::Sheet(Box::new(fault))
    }
}

/// A parser's message as a user would say it, and what to do.
fn plainly(message: &str) -> (String, String) {
    for (kind, word) in [("unknown field", "key"), ("unknown variant", "word")] {
        let Some(rest) = message.strip_prefix(kind) else {
            continue;
        };
        // "unknown field `a`, expected one of `b`, `c`" is what serde says.
        let mut quoted = rest.split('`').skip(1).step_by(2);
        let unknown = quoted.next().unwrap_or_default();
        let known: Vec<&str> = quoted.collect();
        let instead = match crate::names::nearest(unknown, known.iter().copied(), 1).first() {
            Some(near) => {
                format!("did you mean \"{}\"? known are: {}", near.name, known.join(", "))
            }
            None => format!("known are: {}", known.join(", ")),
        };
        return (format!("unknown {word} \"{}\"", clipped(unknown)), instead);
    }
    if let Some(rest) = message.strip_prefix("missing field") {
        return (format!("the key {} is missing", rest.trim().replace('`', "\"")), String::new());
    }
    (clipped(message), String::new())
}

/// So that a key of a megabyte does not fill the screen.
pub fn clipped(text: &str) -> String {
    const MOST: usize = 200;
    match text.char_indices().nth(MOST) {
        Some((at, _)) => format!("{} …", &text[..at]),
        None => text.to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn spots() {
        let text = "one\ntwo = \"ä\" # x\nthree";
        let at = text.find('"').unwrap();
        let spot = Spot::of(text, &(at..at + 4));
        assert_eq!((spot.line, spot.column, spot.length), (2, 7, 3));
        assert_eq!(spot.text, "two = \"ä\" # x");
        let long = format!("a = \"{}\"", "x".repeat(10_000));
        let spot = Spot::of(&long, &(9_000..10_000));
        assert!(spot.text.len() == SHOWN && spot.before + spot.length <= SHOWN, "{spot:?}");
        for span in [0..0, 24..24, 30..99] {
            let _ = Spot::of(text, &span);
        }
    }

    #[test]
    fn the_nearest_known_word_is_told() {
        let (what, instead) = plainly("unknown field `mach`, expected one of `match`, `spec`");
        assert_eq!(what, "unknown key \"mach\"");
        assert!(instead.starts_with("did you mean \"match\"?"), "{instead}");
    }
}
