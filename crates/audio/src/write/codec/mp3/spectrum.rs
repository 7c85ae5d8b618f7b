//! A granule's spectrum in the order in which it is coded, and what noise its bands may have.

use super::filter::{GRANULE, Shape};
use super::tables;
use crate::num::single;

/// Bands of a short granule: 13 of each window.
pub const MOST_BANDS: usize = 39;

/// How the lines of a granule are grouped.
#[derive(Debug, Clone)]
pub struct Layout {
    /// Where each band begins, in the order of coding, and the end.
    pub edges: Vec<u16>,
    /// How many bands have a scale factor: all but the highest.
    pub scaled: usize,
    /// For each place in the order of coding, the line as the filter bank gives it; nothing where it is
    /// the same.
    order: Option<Vec<u16>>,
    /// Lower and upper edges of the bands in lines of the long transform.
    pub ranges: Vec<(u16, u16)>,
}

impl Layout {
    /// The bands of long blocks, and those of short ones; `None` for rates that Layer III has not.
    pub fn both(hertz: u32) -> Option<[Self; 2]> {
        let (long, short) = tables::bands(hertz)?;
        let long = Self {
            edges: long.to_vec(),
            scaled: 21,
            order: None,
            ranges: long.windows(2).map(|ends| (ends[0], ends[1])).collect(),
        };
        let (mut edges, mut order, mut ranges) = (vec![0], Vec::new(), Vec::new());
        for ends in short.windows(2) {
            for window in 0..3 {
                // Line f of a window lies in subband f / 6, behind those of the windows before.
                order.extend((ends[0]..ends[1]).map(|f| 18 * (f / 6) + 6 * window + f % 6));
                edges.push(edges.last().map_or(0, |last| last + ends[1] - ends[0]));
                ranges.push((3 * ends[0], 3 * ends[1]));
            }
        }
        Some([long, Self { edges, scaled: 36, order: Some(order), ranges }])
    }

    /// How many bands there are.
    pub fn bands(&self) -> usize {
        self.ranges.len()
    }

    /// The places of a band's lines.
    pub fn places(&self, band: usize) -> std::ops::Range<usize> {
        usize::from(self.edges[band])..usize::from(self.edges[band + 1])
    }

    /// Puts the filter bank's lines in the order of coding.
    pub fn sort(&self, lines: &[f32; GRANULE]) -> [f32; GRANULE] {
        match &self.order {
            None => *lines,
            Some(order) => std::array::from_fn(|at| lines[usize::from(order[at])]),
        }
    }
}

/// One channel's granule, or what two channels have in common or differ by.
#[derive(Debug, Clone)]
pub struct Spectrum {
    /// The form of its window.
    pub shape: Shape,
    /// The lines, in the order of coding.
    pub lines: [f32; GRANULE],
    /// For each band, how much a unit of noise in one of its lines is heard: 1 is just at the mask of one
    /// band of the ear.
    pub weights: [f32; MOST_BANDS],
}

impl Spectrum {
    /// The sum and the difference of two channels, in powers as loud as they. Noise of either goes into both,
    /// half each.
    pub fn sum_and_difference(left: &Self, right: &Self) -> [Self; 2] {
        let half = std::f32::consts::FRAC_1_SQRT_2;
        let mix =
            |sign: f32| std::array::from_fn(|at| half * (left.lines[at] + sign * right.lines[at]));
        let weights = std::array::from_fn(|at| 0.5 * (left.weights[at] + right.weights[at]));
        [1.0, -1.0].map(|sign| Self { shape: left.shape, lines: mix(sign), weights })
    }

    /// About how many bits it takes at a level of noise.
    pub fn demand(&self, layout: &Layout, noise: f32) -> f32 {
        let mut bits = 0.0;
        for band in 0..layout.bands() {
            let places = layout.places(band);
            let lines = single(f64::from(u32::try_from(places.len()).unwrap_or(0)));
            let energy: f32 = self.lines[places].iter().map(|line| line * line).sum();
            let allowed = noise * lines / self.weights[band].max(f32::MIN_POSITIVE);
            bits += 0.5 * lines * (1.0 + energy / (lines * allowed)).log2();
        }
        bits
    }
}
