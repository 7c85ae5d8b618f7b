//! Sheets and names out of stock: learnt, listed, searched.

use crate::bench::{Bench, game, learnt, wav};
use std::fs;
use std::io::{Cursor, Write};
use zip::write::SimpleFileOptions;

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
        tar.append_data(&mut header, format!("./{name}"), bytes.as_slice()).unwrap();
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
    let gull = list.lines().find(|line| line.starts_with("sfx/gull_1.wav")).unwrap();
    // A sine of amplitude 0.2 has −17.0 dBFS RMS; BS.1770 takes 0.69 dB off and K-weighting adds 0.1.
    assert!(gull.contains("wav pcm16 22050 mono,1.0,22050,-17.6,,44144,"), "{gull}");
    let dusk = list.lines().find(|line| line.starts_with("music/dusk")).unwrap();
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
        (vec!["slots", "ferry.toml", "wind", "music"], 0, vec!["music/storm.ogg", "1 of 7"]),
        (
            vec!["slots", "ferry.toml", "gull_*"],
            0,
            vec!["3 of 7", "also catches sfx/gull_wing.wav"],
        ),
        (vec!["slots", "ferry.toml", "guul"], 0, vec!["similar names", "gull_wing"]),
        (
            vec!["slots", "game.pak", "gull_#", "--as-job"],
            0,
            vec!["[[replace]]", "slot = 'sfx/gull_#.wav'", "2 variants"],
        ),
        (vec!["slots", "ferry.toml", "zeppelin"], 1, vec!["no name or label of 7 matches"]),
        (vec!["slots", "ferry.toml", "a["], 2, vec!["well-formed"]),
        (vec!["slots", "loud.wav"], 2, vec!["not UTF-8"]),
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
    assert_eq!(bench.run(&["swap", "loud.wav", "game/sfx/bell.wav", "--root", "game"]).code, 0);
    fs::remove_file(bench.path("game/sfx/gull_1.wav")).unwrap();
    bench.put("game/sfx/gull_2.wav", &wav(22_050, 1, 16, 22_050, 0.3));
    for of in ["ferry.toml", "game"] {
        let found = bench.json(&["slots", of, "--root", "game"]);
        let slot = |name: &str| {
            found["slots"].as_array().unwrap().iter().find(|s| s["name"] == name).cloned()
        };
        assert_eq!(slot("sfx/bell.wav").unwrap()["present"], "replaced");
        assert_eq!(slot("sfx/bell.wav").unwrap()["stock"]["seconds"], 1.0, "{of}");
        if of == "ferry.toml" {
            assert_eq!(slot("sfx/gull_1.wav").unwrap()["present"], "missing");
            assert_eq!(slot("sfx/gull_2.wav").unwrap()["present"], "other");
        }
    }
}

#[test]
fn names_come_from_lists_of_every_kind() {
    let bench = Bench::new();
    bench.put("root/noises.json", br#"{"held": {"N-bell": 1, "N-gull": 2, "other": 3}, "all": [{"plays": "sfx/horn.ogg"}, {"plays": "sfx\\pipe.ogg"}]}"#);
    bench.put("root/say.tsv", "slot\tsay\r\nTICK.PRM\ttick \"so\"\r\n".as_bytes());
    bench.put(
        "root/wide.txt",
        &[
            &[0xFF, 0xFE][..],
            &"head\nm\u{f6}we.wav\n".encode_utf16().flat_map(u16::to_le_bytes).collect::<Vec<_>>(),
        ]
        .concat(),
    );
    bench.put("beside.csv", b"# made by hand\nnumber;path\n1;a.wav\n2;b.wav\n");
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
        ("from = 'beside.csv'\ndelimiter = ';'\ncolumn = 2\nheadings = 2", vec!["a.wav", "b.wav"]),
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
    assert!(ran.code == 2 && ran.err.contains("lead out"), "{}", ran.err);
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
    assert_eq!(unread.code, 0, "a list beside the sheet needs no root: {}", unread.err);
}

#[test]
fn a_listed_slot_is_made_as_its_own_stock() {
    let bench = Bench::new();
    // No name tells these formats apart, so they are alternatives of one rule.
    let formats = [(44_100, 2, 16), (11_025, 1, 16), (8_000, 1, 8), (22_050, 1, 16)];
    let names = ["ab", "kx", "pq", "rt", "uv", "wz", "xy", "zz"];
    for (at, name) in names.iter().enumerate() {
        let (rate, channels, bits) = formats[at % formats.len()];
        bench.put(&format!("game/fx/{name}.wav"), &wav(rate, channels, bits, 2_000, 0.5));
    }
    assert_eq!(bench.run(&["learn", "game", "-o", "game.toml"]).code, 0);
    let sheet = fs::read_to_string(bench.path("game.toml")).unwrap();
    assert_eq!(sheet.matches("[[rule]]").count(), 1, "{sheet}");
    let job =
        "target = 'game.toml'\nroot = 'game'\n[[replace]]\nslot = 'fx/*.wav'\nclip = 'clip.wav'\n";
    bench.put("job.toml", job.as_bytes());
    let done = bench.json(&["install", "job.toml"]);
    assert_eq!(done["placed"].as_array().unwrap().len(), names.len());
    for (at, name) in names.iter().enumerate() {
        let (rate, channels, bits) = formats[at % formats.len()];
        let channels = if channels == 1 { "mono" } else { "stereo" };
        let found = bench.json(&["inspect", &format!("game/fx/{name}.wav")]);
        let want = format!("wav pcm{bits} {rate} {channels}");
        assert_eq!(found["files"][0]["format"], want.as_str(), "{name}");
    }
    // Where the sheet asks for something else than the stock has, that is said; not where the user asked.
    let strict =
        sheet[..sheet.find("spec =").unwrap()].to_owned() + "spec = 'wav pcm16 48000 mono'\n";
    bench.put("strict.toml", strict.as_bytes());
    let swap = ["swap", "clip.wav", "game/fx/ab.wav", "--root", "game", "--target", "strict.toml"];
    let said = bench.run(&swap);
    let differs = "wav pcm16 48000 mono instead of the stock's wav pcm16 44100 stereo";
    assert!((said.out.clone() + &said.err).contains(differs), "{}{}", said.out, said.err);
    let said = bench.run(&[&swap[..], &["--spec", "wav pcm16 8000 mono"]].concat());
    assert!(!(said.out + &said.err).contains("instead of the stock's"));
}
