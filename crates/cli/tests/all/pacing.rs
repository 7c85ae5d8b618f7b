//! Clips played backwards, and stretched without another pitch.

use crate::bench::floats::{Floats as Bench, RATE, as_floats, noise, silence, tone};

fn backwards(samples: &[f64]) -> Vec<f64> {
    samples.iter().rev().copied().collect()
}

#[test]
fn backwards_is_the_other_way_round_in_the_clips_own_times() {
    let bench = Bench::new();
    let channels = [noise(0.2, 1.3, 1), tone(500.0, 0.2, 1.3)];
    bench.clip(&channels);
    for (options, from, to) in [
        (&[][..], 0, 62_400),
        (&["--cut", "0.25s..1s", "--edge-fade", "none"][..], 12_000, 48_000),
        (&["--cut", "-0.25s..", "--edge-fade", "none"], 50_400, 62_400),
    ] {
        let out = bench.fit(&[&["--reverse"], options].concat());
        for (out, own) in out.iter().zip(&channels) {
            assert!(*out == as_floats(&backwards(&own[from..to])), "{options:?}");
        }
    }
    // Loops are named in the clip's own time, and lie where their sound lies.
    let set = ["--reverse", "--loop", "0.25s..1s", "--tail", "keep"];
    bench.fit(&set);
    let looped = bench.facts("out.wav")["loops"][0].clone();
    assert_eq!((looped["start"].as_u64(), looped["end"].as_u64()), (Some(14_400), Some(50_400)));
    let said =
        bench.run(&[&["fit", "clip.wav", "-o", "no.wav", "--dry-run", "-v"], &set[..]].concat());
    let said = String::from_utf8_lossy(&said.stdout).into_owned();
    for line in ["backwards, from the end to the start", "from 0.250 s to 1.000 s"] {
        assert!(said.contains(line), "{said}");
    }
    // Twice around is the clip, loop and all.
    std::fs::rename(bench.path("out.wav"), bench.path("clip.wav")).unwrap();
    let out = bench.fit(&["--reverse"]);
    assert!(out[0] == as_floats(&channels[0]));
    let looped = bench.facts("out.wav")["loops"][0].clone();
    assert_eq!((looped["start"].as_u64(), looped["end"].as_u64()), (Some(12_000), Some(48_000)));

    // A piece is the one that inspect numbers so; ends are those that are heard.
    let (a, b) = (tone(1_000.0, 0.5, 0.5), tone(700.0, 0.25, 0.4));
    bench.clip(&[[silence(0.3), a.clone(), silence(0.5), b, silence(0.6)].concat()]);
    let first = bench.fit(&["--reverse", "--piece", "1", "--edge-fade", "none"]);
    assert_eq!(first[0].len(), a.len());
    assert!(first[0].iter().zip(backwards(&a)).all(|(x, y)| (x - y).abs() < 1e-6));
    let trimmed =
        bench.fit(&["--reverse", "--trim-silence", "--trim-ends", "head", "--breath", "0ms,0ms"]);
    assert_eq!(trimmed[0].len(), (48_000.0 * 1.7) as usize);
    assert!(bench.refused(&["--reverse", "--cut", "2s..3s"], 4).contains("2s..3s lies outside"));
}

/// Hertz of the strongest partial in the middle of a sound, by its zero crossings.
fn pitch(samples: &[f64]) -> f64 {
    let middle = &samples[samples.len() / 4..samples.len() * 3 / 4];
    let ups: Vec<f64> = middle
        .windows(2)
        .enumerate()
        .filter(|(_, pair)| pair[0] < 0.0 && pair[1] >= 0.0)
        .map(|(i, pair)| i as f64 - pair[0] / (pair[1] - pair[0]))
        .collect();
    let periods = (ups.len() - 1) as f64;
    periods * f64::from(RATE) / (ups[ups.len() - 1] - ups[0])
}

#[test]
fn a_stretched_sound_keeps_its_pitch_its_level_and_both_its_ends() {
    let bench = Bench::new();
    let clip = [tone(440.0, 0.5, 2.0), tone(440.0, -0.25, 2.0)];
    bench.clip(&clip);
    for (option, value, frames) in [
        ("--stretch", "1.25", 120_000),
        ("--stretch", "0.6", 57_600),
        ("--stretch", "3/1", 288_000),
        ("--stretch", "1", 96_000),
        ("--fit-length", "2.5s", 120_000),
        ("--fit-length", "1.2345s", 59_256),
    ] {
        let out = bench.fit(&[option, value]);
        assert_eq!(out[0].len(), frames, "{option} {value}");
        assert!((pitch(&out[0]) / 440.0 - 1.0).abs() < 5e-4, "{value}: {} Hz", pitch(&out[0]));
        let power = out[0].iter().map(|s| s * s).sum::<f64>() / frames as f64;
        assert!((10.0 * (power / 0.125).log10()).abs() < 0.1, "{value}");
        // What both channels share stays together.
        assert!(out[0].iter().zip(&out[1]).all(|(a, b)| (a + 2.0 * b).abs() < 1e-6), "{value}");
        assert_eq!(out[0][..960], as_floats(&clip[0][..960]), "{value}: how it begins");
        let last = |samples: &[f64]| samples[samples.len() - 8..].to_vec();
        let near = last(&out[0]).iter().zip(last(&clip[0])).all(|(a, b)| (a - b).abs() < 0.02);
        assert!(near, "{value}: how it ends");
    }
    // Beats come as much later as the whole is longer.
    let beat = [tone(900.0, 0.8, 0.05), silence(0.45)].concat();
    bench.clip(&[beat.repeat(6)]);
    let out = bench.fit(&["--stretch", "1.2"]);
    for number in 0..6 {
        let at = (48_000.0 * 0.6 * f64::from(number)) as usize;
        let first = (at.saturating_sub(9_600)..out[0].len()).find(|i| out[0][*i].abs() > 0.05);
        let first = if number == 0 { 0 } else { first.unwrap() };
        assert!(first.abs_diff(at) < 1_200, "beat {number}: {first} for {at}");
    }
    // Silence that is added counts, and so does the speed, whatever the rate.
    bench.clip(&[tone(440.0, 0.5, 2.0)]);
    for extra in [&["--pad", "0.1s,0.4s"][..], &["--speed", "1.5"], &[]] {
        bench.fit(&[&["--fit-length", "2.5s", "--spec", "wav f32 44100 mono"], extra].concat());
        assert_eq!(bench.facts("out.wav")["frames"], 110_250, "{extra:?}");
    }
}

#[test]
fn what_cannot_be_stretched_is_refused_with_a_way_out() {
    let bench = Bench::new();
    bench.clip(&[tone(440.0, 0.5, 2.0)]);
    for (options, code, words) in [
        (&["--stretch", "5"][..], 2, "0.25 to 4"),
        (&["--fit-length", "9s"], 4, "ask for 0.500 s to 8.000 s"),
        (&["--fit-length", "0.3s"], 4, "0.15 times as long"),
        (&["--fit-length", "1s", "--pad", "0.5s"], 4, "0.00 times as long"),
        (&["--stretch", "1.1", "--fit-length", "2.2s"], 4, "leave one of them out"),
        (&["--stretch", "1.1", "--loop", "all"], 4, "--loop none"),
        (&["--stretch", "1.1", "--cut", "seam"], 4, "does not stay exact"),
        (&["--fit-length", "3s", "--longest", "2.5s"], 4, "2.500 s is the longest"),
        (&["--stretch", "1.5", "--longest", "2.5s"], 4, "would last 3.000 s"),
    ] {
        let said = bench.refused(options, code);
        assert!(said.contains(words), "{options:?}: {said}");
    }
    let out = bench.fit(&["--stretch", "1.5", "--longest", "2.5s", "--too-long", "cut"]);
    assert_eq!(out[0].len(), 120_000);
    // A loop that came along goes, and that is said.
    bench.fit(&["--loop", "0.5s..1s", "--tail", "keep"]);
    std::fs::rename(bench.path("out.wav"), bench.path("clip.wav")).unwrap();
    let said = bench.run(&["fit", "clip.wav", "-o", "no.wav", "--stretch", "1.1", "--dry-run"]);
    let said = String::from_utf8_lossy(&said.stdout).into_owned();
    assert!(said.contains("a loop does not stay exact through time-stretching"), "{said}");
    assert_eq!(bench.fit(&["--stretch", "1.1"])[0].len(), 105_600);
    assert_eq!(bench.facts("out.wav")["loops"], serde_json::json!([]));
}

/// What has nothing to stretch or to take away is left as it is, however short.
#[test]
fn the_shortest_clips_are_no_fault() {
    let bench = Bench::new();
    for frames in [0, 1, 7, 900] {
        bench.clip(&[tone(440.0, 0.5, f64::from(frames) / 48_000.0)]);
        assert_eq!(bench.fit(&["--reverse"])[0].len(), frames as usize);
        assert_eq!(bench.fit(&["--stretch", "2"])[0].len(), 2 * frames as usize);
        assert_eq!(bench.fit(&["--low-cut", "80", "--high-cut", "5kHz"])[0].len(), frames as usize);
    }
    // Beyond what the rate holds nothing is taken away, and nothing said.
    bench.clip(&[tone(440.0, 0.5, 0.1)]);
    let said = bench.run(&["fit", "clip.wav", "-o", "no.wav", "--high-cut", "23kHz", "--dry-run"]);
    let said = String::from_utf8_lossy(&said.stdout).into_owned();
    assert!(!said.contains("are cut"), "{said}");
}
