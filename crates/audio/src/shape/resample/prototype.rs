//! The low-pass filter of every conversion: a sinc in a Kaiser window, and its spectrum.

use crate::num::{real_size, rounded, size};
use realfft::RealFftPlanner;
use std::f64::consts::PI;

/// Where the passband ends and the stop-band begins, as fractions of the lower Nyquist frequency.
/// What lies between 1 and 1.01 folds back between 0.99 and 1, where nobody hears it.
const PASS: f64 = 0.938;
const STOP: f64 = 1.01;
/// How far the stop-band lies below the passband, in dB.
const ATTENUATION: f64 = 154.0;
/// Bins up to here carry something: beyond, all is below the stop-band's level.
pub const LAST: f64 = STOP;

/// A Kaiser window's shape for an attenuation in dB (Kaiser 1974; Oppenheim, Schafer,
/// "Discrete-Time Signal Processing", 7.5.3).
pub fn kaiser_beta(attenuation: f64) -> f64 {
    0.1102 * (attenuation - 8.7)
}

/// How many samples such a filter needs for a transition of `width`, a fraction of Nyquist.
pub fn kaiser_length(attenuation: f64, width: f64) -> f64 {
    (attenuation - 7.95) / (2.285 * PI * width)
}

/// The modified Bessel function of the first kind and order 0, by its series.
pub fn bessel_i0(x: f64) -> f64 {
    let (mut sum, mut term, mut k) = (1.0, 1.0, 1.0);
    while term > sum * 1e-18 {
        term *= (x / (2.0 * k)) * (x / (2.0 * k));
        sum += term;
        k += 1.0;
    }
    sum
}

/// The Kaiser window at `x` from −1 to 1, 0 outside.
pub fn kaiser(x: f64, beta: f64) -> f64 {
    let inside = 1.0 - x * x;
    if inside < 0.0 {
        return 0.0;
    }
    bessel_i0(beta * inside.sqrt()) / bessel_i0(beta)
}

/// `sin(πx)/(πx)`.
pub fn sinc(x: f64) -> f64 {
    if x.abs() < 1e-9 {
        return 1.0;
    }
    (PI * x).sin() / (PI * x)
}

/// Half the filter's length, in samples of the lower rate.
pub fn half_length() -> f64 {
    kaiser_length(ATTENUATION, STOP - PASS) / 2.0
}

/// The filter's gain at bins 0, 1, … of a transform that lasts `period` samples of the lower rate,
/// up to [`LAST`]. The gain at 0 is exactly 1.
pub fn spectrum(period: f64) -> Vec<f64> {
    let points = size(rounded(4.0 * period)).next_power_of_two();
    let step = period / real_size(points);
    let (half, beta, cut) = (half_length(), kaiser_beta(ATTENUATION), (PASS + STOP) / 2.0);
    let mut taps = vec![0.0; points];
    for (index, tap) in taps.iter_mut().enumerate() {
        let time = step * real_size(index.min(points - index));
        if time <= half {
            *tap = cut * sinc(cut * time) * kaiser(time / half, beta);
        }
    }
    let fft = RealFftPlanner::<f64>::new().plan_fft_forward(points);
    let mut bins = fft.make_output_vec();
    if fft.process(&mut taps, &mut bins).is_err() {
        return Vec::new();
    }
    let last = size(rounded((LAST * period / 2.0).floor()));
    let scale = 1.0 / bins[0].re;
    bins[..=last.min(points / 2)].iter().map(|bin| bin.re * scale).collect()
}
