use super::*;
use crate::block::{Samples, collect};
use crate::shape::resample::Resampler;

const RATE: u32 = 48_000;

fn limit(samples: Vec<f64>, ceiling: f64) -> (Vec<f64>, Limited) {
    let report = Arc::new(Mutex::new(Limited::default()));
    let source = Samples::new(SampleRate::new(RATE).unwrap(), vec![samples]).in_blocks_of(777);
    let mut limiter = Limiter::new(source, ceiling, Arc::clone(&report));
    let out = collect(&mut limiter).unwrap().remove(0);
    let done = *report.lock().unwrap();
    (out, done)
}

/// The true peak in dB, by exact conversion to sixteen times the rate.
fn true_peak(samples: &[f64]) -> f64 {
    let source = Samples::new(SampleRate::new(RATE).unwrap(), vec![samples.to_vec()]);
    let mut up = Resampler::new(source, SampleRate::new(16 * RATE).unwrap());
    let all = collect(&mut up).unwrap().remove(0);
    decibels(all.iter().fold(0.0f64, |a, s| a.max(s.abs())))
}

fn tones(parts: &[(f64, f64)], seconds: f64) -> Vec<f64> {
    let rate = f64::from(RATE);
    (0..(rate * seconds) as usize)
        .map(|i| {
            parts.iter().map(|(hertz, level)| level * (TAU * hertz * i as f64 / rate).sin()).sum()
        })
        .collect()
}

#[test]
fn no_true_peak_passes_the_ceiling() {
    let mut impulses = vec![0.0; 24_000];
    for (i, at) in (500..23_500).step_by(977).enumerate() {
        impulses[at] = 1.0 + 0.3 * i as f64;
        impulses[at + 1] = -0.8;
    }
    let burst: Vec<f64> = tones(&[(7_001.0, 3.0)], 0.5)
        .into_iter()
        .enumerate()
        .map(|(i, s)| if (i / 2000) % 2 == 0 { s } else { s * 0.05 })
        .collect();
    for (name, clip) in [
        ("two tones", tones(&[(997.0, 0.9), (1_009.0, 0.9)], 1.0)),
        ("high tones", tones(&[(11_025.3, 1.4), (15_000.0, 0.7)], 0.5)),
        ("impulses", impulses),
        ("bursts", burst),
    ] {
        for ceiling in [0.0, -1.0] {
            let (out, done) = limit(clip.clone(), ceiling);
            let peak = true_peak(&out);
            assert_eq!(out.len(), clip.len(), "{name}");
            assert!(peak <= ceiling + 0.1, "{name}: {peak:.3} dBTP over {ceiling}");
            // It holds peaks, it does not crush them.
            assert!(peak > ceiling - 0.8, "{name}: {peak:.3} dBTP under {ceiling}");
            assert!(done.most > 3.0 && done.frames > 0, "{name}: {done:?}");
        }
    }
}

#[test]
fn what_stays_below_is_not_touched() {
    let clip = tones(&[(440.0, 0.9)], 0.3);
    let (out, done) = limit(clip.clone(), 0.0);
    assert!(out.iter().zip(&clip).all(|(a, b)| (a - b).abs() < 1e-12));
    assert_eq!((done.most < 1e-9, done.frames), (true, 0));
    for n in [0, 1, 5, 100] {
        assert_eq!(limit(vec![0.5; n], 0.0).0.len(), n);
    }
}

/// The gain moves smoothly: a limited tone has no clicks, only its own frequency slightly widened.
#[test]
fn the_gain_never_steps() {
    let clip: Vec<f64> = tones(&[(1_000.0, 1.0)], 1.0)
        .into_iter()
        .enumerate()
        .map(|(i, s)| if i > 20_000 { s * 2.0 } else { s * 0.5 })
        .collect();
    let (out, _) = limit(clip.clone(), 0.0);
    let gains: Vec<f64> =
        out.iter().zip(&clip).filter(|(_, c)| c.abs() > 0.1).map(|(o, c)| o / c).collect();
    let step = gains.windows(2).map(|w| (w[1] - w[0]).abs()).fold(0.0, f64::max);
    assert!(step < 0.06, "{step}");
}

/// What no gain of a stretch explains, by least squares from what went in and what came out.
#[test]
fn its_distortion_is_what_no_steady_gain_explains() {
    let steady = tones(&[(997.0, 2.0)], 1.0);
    let beating = tones(&[(997.0, 0.9), (1_040.0, 0.9)], 1.0);
    for (name, clip, most) in [("steady", steady, 0.002), ("beating", beating, 1.0)] {
        let (out, done) = limit(clip.clone(), 0.0);
        let stretch = (RIDE * f64::from(RATE)) as usize;
        let (mut left, mut all) = (0.0, 0.0);
        for (a, b) in clip.chunks(stretch).zip(out.chunks(stretch)) {
            let product: f64 = a.iter().zip(b).map(|(a, b)| a * b).sum();
            let gain = product / a.iter().map(|a| a * a).sum::<f64>();
            left += a.iter().zip(b).map(|(a, b)| (b - gain * a).powi(2)).sum::<f64>();
            all += b.iter().map(|b| b * b).sum::<f64>();
        }
        let want = (left / all).sqrt();
        let off = (done.distortion - want).abs();
        assert!(off < 0.1 * want + 0.001, "{name}: {} beside {want}", done.distortion);
        assert!(done.distortion < most && (most < 1.0 || want > 0.01), "{name}: {want}");
    }
}
