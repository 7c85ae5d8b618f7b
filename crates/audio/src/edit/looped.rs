//! Loops as people ask for them.

use super::{Moment, Span, Time};
use crate::invalid::Invalid;
use std::fmt;
use std::str::FromStr;

/// The loop region.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum LoopEdit {
    /// None: loop points that the clip brings are taken away.
    None,
    /// All that is used of the clip.
    All,
    /// A range of the clip's own times; its end is the first frame that is not played.
    At(Span),
    /// The best that is found, near these places where they are named.
    Auto {
        /// Where it is to begin.
        start: Option<Moment>,
        /// Where it is to end.
        end: Option<Moment>,
    },
}

/// What becomes of the sound behind a loop.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Tail {
    /// It stays, for players that leave the loop.
    Keep,
    /// It goes: the file ends with the loop.
    Cut,
    /// It fades out.
    Fade,
    /// It goes on over the loop's next round, as a reverberation does.
    Wrap,
}

/// A loop without an end out of pieces of a clip.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum TextureEdit {
    /// As long as the clip is good for.
    Auto,
    /// As long as this.
    Lasting(Time),
}

impl FromStr for TextureEdit {
    type Err = Invalid;

    /// Reads a time, and `auto`.
    fn from_str(text: &str) -> Result<Self, Invalid> {
        match text {
            "auto" => Ok(Self::Auto),
            time => {
                let expected = "a length, as in 20s, or auto";
                time.parse().map(Self::Lasting).map_err(|_| Invalid::new("texture", text, expected))
            }
        }
    }
}

impl fmt::Display for TextureEdit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Auto => f.write_str("auto"),
            Self::Lasting(time) => time.fmt(f),
        }
    }
}

crate::invalid::as_text!(TextureEdit);

crate::invalid::words!(Tail, "tail", "keep" => Self::Keep, "cut" => Self::Cut, "fade" => Self::Fade, "wrap" => Self::Wrap);

impl FromStr for LoopEdit {
    type Err = Invalid;

    /// Reads `12.0s..end`, `9000smp..54000smp`, `auto`, `12.0s..auto`, `auto..end`, `all` and `none`.
    fn from_str(text: &str) -> Result<Self, Invalid> {
        let near = |place: &str| match place {
            "auto" => Ok(None),
            place => place.parse().map(Some),
        };
        match text {
            "none" => Ok(Self::None),
            "all" => Ok(Self::All),
            "auto" => Ok(Self::Auto { start: None, end: None }),
            text => match text.split_once("..") {
                Some((start, end)) if [start, end].contains(&"auto") => {
                    Ok(Self::Auto { start: near(start)?, end: near(end)? })
                }
                _ => text.parse().map(Self::At).map_err(|_| {
                    Invalid::new("loop", text, "A..B, A+LENGTH, auto, A..auto, all or none")
                }),
            },
        }
    }
}

impl fmt::Display for LoopEdit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::None => f.write_str("none"),
            Self::All => f.write_str("all"),
            Self::At(span) => span.fmt(f),
            Self::Auto { start: None, end: None } => f.write_str("auto"),
            Self::Auto { start, end } => {
                let place = |place: &Option<Moment>| match place {
                    Some(place) => place.to_string(),
                    None => "auto".to_owned(),
                };
                write!(f, "{}..{}", place(start), place(end))
            }
        }
    }
}

crate::invalid::as_text!(LoopEdit);
crate::invalid::as_word!(Tail);

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn loops_as_they_are_written() {
        for text in [
            "none",
            "all",
            "auto",
            "12s..auto",
            "auto..-1s",
            "12s..-0smp",
            "9000smp..54000smp",
            "1s+2s",
        ] {
            assert_eq!(text.parse::<LoopEdit>().unwrap().to_string(), text);
        }
        assert!("round".parse::<LoopEdit>().is_err());
    }
}
