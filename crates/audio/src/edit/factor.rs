//! Factors as people write them.

use crate::invalid::Invalid;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::fmt;
use std::str::FromStr;

/// A factor as a ratio of two whole numbers, so that lengths come out exact.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct Factor {
    /// So many …
    pub num: u32,
    /// … for every this many.
    pub den: u32,
}

impl Factor {
    /// Its value.
    pub fn value(self) -> f64 {
        f64::from(self.num) / f64::from(self.den)
    }

    /// Whether it changes nothing.
    pub fn is_one(self) -> bool {
        self.num == self.den
    }
}

impl FromStr for Factor {
    type Err = Invalid;

    /// Reads `1.25`, `0.5` or `3/2`, from 1/16 to 16.
    fn from_str(text: &str) -> Result<Self, Invalid> {
        let bad = || Invalid::new("factor", text, "1/16 to 16, as in 1.25 or 3/2");
        let (num, den) = match text.split_once('/') {
            Some((a, b)) => {
                (a.parse::<u32>().map_err(|_| bad())?, b.parse::<u32>().map_err(|_| bad())?)
            }
            None => {
                let (whole, part) = text.split_once('.').unwrap_or((text, ""));
                let digits = u32::try_from(part.len()).ok().filter(|n| *n <= 4).ok_or_else(bad)?;
                let num = format!("{whole}{part}").parse::<u32>().map_err(|_| bad())?;
                (num, 10u32.pow(digits))
            }
        };
        let fine = den > 0 && num > 0 && num <= 160_000 && den <= 160_000;
        let within = fine && num <= 16 * den && den <= 16 * num;
        within.then_some(Self { num, den }).ok_or_else(bad)
    }
}

impl fmt::Display for Factor {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.value())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn factors_as_they_are_written() {
        for (text, num, den) in [("1.25", 125, 100), ("3/2", 3, 2), ("2", 2, 1), ("0.5", 5, 10)] {
            assert_eq!(text.parse::<Factor>(), Ok(Factor { num, den }));
        }
        for text in ["0", "17", "1/0", "1.23456", "-1", "fast", ""] {
            assert!(text.parse::<Factor>().is_err(), "{text}");
        }
    }
}
