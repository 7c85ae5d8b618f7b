//! Channel routes as people write them: `L R R L`, `0.7L+0.3R -`.

use crate::invalid::Invalid;
use crate::shape::route::Route;
use crate::spec::MOST_CHANNELS;
use std::str::FromStr;

impl FromStr for Route {
    type Err = Invalid;

    /// One expression for each output channel over the source's: `L`, `R`, `1` to `32`, sums with
    /// gains (`0.7L+0.3R`, `0.5*3-2`), `-` for silence.
    fn from_str(text: &str) -> Result<Self, Invalid> {
        let rows: Vec<_> = text.split_whitespace().map(row).collect::<Result<_, _>>()?;
        if rows.is_empty() || rows.len() > usize::from(MOST_CHANNELS) {
            let expected = format!("1 to {MOST_CHANNELS} expressions with spaces between");
            return Err(Invalid::new("route", text, expected));
        }
        Ok(Self(rows))
    }
}

fn row(text: &str) -> Result<Vec<(usize, f64)>, Invalid> {
    if text == "-" {
        return Ok(Vec::new());
    }
    let bad = || Invalid::new("channel", text, "L, R, 1 to 32, 0.7L+0.3R or - for silence");
    let mut terms = Vec::new();
    let mut start = 0;
    for (at, _) in text.match_indices(['+', '-']).chain([(text.len(), "")]) {
        if at > start {
            terms.push(term(&text[start..at]).ok_or_else(bad)?);
        }
        start = at;
    }
    match terms.is_empty() {
        true => Err(bad()),
        false => Ok(terms),
    }
}

/// A sign, a gain and a channel: `L`, `-R`, `+0.3R`, `0.5*3`, `3`.
fn term(text: &str) -> Option<(usize, f64)> {
    let (sign, rest) = match text.strip_prefix('-') {
        Some(rest) => (-1.0, rest),
        None => (1.0, text.strip_prefix('+').unwrap_or(text)),
    };
    let gain = |digits: &str| match digits.strip_suffix('*').unwrap_or(digits) {
        "" => Some(1.0),
        digits => digits.parse().ok().filter(|g: &f64| (0.0..=16.0).contains(g)),
    };
    for (letter, channel) in [('L', 0), ('R', 1)] {
        if let Some(digits) = rest.strip_suffix(letter) {
            return Some((channel, sign * gain(digits)?));
        }
    }
    let (digits, number) = rest.split_once('*').unwrap_or(("", rest));
    let number: u16 = number.parse().ok()?;
    let channel = number.checked_sub(1).filter(|channel| *channel < MOST_CHANNELS)?;
    Some((usize::from(channel), sign * gain(digits)?))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn expressions() {
        for (text, rows) in [
            ("L R R L", vec![vec![(0, 1.0)], vec![(1, 1.0)], vec![(1, 1.0)], vec![(0, 1.0)]]),
            ("0.7L+0.3R -", vec![vec![(0, 0.7), (1, 0.3)], vec![]]),
            ("L-R", vec![vec![(0, 1.0), (1, -1.0)]]),
            ("0.5*3+6", vec![vec![(2, 0.5), (5, 1.0)]]),
        ] {
            assert_eq!(text.parse::<Route>(), Ok(Route(rows)), "{text}");
        }
        for text in ["", "0", "0+L", "X", "33", "L+", "17L", "0.7", "L R Q", "--L"] {
            let parsed = text.parse::<Route>();
            assert!(parsed.is_err(), "{text}: {parsed:?}");
        }
    }
}
