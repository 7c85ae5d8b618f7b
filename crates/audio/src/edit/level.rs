//! Gains and levels as people write them: a level's unit names its measure.

use crate::invalid::Invalid;
use crate::measure::{SILENCE_DBFS, SilenceLevel};
use std::fmt;
use std::path::PathBuf;
use std::str::FromStr;

/// Louder or quieter, in decibels.
#[derive(
    Debug, Clone, Copy, PartialEq, schemars::JsonSchema, serde::Serialize, serde::Deserialize,
)]
#[serde(transparent)]
pub struct Gain(pub f64);

/// A level to reach.
#[derive(Debug, Clone, PartialEq)]
pub enum Level {
    /// The greatest sample, in dBFS.
    Peak(f64),
    /// The greatest value between samples too, in dBTP.
    TruePeak(f64),
    /// Loudness, in LUFS.
    Loudness(f64),
    /// As loud as the file that is replaced.
    Stock,
    /// As loud as another file.
    Like(PathBuf),
}

/// A level in figures.
#[derive(
    Debug, Clone, Copy, PartialEq, schemars::JsonSchema, serde::Serialize, serde::Deserialize,
)]
#[serde(rename_all = "kebab-case")]
pub enum LevelGoal {
    /// In dBFS.
    Peak(f64),
    /// In dBTP.
    TruePeak(f64),
    /// In LUFS.
    Loudness(f64),
}

/// Levels and gains beyond this are typing mistakes.
const MOST: f64 = 120.0;

fn number(text: &str) -> Option<f64> {
    let text = text.strip_prefix('+').unwrap_or(text);
    let plain = text.bytes().all(|b| b.is_ascii_digit() || matches!(b, b'.' | b'-'));
    text.parse().ok().filter(|v: &f64| plain && v.abs() <= MOST)
}

impl FromStr for SilenceLevel {
    type Err = Invalid;

    /// Reads `-55dBFS`, `auto`, and `true` for the usual.
    fn from_str(text: &str) -> Result<Self, Invalid> {
        match text {
            "true" => return Ok(Self::Below(SILENCE_DBFS)),
            "auto" => return Ok(Self::Auto),
            _ => {}
        }
        match text.parse() {
            Ok(Level::Peak(db)) if db < 0.0 => Ok(Self::Below(db)),
            _ => {
                Err(Invalid::new("silence level", text, "auto, or below full scale, as in -55dBFS"))
            }
        }
    }
}

impl fmt::Display for SilenceLevel {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Below(db) => write!(f, "{db}dBFS"),
            Self::Auto => f.write_str("auto"),
        }
    }
}

crate::invalid::as_text!(SilenceLevel);

impl FromStr for Gain {
    type Err = Invalid;

    /// Reads `+7dB`, `-3dB`, `0.5`.
    fn from_str(text: &str) -> Result<Self, Invalid> {
        let digits = text.strip_suffix("dB").unwrap_or(text);
        number(digits).map(Self).ok_or_else(|| Invalid::new("gain", text, "+7dB or -3dB"))
    }
}

impl FromStr for Level {
    type Err = Invalid;

    /// Reads `-1dBFS`, `-1dBTP`, `-16LUFS`, `stock` and `like:FILE`.
    fn from_str(text: &str) -> Result<Self, Invalid> {
        if text == "stock" {
            return Ok(Self::Stock);
        }
        if let Some(file) = text.strip_prefix("like:").filter(|file| !file.is_empty()) {
            return Ok(Self::Like(file.into()));
        }
        let in_unit = |unit: &str| text.strip_suffix(unit).and_then(number);
        let level = in_unit("dBFS")
            .map(Self::Peak)
            .or_else(|| in_unit("dBTP").map(Self::TruePeak))
            .or_else(|| in_unit("LUFS").map(Self::Loudness));
        let level = level.ok_or_else(|| {
            let units =
                "-1dBFS (sample peak), -1dBTP (true peak), -16LUFS (loudness), stock or like:FILE";
            Invalid::new("level", text, units)
        })?;
        match level {
            // Nobody means a level above full scale: the minus was left out.
            Self::Peak(above) | Self::TruePeak(above) | Self::Loudness(above) if above > 0.0 => {
                let meant = text.strip_prefix('+').unwrap_or(text);
                let expected = format!("-{meant}: levels lie below full scale, which is 0");
                Err(Invalid::new("level", text, &expected))
            }
            level => Ok(level),
        }
    }
}

impl fmt::Display for Level {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            // As it is typed, to the last digit: it tells one request from another.
            Self::Peak(db) => write!(f, "{db}dBFS"),
            Self::TruePeak(db) => write!(f, "{db}dBTP"),
            Self::Loudness(lufs) => write!(f, "{lufs}LUFS"),
            Self::Stock => f.write_str("stock"),
            Self::Like(file) => write!(f, "like:{}", file.display()),
        }
    }
}

impl fmt::Display for LevelGoal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Peak(db) => write!(f, "{db:.1} dBFS"),
            Self::TruePeak(db) => write!(f, "{db:.1} dBTP"),
            Self::Loudness(lufs) => write!(f, "{lufs:.1} LUFS"),
        }
    }
}

crate::invalid::as_text!(Level);

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn units_name_the_measure() {
        for (text, level) in [
            ("-1dBFS", Level::Peak(-1.0)),
            ("-1.5dBTP", Level::TruePeak(-1.5)),
            ("-16LUFS", Level::Loudness(-16.0)),
            ("stock", Level::Stock),
            ("like:a b.wav", Level::Like("a b.wav".into())),
        ] {
            assert_eq!(text.parse(), Ok(level));
        }
        for text in ["-1", "-1dB", "like:", "loud", "nanLUFS", "-999LUFS", "16LUFS", "+3dBTP"] {
            assert!(text.parse::<Level>().is_err(), "{text}");
        }
        assert_eq!("+7dB".parse(), Ok(Gain(7.0)));
        assert!("7dBFS".parse::<Gain>().is_err());
    }
}
