//! Cuts as people ask for them.

use super::Span;
use serde::{Serialize, Serializer};
use std::fmt;
use std::str::FromStr;

/// Which part of a clip is used.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum CutEdit {
    /// A range of the clip's own times.
    At(Span),
    /// All of it, but for what keeps it from going round as a whole: for players that loop the file.
    Seam,
}

impl FromStr for CutEdit {
    type Err = String;

    /// Reads a range, and `seam`.
    fn from_str(text: &str) -> Result<Self, String> {
        match text {
            "seam" => Ok(Self::Seam),
            span => {
                span.parse().map(Self::At).map_err(|why: String| format!("{why}; or write seam"))
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

impl Serialize for CutEdit {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}
