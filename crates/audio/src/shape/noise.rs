//! Random numbers and the spectrum of quantisation noise.

use crate::num::{real_signed, real_size};
use crate::units::SampleRate;
use std::f64::consts::PI;

/// A small generator of uniform random numbers, seeded, so that runs are alike: xorshift64* (S. Vigna, "An
/// experimental exploration of Marsaglia's xorshift generators, scrambled", 2016, table III).
#[derive(Debug, Clone)]
pub struct Random(u64);

impl Random {
    /// The `stream`th of many independent generators.
    pub fn new(stream: usize) -> Self {
        // Any state but 0, which no channel has.
        Self(crate::num::count(stream).wrapping_mul(0xD1B5_4A32_D192_ED03) ^ 0x5DEE_CE66_D1CE_4E5B)
    }

    fn bits(&mut self) -> u64 {
        self.0 ^= self.0 >> 12;
        self.0 ^= self.0 << 25;
        self.0 ^= self.0 >> 27;
        self.0.wrapping_mul(0x2545_F491_4F6C_DD1D)
    }

    /// Triangular between −1 and 1: the sum of two uniform numbers.
    pub fn triangular(&mut self) -> f64 {
        let bits = self.bits();
        let half = |bits: u64| i64::from(i32::from_le_bytes(low_word(bits)));
        real_signed(half(bits) + half(bits >> 32)) / 4_294_967_296.0
    }
}

fn low_word(bits: u64) -> [u8; 4] {
    let [a, b, c, d, ..] = bits.to_le_bytes();
    [a, b, c, d]
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
