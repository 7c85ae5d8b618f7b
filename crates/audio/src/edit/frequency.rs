//! Frequencies as people write them.

use crate::invalid::Invalid;
use std::fmt;
use std::str::FromStr;

/// A frequency in hertz, from 10 to 40,000.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Frequency(pub f64);

impl FromStr for Frequency {
    type Err = Invalid;

    /// Reads `80`, `80Hz` and `7.5kHz`.
    fn from_str(text: &str) -> Result<Self, Invalid> {
        let bad = || Invalid::new("frequency", text, "10Hz to 40kHz, as in 80Hz or 7.5kHz");
        let (digits, unit) = match text.strip_suffix("kHz") {
            Some(digits) => (digits, 1000.0),
            None => (text.strip_suffix("Hz").unwrap_or(text), 1.0),
        };
        let plain = digits.bytes().all(|b| b.is_ascii_digit() || b == b'.');
        let hertz = digits.parse::<f64>().ok().filter(|_| plain).map(|value| value * unit);
        hertz.filter(|hertz| (10.0..=40_000.0).contains(hertz)).map(Self).ok_or_else(bad)
    }
}

impl fmt::Display for Frequency {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.0 {
            hertz if hertz >= 1000.0 => write!(f, "{}kHz", hertz / 1000.0),
            hertz => write!(f, "{hertz}Hz"),
        }
    }
}

crate::invalid::as_text!(Frequency);

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn frequencies_as_they_are_written() {
        for (text, hertz, shown) in
            [("80", 80.0, "80Hz"), ("120Hz", 120.0, "120Hz"), ("7.5kHz", 7500.0, "7.5kHz")]
        {
            let read = text.parse::<Frequency>().unwrap();
            assert_eq!((read.0, read.to_string().as_str()), (hertz, shown));
        }
        for text in ["", "Hz", "9", "41kHz", "-80", "1e3", "NaN", "80 Hz", "80hz"] {
            assert!(text.parse::<Frequency>().is_err(), "{text}");
        }
    }
}
