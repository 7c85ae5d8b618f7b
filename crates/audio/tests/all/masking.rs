//! The model of the ear beside the formulas of BS.1387-1 worked out the long way.

use deft_needle_audio::masking::Ear;
use std::f64::consts::{PI, TAU};

const RATE: f64 = 48_000.0;
const LENGTH: usize = 1024;

/// The excitation of one frame, band by band, in double precision, every pair of bands by itself; over what is
/// masked, as the power of white noise.
fn slowly(samples: &[f32]) -> Vec<f64> {
    let bark = |hertz: f64| 7.0 * (hertz / 650.0).asinh();
    let hertz = |bark: f64| 650.0 * (bark / 7.0).sinh();
    let window: Vec<f64> = (0..LENGTH)
        .map(|n| (8f64 / 3.0).sqrt() * 0.5 * (1.0 - (TAU * n as f64 / (LENGTH - 1) as f64).cos()))
        .collect();
    let scale = 10f64.powf(92.0 / 20.0) / (window.iter().sum::<f64>() / 2.0);
    let step = RATE / LENGTH as f64;
    let weight = |line: usize| {
        let k = (line as f64 * step / 1000.0).max(1e-9);
        let db = -0.6 * 3.64 * k.powf(-0.8) + 6.5 * (-0.6 * (k - 3.3).powi(2)).exp()
            - 1e-3 * k.powf(3.6);
        10f64.powf(db.max(-200.0) / 10.0)
    };
    let power: Vec<f64> = (0..=LENGTH / 2)
        .map(|line| {
            let (mut re, mut im) = (0.0, 0.0);
            for (n, sample) in samples.iter().enumerate() {
                let (sin, cos) = (TAU * (line * n % LENGTH) as f64 / LENGTH as f64).sin_cos();
                let value = f64::from(*sample) * window[n] * scale;
                re += value * cos;
                im -= value * sin;
            }
            (re * re + im * im) * weight(line)
        })
        .collect();
    let energy: f64 = window.iter().map(|w| (w * scale).powi(2)).sum();
    let low = bark(80.0);
    let top = bark(18_000.0);
    let edges: Vec<(f64, f64)> = (0..109)
        .map(|b| (low + 0.25 * f64::from(b), (low + 0.25 * f64::from(b + 1)).min(top)))
        .collect();
    let share = |line: usize, (a, b): (f64, f64)| {
        let middle = line as f64 * step;
        let over = hertz(b).min(middle + step / 2.0) - hertz(a).max(middle - step / 2.0);
        over.max(0.0) / step
    };
    let centre = |(a, b): (f64, f64)| hertz((a + b) / 2.0);
    let pitch: Vec<f64> = edges
        .iter()
        .map(|e| {
            let heard: f64 = (0..power.len()).map(|line| share(line, *e) * power[line]).sum();
            heard + 10f64.powf(0.4 * 0.364 * (centre(*e) / 1000.0).powf(-0.8))
        })
        .collect();
    let spread = |pitch: &[f64], loud: bool| -> Vec<f64> {
        let bands = edges.len();
        let mut sums = vec![0.0; bands];
        for (from, power) in pitch.iter().enumerate() {
            let level = if loud { 10.0 * power.log10() } else { 0.0 };
            let up = -24.0 - 230.0 / centre(edges[from]) + 0.2 * level;
            let part = |to: usize| {
                let apart = 0.25 * (to as f64 - from as f64);
                10f64.powf(if apart < 0.0 { 27.0 * apart } else { up * apart } / 10.0)
            };
            let all: f64 = (0..bands).map(part).sum();
            for (to, sum) in sums.iter_mut().enumerate() {
                *sum += (part(to) / all * power).powf(0.4);
            }
        }
        sums.iter().map(|sum| sum.powf(2.5)).collect()
    };
    let norm = spread(&vec![1.0; edges.len()], false);
    let excited = spread(&pitch, true);
    (0..edges.len())
        .map(|band| {
            let at = 0.25 * band as f64;
            let offset = 10f64.powf(if at <= 12.0 { 3.0 } else { 0.25 * at } / 10.0);
            let heard: f64 =
                (0..power.len()).map(|line| share(line, edges[band]) * weight(line)).sum();
            // The first frame: what is smeared is below what is there.
            excited[band] / norm[band] / (offset * energy * heard)
        })
        .collect()
}

#[test]
fn masks_are_those_of_the_standard() {
    let sine = |hertz: f64, level: f64| -> Vec<f32> {
        (0..LENGTH).map(|n| (level * (2.0 * PI * hertz * n as f64 / RATE).sin()) as f32).collect()
    };
    let mut state = 9u32;
    let noise: Vec<f32> = (0..LENGTH)
        .map(|_| {
            state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            0.1 * (state as f32 / u32::MAX as f32 - 0.5)
        })
        .collect();
    let mut ear = Ear::new(RATE, LENGTH, 576);
    for (name, samples) in [
        ("a tone", sine(1_000.0, 0.5)),
        ("a soft tone", sine(440.0, 0.001)),
        ("a high tone", sine(9_000.0, 0.9)),
        ("noise", noise),
        ("silence", vec![0.0; LENGTH]),
    ] {
        let mut memory = vec![0.0; ear.bands()];
        let mut masks = vec![0.0; ear.bands()];
        ear.masks(&samples, &mut memory, &mut masks);
        for (band, (found, wanted)) in masks.iter().zip(slowly(&samples)).enumerate() {
            let apart = 10.0 * (f64::from(*found) / wanted).log10();
            assert!(apart.abs() < 0.35, "{name}, band {band}: {apart:.2} dB");
        }
    }
    // What was heard is not forgotten at once, the lower the longer.
    let (mut memory, mut masks) = (vec![0.0; ear.bands()], vec![0.0; ear.bands()]);
    (0..40).for_each(|_| ear.masks(&sine(1_000.0, 0.5), &mut memory, &mut masks));
    let loud = masks.clone();
    ear.masks(&vec![0.0; LENGTH], &mut memory, &mut masks);
    let left = |band: usize| 10.0 * (masks[band] / loud[band]).log10();
    let at = (0..ear.bands()).find(|band| ear.edges(*band).1 > 1_000.0).unwrap();
    // A hop of 12 ms at a time constant of 10.2 ms.
    assert!((left(at) + 5.1).abs() < 0.3, "{}", left(at));
}
