//! Target sheets: learnt from stock, searched, checked against, fitted by.
#![allow(clippy::as_conversions, clippy::unwrap_used, missing_docs)]

mod bench;

use bench::{Bench, wav};
use std::fs;
use std::io::{Cursor, Write};
use zip::write::SimpleFileOptions;

type Zip = zip::ZipWriter<Cursor<Vec<u8>>>;

/// A small game: mono effects in variants, stereo music with loops of its own naming, a file of a
/// closed format, and things that are no sounds.
fn game() -> Bench {
    let bench = Bench::new();
    for (name, level) in [
        ("gull_1", 0.2),
        ("gull_2", 0.2),
        ("gull_wing", 0.05),
        ("bell", 0.4),
    ] {
        bench.put(
            &format!("game/sfx/{name}.wav"),
            &wav(22_050, 1, 16, 22_050, level),
        );
    }
    bench.put("loud.wav", &wav(48_000, 2, 16, 96_000, 0.5));
    for name in ["dusk", "storm"] {
        let out = format!("game/music/{name}.ogg");
        fs::create_dir_all(bench.path("game/music")).unwrap();
        let tags = ["--tag", "REPEAT_AT=4800", "--tag", "REPEAT_FOR=48000"];
        let fit = [
            "fit",
            "loud.wav",
            "-o",
            &out,
            "--spec",
            "ogg vorbis:q3 48000 stereo",
        ];
        assert_eq!(bench.run(&[&fit[..], &tags].concat()).code, 0);
    }
    bench.put("game/BANK.LBX", b"LBX1\x80\xBB\0\0stock");
    bench.put("game/ferry.toml", b"name = 'x'\n");
    bench.put("game/sfx/notes.txt", b"recorded at the quay");
    bench
}

fn learnt(bench: &Bench) -> String {
    let ran = bench.run(&["learn", "game", "-o", "ferry.toml"]);
    assert_eq!(ran.code, 0, "{}{}", ran.out, ran.err);
    fs::read_to_string(bench.path("ferry.toml")).unwrap()
}

fn archives(bench: &Bench) -> [&'static str; 3] {
    let mut zip = zip::ZipWriter::new(Cursor::new(Vec::new()));
    let mut tar = tar::Builder::new(Vec::new());
    for name in [
        "BANK.LBX",
        "ferry.toml",
        "music/dusk.ogg",
        "music/storm.ogg",
        "sfx/bell.wav",
        "sfx/gull_1.wav",
        "sfx/gull_2.wav",
        "sfx/gull_wing.wav",
        "sfx/notes.txt",
    ] {
        let bytes = fs::read(bench.path(&format!("game/{name}"))).unwrap();
        zip.start_file(name, SimpleFileOptions::default()).unwrap();
        zip.write_all(&bytes).unwrap();
        let mut header = tar::Header::new_ustar();
        header.set_size(bytes.len() as u64);
        header.set_mode(0o644);
        tar.append_data(&mut header, format!("./{name}"), bytes.as_slice())
            .unwrap();
    }
    bench.put("game.pak", &zip.finish().unwrap().into_inner());
    bench.put("game.tar", &tar.into_inner().unwrap());
    ["game", "game.pak", "game.tar"]
}

#[test]
fn the_same_is_learnt_from_a_folder_a_zip_and_a_tar() {
    let bench = game();
    // A sound that its maker cut short works all the same.
    let bell = fs::read(bench.path("game/sfx/bell.wav")).unwrap();
    bench.put("game/sfx/bell.wav", &bell[..bell.len() - 1000]);
    let mut sheets = Vec::new();
    for stock in archives(&bench) {
        let ran = bench.run(&["learn", stock, "-o", "out/ferry.toml", "--overwrite"]);
        assert_eq!(ran.code, 0, "{stock}: {}", ran.err);
        let check = bench.run(&["check", stock, "--target", "out/ferry.toml"]);
        assert_eq!(check.code, 0, "{stock}: {}{}", check.out, check.err);
        let rules = |text: String| text.split_once("\n[names]").unwrap().1.to_owned();
        let sheet = fs::read_to_string(bench.path("out/ferry.toml")).unwrap();
        let list = fs::read_to_string(bench.path("out/ferry.slots.csv")).unwrap();
        sheets.push((rules(sheet), list));
    }
    assert!(sheets[0] == sheets[1] && sheets[1] == sheets[2]);
    let (sheet, list) = &sheets[0];
    for part in [
        "match = 'sfx/**'\nspec = 'wav pcm16 22050 mono'\nheader = 'plain'\ntags = 'strip'",
        "# variants: gull_#.wav (2)",
        "match = 'music/**'\nspec = 'ogg vorbis 48000 stereo'\ntags = 'strip'",
        "loop = 'required'",
        "loop-tags = { start = 'REPEAT_AT', length = 'REPEAT_FOR' }",
        "spec = 'opaque'\nfirst-bytes = '4C 42 58 31'",
        "# longest = '1s'",
        "stem-longest = 9",
    ] {
        assert!(sheet.contains(part), "{part}\n{sheet}");
    }
    let gull = list
        .lines()
        .find(|line| line.starts_with("sfx/gull_1.wav"))
        .unwrap();
    // A sine of amplitude 0.2 has −17.0 dBFS RMS; BS.1770 takes 0.69 dB off and K-weighting adds 0.1.
    assert!(
        gull.contains("wav pcm16 22050 mono,1.0,22050,-17.6,,44144,"),
        "{gull}"
    );
    let dusk = list
        .lines()
        .find(|line| line.starts_with("music/dusk"))
        .unwrap();
    assert!(dusk.contains("4800..52800"), "{dusk}");
}

#[test]
fn slots_are_found_by_words_and_told_in_families() {
    let bench = game();
    let sheet = learnt(&bench) + "\n[labels]\n'music/storm.ogg' = 'When the wind turns'\n";
    bench.put("ferry.toml", sheet.as_bytes());
    for (args, code, parts) in [
        (
            vec!["slots", "ferry.toml"],
            0,
            vec!["sfx/gull_#.wav", "1 2", "When the wind turns", "7 slots"],
        ),
        (
            vec!["slots", "ferry.toml", "wind", "music"],
            0,
            vec!["music/storm.ogg", "1 of 7"],
        ),
        (
            vec!["slots", "ferry.toml", "gull_*"],
            0,
            vec!["3 of 7", "also catches sfx/gull_wing.wav"],
        ),
        (
            vec!["slots", "ferry.toml", "guul"],
            0,
            vec!["spelt alike", "gull_wing"],
        ),
        (
            vec!["slots", "game.pak", "gull_#", "--as-job"],
            0,
            vec!["[[replace]]", "slot = 'sfx/gull_#.wav'", "2 variants"],
        ),
        (
            vec!["slots", "ferry.toml", "zeppelin"],
            1,
            vec!["no name or label of 7 matches"],
        ),
        (vec!["slots", "ferry.toml", "a["], 2, vec!["malformed"]),
        (vec!["slots", "loud.wav"], 2, vec!["no UTF-8"]),
    ] {
        archives(&bench);
        let ran = bench.run(&args);
        let all = ran.out + &ran.err;
        assert_eq!(ran.code, code, "{args:?}: {all}");
        for part in parts {
            assert!(all.contains(part), "{args:?}: {part}\n{all}");
        }
    }
    // What is in each slot now; the stock of a replaced one stays what is told of it.
    assert_eq!(
        bench
            .run(&["swap", "loud.wav", "game/sfx/bell.wav", "--root", "game"])
            .code,
        0
    );
    fs::remove_file(bench.path("game/sfx/gull_1.wav")).unwrap();
    bench.put("game/sfx/gull_2.wav", &wav(22_050, 1, 16, 22_050, 0.3));
    for of in ["ferry.toml", "game"] {
        let found = bench.json(&["slots", of, "--root", "game"]);
        let slot = |name: &str| {
            found["slots"]
                .as_array()
                .unwrap()
                .iter()
                .find(|s| s["name"] == name)
                .cloned()
        };
        assert_eq!(slot("sfx/bell.wav").unwrap()["present"], "replaced");
        assert_eq!(
            slot("sfx/bell.wav").unwrap()["stock"]["seconds"],
            1.0,
            "{of}"
        );
        if of == "ferry.toml" {
            assert_eq!(slot("sfx/gull_1.wav").unwrap()["present"], "missing");
            assert_eq!(slot("sfx/gull_2.wav").unwrap()["present"], "other");
        }
    }
}

#[test]
fn a_tree_is_held_against_its_sheet_line_by_line() {
    let bench = game();
    let sheet = learnt(&bench)
        .replace(
            "name = 'game'",
            "name = 'Ferry'\nmarker = 'ferry.toml'\nbudget = '1MB'",
        )
        .replace("[names]", "[names]\ncase = 'lower'")
        .replace(
            "spec = 'wav pcm16 22050 mono'",
            "spec = 'wav pcm16 22050 mono'\ncount = [1, 2]\nlargest = '100KiB'\nlongest = '2s'",
        );
    bench.put("ferry.toml", sheet.as_bytes());
    assert_eq!(
        bench.run(&["check", "game", "--target", "ferry.toml"]).code,
        0
    );
    assert_eq!(bench.run(&["check", "ferry.toml"]).code, 0);
    for (name, bytes, parts) in [
        (
            "sfx/bell.wav",
            wav(44_100, 2, 16, 100, 0.1),
            vec![
                "sample rate: 44100, should be 22050",
                "channels: stereo, should be mono",
            ],
        ),
        (
            "sfx/bell.wav",
            wav(22_050, 1, 16, 60_000, 0.1),
            vec![
                "length: 2.721 s, should be 2.000 s at most",
                "size: 117.2 KiB, should be 100.0 KiB at most",
            ],
        ),
        (
            "sfx/Bell_2.wav",
            wav(22_050, 1, 16, 10, 0.1),
            vec![
                "knows no such name; did you mean sfx/bell.wav",
                "its name has capital letters; small ones are wanted; sfx/bell_2.wav would be right",
            ],
        ),
        (
            "sfx/bell.wav.wav",
            wav(22_050, 1, 16, 10, 0.1),
            vec!["second extension, .wav; sfx/bell.wav would be right"],
        ),
        (
            "sfx/bell.ogg",
            wav(22_050, 1, 16, 10, 0.1),
            vec!["should end in .wav", "has the stem of sfx/bell.wav"],
        ),
        (
            "sfx/aux.wav",
            wav(22_050, 1, 16, 10, 0.1),
            vec!["the name of a device on Windows; sfx/auxs.wav would be right"],
        ),
        (
            "sfx/gull_3.wav",
            wav(22_050, 1, 16, 10, 0.1),
            vec!["sfx/gull_#.wav: 3 variants, and 1, 2 work"],
        ),
        (
            "music/dusk.ogg",
            wav(22_050, 1, 16, 10, 0.1),
            vec![
                "container: wav, should be ogg",
                "loop: none, should be a loop",
            ],
        ),
        (
            "BANK.LBX",
            b"LBX2 other".to_vec(),
            vec!["begins with 4C 42 58 32, should be 4C 42 58 31"],
        ),
        (
            "music/dusk.ogg",
            vec![7; 2_000_000],
            vec![
                "no sound",
                "all slots together: 2.09 MiB, and 976.6 KiB is there",
            ],
        ),
        (
            "deck/x.wav",
            wav(8_000, 1, 16, 10, 0.1),
            vec!["no rule of the sheet speaks of it"],
        ),
    ] {
        let kept = fs::read(bench.path(&format!("game/{name}"))).ok();
        bench.put(&format!("game/{name}"), &bytes);
        let ran = bench.run(&["check", "game", "--target", "ferry.toml"]);
        assert_eq!(ran.code, 1, "{name}: {}{}", ran.out, ran.err);
        for part in parts {
            assert!(ran.out.contains(part), "{name}: {part}\n{}", ran.out);
        }
        match kept {
            Some(kept) => bench.put(&format!("game/{name}"), &kept),
            None => fs::remove_file(bench.path(&format!("game/{name}"))).unwrap(),
        }
    }
    fs::remove_file(bench.path("game/sfx/bell.wav")).unwrap();
    assert!(
        bench
            .run(&["check", "game", "--target", "ferry.toml"])
            .out
            .contains("sfx/bell.wav: missing")
    );
    // A folder within the root, and one file, are told their places by the marker.
    for path in ["game/music", "game/sfx/gull_1.wav"] {
        assert_eq!(
            bench.run(&["check", path, "--target", "ferry.toml"]).code,
            0,
            "{path}"
        );
    }
    let wrong = bench.run(&["check", "card", "--target", "ferry.toml", "--root", "card"]);
    assert!(
        wrong.code == 5 && wrong.err.contains("no root of Ferry: it has no ferry.toml"),
        "{}",
        wrong.err
    );
    let apart = [
        "check",
        "clip.wav",
        "--target",
        "ferry.toml",
        "--slot",
        "sfx/bell.wav",
    ];
    assert!(
        bench
            .run(&apart)
            .out
            .contains("sfx/bell.wav: channels: stereo, should be mono")
    );
}

#[test]
fn a_slot_says_what_its_file_must_be() {
    let bench = game();
    learnt(&bench);
    let more = "\n[[rule]]\nmatch = 'deck/*'\nspec = 'wav pcm16 44100 4ch'\nroute = 'L R R L'\nheader = 'plain'\nnew = 'any'\n\
        [[rule]]\nmatch = 'small/*'\nspec = 'ogg vorbis:q9 44100 stereo'\nlargest = '2KiB'\nnew = 'any'\n\
        [[rule]]\nmatch = 'bed/*'\nspec = 'wav pcm16 any any'\nloop-multiple = 64\nlongest = '1s'\nshortest = '100ms'\nnew = 'any'\n";
    let sheet = fs::read_to_string(bench.path("ferry.toml")).unwrap();
    bench.put(
        "ferry.toml",
        (sheet.replace("[names]", "[names]\ncase = 'lower'").replace(
            "spec = 'wav pcm16 22050 mono'",
            "spec = 'wav pcm16 22050 mono'\nlevel = 'stock'",
        ) + more)
            .as_bytes(),
    );
    for (slot, options, code, part) in [
        ("sfx/gull_1.wav", vec![], 0, "wav pcm16 22050 mono, 0.500 s"),
        (
            "sfx/gull_1.wav",
            vec!["--level", "-30LUFS"],
            0,
            "--level -30.0 LUFS instead of the sheet's stock",
        ),
        (
            "sfx/gull_1.wav",
            vec!["--spec", "wav pcm8 any any"],
            0,
            "--spec \"wav pcm8 any any\" instead of the sheet's \"wav pcm16 22050 mono\"",
        ),
        (
            "sfx/gull_1.wav",
            vec!["--header", "extensible"],
            0,
            "--header extensible instead of the sheet's plain",
        ),
        ("sfx/guull_1.wav", vec![], 5, "did you mean sfx/gull_1.wav"),
        ("../gull_1.wav", vec![], 5, "leads out of its folder"),
        ("music/dusk.ogg", vec![], 4, "wants a sound that loops"),
        (
            "music/dusk.ogg",
            vec!["--loop", "0.1s..0.4s"],
            0,
            "ogg vorbis 48000 stereo, 0.400 s",
        ),
        ("BANK.LBX", vec![], 4, "format is closed"),
        ("deck/horn.wav", vec![], 0, "wav pcm16 44100 4ch"),
        ("deck/HORN.wav", vec![], 5, "deck/horn.wav would be right"),
        ("small/x.ogg", vec![], 4, "size: "),
        (
            "bed/x.wav",
            vec!["--cut", "0..50ms"],
            4,
            "should be 0.100 s at least",
        ),
        (
            "bed/x.wav",
            vec!["--speed", "0.25"],
            4,
            "1.000 s is the longest",
        ),
    ] {
        let args = [
            "fit",
            "clip.wav",
            "-o",
            "out.bin",
            "--overwrite",
            "--target",
            "ferry.toml",
            "--slot",
            slot,
        ];
        let ran = bench.run(&[&args[..], &options].concat());
        let all = ran.out + &ran.err;
        assert!(
            ran.code == code && all.contains(part),
            "{slot} {options:?}: {} {all}",
            ran.code
        );
    }
    // A clip whose loop stands under the target's own names brings it along.
    let own = [
        "fit",
        "game/music/storm.ogg",
        "-o",
        "own.ogg",
        "--target",
        "ferry.toml",
        "--slot",
        "music/dusk.ogg",
    ];
    assert!(bench.run(&own).out.contains("kept byte for byte"));
    let tags = "start=REPEAT_AT,length=REPEAT_FOR";
    let looped = bench.json(&["inspect", "own.ogg", "--loop-tags", tags]);
    assert_eq!(looped["files"][0]["loops"][0]["start"], 4_800);
    let round = bench.json(&[
        "hear",
        "own.ogg",
        "--loops",
        "3",
        "--loop-tags",
        tags,
        "-o",
        "round.wav",
    ]);
    assert_eq!(
        round["seconds"].as_f64().unwrap(),
        (96_000.0 + 2.0 * 48_000.0) / 48_000.0
    );
    // As loud as the stock was, told by the list alone.
    fs::remove_dir_all(bench.path("game")).unwrap();
    let args = [
        "fit",
        "clip.wav",
        "-o",
        "gull_1.wav",
        "--target",
        "ferry.toml",
        "--slot",
        "sfx/gull_1.wav",
    ];
    assert_eq!(bench.run(&args).code, 0);
    let found = bench.json(&["inspect", "gull_1.wav"]);
    let lufs = found["files"][0]["survey"]["loudness"]["lufs"]
        .as_f64()
        .unwrap();
    assert!((lufs + 17.6).abs() < 0.1, "{lufs}");
}

#[test]
fn swap_obeys_the_sheet_and_takes_what_is_listed() {
    let bench = game();
    let sheet = "name = 'Ferry'\nmarker = 'ferry.toml'\nafter = 'Start it again.'\n[[slots]]\nin-root = 'list.txt'\n\
        [[slots]]\nin-root = '.'\n[[rule]]\nmatch = '**/*.wav'\nspec = 'wav pcm16 22050 mono'\nlevel = 'stock'\nnew = 'listed'\n";
    bench.put("sheet.toml", sheet.as_bytes());
    bench.put("game/list.txt", b"sfx/whistle.wav\r\n");
    for (slot, code, part) in [
        ("game/sfx/bell.wav", 0, "Start it again."),
        ("game/sfx/whistle.wav", 0, "nothing was here before"),
        ("game/sfx/whistle.wav", 0, "the level stays as it is"),
        ("game/sfx/belll.wav", 5, "did you mean sfx/bell.wav"),
        ("card/SAY/TICK01.PRM", 5, "lies in no root of Ferry"),
    ] {
        let ran = bench.run(&["swap", "clip.wav", slot, "--target", "sheet.toml"]);
        let all = ran.out + &ran.err;
        assert!(
            ran.code == code && all.contains(part),
            "{slot}: {} {all}",
            ran.code
        );
    }
    assert_eq!(bench.run(&["restore", "game"]).code, 0);
    assert!(!bench.path("game/sfx/whistle.wav").exists());
}

#[test]
fn closed_formats_go_by_their_rule() {
    let bench = game();
    learnt(&bench);
    let sheet = fs::read_to_string(bench.path("ferry.toml")).unwrap();
    let own = env!("CARGO_BIN_EXE_deft-needle");
    let encoder = format!(
        "spec = 'opaque'\nlargest = '200KiB'\nencoder = {{ command = ['{own}', 'stand-in-lockbox', '{{in}}', '{{out}}'], feed = 'wav pcm16 48000 stereo' }}"
    );
    bench.put(
        "ferry.toml",
        sheet.replace("spec = 'opaque'", &encoder).as_bytes(),
    );
    bench.put("other.lbx", b"LBX2 something else");
    bench.put("right.lbx", b"LBX1 made elsewhere");
    bench.put("large.lbx", &[b"LBX1".as_slice(), &[9; 300_000]].concat());
    for (clip, options, code, part) in [
        ("clip.wav", vec![], 5, "this would run"),
        ("clip.wav", vec!["--allow-commands"], 0, "installed"),
        ("right.lbx", vec!["--as-is"], 0, "installed"),
        (
            "other.lbx",
            vec!["--as-is"],
            4,
            "begins with 4C 42 58 32, should be 4C 42 58 31",
        ),
        (
            "large.lbx",
            vec!["--as-is"],
            4,
            "size: 293.0 KiB, should be 200.0 KiB at most",
        ),
    ] {
        let args = [
            "swap",
            clip,
            "game/BANK.LBX",
            "--root",
            "game",
            "--target",
            "ferry.toml",
        ];
        let ran = bench.run(&[&args[..], &options].concat());
        let all = ran.out + &ran.err;
        assert!(
            ran.code == code && all.contains(part),
            "{clip} {options:?}: {} {all}",
            ran.code
        );
    }
    let fit = [
        "fit",
        "clip.wav",
        "-o",
        "bank.lbx",
        "--target",
        "ferry.toml",
        "--slot",
        "BANK.LBX",
    ];
    assert_eq!(
        bench.run(&[&fit[..], &["--allow-commands"]].concat()).code,
        0
    );
    assert!(
        fs::read(bench.path("bank.lbx"))
            .unwrap()
            .starts_with(b"LBX1")
    );
}

/// The examples of the documentation are sheets that the program takes, and name every key it knows.
#[test]
fn the_documentation_has_every_key_in_an_example() {
    let bench = Bench::new();
    let text = include_str!("../../../docs/target-sheets.md");
    let examples: Vec<&str> = text
        .split("```toml\n")
        .skip(1)
        .map(|rest| rest.split("```").next().unwrap())
        .collect();
    assert!(examples.len() >= 6);
    bench.put(
        "lantern-ferry.slots.csv",
        b"name,spec,seconds,frames,lufs,loop,bytes,hash\n",
    );
    for example in &examples {
        bench.put("example.toml", example.as_bytes());
        let ran = bench.run(&["check", "example.toml"]);
        assert_eq!(ran.code, 0, "{example}{}{}", ran.out, ran.err);
    }
    for table in [
        "",
        "[names]\n",
        "[[slots]]\n",
        "[[rule]]\n",
        "[[entry]]\n",
        "[[carry]]\n",
        "[pack]\n",
        "[[rule]]\nencoder = { nonsense = 1 }\n",
        "[pack]\nfiles = [{ nonsense = 1 }]\n",
    ] {
        bench.put("example.toml", format!("{table}nonsense = 1\n").as_bytes());
        let err = bench.run(&["check", "example.toml"]).err;
        let known = err
            .split("known are: ")
            .nth(1)
            .unwrap_or_else(|| panic!("{table}: {err}"));
        for key in known
            .trim()
            .split(", ")
            .filter(|key| !["slots", "labels", "rule", "entry", "names", "files"].contains(key))
        {
            let told = text.contains(&format!("`{key}`"))
                || text.contains(&format!("`[{key}]`"))
                || text.contains(&format!("`[[{key}]]`"));
            let shown = examples.iter().any(|example| example.contains(key));
            assert!(told && shown, "{key} of {table:?} is not documented");
        }
    }
}

/// 440 Hz on the left and 550 on the right: a quarter of a second is whole periods of one alone.
#[test]
fn seams_are_judged_and_told() {
    let bench = Bench::new();
    for (typed, code, part) in [
        (vec!["--loop", "0.1s..0.3s"], 0, "good"),
        (vec!["--loop", "0.1s..0.35s"], 1, "bad"),
        (vec!["--loop", "0.1s+100s"], 4, "which is 0.500 s long"),
        (vec!["--loop", "none"], 2, "no seam without a loop"),
        (vec![], 4, "has no loop points"),
    ] {
        let ran = bench.run(&[&["seam", "clip.wav"][..], &typed].concat());
        let all = ran.out + &ran.err;
        assert!(
            ran.code == code && all.contains(part),
            "{typed:?}: {} {all}",
            ran.code
        );
    }
    let set = ["fit", "clip.wav", "-o", "round.wav", "--loop", "0.1s..0.3s"];
    assert_eq!(bench.run(&set).code, 0);
    let seam = bench.json(&["seam", "round.wav"]);
    assert_eq!(seam["seams"][0]["verdict"], "good");
    assert_eq!(seam["seams"][0]["range"]["end"], 13_230);
}

#[test]
fn names_come_from_lists_of_every_kind() {
    let bench = Bench::new();
    bench.put("root/noises.json", br#"{"held": {"N-bell": 1, "N-gull": 2, "other": 3}, "all": [{"plays": "sfx/horn.ogg"}, {"plays": "sfx\\pipe.ogg"}]}"#);
    bench.put(
        "root/say.tsv",
        "slot\tsay\r\nTICK.PRM\ttick \"so\"\r\n".as_bytes(),
    );
    bench.put(
        "root/wide.txt",
        &[
            &[0xFF, 0xFE][..],
            &"head\nm\u{f6}we.wav\n"
                .encode_utf16()
                .flat_map(u16::to_le_bytes)
                .collect::<Vec<_>>(),
        ]
        .concat(),
    );
    bench.put(
        "beside.csv",
        b"# made by hand\nnumber;path\n1;a.wav\n2;b.wav\n",
    );
    for (source, names) in [
        (
            "in-root = 'noises.json'\npointer = '/held'\nfind = '^N-(\\w+)$'\nmake = 'sfx/{1}.ogg'",
            vec!["sfx/bell.ogg", "sfx/gull.ogg"],
        ),
        (
            "in-root = 'noises.json'\npointer = '/all'\nfield = 'plays'",
            vec!["sfx/horn.ogg", "sfx/pipe.ogg"],
        ),
        ("in-root = 'say.tsv'\ncolumn = 'slot'", vec!["TICK.PRM"]),
        ("in-root = 'wide.txt'\nheadings = 1", vec!["m\u{f6}we.wav"]),
        (
            "from = 'beside.csv'\ndelimiter = ';'\ncolumn = 2\nheadings = 2",
            vec!["a.wav", "b.wav"],
        ),
        (
            "from = 'beside.csv'\ndelimiter = ';'\ncolumn = 'path'\nheadings = 2",
            vec!["a.wav", "b.wav"],
        ),
    ] {
        bench.put("sheet.toml", format!("name = 'x'\n[[slots]]\n{source}\n[[rule]]\nmatch = '**'\nspec = 'any any any any'\n").as_bytes());
        let found = bench.json(&["slots", "sheet.toml", "--root", "root"]);
        let found: Vec<&str> = found["slots"]
            .as_array()
            .unwrap()
            .iter()
            .map(|s| s["name"].as_str().unwrap())
            .collect();
        assert_eq!(found, names, "{source}");
    }
    let out = "name = 'x'\n[[slots]]\nin-root = '.'\nfind = '.*'\nmake = '../{0}'\n[[rule]]\nmatch = '**'\nspec = 'any any any any'\n";
    bench.put("out.toml", out.as_bytes());
    bench.put("root/a.wav", &wav(8_000, 1, 8, 10, 0.1));
    let ran = bench.run(&["slots", "out.toml", "--root", "root"]);
    assert!(
        ran.code == 2 && ran.err.contains("leads out"),
        "{}",
        ran.err
    );
    // What only lies in the root is held against the names' rules, too.
    bench.put("heap/a.wav", &wav(8_000, 1, 8, 10, 0.1));
    bench.put("heap/A.WAV", &wav(8_000, 1, 8, 10, 0.1));
    let sheet = "name = 'x'\n[names]\nstem-longest = 8\n[[slots]]\nin-root = '.'\n[[rule]]\nmatch = '**'\nspec = 'any any any any'\n";
    bench.put("heap.toml", sheet.as_bytes());
    let heap = bench.run(&["check", "heap", "--target", "heap.toml", "--root", "heap"]);
    assert!(
        heap.code == usize::from(bench.names("heap").len() == 2) as i32,
        "{}{}",
        heap.out,
        heap.err
    );
    let unread = bench.run(&["slots", "sheet.toml"]);
    assert_eq!(
        unread.code, 0,
        "a list beside the sheet needs no root: {}",
        unread.err
    );
}

#[test]
fn every_sheet_that_ships_makes_what_it_asks_for() {
    let bench = Bench::new();
    bench.put("speech.wav", &wav(48_000, 2, 16, 96_000, 0.3));
    let names = bench.json(&["sheets"]);
    for sheet in names["sheets"].as_array().unwrap() {
        let name = sheet["name"].as_str().unwrap();
        let out = format!("made-{name}/");
        let needs_loop = name == "loop-bed";
        let listed = name == "small-prompt";
        let ran = bench.run(&["fit", "speech.wav", "-o", &out, "--target", name]);
        let aac = cfg!(feature = "aac") || name != "ring-melody";
        let want = if needs_loop {
            4
        } else if !aac {
            2
        } else {
            0
        };
        assert_eq!(
            ran.code,
            if listed { 5 } else { want },
            "{name}: {}{}",
            ran.out,
            ran.err
        );
        if ran.code == 0 {
            let check = bench.run(&["check", &out, "--target", name]);
            assert_eq!(check.code, 0, "{name}: {}{}", check.out, check.err);
        }
    }
    // A file of that name comes first.
    bench.put("placed-effect", b"name = 'mine'\n");
    assert!(
        bench
            .run(&["slots", "placed-effect"])
            .out
            .contains("gives no names")
    );
}

#[test]
fn names_are_checked_without_a_sheet() {
    let bench = Bench::new();
    let rules = ["--name-longest", "6", "--name-allowed", "A-Z0-9"];
    assert_eq!(
        bench
            .run(
                &[
                    &["check", "card/SAY", "--spec", "any any any any"][..],
                    &rules
                ]
                .concat()
            )
            .code,
        0
    );
    let ran = bench.run(&[&["check", "clip.wav", "card/SAY"][..], &rules].concat());
    assert!(
        ran.code == 1 && ran.out.contains("CLIP.wav would be right"),
        "{}",
        ran.out
    );
    let fit = [
        "fit",
        "clip.wav",
        "-o",
        "too long.wav",
        "--spec",
        "wav pcm8 any any",
    ];
    let ran = bench.run(&[&fit[..], &rules].concat());
    assert!(
        ran.code == 5 && ran.err.contains("TOOLO.wav would be right")
            || ran.err.contains("TOOLON.wav"),
        "{}",
        ran.err
    );
    assert!(!bench.path("too long.wav").exists());
}

#[test]
fn hostile_sheets_are_refused_where_they_are_wrong() {
    let bench = game();
    let head = "name = 'x'\n";
    let rule = "[[rule]]\nmatch = '**'\n";
    let long = "k".repeat(10 << 20);
    for (text, parts) in [
        (
            format!("{head}[[rule]]\nmach = '**'\n"),
            vec![
                "line 3, column 1: unknown key \"mach\"",
                "did you mean \"match\"?",
                "3 | mach = '**'",
                "^^^^",
            ],
        ),
        (
            format!("{head}markers = 'x'"),
            vec!["unknown key \"markers\"", "did you mean \"marker\"?"],
        ),
        (
            format!("{head}marker = '../x'"),
            vec!["line 2", "leads out"],
        ),
        (format!("{head}marker = '/etc/x'"), vec!["is absolute"]),
        (
            format!("{head}marker = \"C:\\new\\tones\""),
            vec!["single quotes"],
        ),
        (format!("{head}marker = 'a/NUL.txt'"), vec!["device"]),
        (
            format!("{head}[[slots]]\nfrom = '../../x.csv'"),
            vec!["line 3", "leads out"],
        ),
        (
            format!("{head}[[entry]]\nfile = '../x'\nvalue = 1"),
            vec!["leads out"],
        ),
        (
            format!("{head}{rule}spec = 'wave pcm16 44100 mono'"),
            vec!["line 4, column 8", "\"wave\" is no container"],
        ),
        (
            format!("{head}{rule}spec = 'wav imaadpcm 22050 5.1'"),
            vec!["2 channels at most"],
        ),
        (
            format!("{head}{rule}spec = 'qoa qoa 44100 mono'\nloop = 'required'"),
            vec!["qoa has no place for loop points"],
        ),
        (
            format!("{head}{rule}spec = 'ogg vorbis 44100 mono'\nheader = 'plain'"),
            vec!["header tells kinds of WAV"],
        ),
        (
            format!("{head}{rule}spec = 'wav pcm16 44100 stereo'\nroute = 'L R R L'"),
            vec!["feeds 4 channels, and the spec line has 2"],
        ),
        (
            format!("{head}{rule}spec = 'wav pcm16 44100 mono'\nheader = 'plian'"),
            vec!["did you mean \"plain\"?"],
        ),
        (
            format!("{head}{rule}spec = 'wav pcm16 44100 mono'\nlongest = 'soon'"),
            vec!["line 5", "\"soon\" is no time"],
        ),
        (
            format!("{head}{rule}spec = 'wav pcm16 44100 mono'\nlongest = '1s'\nshortest = '2s'"),
            vec!["longer than the longest"],
        ),
        (
            format!("{head}[[rule]]\nmatch = '../**'\nspec = 'opaque'"),
            vec!["leads out of its root"],
        ),
        (
            format!("{head}{rule}spec = 'opaque'\nlevel = '-1dBFS'"),
            vec!["closed format"],
        ),
        (
            format!("{head}[[slots]]\nin-root = 'x'\nroot = 'attic'"),
            vec!["there is no root \"attic\""],
        ),
        (
            format!("{head}[names]\nallowed = 'z-a'"),
            vec!["runs backwards"],
        ),
        (head[..5].to_owned(), vec!["line 1"]),
        (format!("{long} = 1"), vec!["at most"]),
        (
            format!("{} = 1", &long[..1 << 20]),
            vec!["unknown key \"kkkk"],
        ),
        (
            format!("{head}[[slots]]\nfrom = 'bad.csv'"),
            vec!["bad.csv, line 3", "leads out"],
        ),
        (
            format!("{head}[[slots]]\nfrom = 'bad.json'"),
            vec!["bad.json, line 2", "leads out"],
        ),
    ] {
        bench.put("bad.csv", b"name,spec,seconds,frames,lufs,loop,bytes,hash\na.wav,opaque,,,,,1,\n..\\b.wav,opaque,,,,,1,\n");
        bench.put("bad.json", b"[\n\"../../x.wav\"]");
        bench.put("bad.toml", text.as_bytes());
        let ran = bench.run(&["slots", "bad.toml"]);
        let shown = &text[..text.len().min(200)];
        assert_eq!(ran.code, 2, "{shown}: {}", ran.err);
        assert!(
            ran.err.len() < 2_000,
            "{shown}: a screen full of {} bytes",
            ran.err.len()
        );
        for part in parts {
            assert!(ran.err.contains(part), "{shown}: {part}\n{}", ran.err);
        }
    }
    // Rules that shadow each other, and such that no slot reaches, are told.
    learnt(&bench);
    let sheet = fs::read_to_string(bench.path("ferry.toml")).unwrap();
    let more = "[[rule]]\nmatch = 'sfx/gull_#.wav'\nspec = 'wav pcm16 any any'\n[[rule]]\nmatch = 'vox/**'\nspec = 'mp3 mp3 44100 stereo'\n";
    bench.put("ferry.toml", (sheet + more).as_bytes());
    let ran = bench.run(&["check", "ferry.toml"]);
    for part in [
        "every slot that it matches is taken by the rule in line",
        "no slot matches this rule",
        "is read here and not written",
        "3 remarks",
    ] {
        assert!(
            ran.code == 1 && (ran.err.clone() + &ran.out).contains(part),
            "{part}: {}{}",
            ran.out,
            ran.err
        );
    }
}

#[test]
fn hostile_archives_are_refused_and_nothing_is_written() {
    let bench = Bench::new();
    let sound = wav(8_000, 1, 8, 100, 0.1);
    let zip = |name: &str, write: &dyn Fn(&mut Zip)| {
        let mut zip = zip::ZipWriter::new(Cursor::new(Vec::new()));
        zip.start_file("a.wav", SimpleFileOptions::default())
            .unwrap();
        zip.write_all(&sound).unwrap();
        write(&mut zip);
        bench.put(name, &zip.finish().unwrap().into_inner());
    };
    let fast = SimpleFileOptions::default().compression_level(Some(1));
    zip("bomb.zip", &|zip| {
        zip.start_file("b.wav", fast).unwrap();
        for _ in 0..260 {
            zip.write_all(&vec![0; 1 << 20]).unwrap();
        }
    });
    zip("link.zip", &|zip| {
        zip.add_symlink("b.wav", "/etc/passwd", fast).unwrap()
    });
    for (file, entry) in [
        ("up.zip", "../b.wav"),
        ("root.zip", "/b.wav"),
        ("drive.zip", "C:\\b.wav"),
        ("device.zip", "sfx/con.wav"),
        ("ledger.zip", ".deft-needle/ledger.log"),
    ] {
        zip(file, &|zip| {
            zip.start_file(entry, fast).unwrap();
            zip.write_all(&sound).unwrap();
        });
    }
    let mut tar = tar::Builder::new(Vec::new());
    let mut header = tar::Header::new_ustar();
    header.set_entry_type(tar::EntryType::Symlink);
    header.set_size(0);
    tar.append_link(&mut header, "b.wav", "/etc/passwd")
        .unwrap();
    bench.put("link.tar", &tar.into_inner().unwrap());
    bench.put("broken.zip", b"PK\x03\x04 and no more");
    bench.put("empty.tar", &[0; 1024]);
    let before = bench.names(".");
    for (file, code, part) in [
        ("bomb.zip", 5, "b.wav would take more than 256.00 MiB"),
        ("link.zip", 5, "\"b.wav\" is a link"),
        ("link.tar", 5, "\"b.wav\" is a link"),
        ("up.zip", 5, "leads out"),
        ("root.zip", 5, "absolute"),
        ("drive.zip", 5, "absolute"),
        ("device.zip", 5, "device"),
        ("ledger.zip", 5, "ledger"),
        ("broken.zip", 3, "cannot read broken.zip"),
        ("empty.tar", 5, "holds no sound"),
        ("text.wav", 5, "neither a folder nor a zip or tar"),
    ] {
        let ran = bench.run(&["learn", file, "-o", "out.toml"]);
        assert!(
            ran.code == code && ran.err.contains(part),
            "{file}: {} {}",
            ran.code,
            ran.err
        );
    }
    assert_eq!(bench.names("."), before);
}
