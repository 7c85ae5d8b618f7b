//! Outlines and spectra as paths of SVG.

use deft_needle_audio::measure::picture::{Column, Picture};
use deft_needle_audio::num::size;
use deft_needle_audio::units::SampleRate;
use std::fmt::Write as _;

/// Equal parts of an outline, from left to right.
pub const PARTS: u32 = 240;
/// Points of a spectrum.
const POINTS: u32 = 120;
/// The frequencies that its ends are.
const LOWEST: f64 = 30.0;
const HIGHEST: f64 = 24_000.0;
/// The level at its foot.
const FLOOR: f64 = -110.0;

/// What is drawn of a clip: outlines are 240 wide and 100 high, full scale at 0 and 100; spectra are 120 wide and 100
/// high.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Drawn {
    /// From the least to the greatest sample of each column.
    pub peaks: String,
    /// The root of its mean square, up and down.
    pub body: String,
    /// The mean spectrum.
    pub spectrum: String,
    /// Where half the rate lies in the spectrum.
    pub limit: u32,
}

/// Draws the picture of a clip of this rate.
pub fn draw(picture: &Picture, rate: SampleRate) -> Drawn {
    let half = f64::from(rate.hertz()) / 2.0;
    Drawn {
        peaks: outline(&picture.columns, |column| (column.least, column.greatest)),
        body: outline(&picture.columns, |column| (-column.rms, column.rms)),
        spectrum: spectrum(&picture.spectrum),
        limit: rounded(place(half).clamp(0.0, f64::from(POINTS))),
    }
}

/// What is certainly small and not below zero.
fn rounded(value: f64) -> u32 {
    u32::try_from(deft_needle_audio::num::rounded(value)).unwrap_or(0)
}

/// A line for each column. Short clips have fewer columns than there is room for.
fn outline(columns: &[Column], of: impl Fn(&Column) -> (f64, f64)) -> String {
    let mut path = String::new();
    let count = columns.len().max(1);
    // Each column from where the one before ended, which is shorter to write.
    let (mut at_x, mut at_y) = (0, 0);
    for (at, column) in columns.iter().enumerate() {
        let (low, high) = of(column);
        let y = |value: f64| rounded(50.0 - 50.0 * value.clamp(-1.0, 1.0));
        // At least a hair, so that silence is seen to be there.
        let (top, foot) = (y(high), y(low).max(y(high) + 1));
        let x = at * size(PARTS.into()) / count;
        let (right, down) = (x - at_x, i64::from(top) - at_y);
        let gap = if down < 0 { "" } else { " " };
        let _ = write!(path, "m{right}{gap}{down}v{}", foot - top);
        (at_x, at_y) = (x, i64::from(foot));
    }
    path
}

/// Where a frequency lies, by its logarithm.
fn place(hertz: f64) -> f64 {
    f64::from(POINTS) * (hertz / LOWEST).ln() / (HIGHEST / LOWEST).ln()
}

/// The frequency that lies there.
fn frequency(place: f64) -> f64 {
    LOWEST * (HIGHEST / LOWEST).powf(place / f64::from(POINTS))
}

/// Where a frequency lies in a spectrum.
pub(crate) fn tick(hertz: f64) -> u32 {
    rounded(place(hertz))
}

/// The strongest line between one point and the next, and what lies between where there is none.
fn spectrum(lines: &[(f64, f64)]) -> String {
    let mut path = String::new();
    let mut rest = lines.iter().skip_while(|(hertz, _)| *hertz < LOWEST).peekable();
    for point in 0..POINTS {
        let mut level: Option<f64> = None;
        let end = frequency(f64::from(point + 1));
        while let Some((_, decibels)) = rest.next_if(|(hertz, _)| *hertz < end) {
            level = Some(level.map_or(*decibels, |most| most.max(*decibels)));
        }
        if let Some(level) = level {
            let y = rounded(100.0 * (level / FLOOR).clamp(0.0, 1.0));
            let letter = if path.is_empty() { 'M' } else { 'L' };
            let _ = write!(path, "{letter}{point} {y}");
        }
    }
    path
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn columns_and_lines_lie_where_they_should() {
        let column = |least, greatest| Column { least, greatest, rms: 0.0, clipped: false };
        let drawn = outline(&[column(-1.0, 1.0), column(0.0, 0.5)], |c| (c.least, c.greatest));
        assert_eq!(drawn, "m0 0v100m120-75v25");
        assert_eq!(outline(&[column(0.0, 0.0)], |c| (c.least, c.greatest)), "m0 50v1");
        assert_eq!(spectrum(&[(10.0, 0.0), (30.0, -11.0), (24_000.0, -55.0)]), "M0 10");
        assert_eq!(spectrum(&[(30.0, -11.0), (23_000.0, -220.0)]), "M0 10L119 100");
        assert_eq!((rounded(place(LOWEST)), rounded(place(HIGHEST))), (0, POINTS));
    }
}
