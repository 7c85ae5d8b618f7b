//! The built program, driven as its users drive it.
#![allow(clippy::as_conversions, clippy::unwrap_used, missing_docs)]

use serde_json::Value;
use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};
use tempfile::TempDir;

/// A folder with a target and some clips.
struct Bench(TempDir);

/// What a run gave.
struct Ran {
    code: i32,
    out: String,
    err: String,
}

fn wav(rate: u32, channels: u16, bits: u16, frames: u32, level: f64) -> Vec<u8> {
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
    fn new() -> Self {
        let bench = Self(tempfile::tempdir().unwrap());
        bench.put("clip.wav", &wav(44_100, 2, 16, 22_050, 0.5));
        bench.put("Käse, 鐘 2.wav", &wav(48_000, 1, 24, 4_800, 0.1));
        bench.put("text.wav", b"this is no sound");
        for name in ["TICK01", "TICK02", "CUCKOO"] {
            bench.put(
                &format!("card/SAY/{name}.PRM"),
                &wav(18_900, 1, 8, 4_000, 0.4),
            );
        }
        bench.put("card/LIST.TSV", b"slot\tsay\r\n");
        bench
    }
    fn path(&self, name: &str) -> PathBuf {
        self.0.path().join(name)
    }
    fn put(&self, name: &str, bytes: &[u8]) {
        fs::create_dir_all(self.path(name).parent().unwrap()).unwrap();
        fs::write(self.path(name), bytes).unwrap();
    }
    fn command(&self, args: &[&str]) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_deft-needle"));
        command.args(args).current_dir(self.0.path());
        command
    }
    fn run(&self, args: &[&str]) -> Ran {
        told(self.command(args).stdin(Stdio::null()).output().unwrap())
    }
    fn json(&self, args: &[&str]) -> Value {
        let ran = self.run(&[args, &["--json"]].concat());
        serde_json::from_str(&ran.out)
            .unwrap_or_else(|e| panic!("{args:?}: {e}\n{}{}", ran.out, ran.err))
    }
    fn names(&self, folder: &str) -> Vec<String> {
        let mut names: Vec<String> = fs::read_dir(self.path(folder))
            .unwrap()
            .map(|entry| entry.unwrap().file_name().into_string().unwrap())
            .collect();
        names.sort();
        names
    }
}

fn told(output: Output) -> Ran {
    Ran {
        code: output.status.code().unwrap(),
        out: String::from_utf8(output.stdout).unwrap(),
        err: String::from_utf8(output.stderr).unwrap(),
    }
}

/// Every way to be told no, in one table: what is typed, the exit code, and what is said.
#[test]
fn bad_input_gets_its_code_and_a_way_out() {
    let bench = Bench::new();
    bench.put("full/there.wav", b"x");
    bench.put("mp3.wav", b"ID3\x04\0\0\0\0\0\0");
    let slot = "card/SAY/TICK01.PRM";
    for (args, code, said) in [
        (&["inspect", "none.wav"][..], 3, "there is no such file"),
        (&["inspect", "text.wav"], 3, "74 68 69 73"),
        (&["inspect", "mp3.wav"], 3, "is named .wav but is mp3"),
        (&["inspect", "card"], 3, "name a file in that folder"),
        (&["inspect", "*.flac"], 2, "no file matches"),
        (&["inspct", "clip"], 2, "unrecognized subcommand"),
        (
            &[
                "fit",
                "clip.wav",
                "-o",
                "o.wav",
                "--spec",
                "wav pcm16 24000",
            ],
            2,
            "3 words, not four",
        ),
        (
            &[
                "fit",
                "clip.wav",
                "-o",
                "o.wav",
                "--spec",
                "wav pcm17 24000 mono",
            ],
            2,
            "\"pcm17\" is no encoding",
        ),
        (
            &[
                "fit",
                "clip.wav",
                "-o",
                "o.ogg",
                "--spec",
                "ogg vorbis 24000 mono",
            ],
            2,
            "not written here",
        ),
        (
            &[
                "fit",
                "clip.wav",
                "-o",
                "o.wav",
                "--spec",
                "wav pcm16be 24000 mono",
            ],
            2,
            "little-endian",
        ),
        (
            &[
                "fit",
                "clip.wav",
                "-o",
                "o.wav",
                "--spec",
                "wav pcm16 24000 3ch",
            ],
            4,
            "no usual way from stereo",
        ),
        (
            &["fit", "clip.wav", "-o", "o.bin"],
            2,
            "nothing says what o.bin must be",
        ),
        (
            &["fit", "clip.wav", "-o", "full/there.wav"],
            5,
            "exists already",
        ),
        (&["fit", "clip.wav", "-o", "clip.wav"], 5, "the clip itself"),
        (&["fit", "clip.wav", "-o", slot], 2, "nothing says"),
        (
            &["fit", "clip.wav", "-o", "no/such/o.wav"],
            6,
            "cannot make no/such",
        ),
        (
            &[
                "fit",
                "clip.wav",
                "clip.wav",
                "-o",
                "both",
                "--spec",
                "wav any any any",
            ],
            2,
            "would both become",
        ),
        (&["check", "none"], 3, "there is no such file"),
        (
            &["hear", "clip.wav", "-o", "full/there.wav"],
            5,
            "exists already",
        ),
        (
            &["swap", "clip.wav", "card/SAY/TICK04.PRM"],
            5,
            "did you mean TICK01.PRM",
        ),
        (
            &["swap", "clip.wav", "card/SAY/tick01.prm"],
            5,
            "(upper and lower case differ)",
        ),
        (
            &["swap", "clip.wav", "card/SAY/TICK01.PRM.wav"],
            5,
            "(one has a second extension)",
        ),
        (
            &["swap", "clip.wav", "card/SAYS/TICK01.PRM"],
            5,
            "nor its folder",
        ),
        (&["swap", "clip.wav", "card/SAY"], 5, "is a folder"),
        (
            &["swap", "clip.wav", slot, "--root", "full"],
            5,
            "does not lie in",
        ),
        (
            &["swap", "clip.wav", "card/NEW.XYZ", "--new"],
            5,
            "--like FILE or --spec",
        ),
        (&["swap", slot, slot], 5, "the same file"),
        (&["restore", "card"], 5, "nothing is installed"),
    ] {
        let ran = bench.run(args);
        assert_eq!(ran.code, code, "{args:?}: {}{}", ran.out, ran.err);
        assert!(ran.err.contains(said), "{args:?}: {}", ran.err);
        assert!(!ran.err.contains("panicked"), "{args:?}: {}", ran.err);
    }
    // Nothing was left behind.
    assert_eq!(
        bench.names("."),
        [
            "Käse, 鐘 2.wav",
            "card",
            "clip.wav",
            "full",
            "mp3.wav",
            "text.wav"
        ]
    );
    assert_eq!(bench.names("card"), ["LIST.TSV", "SAY"]);
    assert_eq!(fs::read(bench.path("full/there.wav")).unwrap(), b"x");
}

#[test]
fn inspect_tells_one_several_and_all_as_json() {
    let bench = Bench::new();
    let one = bench.run(&["clip.wav"]);
    for part in [
        "wav pcm16 44100 stereo, plain header, 1411 kbit/s",
        "0.500 s, 22050 frames",
        "peak -6.0 dBFS",
    ] {
        assert!(one.out.contains(part), "{part}: {}", one.out);
    }
    let several = bench.run(&["inspect", "*.wav"]);
    assert_eq!(several.code, 3, "one of them is text");
    assert!(
        several
            .out
            .lines()
            .any(|line| line.contains("Käse, 鐘 2.wav") && line.contains("pcm24 48000"))
    );
    let all = bench.json(&["inspect", "clip.wav"]);
    let file = &all["files"][0];
    assert_eq!(file["format"], "wav pcm16 44100 stereo");
    assert_eq!(file["bit_rate"], 1_411_200);
    assert!((file["survey"]["peak_dbfs"].as_f64().unwrap() + 6.02).abs() < 0.01);
    assert_eq!(file["survey"]["loudness"]["measure"], "momentary");
    // Input by a pipe is inspected like a file.
    let mut piped = bench.command(&["inspect", "-"]);
    let mut child = piped
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    child
        .stdin
        .take()
        .unwrap()
        .write_all(&fs::read(bench.path("clip.wav")).unwrap())
        .unwrap();
    let ran = told(child.wait_with_output().unwrap());
    assert!(
        ran.out.contains("standard input") && ran.out.contains("22050 frames"),
        "{}",
        ran.err
    );
}

#[test]
fn fit_makes_exactly_what_was_asked() {
    let bench = Bench::new();
    for (args, out, spec, frames) in [
        (
            &["--spec", "wav pcm16 24000 mono"][..],
            "a.wav",
            "wav pcm16 24000 mono",
            12_000,
        ),
        (
            &["--like", "card/SAY/CUCKOO.PRM"],
            "new.PRM",
            "wav pcm8 18900 mono",
            9_450,
        ),
        (
            &["--spec", "any any 48000 any"],
            "sub/b.wav",
            "wav pcm16 48000 stereo",
            24_000,
        ),
        (
            &["--spec", "wav pcm8|imaadpcm 9450|18900 mono"],
            "c.wav",
            "wav pcm8 9450 mono",
            4_725,
        ),
        (&[], "d.wav", "wav pcm16 44100 stereo", 22_050),
    ] {
        let ran = bench.run(&[&["fit", "clip.wav", "-o", out], args].concat());
        assert_eq!((ran.code, ran.err.as_str()), (0, ""), "{args:?}");
        let found = bench.json(&["inspect", out]);
        assert_eq!(
            (
                &found["files"][0]["format"],
                found["files"][0]["frames"].as_u64()
            ),
            (&spec.into(), Some(frames))
        );
    }
    assert_eq!(
        fs::metadata(bench.path("new.PRM")).unwrap().len(),
        44 + 9_450
    );
    assert_eq!(
        fs::read(bench.path("d.wav")).unwrap(),
        fs::read(bench.path("clip.wav")).unwrap()
    );

    // Several go to a folder, under their own names; what fails does not stop the rest.
    let ran = bench.run(&[
        "fit",
        "*.wav",
        "-o",
        "fitted/",
        "--like",
        "card/SAY/CUCKOO.PRM",
    ]);
    assert_eq!(ran.code, 3);
    assert_eq!(
        bench.names("fitted"),
        ["Käse, 鐘 2.PRM", "a.PRM", "c.PRM", "clip.PRM", "d.PRM"]
    );
    assert_eq!(
        bench
            .run(&["check", "fitted", "--like", "card/SAY/CUCKOO.PRM"])
            .code,
        0
    );
    let ran = bench.run(&[
        "fit",
        "*.wav",
        "-o",
        "fitted",
        "--like",
        "card/SAY/CUCKOO.PRM",
    ]);
    assert_eq!(ran.code, 5, "existing files stay");
    let ran = bench.run(&[
        "fit",
        "clip.wav",
        "-o",
        "a.wav",
        "--spec",
        "wav pcm8 9450 mono",
        "--overwrite",
    ]);
    assert_eq!(ran.code, 0, "{}", ran.err);
}

#[test]
fn a_plan_is_shown_and_nothing_written() {
    let bench = Bench::new();
    let ran = bench.run(&[
        "fit",
        "clip.wav",
        "-o",
        "a.wav",
        "--spec",
        "wav pcm8 18900 mono",
        "--dry-run",
    ]);
    for part in [
        "the average of left and right",
        "by 3/7",
        "22050 frames become 9450",
        "because bits are lost",
    ] {
        assert!(ran.out.contains(part), "{part}: {}", ran.out);
    }
    let swap = bench.run(&["swap", "clip.wav", "card/SAY/TICK01.PRM", "--dry-run"]);
    assert!(
        swap.out.contains("nothing was changed"),
        "{}{}",
        swap.out,
        swap.err
    );
    assert!(!bench.path("a.wav").exists() && !bench.path("card/SAY/.deft-needle").exists());
    let plan = bench.json(&[
        "fit",
        "clip.wav",
        "-o",
        "a.wav",
        "--spec",
        "wav f32 22050 any",
        "--dry-run",
    ]);
    let steps = plan["files"][0]["plan"]["work"]["steps"]
        .as_array()
        .unwrap();
    let names: Vec<_> = steps
        .iter()
        .map(|step| step["step"].as_str().unwrap())
        .collect();
    assert_eq!(names, ["resample", "quantise"]);
}

#[test]
fn streams_go_in_and_out() {
    let bench = Bench::new();
    let args = ["fit", "-", "-o", "-", "--spec", "wav pcm16 8000 mono"];
    let mut child = bench
        .command(&args)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let input = fs::read(bench.path("clip.wav")).unwrap();
    child.stdin.take().unwrap().write_all(&input).unwrap();
    let output = child.wait_with_output().unwrap();
    assert!(output.status.success());
    let reader = hound::WavReader::new(output.stdout.as_slice()).unwrap();
    assert_eq!((reader.spec().sample_rate, reader.duration()), (8000, 4000));
}

#[test]
fn every_number_of_threads_gives_the_same_bytes() {
    let bench = Bench::new();
    let fit = |folder: &str, threads: &str| {
        let args = [
            "fit",
            "clip.wav",
            "Käse, 鐘 2.wav",
            "-o",
            folder,
            "--spec",
            "wav pcm8 11025 mono",
            "--threads",
            threads,
        ];
        assert_eq!(bench.run(&args).code, 0);
        bench
            .names(folder)
            .iter()
            .map(|n| fs::read(bench.path(folder).join(n)).unwrap())
            .collect::<Vec<_>>()
    };
    let one = fit("one/", "1");
    assert_eq!(one.len(), 2);
    assert_eq!(one, fit("two/", "2"));
    assert_eq!(one, fit("many/", "7"));
}

#[test]
fn check_names_each_shortfall() {
    let bench = Bench::new();
    bench.put("card/SAY/TICK03.PRM", &wav(44_100, 2, 16, 100, 0.5));
    bench.put("card/SAY/HORN.PRM", b"#!AMR\n...");
    bench.put("card/cut.wav", &wav(18_900, 1, 8, 4000, 0.5)[..1000]);
    let ran = bench.run(&["check", "card", "--like", "card/SAY/CUCKOO.PRM"]);
    assert_eq!(ran.code, 1);
    for line in [
        "TICK03.PRM: encoding: pcm16, should be pcm8",
        "TICK03.PRM: sample rate: 44100, should be 18900",
        "TICK03.PRM: channels: stereo, should be mono",
        "HORN.PRM: is AMR, should be wav pcm8 18900 mono",
        "cut.wav: whole: 956 frames, should be 4000 frames as its header says",
        "6 files checked against wav pcm8 18900 mono: 3 files short",
    ] {
        assert!(ran.out.contains(line), "{line}: {}", ran.out);
    }
    bench.put("names/a.ogg", &wav(8000, 1, 8, 10, 0.5));
    bench.put("names/b.wav", b"OggS");
    let ran = bench.run(&["check", "names"]);
    assert_eq!(ran.code, 1);
    assert!(
        ran.out.contains("a.ogg: named .ogg but is wav"),
        "{}",
        ran.out
    );
    assert!(
        ran.out.contains("b.wav: named .wav but is Ogg"),
        "{}",
        ran.out
    );
    assert_eq!(bench.run(&["check", "clip.wav"]).code, 0);
}

#[test]
fn hear_plays_in_turns_and_rounds() {
    let bench = Bench::new();
    let heard = |args: &[&str]| {
        let report = bench.json(&[&["hear"], args, &["-o", "heard.wav", "--overwrite"]].concat());
        let mut reader = hound::WavReader::open(bench.path("heard.wav")).unwrap();
        let samples: Vec<i16> = reader.samples().map(Result::unwrap).collect();
        (report["parts"].as_array().unwrap().len(), samples.len())
    };
    let slot = "card/SAY/TICK01.PRM";
    assert_eq!(heard(&[slot]), (1, 4_000));
    assert_eq!(heard(&[slot, "--loops", "3"]), (1, 12_000));
    assert_eq!(
        heard(&[slot, "card/SAY/TICK02.PRM"]),
        (2, 4_000 + 9_450 + 4_000)
    );
    assert_eq!(
        heard(&[slot, "--beside", "card/SAY/TICK02.PRM"]),
        (4, 4 * 4_000 + 3 * 9_450)
    );
    // Eight bits come out as they are, without a trace of dither.
    heard(&[slot]);
    let mut reader = hound::WavReader::open(bench.path("heard.wav")).unwrap();
    assert!(
        reader
            .samples::<i16>()
            .all(|sample| sample.unwrap() % 256 == 0)
    );
}

#[test]
fn swap_status_and_restore_make_a_circle() {
    let bench = Bench::new();
    let slot = "card/SAY/TICK01.PRM";
    let stock = fs::read(bench.path(slot)).unwrap();
    let ran = bench.run(&["swap", "clip.wav", slot, "--root", "card"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    for part in [
        "before    wav pcm8 18900 mono",
        "after     wav pcm8 18900 mono",
        "stay stock: SAY/TICK02.PRM",
    ] {
        assert!(ran.out.contains(part), "{part}: {}", ran.out);
    }
    // The ledger above is found without being named, and the first stock stays the stock.
    assert_eq!(bench.run(&["swap", "Käse, 鐘 2.wav", slot]).code, 0);
    assert_eq!(
        bench
            .run(&[
                "swap",
                "clip.wav",
                "card/NEW/X.PRM",
                "--new",
                "--like",
                "card/SAY/CUCKOO.PRM"
            ])
            .code,
        0
    );
    let status = bench.json(&["status", "card"]);
    let slots = status["slots"].as_array().unwrap();
    assert_eq!(slots.len(), 2);
    assert_eq!(
        (&slots[1]["slot"], &slots[1]["condition"]),
        (&"SAY/TICK01.PRM".into(), &"installed".into())
    );
    assert!(
        slots[1]["installed"]["clip"]
            .as_str()
            .unwrap()
            .contains('鐘')
    );
    // Neither check nor inspect looks into the ledger.
    assert_eq!(bench.json(&["check", "card"])["checked"], 4);

    assert_eq!(bench.run(&["restore", slot, "--dry-run"]).code, 0);
    assert_eq!(bench.run(&["restore", slot]).code, 0);
    assert_eq!(fs::read(bench.path(slot)).unwrap(), stock);
    assert_eq!(bench.run(&["restore", "card", "NEW/Y.PRM"]).code, 5);
    assert_eq!(bench.run(&["restore", "card", "NEW/X.PRM"]).code, 0);
    assert_eq!(
        bench.names("card"),
        ["LIST.TSV", "SAY"],
        "the folder that was made is gone"
    );

    // Changed since: refused until the user says what to do; a ledger elsewhere works the same.
    let elsewhere = ["--root", "card", "--ledger", "ledger"];
    assert_eq!(
        bench
            .run(&[&["swap", "clip.wav", slot], &elsewhere[..]].concat())
            .code,
        0
    );
    fs::write(bench.path(slot), b"vendor").unwrap();
    let restore =
        |more: &[&str]| bench.run(&[&["restore", "card"], &elsewhere[2..], more].concat());
    let refused = restore(&[]);
    assert_eq!(refused.code, 5);
    assert!(
        refused.err.contains("--changed overwrite"),
        "{}",
        refused.err
    );
    assert_eq!(restore(&["--changed", "overwrite"]).code, 0);
    assert_eq!(fs::read(bench.path(slot)).unwrap(), stock);
}

#[test]
fn warnings_of_a_swap() {
    let bench = Bench::new();
    bench.put("card/SAY/LOUD.PRM", &wav(18_900, 1, 8, 19_000, 0.02));
    bench.put("long.wav", &wav(18_900, 1, 16, 90_000, 0.9));
    let ran = bench.run(&["swap", "long.wav", "card/SAY/LOUD.PRM"]);
    for part in [
        "LU louder than the stock",
        "4.7 times as long",
        "the slot's own folder counts as the root",
    ] {
        assert!(ran.out.contains(part), "{part}: {}", ran.out);
    }
}

#[test]
fn a_loop_of_the_stock_is_missed() {
    let bench = Bench::new();
    let mut stock = wav(18_900, 1, 8, 4_000, 0.4);
    let words = [0u32, 0, 52_910, 60, 0, 0, 0, 1, 0, 0, 0, 100, 3_999, 0, 0];
    stock.extend(b"smpl\x3C\0\0\0");
    stock.extend(words.iter().flat_map(|w| w.to_le_bytes()));
    let size = stock.len() as u32 - 8;
    stock[4..8].copy_from_slice(&size.to_le_bytes());
    bench.put("card/SAY/HUM.PRM", &stock);
    let inspected = bench.run(&["card/SAY/HUM.PRM"]).out;
    assert!(inspected.contains("frames 100 up to 4000"), "{inspected}");
    let ran = bench.run(&["swap", "clip.wav", "card/SAY/HUM.PRM"]);
    let said = "the stock loops, this clip has no loop points";
    assert!(ran.out.contains(said), "{}{}", ran.out, ran.err);
    assert_eq!(bench.run(&["restore", "card/SAY/HUM.PRM"]).code, 0);
    assert_eq!(fs::read(bench.path("card/SAY/HUM.PRM")).unwrap(), stock);
}

/// Whenever the program is killed, the output is the old file or the new one.
#[cfg(unix)]
#[test]
fn killed_at_any_moment_the_old_file_or_the_new_one_is_there() {
    let bench = Bench::new();
    bench.put("long.wav", &wav(44_100, 2, 16, 1_500_000, 0.5));
    let args = [
        "fit",
        "long.wav",
        "-o",
        "out.wav",
        "--spec",
        "wav pcm24 48000 stereo",
        "--overwrite",
    ];
    assert_eq!(bench.run(&args).code, 0);
    let new = fs::read(bench.path("out.wav")).unwrap();
    for delay in (0..40).map(|n| n * 7) {
        fs::write(bench.path("out.wav"), b"old").unwrap();
        let mut child = bench.command(&args).stdout(Stdio::null()).spawn().unwrap();
        std::thread::sleep(std::time::Duration::from_millis(delay));
        let _ = child.kill();
        child.wait().unwrap();
        let found = fs::read(bench.path("out.wav")).unwrap();
        assert!(
            found == b"old" || found == new,
            "after {delay} ms: {} bytes",
            found.len()
        );
    }
    // What a killed run left beside it, the next one takes over.
    assert_eq!(bench.run(&args).code, 0);
    assert!(bench.names(".").iter().all(|name| !name.ends_with("part")));
}

#[test]
fn the_demo_tells_its_story() {
    let bench = Bench::new();
    let ran = bench.run(&["demo", "demo"]);
    assert_eq!(
        (ran.code, ran.out.contains("byte for byte")),
        (0, true),
        "{}{}",
        ran.out,
        ran.err
    );
    for part in [
        "TICK02.PRM    refused: encoding 0x0003",
        "TICK01.PRM    plays 1.600 s at 18900 Hz",
        "HOUR01.PRM    refused: it is longer than 6 s",
        "HOUR01.PRM    plays 6.000 s",
        "left and right are opposed (correlation -1.00)",
        "the card is as it was, byte for byte",
    ] {
        assert!(ran.out.contains(part), "{part}: {}", ran.out);
    }
    assert_eq!(
        bench.run(&["demo", "demo"]).code,
        5,
        "it never writes into what is there"
    );
}

/// The examples in the help texts are run as they stand, in a folder that has what they name.
#[test]
fn help_examples_work() {
    let bench = Bench::new();
    bench.run(&["demo", "demo"]);
    let demo = bench.path("demo");
    fs::copy(demo.join("takes/kettle.wav"), demo.join("kettle.wav")).unwrap();
    for (from, to) in [
        ("takes/kettle.wav", "in.wav"),
        ("card/SAY/TICK01.PRM", "new.wav"),
        ("kettle.wav", "hum.wav"),
    ] {
        fs::copy(demo.join(from), demo.join(to)).unwrap();
    }
    let _ = fs::remove_file(demo.join("takes/horn.wav"));
    fs::create_dir_all(demo.join("fitted")).unwrap();
    fs::create_dir_all(demo.join("downloads")).unwrap();
    fs::copy(
        demo.join("card/SAY/TICK02.PRM"),
        demo.join("card/SAY/TICK09.PRM"),
    )
    .unwrap();
    fs::remove_file(demo.join("card/SAY/TICK09.PRM")).unwrap();
    let mut run = 0;
    for name in ["inspect", "hear", "fit", "check", "swap", "restore"] {
        let help = bench.run(&["help", name]).out;
        let examples: Vec<&str> = help
            .lines()
            .filter_map(|l| l.trim().strip_prefix("deft-needle "))
            .collect();
        assert!(!examples.is_empty(), "{name} has no examples");
        for example in examples {
            let typed = example.split("   ").next().unwrap();
            // Examples of restore need something to give back.
            if name == "restore" {
                for slot in ["TICK01", "CUCKOO"] {
                    let swap = format!("swap kettle.wav card/SAY/{slot}.PRM --root card");
                    shell(&demo, &swap);
                }
            }
            let (code, err) = shell(&demo, typed);
            assert!(
                code == 0 || (name == "check" && code == 1),
                "{typed}: {code} {err}"
            );
            run += 1;
        }
    }
    assert!(run >= 14);
}

fn shell(folder: &Path, line: &str) -> (i32, String) {
    let mut args: Vec<String> = Vec::new();
    for (index, piece) in line.split('"').enumerate() {
        match index % 2 {
            1 => args.push(piece.to_owned()),
            _ => args.extend(piece.split_whitespace().map(str::to_owned)),
        }
    }
    let mut command = Command::new(env!("CARGO_BIN_EXE_deft-needle"));
    command
        .current_dir(folder)
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::piped());
    // Only these two signs of a shell are used.
    if let Some(at) = args.iter().position(|a| a == "<") {
        command.stdin(fs::File::open(folder.join(&args[at + 1])).unwrap());
        args.truncate(at);
    }
    let output = command.args(args).output().unwrap();
    (
        output.status.code().unwrap(),
        String::from_utf8_lossy(&output.stderr).into_owned(),
    )
}
