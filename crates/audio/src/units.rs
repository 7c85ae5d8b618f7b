//! Units of sound: sample rates, ranges of frames, levels.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::fmt;

/// Frames a second, 1 to 4,294,967,295.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema, Serialize, Deserialize,
)]
#[serde(try_from = "u32")]
pub struct SampleRate(u32);

impl SampleRate {
    /// The highest that is read or written: twice the highest in use. A file that claims more is damaged,
    /// and would ask for memory without a limit.
    pub const MOST: u32 = 1_536_000;

    /// `None` for 0 and beyond [`SampleRate::MOST`].
    pub const fn new(hertz: u32) -> Option<Self> {
        if hertz == 0 || hertz > Self::MOST { None } else { Some(Self(hertz)) }
    }

    /// 48,000 Hz.
    pub const STUDIO: Self = Self(48_000);

    /// In hertz, never 0.
    pub const fn hertz(self) -> u32 {
        self.0
    }

    /// In hertz, as a real number.
    pub fn real(self) -> f64 {
        f64::from(self.0)
    }

    /// How long this many frames last, in seconds.
    pub fn seconds(self, frames: u64) -> f64 {
        crate::num::real(frames) / self.real()
    }

    /// How many frames fill this many seconds, to the nearest.
    pub fn frames(self, seconds: f64) -> u64 {
        crate::num::rounded(seconds * self.real())
    }
}

impl TryFrom<u32> for SampleRate {
    type Error = String;

    fn try_from(hertz: u32) -> Result<Self, String> {
        Self::new(hertz)
            .ok_or_else(|| format!("a sample rate is 1 to {} Hz, not {hertz}", Self::MOST))
    }
}

impl fmt::Display for SampleRate {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.fmt(f)
    }
}

/// Frames `start` up to, but not including, `end`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, JsonSchema, Serialize, Deserialize)]
pub struct FrameRange {
    /// The first frame.
    pub start: u64,
    /// The first frame that is no longer in.
    pub end: u64,
}

impl FrameRange {
    /// How many frames; 0 where the end lies before the start.
    pub const fn len(self) -> u64 {
        self.end.saturating_sub(self.start)
    }

    /// The same frames of a clip of `frames`, counted from its other end; what lies beyond it is at 0.
    #[must_use]
    pub const fn reversed(self, frames: u64) -> Self {
        Self { start: frames.saturating_sub(self.end), end: frames.saturating_sub(self.start) }
    }

    /// Whether another range lies in it.
    pub const fn contains(self, other: Self) -> bool {
        self.start <= other.start && other.end <= self.end
    }

    /// Whether there is no frame in it.
    pub const fn is_empty(self) -> bool {
        self.len() == 0
    }
}

/// Seconds the way people write them: `0.850 s`, `12.3 s`, `2:05.0`, `1:02:03`.
#[derive(Debug, Clone, Copy)]
pub struct Duration(pub f64);

impl fmt::Display for Duration {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let tenths = crate::num::rounded(self.0 * 10.0);
        let (minutes, rest) = (tenths / 600, tenths % 600);
        match self.0 {
            s if s < 9.9995 => write!(f, "{s:.3} s"),
            s if s < 59.95 => write!(f, "{s:.1} s"),
            s if s < 3599.95 => write!(f, "{minutes}:{:02}.{}", rest / 10, rest % 10),
            _ => write!(f, "{}:{:02}:{:02}", minutes / 60, minutes % 60, rest / 10),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn durations_read_like_a_clock() {
        for (seconds, want) in [
            (0.0, "0.000 s"),
            (0.8504, "0.850 s"),
            (9.9996, "10.0 s"),
            (59.96, "1:00.0"),
            (125.04, "2:05.0"),
            (3723.0, "1:02:03"),
        ] {
            assert_eq!(Duration(seconds).to_string(), want);
        }
    }
}
