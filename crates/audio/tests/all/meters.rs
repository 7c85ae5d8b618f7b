//! Loudness and true peak beside a checked port of the reference implementation of BS.1770.

use deft_needle_audio::block::Samples;
use deft_needle_audio::measure::{Ask, Measure, survey_source};
use deft_needle_audio::observe::Unobserved;
use deft_needle_audio::spec::Kind;
use deft_needle_audio::units::SampleRate;
use ebur128::{EbuR128, Mode};
use proptest::prelude::*;

/// Noise and tones that rise and fall, so that gates have something to shut out.
fn sound(seed: u64, channels: usize, frames: usize) -> Vec<Vec<f64>> {
    let mut state = seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) | 1;
    let mut noise = move || {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        (state >> 11) as f64 / (1u64 << 52) as f64 - 1.0
    };
    (0..channels)
        .map(|channel| {
            (0..frames)
                .map(|at| {
                    let slow = at as f64 / 31_000.0 + channel as f64;
                    let level = 10f64.powf(-2.5 * slow.sin().powi(2));
                    let tone = (at as f64 * (0.11 + 0.37 * channel as f64)).sin();
                    level * (0.6 * tone + 0.3 * noise())
                })
                .collect()
        })
        .collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(20))]
    #[test]
    fn they_agree_with_the_reference(
        seed in any::<u64>(),
        channels in 1usize..=8,
        rate in prop::sample::select(vec![8_000u32, 22_050, 44_100, 48_000, 96_000, 192_000]),
        tenths in 1usize..120,
        extra in 0usize..500,
    ) {
        let frames = tenths * rate as usize / 10 + extra;
        let planes = sound(seed, channels, frames);
        let mut reference = EbuR128::new(channels as u32, rate, Mode::I | Mode::TRUE_PEAK).unwrap();
        let mut moments = Vec::new();
        let step = (rate as usize + 5) / 10;
        for from in (0..frames).step_by(step) {
            let end = (from + step).min(frames);
            let part: Vec<&[f64]> = planes.iter().map(|plane| &plane[from..end]).collect();
            reference.add_frames_planar_f64(&part).unwrap();
            if end - from == step && end >= 4 * step {
                moments.push(reference.loudness_momentary().unwrap());
            }
        }
        let peak = (0..channels as u32).map(|c| reference.true_peak(c).unwrap()).fold(0.0, f64::max);
        let mut source = Samples::new(SampleRate::new(rate).unwrap(), planes);
        let found = survey_source(&mut source, Kind::Float(32), Ask::ALL, &Unobserved).unwrap();
        prop_assert!((found.true_peak_dbtp - 20.0 * peak.log10()).abs() < 0.02);
        let want = match found.loudness.measure {
            Measure::Integrated => reference.loudness_global().unwrap(),
            Measure::Momentary => moments.into_iter().fold(f64::NEG_INFINITY, f64::max),
            _ => return Ok(()),
        };
        prop_assert!((found.loudness.lufs - want).abs() < 0.01, "{} {want}", found.loudness.lufs);
    }
}
