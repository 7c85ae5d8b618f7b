//! Under which names, and in which form, a loop is written among texts.

use crate::clip::{Loop, Tag};
use crate::invalid::Invalid;
use crate::units::SampleRate;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::str::FromStr;

/// Names for a loop's start, and for its length or its end.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct LoopTags {
    /// The name of the start.
    pub start: String,
    /// The second name, and what it tells.
    pub second: Second,
    /// What the values count.
    pub unit: LoopUnit,
}

/// What tells where a loop ends.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Second {
    /// Its length, under this name.
    Length(String),
    /// Its end, the first frame that is not played, under this name.
    End(String),
}

/// What loop tags count.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum LoopUnit {
    /// Frames.
    #[default]
    Frames,
    /// Seconds, with nine digits behind the point.
    Seconds,
}

impl Default for LoopTags {
    /// The two that most players know: start and length in frames.
    fn default() -> Self {
        Self {
            start: "LOOPSTART".to_owned(),
            second: Second::Length("LOOPLENGTH".to_owned()),
            unit: LoopUnit::Frames,
        }
    }
}

impl LoopTags {
    /// The name of the length, where that is what is told.
    pub fn length(&self) -> Option<&str> {
        match &self.second {
            Second::Length(name) => Some(name),
            Second::End(_) => None,
        }
    }

    /// The name of the end, where that is what is told.
    pub fn end(&self) -> Option<&str> {
        match &self.second {
            Second::End(name) => Some(name),
            Second::Length(_) => None,
        }
    }

    /// Itself, where both names can be written as texts.
    ///
    /// # Errors
    /// The name that cannot.
    pub fn validate(self) -> Result<Self, Invalid> {
        match self.names().iter().find(|name| !is_name(name)) {
            Some(name) => Err(Invalid::new("tag name", name, "plain letters without =")),
            None => Ok(self),
        }
    }

    /// Both names.
    pub fn names(&self) -> [&str; 2] {
        let second = match &self.second {
            Second::Length(name) | Second::End(name) => name,
        };
        [&self.start, second]
    }

    /// The texts of a loop.
    pub fn texts(&self, l: &Loop, rate: SampleRate) -> [Tag; 2] {
        let value = |frames: u64| match self.unit {
            LoopUnit::Frames => frames.to_string(),
            LoopUnit::Seconds => format!("{:.9}", rate.seconds(frames)),
        };
        let second = match &self.second {
            Second::Length(name) => Tag::new(name, value(l.range.len())),
            Second::End(name) => Tag::new(name, value(l.range.end)),
        };
        [Tag::new(&self.start, value(l.range.start)), second]
    }
}

impl FromStr for LoopTags {
    type Err = Invalid;

    /// Reads `start=NAME,length=NAME` or `start=NAME,end=NAME`, with `in=seconds` where it does not
    /// count frames.
    fn from_str(text: &str) -> Result<Self, Invalid> {
        let (mut start, mut second, mut unit) = (None, None, LoopUnit::Frames);
        for part in text.split(',') {
            let named = part.split_once('=').filter(|(_, name)| is_name(name));
            match named {
                Some(("start", name)) => start = Some(name.to_owned()),
                Some(("length", name)) => second = Some(Second::Length(name.to_owned())),
                Some(("end", name)) => second = Some(Second::End(name.to_owned())),
                Some(("in", "frames")) => unit = LoopUnit::Frames,
                Some(("in", "seconds")) => unit = LoopUnit::Seconds,
                _ => {
                    let expected = "start=NAME,length=NAME, or end=NAME and in=seconds";
                    return Err(Invalid::new("part of loop tags", part, expected));
                }
            }
        }
        match (start, second) {
            (Some(start), Some(second)) => Ok(Self { start, second, unit }),
            _ => Err(Invalid::new(
                "loop tags",
                text,
                "both, as in start=LOOPSTART,length=LOOPLENGTH",
            )),
        }
    }
}

/// Vorbis comments: printable ASCII without `=`.
fn is_name(name: &str) -> bool {
    !name.is_empty() && name.bytes().all(|b| (0x20..0x7E).contains(&b) && b != b'=')
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::units::FrameRange;

    #[test]
    fn names_and_values() {
        let range = FrameRange { start: 480, end: 1440 };
        let l = Loop::endless(range);
        let rate = SampleRate::STUDIO;
        for (text, want) in [
            ("start=A,length=B", ["A=480", "B=960"]),
            ("start=A,end=B", ["A=480", "B=1440"]),
            ("start=A,end=B,in=seconds", ["A=0.010000000", "B=0.030000000"]),
        ] {
            let tags: LoopTags = text.parse().unwrap();
            let found = tags.texts(&l, rate).map(|tag| format!("{}={}", tag.name, tag.value));
            assert_eq!(found, want);
        }
        for text in ["", "start=A", "start=,length=B", "start=A,length=B,in=beats", "begin=A,end=B"]
        {
            assert!(text.parse::<LoopTags>().is_err(), "{text}");
        }
    }
}
