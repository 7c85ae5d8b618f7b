//! Other containers, texts, and formats that only their maker's encoder writes.

use crate::bench::Bench;
use std::fs;

#[test]
fn renamed_files_are_named_with_a_way_out() {
    let bench = Bench::new();
    assert_eq!(bench.run(&["fit", "clip.wav", "-o", "clip.ogg"]).code, 0);
    fs::rename(bench.path("clip.ogg"), bench.path("fake.wav")).unwrap();
    let ran = bench.run(&["inspect", "fake.wav"]);
    assert_eq!(ran.code, 0);
    assert!(ran.out.contains("named .wav but is ogg"), "{}", ran.out);
    assert!(ran.out.contains("deft-needle fit fake.wav -o"), "{}", ran.out);
    let ran = bench.run(&["check", "fake.wav"]);
    assert_eq!(ran.code, 1);
    assert!(ran.out.contains("named .wav but is ogg"), "{}", ran.out);
}

#[test]
fn lossy_encodings_tell_what_they_came_out_at() {
    let bench = Bench::new();
    let ran = bench.run(&["fit", "clip.wav", "-o", "o.m4a", "--spec", "m4a aac:96k any any"]);
    assert!(
        ran.out.contains("m4a aac:96k 44100 stereo") && ran.out.contains("kbit/s"),
        "{}",
        ran.out
    );
    let found = bench.json(&["fit", "clip.wav", "-o", "o.ogg", "--spec", "ogg vorbis:q3 any any"]);
    let rate = found["files"][0]["bit_rate"].as_u64().unwrap();
    assert!((20_000..200_000).contains(&rate), "{rate}");
    for (spec, said) in [
        ("ogg vorbis:900k 44100 stereo", "ask for vorbis:"),
        ("m4a aac 37800 mono", "ask for 32000 Hz"),
    ] {
        let ran = bench.run(&["fit", "clip.wav", "-o", "no", "--spec", spec]);
        assert_eq!(ran.code, 4, "{spec}");
        assert!(ran.err.contains(said), "{spec}: {}", ran.err);
    }
}

#[test]
fn texts_and_loops_under_chosen_names() {
    let bench = Bench::new();
    let ran = bench.run(&[
        "fit",
        "clip.wav",
        "-o",
        "o.ogg",
        "--tag",
        "title=Kettle",
        "--tag",
        "BY=nobody",
    ]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    let out = bench.run(&["inspect", "o.ogg"]).out;
    assert!(out.contains("TITLE: Kettle") && out.contains("BY: nobody"), "{out}");
    let ran = bench.run(&["fit", "o.ogg", "-o", "p.ogg", "--tags", "keep", "--tag", "BY=", "-v"]);
    assert!(ran.out.contains("copied bit for bit"), "{}", ran.out);
    let facts = bench.json(&["inspect", "p.ogg"]);
    assert_eq!(facts["files"][0]["tags"].as_array().unwrap().len(), 1);
    for (out, tag, said) in [
        ("q.wav", "A=b", "wav has no place for a tag named A"),
        ("q.m4a", "ODD=b", "it holds TITLE, ARTIST"),
        ("q.qoa", "TITLE=b", "another container"),
    ] {
        let ran = bench.run(&["fit", "clip.wav", "-o", out, "--tag", tag]);
        assert_eq!(ran.code, 4, "{out}");
        assert!(ran.err.contains(said), "{out}: {}", ran.err);
    }
    for (typed, said) in [("--tag=Kettle", "NAME=TEXT"), ("--loop-tags=start=A", "expected both")] {
        let ran = bench.run(&["fit", "clip.wav", "-o", "q.ogg", typed]);
        assert_eq!(ran.code, 2);
        assert!(ran.err.contains(said), "{}", ran.err);
    }
}

#[test]
fn samples_without_a_header() {
    let bench = Bench::new();
    let spec = "raw pcm16be 44100 stereo";
    assert_eq!(bench.run(&["fit", "clip.wav", "-o", "dump.bin", "--spec", spec]).code, 0);
    assert_eq!(fs::metadata(bench.path("dump.bin")).unwrap().len(), 22_050 * 4);
    assert_eq!(bench.run(&["inspect", "dump.bin"]).code, 3);
    let ran = bench.run(&["fit", "dump.bin", "-o", "back.wav", "--read-as", spec]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert_eq!(
        fs::read(bench.path("back.wav")).unwrap(),
        fs::read(bench.path("clip.wav")).unwrap()
    );
    let ran = bench.run(&["inspect", "dump.bin", "--read-as", "wav pcm16 44100 stereo"]);
    assert_eq!(ran.code, 2);
}

#[test]
fn adpcm_blocks_of_a_chosen_size() {
    let bench = Bench::new();
    let spec = ["--spec", "wav imaadpcm 22050 mono"];
    let fit = |out: &str, more: &[&str]| {
        bench.run(&[&["fit", "clip.wav", "-o", out], &spec[..], more].concat())
    };
    assert_eq!(fit("usual.wav", &[]).code, 0);
    assert_eq!(fit("small.wav", &["--block-bytes", "128"]).code, 0);
    for (file, bytes) in [("usual.wav", 512), ("small.wav", 128)] {
        let found = bench.json(&["inspect", file]);
        assert_eq!(found["files"][0]["block_bytes"], bytes);
        assert_eq!(found["files"][0]["frames"], 11_025);
    }
    let ran = bench.run(&["check", "usual.wav", "--like", "small.wav"]);
    assert!(ran.out.contains("block size: 512 bytes, should be 128 bytes"), "{}", ran.out);
    let pcm =
        ["fit", "clip.wav", "-o", "no.wav", "--spec", "wav pcm16 any any", "--block-bytes", "512"];
    let ran = bench.run(&pcm);
    assert_eq!(ran.code, 2);
    assert!(ran.err.contains("pcm16 has no blocks to size"), "{}", ran.err);
    let ran = fit("no.wav", &["--block-bytes", "126"]);
    assert_eq!(ran.code, 4);
    assert!(ran.err.contains("a multiple of 4"), "{}", ran.err);
}

/// The demo's own encoder, which is this program, and commands that fail in every way.
#[test]
fn closed_formats_by_a_command_or_as_they_are() {
    let bench = Bench::new();
    let program = env!("CARGO_BIN_EXE_deft-needle");
    let command = format!("\"{program}\" stand-in-lockbox {{in}} {{out}}");
    let feed = ["--feed", "wav pcm16 48000 stereo"];
    let fit = |command: &str, more: &[&str]| {
        let typed = ["fit", "clip.wav", "-o", "bell.lbx", "--encoder", command];
        bench.run(&[&typed[..], &feed, more].concat())
    };
    let ran = fit(&command, &[]);
    assert_eq!(ran.code, 5);
    assert!(ran.err.contains("--allow-commands"), "{}", ran.err);
    assert!(!bench.path("bell.lbx").exists());
    let ran = fit(&command, &["--allow-commands"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert!(fs::read(bench.path("bell.lbx")).unwrap().starts_with(b"LBX1"));
    for (command, more, said) in [
        (format!("\"{program}\" stand-in-lockbox none {{out}} {{in}}"), &[][..], "failed"),
        ("no-such-program {in} {out}".to_owned(), &[], "could not be started"),
        (format!("\"{program}\" inspect {{in}} --json --color {{out}}"), &[], "failed"),
        (
            format!("\"{program}\" inspect {{in}} {{in}}{{out}}"),
            &["--encoder-limit", "60"],
            "encoder",
        ),
    ] {
        let ran = fit(&command, &[&["--allow-commands", "--overwrite"], more].concat());
        assert_eq!(ran.code, 6, "{command}: {}", ran.err);
        assert!(ran.err.contains(said), "{command}: {}", ran.err);
    }
    let slow = format!("{command} --slow 20");
    let ran = fit(&slow, &["--allow-commands", "--overwrite", "--encoder-limit", "1"]);
    assert_eq!(ran.code, 6);
    assert!(ran.err.contains("longer than 1 s"), "{}", ran.err);
    let ran = fit("no-such-program {in} {out}", &["--allow-commands", "--overwrite", "--dry-run"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert!(ran.out.contains("then the command is run"), "{}", ran.out);
    assert_eq!(fit("enc {in}", &["--allow-commands"]).code, 2);
    // Placed by hand: name and first bytes decide.
    bench.put("game/BELL.LBX", b"LBX1 the stock");
    bench.put("done/BELL.LBX", b"LBX1 another bell");
    bench.put("done/WRONG.LBX", b"LBX2 another bell");
    bench.put("done/BELL.WAV", b"LBX1 another bell");
    let swap =
        |file: &str| bench.run(&["swap", file, "game/BELL.LBX", "--root", "game", "--as-is"]);
    for (file, code, said) in [
        ("done/WRONG.LBX", 4, "begins with 4C 42 58 32, should be 4C 42 58 31"),
        ("done/BELL.WAV", 5, "another extension"),
    ] {
        let ran = swap(file);
        assert_eq!(ran.code, code, "{}", ran.err);
        assert!(ran.err.contains(said), "{}", ran.err);
    }
    assert_eq!(swap("done/BELL.LBX").code, 0);
    assert_eq!(fs::read(bench.path("game/BELL.LBX")).unwrap(), b"LBX1 another bell");
    assert!(bench.run(&["status", "game", "-v"]).out.contains("as it was finished"));
    let typed = [
        "swap",
        "clip.wav",
        "game/BELL.LBX",
        "--root",
        "game",
        "--allow-commands",
        "--encoder",
        &command,
    ];
    assert_eq!(bench.run(&[&typed[..], &feed].concat()).code, 0);
    assert_eq!(bench.run(&["restore", "game"]).code, 0);
    assert_eq!(fs::read(bench.path("game/BELL.LBX")).unwrap(), b"LBX1 the stock");
}

/// What can be read of an encoder's file is held against what it was fed, wherever encoders are called.
#[test]
fn an_encoder_that_makes_another_sound_is_found_out() {
    let bench = Bench::new();
    let program = env!("CARGO_BIN_EXE_deft-needle");
    // Loud first, then faint: turned round it is another sound of the same length and level.
    let [mut loud, faint] =
        [0.8, 0.05].map(|level| crate::bench::wav(22_050, 1, 16, 11_025, level));
    loud.extend(&faint[44..]);
    let length = u32::try_from(loud.len()).unwrap();
    loud[4..8].copy_from_slice(&(length - 8).to_le_bytes());
    loud[40..44].copy_from_slice(&(length - 44).to_le_bytes());
    bench.put("clip.wav", &loud);
    bench.put("game/HORN.WAV", &crate::bench::wav(22_050, 1, 16, 5000, 0.4));
    for (more, code) in [("", 0), ("--reverse ", 6)] {
        let spec = "--spec \"wav pcm16 22050 mono\"";
        let command = format!("\"{program}\" fit {{in}} {more}-o {{out}} {spec}");
        let outside = ["--allow-commands", "--encoder", &command, "--feed", "wav pcm16 22050 mono"];
        let fit = ["fit", "clip.wav", "-o", "made.wav", "--overwrite"];
        let swap = ["swap", "clip.wav", "game/HORN.WAV", "--root", "game"];
        for typed in [&fit[..], &swap[..]] {
            let ran = bench.run(&[typed, &outside].concat());
            assert_eq!(ran.code, code, "{more}{}: {}", typed[0], ran.err);
            assert_eq!(ran.err.contains("nothing like its input"), code == 6, "{}", ran.err);
        }
    }
}

#[test]
fn the_version_tells_whose_work_is_inside() {
    let bench = Bench::new();
    let short = bench.run(&["--version"]).out;
    assert!(short.starts_with("deft-needle 0."), "{short}");
    let long = bench.run(&["--version", "-v"]).out;
    for part in ["Fraunhofer", "Xiph.Org", "MPL-2.0"] {
        assert!(long.contains(part), "{part}: {long}");
    }
}
