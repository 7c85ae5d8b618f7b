//! Times and ranges as people write them.

use crate::invalid::Invalid;
use crate::num::{real, rounded};
use crate::units::SampleRate;
use std::fmt;
use std::str::FromStr;

/// A length of time, never negative.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Time {
    /// Seconds.
    Seconds(f64),
    /// Frames of the clip.
    Frames(u64),
}

/// A place in a clip.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Moment {
    /// From its start.
    FromStart(Time),
    /// Back from its end.
    FromEnd(Time),
}

/// From one place to another; half-open.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Span {
    /// Where it begins; the clip's start by default.
    pub start: Option<Moment>,
    /// Where it ends.
    pub end: SpanEnd,
}

/// Where a range ends.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum SpanEnd {
    /// At the clip's end.
    Open,
    /// At a place.
    At(Moment),
    /// After a length.
    After(Time),
}

impl Time {
    /// In frames of a rate, to the nearest.
    pub fn frames(self, rate: SampleRate) -> u64 {
        match self {
            Self::Seconds(seconds) => rate.frames(seconds),
            Self::Frames(frames) => frames,
        }
    }

    /// In seconds at a rate.
    pub fn seconds(self, rate: SampleRate) -> f64 {
        match self {
            Self::Seconds(seconds) => seconds,
            Self::Frames(frames) => rate.seconds(frames),
        }
    }
}

impl Moment {
    /// The frame in a clip of this many frames; `None` before its start.
    pub fn frame(self, rate: SampleRate, frames: u64) -> Option<u64> {
        match self {
            Self::FromStart(time) => Some(time.frames(rate)),
            Self::FromEnd(time) => frames.checked_sub(time.frames(rate)),
        }
    }
}

fn bad(text: &str) -> Invalid {
    Invalid::new("time", text, "47, 1.25s, 250ms, 1:02.5, 48000smp or 12bars@96bpm")
}

impl FromStr for Time {
    type Err = Invalid;

    /// Reads `47`, `1.25s`, `250ms`, `1:02.5`, `48000smp`, `12bars@96bpm` (4 beats a bar).
    fn from_str(text: &str) -> Result<Self, Invalid> {
        /// A hundred days: beyond, it is a typing mistake.
        const MOST: f64 = 8_640_000.0;
        let number = |digits: &str| {
            let plain = digits.bytes().all(|b| b.is_ascii_digit() || b == b'.');
            let value: Option<f64> = digits.parse().ok();
            value.filter(|v| plain && *v <= MOST).ok_or_else(|| bad(text))
        };
        if let Some(frames) = text.strip_suffix("smp") {
            return frames.parse().map(Self::Frames).map_err(|_| bad(text));
        }
        if let Some((bars, tempo)) = text.split_once("bars@") {
            let tempo = number(tempo.strip_suffix("bpm").ok_or_else(|| bad(text))?)?;
            if tempo <= 0.0 {
                return Err(bad(text));
            }
            return Ok(Self::Seconds(number(bars)? * 4.0 * 60.0 / tempo));
        }
        if let Some(thousandths) = text.strip_suffix("ms") {
            return Ok(Self::Seconds(number(thousandths)? / 1000.0));
        }
        let mut seconds = 0.0;
        for (index, part) in text.strip_suffix('s').unwrap_or(text).split(':').enumerate() {
            let value = number(part)?;
            let clock = index == 0 || value < 60.0;
            if !clock || index > 2 {
                return Err(bad(text));
            }
            seconds = seconds * 60.0 + value;
        }
        Ok(Self::Seconds(seconds))
    }
}

impl FromStr for Moment {
    type Err = Invalid;

    /// As a time; a minus counts from the end, `end` is the end.
    fn from_str(text: &str) -> Result<Self, Invalid> {
        match text.strip_prefix('-') {
            Some(back) => back.parse().map(Self::FromEnd),
            None if text == "end" => Ok(Self::FromEnd(Time::Frames(0))),
            None => text.parse().map(Self::FromStart),
        }
    }
}

impl FromStr for Span {
    type Err = Invalid;

    /// Reads `A..B`, either of which may be left out, or `A+LENGTH`.
    fn from_str(text: &str) -> Result<Self, Invalid> {
        let moment = |part: &str| match part {
            "" => Ok(None),
            part => part.parse().map(Some),
        };
        if let Some((start, end)) = text.split_once("..") {
            return Ok(Self {
                start: moment(start)?,
                end: moment(end)?.map_or(SpanEnd::Open, SpanEnd::At),
            });
        }
        let (start, length) = text
            .split_once('+')
            .ok_or_else(|| Invalid::new("range", text, "A..B or A+LENGTH, as in 0.4s..2.1s"))?;
        Ok(Self { start: moment(start)?, end: SpanEnd::After(length.parse()?) })
    }
}

impl fmt::Display for Time {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Seconds(seconds) => write!(f, "{}s", real(rounded(seconds * 1e6)) / 1e6),
            Self::Frames(frames) => write!(f, "{frames}smp"),
        }
    }
}

impl fmt::Display for Moment {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::FromStart(time) => time.fmt(f),
            Self::FromEnd(time) => write!(f, "-{time}"),
        }
    }
}

impl fmt::Display for Span {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if let Some(start) = self.start {
            start.fmt(f)?;
        }
        match self.end {
            SpanEnd::Open => f.write_str(".."),
            SpanEnd::At(end) => write!(f, "..{end}"),
            SpanEnd::After(length) => write!(f, "+{length}"),
        }
    }
}

crate::invalid::as_text!(Time, Moment, Span);

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn every_notation() {
        for (text, seconds) in [
            ("47", 47.0),
            ("1.25s", 1.25),
            ("250ms", 0.25),
            ("1:02.5", 62.5),
            ("1:00:00", 3600.0),
            ("48000smp", 1.0),
            ("12bars@96bpm", 30.0),
        ] {
            let time: Time = text.parse().unwrap();
            let rate = SampleRate::new(48_000).unwrap();
            assert!((time.seconds(rate) - seconds).abs() < 1e-9, "{text}");
        }
        for text in
            ["", "s", "-1", "1:75", "1:2:3:4", "1e9", "nan", "12bars", "3bars@0bpm", "1.5smp"]
        {
            assert!(text.parse::<Time>().is_err(), "{text}");
        }
        for text in ["0.4s..2.1s", "..-1s", "3s..", "-2s+1s", "9000smp..54000smp", "+5s"] {
            assert_eq!(text.parse::<Span>().unwrap().to_string(), text);
        }
        for text in ["1s", "a..b", "1s+-1s", "1s..2s..3s"] {
            assert!(text.parse::<Span>().is_err(), "{text}");
        }
    }

    proptest! {
        #[test]
        fn any_text_is_read_without_panic(text in "\\PC{0,20}") {
            let _ = text.parse::<Span>();
            let _ = text.parse::<Moment>();
        }
    }
}
