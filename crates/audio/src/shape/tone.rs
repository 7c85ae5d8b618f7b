//! Low and high frequencies taken away: Butterworth filters of the fourth order, 24 dB an octave.

use super::biquad::{Band, Biquad, Response};
use super::blocks::BlockStep;
use crate::block::Block;
use crate::units::SampleRate;

/// How narrow the two halves of a Butterworth filter of the fourth order are: 1 / (2 cos(π/8)) and
/// 1 / (2 cos(3π/8)).
const HALVES: [f64; 2] = [0.541_196_100_146_197, 1.306_562_964_876_376_5];

/// Takes them away.
pub struct ToneCut {
    bands: Vec<Band>,
    channels: Vec<Vec<Biquad>>,
}

impl ToneCut {
    /// What lies below `low` and above `high`, in hertz: 3 dB less there, and ever less beyond.
    pub fn new(low: Option<f64>, high: Option<f64>) -> Self {
        let sides = [(Response::HighPass, low), (Response::LowPass, high)];
        let both = |(response, hertz): (Response, Option<f64>)| {
            let half = move |q: f64| Some(Band { response, hertz: hertz?, q });
            HALVES.into_iter().filter_map(half)
        };
        Self { bands: sides.into_iter().flat_map(both).collect(), channels: Vec::new() }
    }
}

impl BlockStep for ToneCut {
    /// What lies beyond what the rate can hold is left out: nothing is there.
    fn begin(&mut self, rate: SampleRate, channels: usize) {
        let bound: Vec<_> = self.bands.iter().filter_map(|band| band.at(rate.real())).collect();
        self.channels = vec![bound; channels];
    }

    fn work(&mut self, block: &mut Block) {
        for (samples, filters) in block.channels_mut().iter_mut().zip(&mut self.channels) {
            for sample in samples {
                *sample = filters.iter_mut().fold(*sample, |s, filter| filter.next(s));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::block::{Samples, collect};
    use std::f64::consts::{PI, TAU};

    /// The gain of the analogue filter of this order at a frequency, bent as the bilinear transform bends it.
    fn butterworth(hertz: f64, at: f64, rate: f64) -> f64 {
        let bent = |hertz: f64| (PI * hertz / rate).tan();
        let ratio = (bent(hertz) / bent(at)).powi(8);
        1.0 / (1.0 + ratio).sqrt()
    }

    #[test]
    fn both_sides_fall_as_a_butterworth_filter_does() {
        let rate = 48_000.0;
        for hertz in [40.0, 80.0, 120.0, 1_000.0, 6_000.0, 7_500.0, 12_000.0] {
            let tone = (0..96_000).map(|i| (TAU * hertz * f64::from(i) / rate).sin());
            let source = Samples::new(SampleRate::new(48_000).unwrap(), vec![tone.collect()]);
            let cut = ToneCut::new(Some(80.0), Some(7_500.0));
            let out = collect(&mut cut.on(source)).unwrap().remove(0);
            let power = out[48_000..].iter().map(|s| s * s).sum::<f64>() / 48_000.0;
            let high_pass = butterworth(80.0, hertz, rate);
            let want = high_pass * butterworth(hertz, 7_500.0, rate);
            let error = 10.0 * (2.0 * power).log10() - 20.0 * want.log10();
            assert!(error.abs() < 0.01, "{hertz} Hz: {error:.3} dB off");
        }
    }
}
