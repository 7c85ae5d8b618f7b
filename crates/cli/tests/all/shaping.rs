//! Shaping options on real files, with answers that are known beforehand.

use crate::bench::floats::{Floats as Bench, RATE, as_floats, noise, silence, tone};
use serde_json::Value;
use std::f64::consts::TAU;

#[test]
fn a_cut_keeps_the_samples_bit_for_bit() {
    let bench = Bench::new();
    let clip = tone(997.0, 0.7, 2.0);
    bench.clip(&[clip.clone(), tone(500.0, 0.2, 2.0)]);
    for (range, from, to) in [
        ("0.5s..1.5s", 24_000, 72_000),
        ("500ms+250ms", 24_000, 36_000),
        ("..-0.5s", 0, 72_000),
        ("-1s..", 48_000, 96_000),
        ("9000smp..54000smp", 9_000, 54_000),
        ("0:00.25..1bars@240bpm", 12_000, 48_000),
    ] {
        let out = bench.fit(&["--cut", range, "--edge-fade", "none"]);
        assert_eq!(out[0], as_floats(&clip[from..to]), "{range}");
    }
    // By default the edges are faded over 2 ms, and only there.
    let out = bench.fit(&["--cut", "0.5003s..1.5003s"]);
    let want = &clip[24_014..72_014];
    assert!(out[0][0].abs() < want[0].abs() && out[0][95] != want[95] as f32 as f64);
    assert_eq!(out[0][96..47_904], as_floats(&want[96..47_904]));
    let said = bench.refused(&["--cut", "1s..3s"], 4);
    assert!(said.contains("2.000 s long (96000 frames)"), "{said}");
    for bad in ["1s", "2s..1s", "-3s..", "x..y"] {
        let code = if bad.contains("x") || bad == "1s" { 2 } else { 4 };
        bench.refused(&["--cut", bad], code);
    }
}

#[test]
fn pieces_silence_and_snapping() {
    let bench = Bench::new();
    let (a, b) = (tone(1_000.0, 0.5, 0.5), tone(700.0, 0.25, 0.4));
    bench.clip(&[[silence(0.3), a.clone(), silence(0.5), b.clone(), silence(0.6)].concat()]);
    let second = bench.fit(&["--piece", "2", "--edge-fade", "none"]);
    assert_eq!(second[0].len(), b.len());
    assert!(second[0].iter().zip(&b).all(|(x, y)| (x - y).abs() < 1e-7));
    assert!(bench.refused(&["--piece", "3"], 4).contains("has 2 sounds"));

    for (options, head, tail) in [
        (&["--trim-silence"][..], 0.005, 0.020),
        (&["--trim-silence", "--breath", "0ms,0ms"], 0.0, 0.0),
        (&["--trim-silence", "--trim-ends", "head"], 0.005, 0.6),
        (&["--trim-silence=-90dBFS", "--trim-ends", "tail", "--breath", "50ms"], 0.3, 0.05),
    ] {
        let out = bench.fit(options);
        let seconds = out[0].len() as f64 / f64::from(RATE);
        assert!((seconds - (head + 1.4 + tail)).abs() < 1e-6, "{options:?}: {seconds}");
    }
    assert!(bench.refused(&["--trim-silence=-1dBFS"], 4).contains("below -1 dBFS"));

    // A cut in the middle of a period moves to a place where the wave changes its sign.
    let out = bench.fit(&["--cut", "0.40026s..0.70026s", "--snap", "--edge-fade", "none"]);
    assert!(out[0][0].abs() < 0.07 && out[0].last().unwrap().abs() < 0.07, "{}", out[0][0]);
}

#[test]
fn levels_reach_their_figures() {
    let bench = Bench::new();
    let programme: Vec<f64> =
        tone(440.0, 0.05, 4.0).iter().zip(tone(3_001.0, 0.03, 4.0)).map(|(a, b)| a + b).collect();
    bench.clip(&[programme.clone(), programme]);
    let near = |value: &Value, want: f64| (value.as_f64().unwrap() - want).abs() < 0.06;
    for (option, key, want) in [
        ("-3dBFS", "peak_dbfs", -3.0),
        ("-2dBTP", "true_peak_dbtp", -2.0),
        ("-16LUFS", "lufs", -16.0),
        ("like:out.wav", "lufs", -16.0),
    ] {
        bench.fit(&["--level", option]);
        let survey = bench.survey("out.wav");
        let found = if key == "lufs" { &survey["loudness"]["lufs"] } else { &survey[key] };
        assert!(near(found, want), "{option}: {found}");
        if option == "-16LUFS" {
            std::fs::copy(bench.path("out.wav"), bench.path("like.wav")).unwrap();
        }
    }
    let before = bench.survey("clip.wav")["peak_dbfs"].as_f64().unwrap();
    bench.fit(&["--gain", "-7dB"]);
    assert!(near(&bench.survey("out.wav")["peak_dbfs"], before - 7.0));

    // Far too loud: a limiter holds true peaks, unless clipping is allowed.
    bench.fit(&["--gain", "+40dB", "--spec", "wav f32 any any"]);
    let held = bench.survey("out.wav")["true_peak_dbtp"].as_f64().unwrap();
    assert!((-0.4..=0.1).contains(&held), "{held}");
    bench.fit(&["--gain", "+40dB", "--ceiling", "-6dB"]);
    let held = bench.survey("out.wav")["true_peak_dbtp"].as_f64().unwrap();
    assert!((-6.4..=-5.9).contains(&held), "{held}");
    let clipped = bench.fit(&["--gain", "+40dB", "--allow-clipping"]);
    assert!(clipped[0].iter().any(|s| s.abs() > 2.0));
    bench.clip(&[silence(1.0)]);
    assert!(bench.refused(&["--level", "-16LUFS"], 4).contains("silent"));
    assert!(bench.refused(&["--level", "stock"], 4).contains("no stock"));
}

#[test]
fn longest_is_refused_cut_or_the_loudest_kept() {
    let bench = Bench::new();
    let clip = [tone(300.0, 0.05, 2.0), tone(300.0, 0.6, 1.0), tone(300.0, 0.05, 2.0)].concat();
    bench.clip(&[clip]);
    let said = bench.refused(&["--longest", "1.2s"], 4);
    assert!(said.contains("5.000 s") && said.contains("1.200 s"), "{said}");
    let out = bench.fit(&["--longest", "1.2s", "--too-long", "cut"]);
    assert_eq!(out[0].len(), 57_600);
    assert!(out[0].last().unwrap().abs() < 1e-3, "it ends in a fade");
    let out = bench.fit(&["--longest", "1.2s", "--too-long", "loudest"]);
    assert_eq!(out[0].len(), 57_600);
    let loud = out[0].iter().filter(|s| s.abs() > 0.1).count();
    assert!(loud > 42_000, "only {loud} of 48000 loud frames");
    assert_eq!(bench.fit(&["--longest", "5s"])[0].len(), 240_000);
}

#[test]
fn routes_speed_fades_pads_and_offsets() {
    let bench = Bench::new();
    let (left, right) = (tone(440.0, 0.5, 1.0), tone(660.0, 0.25, 1.0));
    bench.clip(&[left.clone(), right.clone()]);
    let out = bench.fit(&["--route", "R L - 0.5L-R"]);
    let mix: Vec<f64> =
        as_floats(&left).iter().zip(as_floats(&right)).map(|(l, r)| 0.5 * l - r).collect();
    assert_eq!(out[..3], [as_floats(&right), as_floats(&left), silence(1.0)]);
    assert_eq!(out[3], as_floats(&mix));
    assert!(bench.refused(&["--route", "3"], 4).contains("the clip has 2"));
    assert!(
        bench
            .refused(&["--route", "L R", "--spec", "wav any any mono"], 4)
            .contains("requires mono")
    );

    let fast = bench.fit(&["--speed", "1.5", "--route", "L"]);
    assert_eq!(fast[0].len(), 32_000);
    let crossings = fast[0].windows(2).filter(|w| (w[0] < 0.0) != (w[1] < 0.0)).count();
    assert!(crossings.abs_diff(880) <= 2, "{crossings} for 440 Hz, half as high again");

    let faded = bench.fit(&[
        "--route",
        "L",
        "--fade-in",
        "0.1s",
        "--fade-out",
        "0.5s",
        "--pad",
        "0.1s,0.2s",
    ]);
    assert_eq!(faded[0].len(), 4_800 + 48_000 + 9_600);
    assert!(faded[0][..4_800].iter().chain(&faded[0][52_800..]).all(|s| *s == 0.0));
    let peak = |from: usize| faded[0][from..from + 480].iter().fold(0.0f64, |a, s| a.max(s.abs()));
    assert!(
        (peak(4_800 + 2_160) - 0.25).abs() < 0.03 && (peak(4_800 + 36_000) - 0.25).abs() < 0.03
    );

    let shifted: Vec<f64> = left.iter().map(|s| s + 0.1).collect();
    bench.clip(&[shifted]);
    bench.fit(&["--level", "-6dBFS"]);
    let dc = bench.survey("out.wav")["dc"][0].as_f64().unwrap();
    assert!(dc.abs() < 1e-4, "{dc}");
}

#[test]
fn opposed_channels_are_told() {
    let bench = Bench::new();
    let left = tone(440.0, 0.5, 1.0);
    bench.clip(&[left.clone(), left.iter().map(|s| -s).collect()]);
    let ran = bench.run(&["fit", "clip.wav", "-o", "mono.wav", "--spec", "wav any any mono"]);
    let said = String::from_utf8_lossy(&ran.stderr).into_owned();
    assert!(said.contains("correlation -1.00") && said.contains("--route L"), "{said}");
}

#[test]
fn guides_voicings_and_pictures() {
    let bench = Bench::new();
    let (middle, side) = (tone(440.0, 0.4, 2.0), tone(1_760.0, 0.4, 2.0));
    let left: Vec<f64> = middle.iter().zip(&side).map(|(a, b)| a + b).collect();
    bench.clip(&[left.clone(), middle.clone()]);
    let full = bench.fit(&["--guide", "guide.wav", "--plot", "both.png"]);
    assert_eq!(full[0], as_floats(&left), "the full clip is whole");
    let power = |file: &str, hertz: f64| {
        let mut reader = hound::WavReader::open(bench.path(file)).unwrap();
        let samples: Vec<f64> =
            reader.samples::<f32>().step_by(2).map(|s| f64::from(s.unwrap())).collect();
        let part = |f: fn(f64) -> f64| {
            let products = samples
                .iter()
                .enumerate()
                .map(|(i, s)| s * f(TAU * hertz * i as f64 / f64::from(RATE)));
            products.sum::<f64>()
        };
        part(f64::sin).hypot(part(f64::cos)) / samples.len() as f64 * 2.0
    };
    assert!((power("guide.wav", 440.0) - 0.4).abs() < 0.02 && power("guide.wav", 1_760.0) < 0.02);
    let png = std::fs::read(bench.path("both.png")).unwrap();
    assert!(png.starts_with(b"\x89PNG") && png.len() > 4_000);
    let ran = bench.run(&["inspect", "clip.wav", "--plot", "one.png", "--plot-rate", "8000"]);
    assert!(ran.status.success() && bench.path("one.png").exists());

    // A picture replaces a picture, and never a clip.
    let clip = std::fs::read(bench.path("clip.wav")).unwrap();
    for (plot, code) in [("one.png", 0), ("clip.wav", 5)] {
        let ran = bench.run(&["inspect", "clip.wav", "--plot", plot]);
        assert_eq!(ran.status.code(), Some(code), "{plot}");
    }
    assert_eq!(std::fs::read(bench.path("clip.wav")).unwrap(), clip);

    let horn = bench.fit(&["--voicing", "quayside", "--route", "L"]);
    assert_eq!(horn[0].len(), left.len());
    assert_ne!(horn[0], as_floats(&left));
    assert!(
        bench.refused(&["--voicing", "gramophone"], 2).contains("quayside, dispatch, tin-bear")
    );
    bench.clip(&[middle]);
    assert!(bench.refused(&["--keep", "shared"], 4).contains("only stereo"));
}

#[test]
fn a_short_sound_and_a_long_one_are_measured_alike() {
    let bench = Bench::new();
    let halves = |level: f64| [tone(997.0, level, 2.0), tone(997.0, level / 2.0, 2.0)].concat();
    let level = |samples: &[f64]| samples.iter().fold(0.0f64, |a, b| a.max(b.abs()));
    // Over all of it the long one is quieter than at its loudest moment, which is all that the short one has.
    bench.clip(&[halves(0.4)]);
    std::fs::rename(bench.path("clip.wav"), bench.path("long.wav")).unwrap();
    bench.clip(&[tone(997.0, 0.1, 1.0)]);
    let out = bench.fit(&["--level", "like:long.wav"]);
    assert!((level(&out[0]) - 0.4).abs() < 0.002, "{}", level(&out[0]));
    // The other way round, and two long ones, which are held against each other over all.
    std::fs::rename(bench.path("clip.wav"), bench.path("short.wav")).unwrap();
    bench.clip(&[halves(0.4)]);
    let out = bench.fit(&["--level", "like:short.wav"]);
    assert!((level(&out[0]) - 0.1).abs() < 0.001, "{}", level(&out[0]));
    bench.clip(&[tone(997.0, 0.1, 4.0)]);
    let out = bench.fit(&["--level", "like:long.wav"]);
    // A mean of power of 1 and 1/4, through the gates.
    assert!((level(&out[0]) / 0.4 - 0.625f64.sqrt()).abs() < 0.02, "{}", level(&out[0]));
    // What another measure would do is told.
    bench.clip(&[[tone(997.0, 0.1, 0.5), tone(997.0, 0.02, 1.5)].concat()]);
    let said = bench.run(&["fit", "clip.wav", "-o", "no.wav", "--level", "-16LUFS", "--dry-run"]);
    let said = String::from_utf8_lossy(&said.stdout).into_owned();
    assert!(
        said.contains("max momentary since it is shorter than 3 s; integrated it would be +"),
        "{said}"
    );
}

#[test]
fn silence_is_told_by_the_recordings_own_noise() {
    let bench = Bench::new();
    let voice = |seconds: f64| {
        let (tone, hiss) = (tone(220.0, 0.3, seconds), noise(0.0018, seconds, 3));
        tone.iter().zip(hiss).map(|(a, b)| a + b).collect::<Vec<_>>()
    };
    let room = |seconds: f64| noise(0.0018, seconds, 7);
    let click = noise(0.05, 0.004, 9);
    let exact = ["--breath", "0ms,0ms"];
    for (name, clip, head, tail) in [
        ("a room", vec![room(1.0), voice(1.0), room(0.7)], 1.0, 0.7),
        ("a click before", vec![room(0.4), click, room(0.596), voice(1.0), room(0.7)], 1.0, 0.7),
        ("digital silence", vec![silence(0.5), room(0.5), voice(1.0), silence(0.7)], 1.0, 0.7),
        ("no pause", vec![voice(1.0)], 0.0, 0.0),
        ("silence alone around", vec![silence(0.5), tone(220.0, 0.3, 1.0), silence(0.7)], 0.5, 0.7),
    ] {
        let clip = clip.concat();
        bench.clip(std::slice::from_ref(&clip));
        let out = bench.fit(&[&["--trim-silence=auto"], &exact[..]].concat());
        let (gone, want) = (clip.len() - out[0].len(), (48_000.0 * (head + tail)) as usize);
        assert!(gone.abs_diff(want) <= 2 * 480, "{name}: {gone} for {want}");
        let loud = |samples: &[f64]| samples.iter().fold(0.0f64, |a, b| a.max(b.abs())) > 0.1;
        assert!(loud(&out[0][..1_440]) && loud(&out[0][out[0].len() - 1_440..]), "{name}");
    }
    // The usual level finds no silence in that room.
    bench.clip(&[[room(1.0), voice(1.0), room(0.7)].concat()]);
    assert_eq!(bench.fit(&["--trim-silence"])[0].len(), 129_600);
    let said = bench.run(&["fit", "clip.wav", "-o", "no.wav", "--trim-silence=auto", "--dry-run"]);
    let said = String::from_utf8_lossy(&said.stdout).into_owned();
    assert!(said.contains("the recording's noise is at -5"), "{said}");
    // What dies away into the noise is kept while it can be told from it.
    let dying: Vec<f64> = (0..48_000)
        .map(|i| 0.3 * (-6.0 * i as f64 / 48_000.0).exp())
        .zip(tone(220.0, 1.0, 1.0))
        .map(|(a, b)| a * b)
        .collect();
    let clip = [voice(0.5), dying, silence(0.5)].concat();
    let hiss = noise(0.0018, 2.0, 5);
    bench.clip(&[clip.iter().zip(hiss).map(|(a, b)| a + b).collect()]);
    let kept =
        bench.fit(&[&["--trim-silence=auto"], &exact[..]].concat())[0].len() as f64 / 48_000.0;
    // 0.3·e^(−6t) is as loud as the noise at t = 0.8 s.
    assert!((1.2..1.42).contains(&kept), "{kept}");
}

#[test]
fn low_and_high_cuts_and_a_loop_that_never_hears_them_settle() {
    let bench = Bench::new();
    let power = |samples: &[f64]| samples.iter().map(|s| s * s).sum::<f64>() / samples.len() as f64;
    for (hertz, least, most) in [(30.0, 33.0, 34.5), (1_000.0, -0.01, 0.01), (15_000.0, 35.0, 36.5)]
    {
        bench.clip(&[tone(hertz, 0.5, 1.0)]);
        let out = bench.fit(&["--low-cut", "80", "--high-cut", "7.5kHz"]);
        let less = 10.0 * (0.125 / power(&out[0][24_000..])).log10();
        assert!((least..most).contains(&less), "{hertz} Hz: {less} dB less");
    }
    // As if it had gone round for ever: what a long row of rounds comes to.
    let round = noise(0.2, 0.5, 11);
    for options in [&["--low-cut", "40Hz"][..], &["--high-cut", "3kHz"], &["--voicing", "dispatch"]]
    {
        bench.clip(&[round.repeat(4)]);
        let settled = bench.fit(options)[0][48_000..72_000].to_vec();
        bench.clip(std::slice::from_ref(&round));
        let out = bench.fit(&[options, &["--loop", "all"]].concat());
        let worst = out[0].iter().zip(&settled).fold(0.0f64, |a, (x, y)| a.max((x - y).abs()));
        assert!(out[0].len() == 24_000 && worst < 1e-6, "{options:?}: {worst}");
    }
    let said = bench.refused(&["--low-cut", "5kHz", "--high-cut", "500Hz"], 4);
    assert!(said.contains("a lower --low-cut or a higher --high-cut"), "{said}");
    // What the clip cannot hold anyway needs no filter.
    bench.clip(&[tone(440.0, 0.5, 0.1)]);
    assert_eq!(bench.fit(&["--high-cut", "30kHz"])[0], as_floats(&tone(440.0, 0.5, 0.1)));
}

#[test]
fn a_tail_goes_on_over_the_loops_start() {
    let bench = Bench::new();
    let body = noise(0.2, 1.0, 13);
    let tail: Vec<f64> = noise(0.1, 0.25, 17)
        .iter()
        .enumerate()
        .map(|(i, s)| s * (-5.0 * i as f64 / 12_000.0).exp())
        .collect();
    bench.clip(&[[body.clone(), tail.clone()].concat()]);
    // From the start: the file loops as a whole, as long as the loop.
    let out = bench.fit(&["--loop", "0s..1s", "--tail", "wrap"]);
    assert_eq!(out[0].len(), 48_000);
    let faded = |i: usize| tail[i] * ((12_000 - i) as f64 / 1_025.0).min(1.0);
    for i in 0..48_000 {
        let want = body[i] + if i < 12_000 { faded(i) } else { 0.0 };
        assert!((out[0][i] - want).abs() < 1e-6, "frame {i}");
    }
    // Behind an intro: the first round is heard without it, the second with it, and that one loops.
    let out = bench.fit(&["--loop", "0.4s..1s", "--tail", "wrap"]);
    let looped = bench.facts("out.wav")["loops"][0].clone();
    assert_eq!((looped["start"].as_u64(), looped["end"].as_u64()), (Some(31_200), Some(60_000)));
    assert!(out[0].len() == 60_000 && out[0][..48_000] == as_floats(&body));
    for i in 0..12_000 {
        let want = faded(i) + body[19_200 + i];
        assert!((out[0][48_000 + i] - want).abs() < 1e-6, "frame {i}");
    }
    for (options, words) in [
        (&["--loop", "0.4s..end", "--tail", "wrap"][..], "no tail after the loop"),
        (&["--loop", "0.9s..1s", "--tail", "wrap"], "can be wrapped"),
        (&["--loop", "0s..1s", "--tail", "wrap", "--crossfade", "10ms"], "--tail cut"),
    ] {
        let said = bench.refused(options, 4);
        assert!(said.contains(words), "{options:?}: {said}");
    }
    // Where nothing holds loop points, the whole file loops.
    let ran =
        bench.run(&["fit", "clip.wav", "-o", "out.m4a", "--loop", "0s..1s", "--tail", "wrap"]);
    assert!(ran.status.success(), "{}", String::from_utf8_lossy(&ran.stderr));
    assert_eq!(bench.facts("out.m4a")["frames"], 48_000);
}
