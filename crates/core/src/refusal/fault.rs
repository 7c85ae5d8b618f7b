//! What is wrong in a file that somebody wrote by hand: where, and what to write instead.

use super::{OddText, Refusal};
use schemars::JsonSchema;
use serde::Serialize;
use std::fmt;
use std::ops::Range;
use std::path::{Path, PathBuf};

/// Something wrong, and the place where it stands.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct Fault {
    /// The file.
    #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
    pub path: PathBuf,
    /// The place, where it is known.
    pub spot: Option<Spot>,
    /// What is wrong.
    pub because: Because,
}

/// What is wrong.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Because {
    /// What is written is odd.
    Odd(OddText),
    /// It is soundly written, and the target does not take it.
    Refusal(Refusal),
}

impl<T: Into<OddText>> From<T> for Because {
    fn from(odd: T) -> Self {
        Self::Odd(odd.into())
    }
}

impl From<Refusal> for Because {
    fn from(refusal: Refusal) -> Self {
        Self::Refusal(refusal)
    }
}

/// A place in a text.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
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
    pub fn whole(path: &Path, because: impl Into<Because>) -> Self {
        Self { path: path.to_owned(), spot: None, because: because.into() }
    }

    /// About a place in a text.
    pub fn at(path: &Path, text: &str, span: &Range<usize>, because: impl Into<Because>) -> Self {
        Self { spot: Some(Spot::of(text, span)), ..Self::whole(path, because) }
    }

    /// About a template that stands in a range of a text: at the odd part of it, where that is found there as
    /// it is written; else at the first line of the range.
    pub fn of_template(
        path: &Path,
        text: &str,
        within: &Range<usize>,
        odd: impl Into<OddText>,
    ) -> Self {
        let odd = odd.into();
        let whole = &text[within.clone()];
        let written = match &odd {
            OddText::Template(odd) => odd.written(),
            _ => None,
        };
        let found = written.and_then(|written| Some((whole.find(written)?, written.len())));
        let (start, length) =
            found.unwrap_or_else(|| (0, whole.find(['\r', '\n']).unwrap_or(whole.len())));
        let start = within.start + start;
        Self::at(path, text, &(start..start + length), odd)
    }

    /// What `toml` found, with the nearest known word where one is unknown.
    pub fn of_toml(path: &Path, text: &str, error: &toml::de::Error) -> Self {
        let odd = plainly(error.message());
        match error.span() {
            Some(span) => Self::at(path, text, &span, odd),
            None => Self::whole(path, odd),
        }
    }

    /// Whether what is written is sound, and the target does not take it.
    pub const fn is_refused(&self) -> bool {
        matches!(self.because, Because::Refusal(_))
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
        write!(f, "{}", self.path.display())?;
        if let Some(spot) = &self.spot {
            write!(f, ", line {}, column {}", spot.line, spot.column)?;
        }
        match &self.because {
            Because::Odd(odd) => write!(f, ": {odd:?}"),
            Because::Refusal(refusal) => write!(f, ": {refusal:?}"),
        }
    }
}

/// A parser's message as a value.
fn plainly(message: &str) -> OddText {
    for (kind, word) in [("unknown field", false), ("unknown variant", true)] {
        let Some(rest) = message.strip_prefix(kind) else {
            continue;
        };
        // "unknown field `a`, expected one of `b`, `c`" is what serde says.
        let mut quoted = rest.split('`').skip(1).step_by(2);
        let unknown = quoted.next().unwrap_or_default();
        let known: Vec<String> = quoted.map(str::to_owned).collect();
        let near = crate::names::nearest(unknown, known.iter().map(String::as_str), 1);
        return OddText::Unknown { word, found: clipped(unknown), near, known };
    }
    match message.strip_prefix("missing field") {
        Some(rest) => OddText::MissingKey(rest.trim().trim_matches('`').to_owned()),
        None => OddText::Grammar(clipped(message)),
    }
}

/// So that a key of a megabyte does not fill the screen.
pub(crate) fn clipped(text: &str) -> String {
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
        let odd = plainly("unknown field `mach`, expected one of `match`, `spec`");
        let OddText::Unknown { word: false, found, near, known } = odd else { panic!("{odd:?}") };
        assert_eq!((found.as_str(), near[0].name.as_str(), known.len()), ("mach", "match", 2));
        assert_eq!(plainly("missing field `spec`"), OddText::MissingKey("spec".to_owned()));
    }
}
