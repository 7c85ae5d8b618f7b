//! The hybrid filter bank: 32 subbands (ISO/IEC 11172-3, 2.4.3.2.1 and C.1.3), then a cosine transform of each in long
//! or short windows (2.4.3.4.10), and the butterflies that take back aliases.

use super::tables::{ALIAS, PROTOTYPE};
use crate::num::{real_size, single};
use std::f64::consts::PI;

/// Samples of a granule, and lines of its spectrum.
pub const GRANULE: usize = 576;
/// Subbands.
const BANDS: usize = 32;
/// Samples of a subband in a granule.
const SLOTS: usize = 18;

/// The window of a granule's transform.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Shape {
    /// One long window.
    #[default]
    Long,
    /// A long one that ends short: short ones follow.
    Start,
    /// Three short windows.
    Short,
    /// A long one that begins short: short ones came before.
    Stop,
}

/// The subband samples of one granule.
type Subbands = [[f32; SLOTS]; BANDS];

/// Splits one channel.
pub struct FilterBank {
    tables: Box<Tables>,
    /// The last 480 samples, oldest first, then a granule.
    samples: Vec<f32>,
    /// Subband samples of the granule before and of this one.
    before: Box<Subbands>,
    now: Box<Subbands>,
}

struct Tables {
    window: [f32; 512],
    cosines: [[f32; BANDS]; BANDS],
    /// Filled up with zeros, so that rows fill registers.
    long: [[f32; 20]; SLOTS],
    short: [[f32; 6]; 6],
    windows: [[f32; 36]; 4],
    short_window: [f32; 12],
    butterflies: [(f32, f32); 8],
}

fn cosine(numerator: usize, denominator: usize) -> f32 {
    single((PI * real_size(numerator) / real_size(denominator)).cos())
}

fn sine_window(at: usize, length: usize) -> f32 {
    single((PI * (real_size(at) + 0.5) / real_size(length)).sin())
}

impl Tables {
    fn new() -> Self {
        let prototype = |at: usize| f64::from(PROTOTYPE[if at > 256 { 512 - at } else { at }]);
        let tap = |at: usize| {
            // Oldest sample first; the sign is that of the cosine, whose period is two blocks of 64.
            let at = 511 - at;
            let sign = if (at / 64).is_multiple_of(2) { 1.0 } else { -1.0 };
            single(sign * prototype(at) / (65_536.0 * 32.0))
        };
        let shape = |shape: usize, at: usize| match (shape, at) {
            (1, 18..24) | (3, 12..18) => 1.0,
            (1, 24..30) => sine_window(at - 18, 12),
            (1, 30..) | (3, 0..6) => 0.0,
            (3, 6..12) => sine_window(at - 6, 12),
            _ => sine_window(at, 36),
        };
        // The forward transform carries the whole scale: decoders have none.
        Self {
            window: std::array::from_fn(tap),
            cosines: std::array::from_fn(|u| std::array::from_fn(|k| cosine((2 * k + 1) * u, 64))),
            long: std::array::from_fn(|m| {
                let factor =
                    |k| if k < SLOTS { cosine((2 * m + 1) * (2 * k + 1), 72) / 9.0 } else { 0.0 };
                std::array::from_fn(factor)
            }),
            short: std::array::from_fn(|m| {
                std::array::from_fn(|k| cosine((2 * m + 1) * (2 * k + 1), 24) / 3.0)
            }),
            windows: std::array::from_fn(|s| std::array::from_fn(|at| shape(s, at))),
            short_window: std::array::from_fn(|at| sine_window(at, 12)),
            butterflies: ALIAS.map(|c| {
                let norm = (1.0 + c * c).sqrt();
                (1.0 / norm, c / norm)
            }),
        }
    }
}

impl FilterBank {
    pub fn new() -> Self {
        Self {
            tables: Box::new(Tables::new()),
            samples: vec![0.0; 480],
            before: Box::new([[0.0; SLOTS]; BANDS]),
            now: Box::new([[0.0; SLOTS]; BANDS]),
        }
    }

    /// How much louder white noise in all lines is in the samples that a decoder gives.
    pub fn noise_gain() -> f32 {
        let energy = |at: usize| f64::from(PROTOTYPE[if at > 256 { 512 - at } else { at }]).powi(2);
        let analysis = 0.5 * (0..512).map(energy).sum::<f64>() / (65_536.0f64 * 32.0).powi(2);
        single(9.0 / analysis)
    }

    /// Takes in the samples of one granule.
    pub fn take(&mut self, granule: &[f32]) {
        std::mem::swap(&mut self.before, &mut self.now);
        self.samples.extend_from_slice(granule);
        let Tables { window, cosines, .. } = &*self.tables;
        for slot in 0..SLOTS {
            let part = &self.samples[32 * slot..32 * slot + 512];
            let mut folded = [0.0f32; 64];
            for (samples, taps) in part.chunks_exact(64).zip(window.chunks_exact(64)) {
                for ((sum, sample), tap) in folded.iter_mut().zip(samples).zip(taps) {
                    *sum += sample * tap;
                }
            }
            // Oldest first: what the standard calls Y[i] is at 63 - i.
            let y = |at: usize| folded[63 - at];
            let mut bands = [0.0f32; BANDS];
            for (u, cosines) in cosines.iter().enumerate() {
                let value = match u {
                    0 => y(16),
                    1..=16 => y(16 + u) + y(16 - u),
                    _ => y(16 + u) - y(80 - u),
                };
                for (band, cosine) in bands.iter_mut().zip(cosines) {
                    *band += value * cosine;
                }
            }
            for (at, (band, value)) in self.now.iter_mut().zip(bands).enumerate() {
                // Every second subband lies upside down.
                let turned = at % 2 == 1 && slot % 2 == 1;
                band[slot] = if turned { -value } else { value };
            }
        }
        self.samples.drain(..granule.len());
    }

    /// The lines of the last two granules: long ones by frequency; of short ones, each window's in turn
    /// within a subband.
    pub fn lines(&self, shape: Shape, lines: &mut [f32; GRANULE]) {
        let both = self.before.iter().zip(self.now.iter());
        for ((before, now), lines) in both.zip(lines.chunks_exact_mut(SLOTS)) {
            match shape {
                Shape::Short => self.short(before, now, lines),
                _ => self.long(shape, before, now, lines),
            }
        }
        if shape != Shape::Short {
            for band in 1..BANDS {
                let (lower, upper) = lines.split_at_mut(SLOTS * band);
                let pairs = lower.iter_mut().rev().zip(upper);
                for ((low, high), (cs, ca)) in pairs.zip(self.tables.butterflies) {
                    (*low, *high) = (*low * cs + *high * ca, *high * cs - *low * ca);
                }
            }
        }
    }

    fn long(&self, shape: Shape, before: &[f32; 18], now: &[f32; 18], lines: &mut [f32]) {
        let window = match shape {
            Shape::Start => &self.tables.windows[1],
            Shape::Stop => &self.tables.windows[3],
            _ => &self.tables.windows[0],
        };
        let z = |at: usize| match at {
            0..18 => before[at] * window[at],
            _ => now[at - 18] * window[at],
        };
        let mut sums = [0.0f32; 20];
        for (m, cosines) in self.tables.long.iter().enumerate() {
            let value = match m {
                0..9 => -z(26 - m) - z(27 + m),
                _ => z(m - 9) - z(26 - m),
            };
            for (sum, cosine) in sums.iter_mut().zip(cosines) {
                *sum += value * cosine;
            }
        }
        lines.copy_from_slice(&sums[..SLOTS]);
    }

    fn short(&self, before: &[f32; 18], now: &[f32; 18], lines: &mut [f32]) {
        let window = &self.tables.short_window;
        lines.fill(0.0);
        for (part, lines) in lines.chunks_exact_mut(6).enumerate() {
            let from = 6 + 6 * part;
            let z = |at: usize| {
                let sample = match from + at {
                    place @ 0..18 => before[place],
                    place => now[place - 18],
                };
                sample * window[at]
            };
            for (m, cosines) in self.tables.short.iter().enumerate() {
                let value = match m {
                    0..3 => -z(8 - m) - z(9 + m),
                    _ => z(m - 3) - z(8 - m),
                };
                for (line, cosine) in lines.iter_mut().zip(cosines) {
                    *line += value * cosine;
                }
            }
        }
    }
}
