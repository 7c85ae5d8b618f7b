//! Files held against a target sheet, fitted and swapped by it.

use crate::bench::{game, learnt, wav};
use std::fs;

#[test]
fn a_tree_is_held_against_its_sheet_line_by_line() {
    let bench = game();
    let sheet = learnt(&bench)
        .replace("name = 'game'", "name = 'Ferry'\nmarker = 'ferry.toml'\nbudget = '1MB'")
        .replace("[names]", "[names]\ncase = 'lower'")
        .replace(
            "spec = 'wav pcm16 22050 mono'",
            "spec = 'wav pcm16 22050 mono'\ncount = [1, 2]\nlargest = '100KiB'\nlongest = '2s'",
        );
    bench.put("ferry.toml", sheet.as_bytes());
    assert_eq!(bench.run(&["check", "game", "--target", "ferry.toml"]).code, 0);
    assert_eq!(bench.run(&["check", "ferry.toml"]).code, 0);
    for (name, bytes, parts) in [
        (
            "sfx/bell.wav",
            wav(44_100, 2, 16, 100, 0.1),
            vec![
                "sfx/bell.wav:\n  is wav pcm16 44100 stereo, should be wav pcm16 22050 mono\n",
                "fix: deft-needle fit game/sfx/bell.wav -o fixed/bell.wav --target ferry.toml --slot sfx/bell.wav",
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
                "its name has upper-case letters, must be lower case; use sfx/bell_2.wav",
            ],
        ),
        (
            "sfx/bell.wav.wav",
            wav(22_050, 1, 16, 10, 0.1),
            vec!["second extension, .wav; use sfx/bell.wav"],
        ),
        (
            "sfx/bell.ogg",
            wav(22_050, 1, 16, 10, 0.1),
            vec!["should end in .wav", "has the stem of sfx/bell.wav"],
        ),
        (
            "sfx/aux.wav",
            wav(22_050, 1, 16, 10, 0.1),
            vec!["the name of a device on Windows; use sfx/auxs.wav"],
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
                "is wav pcm16 22050 mono, should be ogg vorbis 48000 stereo",
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
            vec!["not audio", "all slots together: 2.09 MiB, and 976.6 KiB is there"],
        ),
        ("deck/x.wav", wav(8_000, 1, 16, 10, 0.1), vec!["no rule of the sheet matches it"]),
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
        assert_eq!(bench.run(&["check", path, "--target", "ferry.toml"]).code, 0, "{path}");
    }
    let wrong = bench.run(&["check", "card", "--target", "ferry.toml", "--root", "card"]);
    assert!(
        wrong.code == 5 && wrong.err.contains("not a root of Ferry: it has no ferry.toml"),
        "{}",
        wrong.err
    );
    let apart = ["check", "clip.wav", "--target", "ferry.toml", "--slot", "sfx/bell.wav"];
    let said = bench.run(&apart).out;
    assert!(said.contains("is wav pcm16 44100 stereo, should be wav pcm16 22050 mono"), "{said}");
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
            "--level -30LUFS instead of the sheet's stock",
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
        ("../gull_1.wav", vec![], 5, "not lead out of its folder"),
        ("music/dusk.ogg", vec![], 4, "requires a loop"),
        ("music/dusk.ogg", vec!["--loop", "0.1s..0.4s"], 0, "ogg vorbis 48000 stereo, 0.407 s"),
        ("BANK.LBX", vec![], 4, "format is closed"),
        ("deck/horn.wav", vec![], 0, "wav pcm16 44100 4ch"),
        ("deck/HORN.wav", vec![], 5, "use deck/horn.wav"),
        ("small/x.ogg", vec![], 4, "size: "),
        ("bed/x.wav", vec!["--cut", "0..50ms"], 4, "should be 0.100 s at least"),
        ("bed/x.wav", vec!["--speed", "0.25"], 4, "1.000 s is the longest"),
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
        assert!(ran.code == code && all.contains(part), "{slot} {options:?}: {} {all}", ran.code);
    }
    // Lists in a root are read where that is named, and told where it is not.
    let listing = "name = 'x'\n[[slots]]\nin-root = 'list.txt'\n[[rule]]\nmatch = '**'\nspec = 'wav pcm8 any any'\n";
    bench.put("listing.toml", listing.as_bytes());
    bench.put("game/list.txt", b"gull.wav\n");
    for (options, slot, code, part) in [
        (vec![], "bell.wav", 0, "were not read: say where it is with --root"),
        (vec!["--root", "game"], "gull.wav", 0, "converted"),
        (vec!["--root", "game"], "bell.wav", 5, "x has no slot bell.wav"),
        (vec!["--root", "nowhere"], "gull.wav", 3, "cannot read"),
    ] {
        let args = [
            "fit",
            "clip.wav",
            "-o",
            "out.bin",
            "--overwrite",
            "--target",
            "listing.toml",
            "--slot",
            slot,
        ];
        let ran = bench.run(&[&args[..], &options].concat());
        let all = ran.out + &ran.err;
        assert!(ran.code == code && all.contains(part), "{options:?} {slot}: {} {all}", ran.code);
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
    let round =
        bench.json(&["hear", "own.ogg", "--loops", "3", "--loop-tags", tags, "-o", "round.wav"]);
    assert_eq!(round["seconds"].as_f64().unwrap(), (96_000.0 + 2.0 * 48_000.0) / 48_000.0);
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
    let lufs = found["files"][0]["survey"]["loudness"]["lufs"].as_f64().unwrap();
    assert!((lufs + 17.6).abs() < 0.1, "{lufs}");
}

#[test]
fn swap_obeys_the_sheet_and_takes_what_is_listed() {
    let bench = game();
    let sheet = "name = 'Ferry'\nmarker = 'ferry.toml'\nafter = 'Start it again.'\n[[slots]]\nin-root = 'list.txt'\n\
        [[slots]]\nin-root = '.'\n[[rule]]\nmatch = '**/*.wav'\nspec = 'wav pcm16 22050 mono'\nlevel = 'stock'\nnew = 'listed'\n";
    bench.put("sheet.toml", sheet.as_bytes());
    bench.put("game/list.txt", b"sfx/whistle.wav\r\n");
    for (clip, slot, code, part) in [
        ("clip.wav", "game/sfx/bell.wav", 0, "Start it again."),
        ("clip.wav", "game/sfx/whistle.wav", 0, ", a new file"),
        ("clip.wav", "game/sfx/whistle.wav", 0, "unchanged, installed from this clip already"),
        ("loud.wav", "game/sfx/whistle.wav", 0, "level unchanged: there is no stock"),
        ("clip.wav", "game/sfx/belll.wav", 5, "did you mean sfx/bell.wav"),
        ("clip.wav", "card/SAY/TICK01.PRM", 5, "is in no root of Ferry"),
    ] {
        let ran = bench.run(&["swap", clip, slot, "--target", "sheet.toml"]);
        let all = ran.out + &ran.err;
        assert!(ran.code == code && all.contains(part), "{slot}: {} {all}", ran.code);
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
    bench.put("ferry.toml", sheet.replace("spec = 'opaque'", &encoder).as_bytes());
    bench.put("other.lbx", b"LBX2 something else");
    bench.put("right.lbx", b"LBX1 made elsewhere");
    bench.put("large.lbx", &[b"LBX1".as_slice(), &[9; 300_000]].concat());
    for (clip, options, code, part) in [
        ("clip.wav", vec![], 5, "this would run"),
        ("clip.wav", vec!["--allow-commands"], 0, "installed"),
        ("loud.wav", vec!["--allow-commands"], 6, "what the encoder made for BANK.LBX fails: size"),
        ("right.lbx", vec!["--as-is"], 0, "installed"),
        ("other.lbx", vec!["--as-is"], 4, "begins with 4C 42 58 32, should be 4C 42 58 31"),
        ("large.lbx", vec!["--as-is"], 4, "size: 293.0 KiB, should be 200.0 KiB at most"),
    ] {
        let args = ["swap", clip, "game/BANK.LBX", "--root", "game", "--target", "ferry.toml"];
        let ran = bench.run(&[&args[..], &options].concat());
        let all = ran.out + &ran.err;
        assert!(ran.code == code && all.contains(part), "{clip} {options:?}: {} {all}", ran.code);
    }
    assert_eq!(fs::read(bench.path("game/BANK.LBX")).unwrap(), b"LBX1 made elsewhere");
    // Without a sheet, the stock tells how its replacement begins; a job sheet can say the same.
    bench.put("game/OTHER.LBX", b"LBX9 another closed format");
    let command = format!("\"{own}\" stand-in-lockbox {{in}} {{out}}");
    let swap = ["swap", "clip.wav", "game/OTHER.LBX", "--root", "game", "--encoder", &command];
    let feed = ["--feed", "wav pcm16 48000 stereo", "--allow-commands"];
    let ran = bench.run(&[&swap[..], &feed].concat());
    assert!(ran.code == 6 && ran.err.contains("should be 4C 42 58 39"), "{}", ran.err);
    bench.put("game/OTHER.LBX", b"LBX1 the same format");
    assert_eq!(bench.run(&[&swap[..], &feed].concat()).code, 0);
    let job = bench.run(&["status", "game", "--as-job", "--target", "ferry.toml"]).out;
    assert!(job.contains("encoder = { command = [") && job.contains("as-is = true"), "{job}");
    assert_eq!(bench.run(&["restore", "game"]).code, 0);
    let line = job.lines().find(|line| line.starts_with("encoder = ")).unwrap();
    let again = format!(
        "target = 'ferry.toml'\nroot = 'game'\n[[replace]]\nslot = 'BANK.LBX'\nclip = 'clip.wav'\n{line}\n"
    );
    bench.put("again.toml", again.as_bytes());
    let ran = bench.run(&["install", "again.toml", "--allow-commands"]);
    assert_eq!(ran.code, 0, "{again}{}{}", ran.out, ran.err);
    assert!(fs::read(bench.path("game/BANK.LBX")).unwrap().len() > 1000);
    let fit = ["fit", "clip.wav", "-o", "bank.lbx", "--target", "ferry.toml", "--slot", "BANK.LBX"];
    assert_eq!(bench.run(&[&fit[..], &["--allow-commands"]].concat()).code, 0);
    assert!(fs::read(bench.path("bank.lbx")).unwrap().starts_with(b"LBX1"));
}
