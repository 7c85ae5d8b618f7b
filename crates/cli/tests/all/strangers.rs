//! Sheets and archives of strangers are refused where they are wrong.

use crate::bench::{Bench, game, learnt, wav};
use std::fs;
use std::io::{Cursor, Write};
use zip::write::SimpleFileOptions;

type Zip = zip::ZipWriter<Cursor<Vec<u8>>>;

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
                "did you mean match?",
                "3 | mach = '**'",
                "^^^^",
            ],
        ),
        (format!("{head}markers = 'x'"), vec!["unknown key \"markers\"", "did you mean marker?"]),
        (format!("{head}marker = '../x'"), vec!["line 2", "lead out"]),
        (format!("{head}marker = '/etc/x'"), vec!["not an absolute one"]),
        (format!("{head}marker = \"C:\\new\\tones\""), vec!["single quotes"]),
        (format!("{head}marker = 'a/NUL.txt'"), vec!["device"]),
        (format!("{head}[[slots]]\nfrom = '../../x.csv'"), vec!["line 3", "lead out"]),
        (format!("{head}[[entry]]\nfile = '../x'\nvalue = 1"), vec!["lead out"]),
        (
            format!("{head}{rule}spec = 'wave pcm16 44100 mono'"),
            vec!["line 4, column 8", "\"wave\" is not a container"],
        ),
        (format!("{head}{rule}spec = 'wav imaadpcm 22050 5.1'"), vec!["2 channels at most"]),
        (
            format!("{head}{rule}spec = 'qoa qoa 44100 mono'\nloop = 'required'"),
            vec!["qoa has no place for loop points"],
        ),
        (
            format!("{head}{rule}spec = 'ogg vorbis 44100 mono'\nheader = 'plain'"),
            vec!["header is for kinds of WAV"],
        ),
        (
            format!("{head}{rule}spec = 'wav pcm16 44100 stereo'\nroute = 'L R R L'"),
            vec!["feeds 4 channels, and the spec line has 2"],
        ),
        (
            format!("{head}{rule}spec = 'wav pcm16 44100 mono'\nheader = 'plian'"),
            vec!["did you mean plain?"],
        ),
        (
            format!("{head}{rule}spec = 'wav pcm16 44100 mono'\nlongest = 'soon'"),
            vec!["line 5", "invalid time \"soon\""],
        ),
        (
            format!("{head}{rule}spec = 'wav pcm16 44100 mono'\nlongest = '1s'\nshortest = '2s'"),
            vec!["longer than the longest"],
        ),
        (
            format!("{head}[[rule]]\nmatch = '../**'\nspec = 'opaque'"),
            vec!["not lead out of its root"],
        ),
        (format!("{head}{rule}spec = 'opaque'\nlevel = '-1dBFS'"), vec!["closed format"]),
        (
            format!("{head}[[slots]]\nin-root = 'x'\nroot = 'attic'"),
            vec!["there is no root \"attic\""],
        ),
        (format!("{head}[names]\nallowed = 'z-a'"), vec!["expected a-z"]),
        (head[..5].to_owned(), vec!["line 1"]),
        (format!("{long} = 1"), vec!["the most that a sheet may take"]),
        (format!("{} = 1", &long[..1 << 20]), vec!["unknown key \"kkkk"]),
        (format!("{head}[[slots]]\nfrom = 'bad.csv'"), vec!["bad.csv, line 3", "lead out"]),
        (format!("{head}[[slots]]\nfrom = 'bad.json'"), vec!["bad.json, line 2", "lead out"]),
    ] {
        bench.put("bad.csv", b"name,spec,seconds,frames,lufs,loop,bytes,hash\na.wav,opaque,,,,,1,\n..\\b.wav,opaque,,,,,1,\n");
        bench.put("bad.json", b"[\n\"../../x.wav\"]");
        bench.put("bad.toml", text.as_bytes());
        let ran = bench.run(&["slots", "bad.toml"]);
        let shown = &text[..text.len().min(200)];
        assert_eq!(ran.code, 2, "{shown}: {}", ran.err);
        assert!(ran.err.len() < 2_000, "{shown}: a screen full of {} bytes", ran.err.len());
        for part in parts {
            assert!(ran.err.contains(part), "{shown}: {part}\n{}", ran.err);
        }
    }
    // Rules that shadow each other, and such that no slot reaches, are told.
    learnt(&bench);
    let sheet = fs::read_to_string(bench.path("ferry.toml")).unwrap();
    let more = "[[rule]]\nmatch = 'sfx/gull_#.wav'\nspec = 'wav pcm16 any any'\n[[rule]]\nmatch = 'vox/**'\nspec = 'mp3 mp3 44100 stereo'\n[[entry]]\nmatch = 'voices/*'\nfile = 'cast.txt'\nvalue = '{stem}'\n";
    bench.put("ferry.toml", (sheet + more).as_bytes());
    let ran = bench.run(&["check", "ferry.toml"]);
    for part in [
        "every slot that it matches is taken by the rule in line",
        "no slot matches it",
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
fn what_is_hostile_in_archives_is_left_aside_and_never_written() {
    let bench = Bench::new();
    let sound = wav(8_000, 1, 8, 100, 0.1);
    let zip = |name: &str, write: &dyn Fn(&mut Zip)| {
        let mut zip = zip::ZipWriter::new(Cursor::new(Vec::new()));
        zip.start_file("a.wav", SimpleFileOptions::default()).unwrap();
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
    zip("link.zip", &|zip| zip.add_symlink("b.wav", "/etc/passwd", fast).unwrap());
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
    tar.append_link(&mut header, "b.wav", "/etc/passwd").unwrap();
    bench.put("link.tar", &tar.into_inner().unwrap());
    bench.put("broken.zip", b"PK\x03\x04 and no more");
    bench.put("empty.tar", &[0; 1024]);
    let before = bench.names(".");
    for (file, code, part) in [
        ("bomb.zip", 5, "b.wav would take more than 256.00 MiB"),
        ("link.zip", 3, "\"b.wav\" is a link"),
        ("link.tar", 5, "\"b.wav\" is a link"),
        ("up.zip", 3, "lead out"),
        ("root.zip", 3, "absolute"),
        ("drive.zip", 3, "absolute"),
        ("device.zip", 3, "device"),
        ("ledger.zip", 3, "ledger"),
        ("broken.zip", 3, "cannot read broken.zip"),
        ("empty.tar", 5, "holds no audio file"),
        ("text.wav", 5, "neither a folder nor a zip or tar"),
    ] {
        let ran = bench.run(&["learn", file, "-o", "out.toml"]);
        assert!(ran.code == code && ran.err.contains(part), "{file}: {} {}", ran.code, ran.err);
        // One entry that cannot be trusted does not keep the others from being read; it is no slot.
        let list = fs::read_to_string(bench.path("out.slots.csv")).unwrap_or_default();
        let (good, bad) =
            (list.contains("\na.wav,"), list.contains("b.wav") || list.contains("con.wav"));
        assert_eq!((good, bad), (code == 3 && file != "broken.zip", false), "{file}: {list}");
        for made in ["out.toml", "out.slots.csv"] {
            let _ = fs::remove_file(bench.path(made));
        }
    }
    assert_eq!(bench.names("."), before);
    assert!(!bench.path("../b.wav").exists());
}
