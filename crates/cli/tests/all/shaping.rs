//! Shaping options on real files, with answers that are known beforehand.

use serde_json::Value;
use std::f64::consts::TAU;
use std::path::PathBuf;
use std::process::{Command, Output};
use tempfile::TempDir;

const RATE: u32 = 48_000;

struct Bench(TempDir);

impl Bench {
    fn new() -> Self {
        Self(tempfile::tempdir().unwrap())
    }
    fn path(&self, name: &str) -> PathBuf {
        self.0.path().join(name)
    }
    /// A 32-bit float clip; floats show every change.
    fn clip(&self, channels: &[Vec<f64>]) {
        let spec = hound::WavSpec {
            channels: channels.len() as u16,
            sample_rate: RATE,
            bits_per_sample: 32,
            sample_format: hound::SampleFormat::Float,
        };
        let mut writer = hound::WavWriter::create(self.path("clip.wav"), spec).unwrap();
        for i in 0..channels[0].len() {
            for channel in channels {
                writer.write_sample(channel[i] as f32).unwrap();
            }
        }
        writer.finalize().unwrap();
    }
    fn run(&self, args: &[&str]) -> Output {
        let mut command = Command::new(env!("CARGO_BIN_EXE_deft-needle"));
        command.args(args).current_dir(self.0.path()).output().unwrap()
    }
    /// Fits the clip with options; gives its channels.
    fn fit(&self, options: &[&str]) -> Vec<Vec<f64>> {
        let fixed = ["fit", "clip.wav", "-o", "out.wav", "--overwrite"];
        let ran = self.run(&[&fixed, options].concat());
        let err = String::from_utf8_lossy(&ran.stderr);
        assert!(ran.status.success(), "{options:?}: {err}");
        let mut reader = hound::WavReader::open(self.path("out.wav")).unwrap();
        let count = usize::from(reader.spec().channels);
        let flat: Vec<f64> = reader.samples::<f32>().map(|s| f64::from(s.unwrap())).collect();
        (0..count).map(|c| flat.iter().skip(c).step_by(count).copied().collect()).collect()
    }
    fn survey(&self, file: &str) -> Value {
        let ran = self.run(&["inspect", "--json", file]);
        let all: Value = serde_json::from_slice(&ran.stdout).unwrap();
        all["files"][0]["survey"].clone()
    }
    /// Fits with options that must be refused with this code; gives what was said.
    fn refused(&self, options: &[&str], code: i32) -> String {
        let ran = self.run(&[&["fit", "clip.wav", "-o", "no.wav"], options].concat());
        assert_eq!(ran.status.code(), Some(code), "{options:?}");
        assert!(!self.path("no.wav").exists(), "{options:?}");
        String::from_utf8_lossy(&ran.stderr).into_owned()
    }
}

fn tone(hertz: f64, level: f64, seconds: f64) -> Vec<f64> {
    let n = (f64::from(RATE) * seconds).round() as usize;
    (0..n).map(|i| level * (TAU * hertz * i as f64 / f64::from(RATE)).sin()).collect()
}

fn silence(seconds: f64) -> Vec<f64> {
    vec![0.0; (f64::from(RATE) * seconds).round() as usize]
}

fn as_floats(samples: &[f64]) -> Vec<f64> {
    samples.iter().map(|s| f64::from(*s as f32)).collect()
}

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
