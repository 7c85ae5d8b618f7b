//! What a signal does next, by linear prediction.

use crate::num::real_size;

/// A predictor of the next sample out of the last ones (J. P. Burg, "Maximum entropy spectral
/// analysis", 1975).
#[derive(Debug, Clone)]
pub struct Predictor {
    /// The weight of the last sample, of the one before, and so on.
    weights: Vec<f64>,
}

impl Predictor {
    /// Fits a predictor of an order to a signal that is longer than that.
    pub fn burg(signal: &[f64], order: usize) -> Self {
        let mut forward = signal.to_vec();
        let mut backward = signal.to_vec();
        let mut weights: Vec<f64> = Vec::new();
        for m in 0..order.min(signal.len().saturating_sub(2)) {
            let (mut cross, mut energy) = (0.0, 0.0);
            for n in m + 1..signal.len() {
                cross += forward[n] * backward[n - 1];
                energy += forward[n].powi(2) + backward[n - 1].powi(2);
            }
            if energy < 1e-24 {
                break;
            }
            let reflection = 2.0 * cross / energy;
            for n in (m + 1..signal.len()).rev() {
                let (f, b) = (forward[n], backward[n - 1]);
                forward[n] = f - reflection * b;
                backward[n] = b - reflection * f;
            }
            let mirrored: Vec<f64> = weights.iter().rev().copied().collect();
            for (weight, other) in weights.iter_mut().zip(mirrored) {
                *weight -= reflection * other;
            }
            weights.push(reflection);
        }
        Self { weights }
    }

    /// By how much each sample differs from what was to be expected; the first ones, which too few
    /// come before, are left out.
    pub fn surprises(&self, signal: &[f64]) -> Vec<f64> {
        let order = self.weights.len();
        (order..signal.len())
            .map(|n| {
                let past = signal[n - order..n].iter().rev();
                let expected: f64 = past.zip(&self.weights).map(|(s, w)| s * w).sum();
                signal[n] - expected
            })
            .collect()
    }

    /// How many samples it looks back.
    pub fn order(&self) -> usize {
        self.weights.len()
    }
}

/// The mean energy of each stretch of this many samples.
pub fn energies(samples: &[f64], stretch: usize) -> Vec<f64> {
    let stretch = stretch.max(1);
    samples
        .chunks(stretch)
        .map(|part| part.iter().map(|s| s * s).sum::<f64>() / real_size(part.len()))
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_sum_of_sines_is_no_surprise() {
        let signal: Vec<f64> = (0..2000)
            .map(|n| (0.05 * f64::from(n)).sin() + 0.4 * (0.31 * f64::from(n) + 1.0).sin())
            .collect();
        let predictor = Predictor::burg(&signal, 16);
        let left = energies(&predictor.surprises(&signal), 2000)[0];
        assert!(left < 1e-6, "{left}");
        let mut stepped = signal.clone();
        stepped[1000..].iter_mut().for_each(|s| *s += 0.2);
        let after = predictor.surprises(&stepped)[1000 - predictor.order()];
        assert!((after - 0.2).abs() < 0.01, "{after}");
    }
}
