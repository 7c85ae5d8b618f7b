//! Second-order filters (R. Bristow-Johnson, "Cookbook formulae for audio EQ biquad filter
//! coefficients", W3C note, 2021).

use std::f64::consts::TAU;

/// Below this, far below what any format holds, there is nothing.
const NOTHING: f64 = 1e-30;

/// Filters lie below this share of the rate: nearer to its half, they would have another form.
pub const HIGHEST: f64 = 0.46;

/// What a filter does.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Response {
    /// Lets through what lies above.
    HighPass,
    /// Lets through what lies below.
    LowPass,
    /// Raises, or lowers, what lies around, in dB.
    Peak(f64),
}

/// One filter, not yet bound to a rate.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Band {
    /// What it does.
    pub response: Response,
    /// Where, in hertz.
    pub hertz: f64,
    /// How narrow: 0.707 is flat.
    pub q: f64,
}

/// A filter at a rate, with its memory.
#[derive(Debug, Clone)]
pub struct Biquad {
    b: [f64; 3],
    a: [f64; 2],
    x: [f64; 2],
    y: [f64; 2],
}

impl Band {
    /// The filter at a rate; `None` where it lies beyond what the rate can hold.
    pub fn at(self, rate: f64) -> Option<Biquad> {
        if self.hertz >= HIGHEST * rate {
            return None;
        }
        let (sin, cos) = (TAU * self.hertz / rate).sin_cos();
        let alpha = sin / (2.0 * self.q);
        let (b, a0, a) = match self.response {
            Response::LowPass => {
                let half = (1.0 - cos) / 2.0;
                ([half, 1.0 - cos, half], 1.0 + alpha, [-2.0 * cos, 1.0 - alpha])
            }
            Response::HighPass => {
                let half = (1.0 + cos) / 2.0;
                ([half, -1.0 - cos, half], 1.0 + alpha, [-2.0 * cos, 1.0 - alpha])
            }
            Response::Peak(db) => {
                let gain = 10f64.powf(db / 40.0);
                (
                    [1.0 + alpha * gain, -2.0 * cos, 1.0 - alpha * gain],
                    1.0 + alpha / gain,
                    [-2.0 * cos, 1.0 - alpha / gain],
                )
            }
        };
        Some(Biquad {
            b: b.map(|value| value / a0),
            a: a.map(|value| value / a0),
            x: [0.0; 2],
            y: [0.0; 2],
        })
    }
}

impl Biquad {
    /// Filters one sample.
    pub fn next(&mut self, input: f64) -> f64 {
        let past = self.b[1] * self.x[0] + self.b[2] * self.x[1];
        let output = self.b[0] * input + past - self.a[0] * self.y[0] - self.a[1] * self.y[1];
        // What dies away would never reach 0: it would stay among the numbers that are too small to be normal, with which
        // processors are a hundred times slower.
        let output = if output.abs() < NOTHING { 0.0 } else { output };
        self.x = [input, self.x[0]];
        self.y = [output, self.y[0]];
        output
    }

    /// The gain at a frequency, given as a fraction of the rate.
    pub fn gain(&self, fraction: f64) -> f64 {
        let (s1, c1) = (TAU * fraction).sin_cos();
        let (s2, c2) = (2.0 * TAU * fraction).sin_cos();
        let top =
            (self.b[0] + self.b[1] * c1 + self.b[2] * c2).hypot(self.b[1] * s1 + self.b[2] * s2);
        let low = (1.0 + self.a[0] * c1 + self.a[1] * c2).hypot(self.a[0] * s1 + self.a[1] * s2);
        top / low
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_dies_away_ends() {
        for response in [Response::HighPass, Response::LowPass, Response::Peak(6.0)] {
            let mut filter = Band { response, hertz: 300.0, q: 4.0 }.at(44_100.0).unwrap();
            let mut left = filter.next(1.0);
            for _ in 0..200_000 {
                left = filter.next(0.0);
                assert!(left == 0.0 || left.is_normal(), "{response:?}: {left:e}");
            }
            assert_eq!(left, 0.0, "{response:?}");
        }
    }
}
