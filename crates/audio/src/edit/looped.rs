//! Loops as people ask for them.

use super::Span;
use serde::{Serialize, Serializer};
use std::fmt;
use std::str::FromStr;

/// Which part goes round.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum LoopEdit {
    /// None: loop points that the clip brings are taken away.
    None,
    /// All that is used of the clip.
    All,
    /// A range of the clip's own times; its end is the first frame that is not played.
    At(Span),
}

/// What becomes of the sound behind a loop.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Tail {
    /// It stays, for players that leave the loop.
    Keep,
    /// It goes: the file ends with the loop.
    Cut,
    /// It fades out.
    Fade,
}

impl FromStr for LoopEdit {
    type Err = String;

    /// Reads `12.0s..end`, `9000smp..54000smp`, `all` and `none`.
    fn from_str(text: &str) -> Result<Self, String> {
        match text {
            "none" => Ok(Self::None),
            "all" => Ok(Self::All),
            span => span
                .parse()
                .map(Self::At)
                .map_err(|why: String| format!("{why}; or write all, or none")),
        }
    }
}

impl fmt::Display for LoopEdit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::None => f.write_str("none"),
            Self::All => f.write_str("all"),
            Self::At(span) => span.fmt(f),
        }
    }
}

impl Serialize for LoopEdit {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn loops_as_they_are_written() {
        for text in ["none", "all", "12s..-0smp", "9000smp..54000smp", "1s+2s"] {
            assert_eq!(text.parse::<LoopEdit>().unwrap().to_string(), text);
        }
        assert!("round".parse::<LoopEdit>().is_err());
    }
}
