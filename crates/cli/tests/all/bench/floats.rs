//! A folder with a clip of floats, which show every change, and the built program in it.

use serde_json::Value;
use std::f64::consts::TAU;
use std::path::PathBuf;
use std::process::{Command, Output};
use tempfile::TempDir;

pub const RATE: u32 = 48_000;

pub struct Floats(pub TempDir);

impl Floats {
    pub fn new() -> Self {
        Self(tempfile::tempdir().unwrap())
    }
    pub fn path(&self, name: &str) -> PathBuf {
        self.0.path().join(name)
    }
    /// A 32-bit float clip; floats show every change.
    pub fn clip(&self, channels: &[Vec<f64>]) {
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
    pub fn run(&self, args: &[&str]) -> Output {
        let mut command = Command::new(env!("CARGO_BIN_EXE_deft-needle"));
        command.args(args).current_dir(self.0.path()).output().unwrap()
    }
    /// Fits the clip with options; gives its channels.
    pub fn fit(&self, options: &[&str]) -> Vec<Vec<f64>> {
        let fixed = ["fit", "clip.wav", "-o", "out.wav", "--overwrite"];
        let ran = self.run(&[&fixed, options].concat());
        let err = String::from_utf8_lossy(&ran.stderr);
        assert!(ran.status.success(), "{options:?}: {err}");
        let mut reader = hound::WavReader::open(self.path("out.wav")).unwrap();
        let count = usize::from(reader.spec().channels);
        let flat: Vec<f64> = reader.samples::<f32>().map(|s| f64::from(s.unwrap())).collect();
        (0..count).map(|c| flat.iter().skip(c).step_by(count).copied().collect()).collect()
    }
    pub fn survey(&self, file: &str) -> Value {
        let ran = self.run(&["inspect", "--json", file]);
        let all: Value = serde_json::from_slice(&ran.stdout).unwrap();
        all["files"][0]["survey"].clone()
    }
    /// What inspect says of a file, without its samples.
    pub fn facts(&self, file: &str) -> Value {
        let ran = self.run(&["inspect", "--json", file]);
        let all: Value = serde_json::from_slice(&ran.stdout).unwrap();
        all["files"][0].clone()
    }
    /// Fits with options that must be refused with this code; gives what was said.
    pub fn refused(&self, options: &[&str], code: i32) -> String {
        let ran = self.run(&[&["fit", "clip.wav", "-o", "no.wav"], options].concat());
        assert_eq!(ran.status.code(), Some(code), "{options:?}");
        assert!(!self.path("no.wav").exists(), "{options:?}");
        String::from_utf8_lossy(&ran.stderr).into_owned()
    }
}

pub fn tone(hertz: f64, level: f64, seconds: f64) -> Vec<f64> {
    let n = (f64::from(RATE) * seconds).round() as usize;
    (0..n).map(|i| level * (TAU * hertz * i as f64 / f64::from(RATE)).sin()).collect()
}

pub fn silence(seconds: f64) -> Vec<f64> {
    vec![0.0; (f64::from(RATE) * seconds).round() as usize]
}

pub fn as_floats(samples: &[f64]) -> Vec<f64> {
    samples.iter().map(|s| f64::from(*s as f32)).collect()
}

/// Noise that is the same each time, about as loud as the level.
pub fn noise(level: f64, seconds: f64, seed: u64) -> Vec<f64> {
    let mut state = seed;
    let mut next = || {
        state =
            state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (state >> 33) as f64 / f64::from(1u32 << 30) - 1.0
    };
    silence(seconds).iter().map(|_| level * 3f64.sqrt() * next()).collect()
}
