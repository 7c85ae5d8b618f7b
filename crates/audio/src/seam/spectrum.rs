//! How far the spectra of two short stretches lie apart.

use crate::block::Block;
use crate::num::{real_size, rounded, size};
use crate::units::SampleRate;
use rustfft::FftPlanner;
use rustfft::num_complex::Complex;
use std::f64::consts::TAU;

/// Bands, spaced evenly by pitch between these frequencies, in hertz.
const BANDS: usize = 12;
const LOWEST: f64 = 60.0;
const HIGHEST: f64 = 16_000.0;
/// How far below the louder stretch's loudest band sound still counts, as a ratio of powers: 40 dB.
const FLOOR: f64 = 1e-4;

/// The mean difference of their bands in dB, as a root of squares; `None` where either is too short.
pub fn apart(a: &Block, b: &Block, rate: SampleRate) -> Option<f64> {
    let [a, b] = [powers(a, rate)?, powers(b, rate)?];
    let loudest = a.iter().chain(&b).fold(1e-12, |most: f64, p| most.max(*p));
    let level = |power: f64| 10.0 * (power / loudest + FLOOR).log10();
    let squares = a.iter().zip(b).map(|(a, b)| (level(*a) - level(b)).powi(2));
    Some((squares.sum::<f64>() / real_size(BANDS)).sqrt())
}

/// The bin at which one of `bands` bands begins, or the last one ends, in a transform of `length` samples.
pub fn edge_bin(edge: usize, bands: usize, rate: f64, length: usize) -> usize {
    let highest = HIGHEST.min(0.45 * rate);
    let hertz = LOWEST * (highest / LOWEST).powf(real_size(edge) / real_size(bands));
    // Low bands are narrower than a bin: each has one of its own at least.
    size(rounded(hertz / rate * real_size(length))).max(edge + 1)
}

/// The power in each band, of all channels.
fn powers(block: &Block, rate: SampleRate) -> Option<[f64; BANDS]> {
    let frames = block.frames();
    if frames < 32 {
        return None;
    }
    let length = frames.next_power_of_two();
    let fft = FftPlanner::new().plan_fft_forward(length);
    let edge = |band: usize| edge_bin(band, BANDS, rate.real(), length);
    let mut powers = [0.0; BANDS];
    for channel in block.channels() {
        let hann = |n: usize| 1.0 - (TAU * (real_size(n) + 0.5) / real_size(frames)).cos();
        let mut bins: Vec<Complex<f64>> = channel
            .iter()
            .enumerate()
            .map(|(n, s)| Complex::new(s * hann(n) / real_size(frames), 0.0))
            .collect();
        bins.resize(length, Complex::default());
        fft.process(&mut bins);
        for (band, power) in powers.iter_mut().enumerate() {
            let range = edge(band)..edge(band + 1).min(length / 2);
            *power += bins[range].iter().map(|bin| bin.norm_sqr()).sum::<f64>();
        }
    }
    Some(powers)
}
