//! The built program, driven as its users drive it: inspect, hear, fit, check.

use crate::bench::{Bench, told, wav};
use std::fs;
use std::io::Write;
use std::process::Stdio;

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
        (&["inspect", "full"], 3, "full/there.wav"),
        (&["inspect", "*.flac"], 2, "no file matches"),
        (&["inspct", "clip"], 2, "did you mean inspect?"),
        (&["fit", "clip.wav", "-o", "o.wav", "--spec", "wav pcm16 24000"], 2, "; found 3 words"),
        (
            &["fit", "clip.wav", "-o", "o.wav", "--spec", "wav pcm17 24000 mono"],
            2,
            "\"pcm17\" is not an encoding",
        ),
        (
            &["fit", "clip.wav", "-o", "o.ogg", "--spec", "mkv opus 48000 mono"],
            4,
            "not written here",
        ),
        (
            &["fit", "clip.wav", "-o", "o.wav", "--spec", "wav pcm16be 24000 mono"],
            2,
            "little-endian",
        ),
        (
            &["fit", "clip.wav", "-o", "o.wav", "--spec", "wav pcm16 24000 3ch"],
            4,
            "no usual way from stereo",
        ),
        (&["fit", "clip.wav", "-o", "o.bin"], 2, "nothing says what o.bin must be"),
        (&["fit", "clip.wav", "-o", "full/there.wav"], 5, "exists already"),
        (&["fit", "clip.wav", "-o", "clip.wav"], 5, "the clip itself"),
        (&["fit", "clip.wav", "-o", slot], 2, "nothing says"),
        (&["fit", "clip.wav", "-o", "text.wav/o.wav"], 6, "cannot make text.wav"),
        (
            &["fit", "clip.wav", "clip.wav", "-o", "both", "--spec", "wav any any any"],
            2,
            "would both become",
        ),
        (&["check", "none"], 3, "there is no such file"),
        (&["hear", "clip.wav", "-o", "full/there.wav"], 5, "exists already"),
        (
            &["swap", "clip.wav", "card/SAY/TICK04.PRM", "--root", "card"],
            5,
            "did you mean TICK01.PRM",
        ),
        (
            &["swap", "clip.wav", "card/SAY/tick01.prm", "--root", "card"],
            5,
            "(upper and lower case differ)",
        ),
        (
            &["swap", "clip.wav", "card/SAY/TICK01.PRM.wav", "--root", "card"],
            5,
            "(one has a second extension)",
        ),
        (
            &["swap", "clip.wav", "card/SAYS/TICK01.PRM", "--root", "card"],
            5,
            "there is no folder card/SAYS",
        ),
        (&["swap", "clip.wav", "card/SAY", "--root", "card"], 5, "is a folder"),
        (&["swap", "clip.wav", slot, "--root", "full"], 5, "is outside"),
        (
            &["swap", "clip.wav", "card/NEW.XYZ", "--new", "--root", "card"],
            5,
            "--like FILE or --spec",
        ),
        (&["swap", "clip.wav", slot], 5, "swap clip.wav card/SAY/TICK01.PRM --root card"),
        (&["swap", slot, "clip.wav"], 5, "no root is known for clip.wav"),
        (&["swap", slot, slot, "--root", "card"], 5, "both the clip and the slot"),
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
        ["Käse, 鐘 2.wav", "card", "clip.wav", "full", "mp3.wav", "text.wav"]
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
    let mut child =
        piped.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    child.stdin.take().unwrap().write_all(&fs::read(bench.path("clip.wav")).unwrap()).unwrap();
    let ran = told(child.wait_with_output().unwrap());
    assert!(ran.out.contains("standard input") && ran.out.contains("22050 frames"), "{}", ran.err);
}

#[test]
fn fit_makes_exactly_what_was_asked() {
    let bench = Bench::new();
    for (args, out, spec, frames) in [
        (&["--spec", "wav pcm16 24000 mono"][..], "a.wav", "wav pcm16 24000 mono", 12_000),
        (&["--like", "card/SAY/CUCKOO.PRM"], "new.PRM", "wav pcm8 18900 mono", 9_450),
        (&["--spec", "any any 48000 any"], "sub/b.wav", "wav pcm16 48000 stereo", 24_000),
        (&["--spec", "wav pcm8|imaadpcm 9450|18900 mono"], "c.wav", "wav pcm8 9450 mono", 4_725),
        (&[], "d.wav", "wav pcm16 44100 stereo", 22_050),
    ] {
        let ran = bench.run(&[&["fit", "clip.wav", "-o", out], args].concat());
        assert_eq!((ran.code, ran.err.as_str()), (0, ""), "{args:?}");
        let found = bench.json(&["inspect", out]);
        assert_eq!(
            (&found["files"][0]["format"], found["files"][0]["frames"].as_u64()),
            (&spec.into(), Some(frames))
        );
    }
    assert_eq!(fs::metadata(bench.path("new.PRM")).unwrap().len(), 44 + 9_450);
    assert_eq!(fs::read(bench.path("d.wav")).unwrap(), fs::read(bench.path("clip.wav")).unwrap());

    // Several go to a folder, under their own names; what fails does not stop the rest.
    let ran = bench.run(&["fit", "*.wav", "-o", "fitted/", "--like", "card/SAY/CUCKOO.PRM"]);
    assert_eq!(ran.code, 3);
    assert_eq!(bench.names("fitted"), ["Käse, 鐘 2.PRM", "a.PRM", "c.PRM", "clip.PRM", "d.PRM"]);
    assert_eq!(bench.run(&["check", "fitted", "--like", "card/SAY/CUCKOO.PRM"]).code, 0);
    let ran = bench.run(&["fit", "*.wav", "-o", "fitted", "--like", "card/SAY/CUCKOO.PRM"]);
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
        "because bit depth drops to 8",
    ] {
        assert!(ran.out.contains(part), "{part}: {}", ran.out);
    }
    let swap =
        bench.run(&["swap", "clip.wav", "card/SAY/TICK01.PRM", "--root", "card", "--dry-run"]);
    assert!(swap.out.contains("nothing was changed"), "{}{}", swap.out, swap.err);
    assert!(!bench.path("a.wav").exists() && !bench.path("card/SAY/.deft-needle").exists());
    let plan =
        bench.json(&["fit", "clip.wav", "-o", "a.wav", "--spec", "wav f32 22050 any", "--dry-run"]);
    let steps = plan["files"][0]["plan"]["work"]["steps"].as_array().unwrap();
    let names: Vec<_> = steps.iter().map(|step| step["step"].as_str().unwrap()).collect();
    assert_eq!(names, ["resample", "quantise"]);
}

#[test]
fn streams_go_in_and_out() {
    let bench = Bench::new();
    let args = ["fit", "-", "-o", "-", "--spec", "wav pcm16 8000 mono"];
    let mut child =
        bench.command(&args).stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
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
        "TICK03.PRM: is wav pcm16 44100 stereo, should be wav pcm8 18900 mono",
        "HORN.PRM: is AMR, should be wav pcm8 18900 mono",
        "cut.wav: whole: 956 frames, should be 4000 frames as its header says",
        "6 files checked against wav pcm8 18900 mono: 3 files fail",
    ] {
        assert!(ran.out.contains(line), "{line}: {}", ran.out);
    }
    bench.put("names/a.ogg", &wav(8000, 1, 8, 10, 0.5));
    bench.put("names/b.wav", b"#!AMR");
    let ran = bench.run(&["check", "names"]);
    assert_eq!(ran.code, 1);
    assert!(ran.out.contains("a.ogg: named .ogg but is wav"), "{}", ran.out);
    assert!(ran.out.contains("b.wav: named .wav but is AMR"), "{}", ran.out);
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
    assert_eq!(heard(&[slot, "card/SAY/TICK02.PRM"]), (2, 4_000 + 9_450 + 4_000));
    assert_eq!(heard(&[slot, "--beside", "card/SAY/TICK02.PRM"]), (4, 4 * 4_000 + 3 * 9_450));
    // Eight bits come out as they are, without a trace of dither.
    heard(&[slot]);
    let mut reader = hound::WavReader::open(bench.path("heard.wav")).unwrap();
    assert!(reader.samples::<i16>().all(|sample| sample.unwrap() % 256 == 0));
}
