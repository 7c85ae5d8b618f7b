use super::*;
use crate::block::{Samples, collect};
use proptest::prelude::*;
use std::f64::consts::TAU;

fn convert(samples: Vec<f64>, from: u32, to: u32) -> Vec<f64> {
    let source = Samples::new(SampleRate::new(from).unwrap(), vec![samples]).in_blocks_of(1000);
    let mut resampler = Resampler::new(source, SampleRate::new(to).unwrap());
    collect(&mut resampler).unwrap().remove(0)
}

fn sine(hertz: f64, rate: u32, seconds: f64) -> Vec<f64> {
    let rate = f64::from(rate);
    let n = (rate * seconds).round() as usize;
    (0..n).map(|i| 0.5 * (TAU * hertz * i as f64 / rate).sin()).collect()
}

/// Amplitude, delay in frames and what is left (rms, in dB of the tone) of a sine fitted by least
/// squares to the middle of a clip.
fn fit_sine(samples: &[f64], hertz: f64, rate: u32) -> (f64, f64, f64) {
    let (start, end) = (samples.len() / 4, samples.len() * 3 / 4);
    let angle = |i: usize| TAU * hertz * i as f64 / f64::from(rate);
    let [mut ss, mut cc, mut sc, mut xs, mut xc] = [0.0; 5];
    for (i, x) in samples.iter().enumerate().take(end).skip(start) {
        let (s, c) = angle(i).sin_cos();
        ss += s * s;
        cc += c * c;
        sc += s * c;
        xs += x * s;
        xc += x * c;
    }
    let det = ss * cc - sc * sc;
    let (a, b) = ((xs * cc - xc * sc) / det, (xc * ss - xs * sc) / det);
    let rest: f64 = (start..end)
        .map(|i| {
            let (s, c) = angle(i).sin_cos();
            (samples[i] - a * s - b * c).powi(2)
        })
        .sum();
    let amplitude = a.hypot(b);
    let residue = (rest / (end - start) as f64).sqrt() / (amplitude / 2f64.sqrt());
    let delay = -b.atan2(a) / TAU / hertz * f64::from(rate);
    (amplitude, delay, 20.0 * residue.log10())
}

const PAIRS: &[(u32, u32)] = &[
    (44_100, 48_000),
    (48_000, 44_100),
    (44_100, 32_000),
    (48_000, 22_050),
    (44_100, 8_000),
    (22_050, 44_100),
    (44_100, 18_900),
    (48_000, 9_450),
    (44_100, 48_001),
    (48_001, 44_100),
    (96_000, 7_919),
    (7_919, 96_000),
    (1_000, 384_000),
    (384_000, 1_000),
    (383_999, 1_000),
];

#[test]
fn tones_in_the_passband_keep_level_place_and_purity() {
    for &(from, to) in PAIRS {
        for fraction in [0.02, 0.5, 0.9] {
            let hertz = fraction * f64::from(from.min(to)) / 2.0 - 0.37;
            let seconds = 2_000.0 / f64::from(from.min(to)).min(20_000.0) + 0.2;
            let out = convert(sine(hertz, from, seconds), from, to);
            let (amplitude, delay, residue) = fit_sine(&out, hertz, to);
            let gain = 20.0 * (amplitude / 0.5).log10();
            let what = format!(
                "{from} to {to} at {fraction}: gain {gain:.2e} dB, delay {delay:.2e}, rest {residue:.1} dB"
            );
            assert!(gain.abs() < 1e-5 && residue < -145.0, "{what}");
            // In frames of the lower rate, which is what 0.01 sample is meant of.
            assert!(delay.abs() * f64::from(from.min(to)) / f64::from(to) < 1e-4, "{what}");
        }
    }
}

#[test]
fn tones_beyond_the_band_are_gone() {
    for &(from, to) in PAIRS.iter().filter(|(from, to)| f64::from(*from) > 1.1 * f64::from(*to)) {
        for fraction in [1.012, 1.05] {
            let hertz = fraction * f64::from(to) / 2.0;
            let seconds = 2_000.0 / f64::from(to).min(20_000.0) + 0.2;
            let out = convert(sine(hertz, from, seconds), from, to);
            let middle = &out[out.len() / 4..out.len() * 3 / 4];
            let rms = (middle.iter().map(|s| s * s).sum::<f64>() / middle.len() as f64).sqrt();
            let level = 20.0 * (rms / (0.5 / 2f64.sqrt())).log10();
            assert!(level < -145.0, "{from} to {to} at {fraction}: {level:.1} dB");
        }
    }
}

#[test]
fn a_constant_stays_the_same_constant() {
    for &(from, to) in PAIRS {
        let n = 4000 * from.div_ceil(to) as usize;
        let out = convert(vec![0.25; n], from, to);
        let middle = &out[out.len() * 2 / 5..out.len() * 3 / 5];
        let worst = middle.iter().map(|s| (s - 0.25).abs()).fold(0.0, f64::max);
        assert!(worst < 1e-7, "{from} to {to}: {worst:e}");
        let mean = middle.iter().sum::<f64>() / middle.len() as f64;
        assert!((mean - 0.25).abs() < 1e-9, "{from} to {to}: {mean}");
    }
}

#[test]
fn silence_stays_digital_silence() {
    for &(from, to) in PAIRS {
        let n = 3000 * from.div_ceil(to) as usize;
        let clip = [vec![0.0; n], sine(100.0, from, n as f64 / f64::from(from)), vec![0.0; n]];
        let lengths = clip.each_ref().map(Vec::len);
        let out = convert(clip.concat(), from, to);
        let ratio = f64::from(to) / f64::from(from);
        let reach = 160.0 * ratio.max(1.0);
        let head = (lengths[0] as f64 * ratio - reach) as usize;
        let tail = ((lengths[0] + lengths[1]) as f64 * ratio + reach) as usize;
        assert!(out[..head].iter().all(|s| *s == 0.0), "{from} to {to}: head");
        assert!(out[tail..].iter().all(|s| *s == 0.0), "{from} to {to}: tail");
        assert!(out[head..tail].iter().any(|s| s.abs() > 0.1), "{from} to {to}: middle");
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]
    #[test]
    fn any_ratio_gives_the_right_length_and_stays_bounded(
        from in 1_000u32..=384_000, to in 1_000u32..=384_000, n in 0usize..5_000, step in 1usize..3_000,
    ) {
        let samples: Vec<f64> = (0..n).map(|i| if i % 7 < 3 { 0.5 } else { -0.5 }).collect();
        let source = Samples::new(SampleRate::new(from).unwrap(), vec![samples]).in_blocks_of(step);
        let mut resampler = Resampler::new(source, SampleRate::new(to).unwrap());
        let out = collect(&mut resampler).unwrap().remove(0);
        prop_assert_eq!(out.len() as u64, scaled(n as u64, to.into(), from.into()));
        prop_assert!(out.iter().all(|s| s.abs() < 2.0));
    }
}
