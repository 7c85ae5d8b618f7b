//! Cuts as people ask for them.

use super::Span;
use crate::invalid::Invalid;
use std::fmt;
use std::str::FromStr;

/// Which part of a clip is used.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum CutEdit {
    /// A range of the clip's own times.
    At(Span),
    /// All of it, but for what keeps it from looping as a whole: for players that loop the file.
    Seam,
}

impl FromStr for CutEdit {
    type Err = Invalid;

    /// Reads a range, and `seam`.
    fn from_str(text: &str) -> Result<Self, Invalid> {
        match text {
            "seam" => Ok(Self::Seam),
            span => {
                let expected = "A..B, A+LENGTH or seam";
                span.parse().map(Self::At).map_err(|_| Invalid::new("cut", text, expected))
            }
        }
    }
}

impl fmt::Display for CutEdit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::At(span) => span.fmt(f),
            Self::Seam => f.write_str("seam"),
        }
    }
}

crate::invalid::as_text!(CutEdit);
