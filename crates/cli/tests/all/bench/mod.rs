//! A folder with a target and some clips, and the built program in it.
#![allow(dead_code, reason = "every test file uses its own part")]

pub mod ferry;
pub mod floats;
pub mod typed;

use serde_json::Value;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};
use tempfile::TempDir;

/// A folder with a target and some clips.
pub struct Bench(pub TempDir);

/// What a run gave.
pub struct Ran {
    pub code: i32,
    pub out: String,
    pub err: String,
}

pub fn wav(rate: u32, channels: u16, bits: u16, frames: u32, level: f64) -> Vec<u8> {
    let spec = hound::WavSpec {
        channels,
        sample_rate: rate,
        bits_per_sample: bits,
        sample_format: hound::SampleFormat::Int,
    };
    let mut bytes = std::io::Cursor::new(Vec::new());
    let mut writer = hound::WavWriter::new(&mut bytes, spec).unwrap();
    let full = 2f64.powi(i32::from(bits) - 1) - 1.0;
    for i in 0..frames {
        for channel in 0..channels {
            let hertz = 440.0 + 110.0 * f64::from(channel);
            let sample =
                level * (std::f64::consts::TAU * hertz * f64::from(i) / f64::from(rate)).sin();
            writer.write_sample((sample * full) as i32).unwrap();
        }
    }
    writer.finalize().unwrap();
    bytes.into_inner()
}

impl Bench {
    pub fn new() -> Self {
        let bench = Self(tempfile::tempdir().unwrap());
        bench.put("clip.wav", &wav(44_100, 2, 16, 22_050, 0.5));
        bench.put("Käse, 鐘 2.wav", &wav(48_000, 1, 24, 4_800, 0.1));
        bench.put("text.wav", b"this is not audio");
        for name in ["TICK01", "TICK02", "CUCKOO"] {
            bench.put(&format!("card/SAY/{name}.PRM"), &wav(18_900, 1, 8, 4_000, 0.4));
        }
        bench.put("card/LIST.TSV", b"slot\tsay\r\n");
        bench
    }
    pub fn path(&self, name: &str) -> PathBuf {
        self.0.path().join(name)
    }
    pub fn put(&self, name: &str, bytes: &[u8]) {
        fs::create_dir_all(self.path(name).parent().unwrap()).unwrap();
        fs::write(self.path(name), bytes).unwrap();
    }
    pub fn command(&self, args: &[&str]) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_deft-needle"));
        command.args(args).current_dir(self.0.path());
        command.env("DEFT_NEEDLE_DATA", Path::new(env!("CARGO_TARGET_TMPDIR")).join("data"));
        command
    }
    pub fn run(&self, args: &[&str]) -> Ran {
        told(self.command(args).stdin(Stdio::null()).output().unwrap())
    }
    pub fn json(&self, args: &[&str]) -> Value {
        let ran = self.run(&[args, &["--json"]].concat());
        let object = serde_json::from_str(&ran.out)
            .unwrap_or_else(|e| panic!("{args:?}: {e}\n{}{}", ran.out, ran.err));
        conforms(args, &object);
        object
    }
    pub fn names(&self, folder: &str) -> Vec<String> {
        let mut names: Vec<String> = fs::read_dir(self.path(folder))
            .unwrap()
            .map(|entry| entry.unwrap().file_name().into_string().unwrap())
            .collect();
        names.sort();
        names
    }
}

/// Every object that any test asks for is held against the schema in `docs/json/` of what was run.
fn conforms(args: &[&str], object: &Value) {
    let has = |key: &str| object.get(key).is_some();
    let schema = match args[0] {
        _ if has("error") => "error",
        "--version" => "version",
        "check" if has("trees") => "check-trees",
        "check" if has("sheets") => "check-sheets",
        "check" | "swap" | "install" if has("lines") => "plan",
        "check" => "check-files",
        "swap" => "install",
        "sheets" if has("text") => "sheet",
        "man" if has("pages") => "man-all",
        "man" | "completions" => "text",
        command => command,
    };
    let path = format!("{}/../../docs/json/{schema}.schema.json", env!("CARGO_MANIFEST_DIR"));
    let text = fs::read_to_string(&path).unwrap_or_else(|e| panic!("{path}: {e}"));
    let schema = jsonschema::validator_for(&serde_json::from_str(&text).unwrap()).unwrap();
    let wrong: Vec<String> =
        schema.iter_errors(object).map(|e| format!("{}: {e}", e.instance_path())).collect();
    assert!(wrong.is_empty(), "{args:?} against {path}:\n{}", wrong.join("\n"));
}

pub fn told(output: Output) -> Ran {
    Ran {
        code: output.status.code().unwrap(),
        out: String::from_utf8(output.stdout).unwrap(),
        err: String::from_utf8(output.stderr).unwrap(),
    }
}

/// A small game: mono effects in variants, stereo music with loops of its own naming, a file of a
/// closed format, and things that are no sounds.
pub fn game() -> Bench {
    let bench = Bench::new();
    for (name, level) in [("gull_1", 0.2), ("gull_2", 0.2), ("gull_wing", 0.05), ("bell", 0.4)] {
        bench.put(&format!("game/sfx/{name}.wav"), &wav(22_050, 1, 16, 22_050, level));
    }
    bench.put("loud.wav", &wav(48_000, 2, 16, 96_000, 0.5));
    for name in ["dusk", "storm"] {
        let out = format!("game/music/{name}.ogg");
        fs::create_dir_all(bench.path("game/music")).unwrap();
        let tags = ["--tag", "REPEAT_AT=4800", "--tag", "REPEAT_FOR=48000"];
        let fit = ["fit", "loud.wav", "-o", &out, "--spec", "ogg vorbis:q3 48000 stereo"];
        assert_eq!(bench.run(&[&fit[..], &tags].concat()).code, 0);
    }
    bench.put("game/BANK.LBX", b"LBX1\x80\xBB\0\0stock");
    bench.put("game/ferry.toml", b"name = 'x'\n");
    bench.put("game/sfx/notes.txt", b"recorded at the quay");
    bench
}

/// The sheet that is learnt of it, in `ferry.toml`.
pub fn learnt(bench: &Bench) -> String {
    let ran = bench.run(&["learn", "game", "-o", "ferry.toml"]);
    assert_eq!(ran.code, 0, "{}{}", ran.out, ran.err);
    fs::read_to_string(bench.path("ferry.toml")).unwrap()
}
