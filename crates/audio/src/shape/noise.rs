//! Random numbers and the spectrum of quantisation noise.

use crate::num::{count, real_size};
use crate::units::SampleRate;
use std::f64::consts::PI;

/// Generators that take turns, so that the processor need not wait for each.
const LANES: usize = 4;
/// Numbers that all of them give at once.
const DRAW: usize = 2 * LANES;

/// Small generators of uniform random numbers, seeded, so that runs are alike: xorshift64* (S. Vigna, "An
/// experimental exploration of Marsaglia's xorshift generators, scrambled", 2016, table III).
#[derive(Debug, Clone)]
pub struct Random {
    lanes: [u64; LANES],
    /// The last draw, of which these many are used up.
    drawn: [f64; DRAW],
    used: usize,
}

impl Random {
    /// The `stream`th of many independent generators.
    pub fn new(stream: usize) -> Self {
        // Any state but 0, which no channel has.
        let state = |lane| {
            let number = count(stream * LANES + lane);
            number.wrapping_mul(0xD1B5_4A32_D192_ED03) ^ 0x5DEE_CE66_D1CE_4E5B
        };
        Self { lanes: std::array::from_fn(state), drawn: [0.0; DRAW], used: DRAW }
    }

    /// Triangular between −1 and 1, in 65,536ths: the sum of two uniform numbers.
    pub fn triangular(&mut self) -> f64 {
        if self.used == DRAW {
            self.drawn = self.draw();
            self.used = 0;
        }
        self.used += 1;
        self.drawn[self.used - 1]
    }

    /// Many at once, the same as one after another.
    pub fn fill(&mut self, values: &mut [f64]) {
        let left = (DRAW - self.used).min(values.len());
        let (head, rest) = values.split_at_mut(left);
        head.fill_with(|| self.triangular());
        let (draws, tail) = rest.as_chunks_mut::<DRAW>();
        for draw in draws {
            *draw = self.draw();
        }
        tail.fill_with(|| self.triangular());
    }

    fn draw(&mut self) -> [f64; DRAW] {
        let mut drawn = [0.0; DRAW];
        for (lane, state) in self.lanes.iter_mut().enumerate() {
            *state ^= *state >> 12;
            *state ^= *state << 25;
            *state ^= *state >> 27;
            let [a, b, c, d, e, f, g, h] = state.wrapping_mul(0x2545_F491_4F6C_DD1D).to_le_bytes();
            drawn[lane] = sum([a, b], [c, d]);
            drawn[LANES + lane] = sum([e, f], [g, h]);
        }
        drawn
    }
}

/// Of two numbers of 16 bits, about 0.
fn sum(first: [u8; 2], second: [u8; 2]) -> f64 {
    let [first, second] = [first, second].map(|bytes| i32::from(i16::from_le_bytes(bytes)));
    f64::from(first + second + 1) / 65_536.0
}

/// The power response of A-weighting at a frequency in hertz (IEC 61672-1, 5.5.7); 1 at 1 kHz.
pub fn a_weighting(hertz: f64) -> f64 {
    let f2 = hertz * hertz;
    let [f1, f2c, f3, f4] = [20.598_997, 107.652_65, 737.862_23, 12_194.217];
    let upper = f4 * f4 * f2 * f2;
    let lower = (f2 + f1 * f1) * ((f2 + f2c * f2c) * (f2 + f3 * f3)).sqrt() * (f2 + f4 * f4);
    let gain = upper / lower;
    gain * gain * 10f64.powf(0.2)
}

/// How far below its greatest value the weight may fall: it bounds how much noise is moved.
const FLOOR: f64 = 1e-4;
/// The order of the filter; beyond this the gain grows no more.
pub const ORDER: usize = 12;

/// The error feedback that makes quantisation noise at this rate least audible: the predictor of a
/// process whose spectrum is the A-weighting. Whitening by linear prediction is optimal for
/// its order (J. Makhoul, "Linear Prediction: A Tutorial Review", 1975), and minimum phase.
pub fn feedback(rate: SampleRate) -> [f64; ORDER] {
    const POINTS: usize = 2048;
    let nyquist = rate.real() / 2.0;
    let weight = |point: usize| {
        let hertz = (real_size(point) + 0.5) / real_size(POINTS) * nyquist;
        a_weighting(hertz)
    };
    let greatest = (0..POINTS).map(weight).fold(0.0, f64::max);
    let mut correlation = [0.0; ORDER + 1];
    for point in 0..POINTS {
        let value = weight(point).max(greatest * FLOOR);
        let angle = (real_size(point) + 0.5) / real_size(POINTS) * PI;
        for (lag, sum) in correlation.iter_mut().enumerate() {
            *sum += value * (angle * real_size(lag)).cos();
        }
    }
    levinson(&correlation)
}

/// The Levinson-Durbin recursion: predictor coefficients from an autocorrelation.
fn levinson(correlation: &[f64; ORDER + 1]) -> [f64; ORDER] {
    let mut predictor = [0.0; ORDER];
    let mut error = correlation[0];
    for order in 0..ORDER {
        let known: f64 = (0..order).map(|j| predictor[j] * correlation[order - j]).sum();
        let reflection = (correlation[order + 1] - known) / error;
        let previous = predictor;
        predictor[order] = reflection;
        for j in 0..order {
            predictor[j] = previous[j] - reflection * previous[order - 1 - j];
        }
        error *= 1.0 - reflection * reflection;
    }
    predictor
}

#[cfg(test)]
mod tests {
    use super::*;

    /// IEC 61672-1, table 3, at the exact frequencies behind the nominal ones.
    #[test]
    fn a_weighting_matches_the_published_table() {
        for (hertz, db) in [
            (31.623, -39.4),
            (100.0, -19.1),
            (1000.0, 0.0),
            (2511.9, 1.3),
            (10_000.0, -2.5),
            (15_848.9, -6.6),
        ] {
            let found = 10.0 * a_weighting(hertz).log10();
            assert!((found - db).abs() < 0.1, "{hertz} Hz: {found}");
        }
    }

    #[test]
    fn triangular_noise_has_its_moments() {
        let mut random = Random::new(3);
        let n = 200_000;
        let values: Vec<f64> = (0..n).map(|_| random.triangular()).collect();
        // Whoever asks for many gets the same.
        let (mut apart, mut together) = (Random::new(3), Random::new(3));
        for many in [1, 2, 5, 128, 3] {
            let mut filled = vec![0.0; many];
            together.fill(&mut filled);
            assert!(filled.iter().all(|value| *value == apart.triangular()), "{many}");
        }
        let mean = values.iter().sum::<f64>() / f64::from(n);
        let variance = values.iter().map(|v| v * v).sum::<f64>() / f64::from(n);
        assert!(mean.abs() < 0.003, "{mean}");
        assert!((variance - 1.0 / 6.0).abs() < 0.002, "{variance}");
        assert!(values.iter().all(|v| v.abs() <= 1.0));
        // White: no value tells of a later one, nor of the same of another stream.
        let product = |other: &[f64]| {
            let sum: f64 = values.iter().zip(other).map(|(a, b)| a * b).sum();
            sum / f64::from(n) / variance
        };
        let others: Vec<f64> = (0..n).map(|_| random.triangular()).collect();
        let mut second = Random::new(4);
        let streams: Vec<f64> = (0..n).map(|_| second.triangular()).collect();
        let later = (1..100).map(|lag| product(&values[lag..]));
        for found in later.chain([product(&others), product(&streams)]) {
            assert!(found.abs() < 0.01, "{found}");
        }
    }
}
