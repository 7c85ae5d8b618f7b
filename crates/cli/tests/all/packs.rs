//! Jobs as mirrored trees and as packs, with the built program.

use crate::bench::ferry::{JOB, ROOTS, SHEET, ferry, tree};
use crate::bench::{Bench, wav};
use std::fs;
use std::path::Path;

#[test]
fn an_overlay_holds_its_own_lists_and_goes_without_a_trace() {
    let bench = ferry();
    bench.put(
        "quay.toml",
        JOB.replace("[values]", "overlay = 'game/berths/{berth}'\n[values]").as_bytes(),
    );
    let mut stock = tree(&bench, &ROOTS);
    stock.remove("game/music/warm.idx");
    let ran = bench.run(&["install", "quay.toml"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    let now = tree(&bench, &ROOTS);
    for name in ["sfx/gull_1.wav", "music/dusk.ogg", "cues.json", "ferry.toml"] {
        let own = &now[&format!("game/berths/QUAY-7/{name}")];
        assert_eq!(name == "ferry.toml", *own == stock[&format!("game/{name}")], "{name}");
        assert_eq!(
            now[&format!("game/{name}")],
            stock[&format!("game/{name}")],
            "{name} itself stays"
        );
    }
    assert_eq!(now["settings/mix.ini"], b"[Mixer]\r\nBanks=BASE;QUAY-7\r\n");
    assert!(bench.run(&["install", "quay.toml"]).out.contains("nothing to do"));
    assert_eq!(bench.run(&["restore", "game"]).code, 0);
    assert_eq!(tree(&bench, &ROOTS), stock);
    assert!(!bench.path("game/berths").exists());
}

/// The folder follows a value: what was made in the old place goes, lists among it, and the new place holds all.
#[test]
fn an_overlay_that_moves_leaves_nothing_behind() {
    let bench = ferry();
    let at = |berth: &str| {
        let job = JOB.replace("[values]", "overlay = 'game/berths/{berth}'\n[values]");
        bench.put("quay.toml", job.replace("'QUAY-7'", &format!("'{berth}'")).as_bytes());
        let ran = bench.run(&["install", "quay.toml"]);
        assert_eq!(ran.code, 0, "{}", ran.err);
    };
    let mut stock = tree(&bench, &ROOTS);
    stock.remove("game/music/warm.idx");
    at("QUAY-8");
    let other = tree(&bench, &ROOTS);
    assert_eq!(bench.run(&["restore", "game"]).code, 0);
    at("QUAY-7");
    at("QUAY-8");
    assert_eq!(tree(&bench, &ROOTS), other);
    assert!(!bench.path("game/berths/QUAY-7").exists());
    assert_eq!(bench.run(&["restore", "game"]).code, 0);
    assert_eq!(tree(&bench, &ROOTS), stock);
}

#[test]
fn an_overlay_takes_lists_out_of_the_targets_archive() {
    let bench = ferry();
    let list = fs::read(bench.path("game/cues.json")).unwrap();
    fs::remove_file(bench.path("game/cues.json")).unwrap();
    let mut zip = zip::ZipWriter::new(fs::File::create(bench.path("game/base.pak")).unwrap());
    zip.start_file("cues.json", zip::write::SimpleFileOptions::default()).unwrap();
    std::io::Write::write_all(&mut zip, &list).unwrap();
    zip.finish().unwrap();
    let sheet = SHEET.replace("[labels]", "[[slots]]\nin-root = 'base.pak'\n\n[labels]");
    bench.put("ferry-sheet.toml", sheet.as_bytes());
    let before = tree(&bench, &ROOTS);
    // Without an overlay there is nothing to edit in place.
    let ran = bench.run(&["check", "quay.toml"]);
    assert!(ran.code == 1 && ran.err.contains("start the target once"), "{}", ran.err);
    let overlay = JOB.replace("[values]", "overlay = 'game/berths/{berth}'\n[values]");
    bench.put("quay.toml", overlay.as_bytes());
    let ran = bench.run(&["install", "quay.toml"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    let own = fs::read_to_string(bench.path("game/berths/QUAY-7/cues.json")).unwrap();
    assert!(own.contains("// all") && own.contains("\"millis\": 1500"), "{own}");
    assert_eq!(bench.run(&["restore", "game"]).code, 0);
    let mut after = tree(&bench, &ROOTS);
    after.insert("game/music/warm.idx".to_owned(), b"cache".to_vec());
    assert_eq!(after, before);
}

#[test]
fn packs_are_the_same_on_every_run_and_go_in_safely() {
    let bench = ferry();
    let facts =
        "[pack]\nversion = '2.0'\nauthor = 'somebody'\ncredits = 'found sounds'\nlicence = 'CC0'\n";
    bench.put(
        "quay.toml",
        JOB.replace("[values]", &format!("name = 'Quay \"bells\"'\n{facts}[values]")).as_bytes(),
    );
    let rootless = JOB.replace("roots = { game = 'game', settings = 'settings' }\n", "");
    bench.put(
        "rootless.toml",
        rootless.replace("gull_#", "gull_1").replace("music/dusk", "music/storm").as_bytes(),
    );
    for (job, out) in
        [("quay.toml", "a.ferry"), ("quay.toml", "b.ferry"), ("rootless.toml", "c.ferry")]
    {
        let ran = bench.run(&["pack", job, "-o", out]);
        assert_eq!(ran.code, 0, "{job}: {}", ran.err);
    }
    let read = |name: &str| fs::read(bench.path(name)).unwrap();
    assert!(read("a.ferry") == read("b.ferry") && read("a.ferry") != read("c.ferry"));
    let mut zip = zip::ZipArchive::new(std::io::Cursor::new(read("a.ferry"))).unwrap();
    let mut bill = String::new();
    std::io::Read::read_to_string(&mut zip.by_name("bill.txt").unwrap(), &mut bill).unwrap();
    let lines: Vec<&str> = bill.lines().collect();
    assert!(lines[0].starts_with("\"Quay \\\"bells\\\"\" 2.0 ") && lines[0].len() == 57, "{bill}");
    assert_eq!(
        lines[1..],
        [
            "sfx/gull_1.wav 11025",
            "sfx/gull_2.wav 11025",
            "music/dusk.ogg 72000",
            "by somebody, found sounds"
        ]
        .map(|l| l)
    );
    let mut icon = Vec::new();
    std::io::Read::read_to_end(&mut zip.by_name("icon.png").unwrap(), &mut icon).unwrap();
    assert_eq!(icon[16..24], [0, 0, 0, 32, 0, 0, 0, 32]);

    let mut stock = tree(&bench, &ROOTS);
    assert_eq!(bench.run(&["install", "a.ferry"]).code, 5, "a pack brings no root");
    let install = ["install", "a.ferry", "--root", "game", "--root", "settings=settings"];
    assert_eq!(bench.run(&install).code, 0);
    let now = tree(&bench, &ROOTS);
    assert_ne!(now["game/sfx/gull_1.wav"], stock["game/sfx/gull_1.wav"]);
    assert!(now.contains_key("game/music/warm.idx"), "a stranger's sheet removes nothing");
    assert_eq!(bench.run(&["restore", "game"]).code, 0);
    assert_eq!(tree(&bench, &ROOTS), stock);
    // With the user's own sheet it may.
    assert_eq!(bench.run(&[&install[..], &["--target", "ferry-sheet.toml"]].concat()).code, 0);
    assert!(!bench.path("game/music/warm.idx").exists());
    assert_eq!(bench.run(&["restore", "game"]).code, 0);
    stock.remove("game/music/warm.idx");
    assert_eq!(tree(&bench, &ROOTS), stock);
}

#[test]
fn packs_of_every_form_go_in() {
    for (form, out) in [("tar-gz", "quay.tgz"), ("folder", "quay"), ("zip", "quay.any")] {
        let bench = ferry();
        let sheet = SHEET.replace("folder = \"sounds\"", &format!("form = \"{form}\""));
        bench.put("ferry-sheet.toml", sheet.as_bytes());
        let packed = bench.json(&["pack", "quay.toml", "-o", out]);
        assert_eq!(packed["slots"], 3, "{form}");
        let again = bench.run(&["pack", "quay.toml", "-o", out]);
        assert_eq!(again.code, 5, "{form}: {}", again.err);
        let twice = bench.json(&["pack", "quay.toml", "-o", "twice"]);
        assert_eq!(packed["hash"], twice["hash"], "{form}");
        let mut stock = tree(&bench, &ROOTS);
        stock.remove("game/music/warm.idx");
        let roots =
            ["--root", "game", "--root", "settings=settings", "--target", "ferry-sheet.toml"];
        let ran = bench.run(&[&["install", out][..], &roots].concat());
        assert_eq!(ran.code, 0, "{form}: {}", ran.err);
        assert!(bench.run(&[&["install", out][..], &roots].concat()).out.contains("nothing to do"));
        assert_eq!(bench.run(&["restore", "game"]).code, 0);
        assert_eq!(tree(&bench, &ROOTS), stock, "{form}");
    }
    // A pack that is too large, or whose icon has another size, is never written.
    let bench = ferry();
    bench.put("wrong.png", b"no picture");
    let small = SHEET.replace("folder = \"sounds\"", "largest = '1KiB'");
    bench.put("ferry-sheet.toml", small.as_bytes());
    let with_icon = JOB.replace("[values]", "[pack]\nicon = 'wrong.png'\n[values]");
    bench.put("icon.toml", with_icon.as_bytes());
    for (job, part) in
        [("quay.toml", "at most are taken"), ("icon.toml", "is neither a PNG nor a JPEG")]
    {
        let ran = bench.run(&["pack", job, "-o", "x.ferry"]);
        assert!(ran.code == 5 && ran.err.contains(part), "{job}: {}", ran.err);
        assert!(
            !bench.path("x.ferry").exists() && !bench.names(".").iter().any(|n| n.contains("part"))
        );
    }
}

#[test]
fn a_pack_writes_nowhere_else() {
    let bench = ferry();
    let stock = tree(&bench, &ROOTS);
    let sound = wav(22_050, 1, 16, 4_000, 0.3);
    let hash = blake3_of(&bench, &sound);
    let receipt = |slot: &str, file: &str| {
        format!(
            "name = 'x'\nversion = '1'\ntarget = 'Ferry'\n[slots.'{slot}']\nfile = '{file}'\nhash = '{hash}'\n"
        )
    };
    let evil = SHEET.replace("clear = \"**/warm.idx\"", "clear = \"**\"");
    for (slot, file) in [
        ("../outside.wav", "sounds/x.wav"),
        ("sfx/../../x.wav", "sounds/x.wav"),
        ("/etc/x.wav", "sounds/x.wav"),
        (".deft-needle/ledger.log", "sounds/x.wav"),
        ("ferry.toml", "sounds/x.wav"),
        ("sfx/bell.wav", "../clip.wav"),
        ("sfx/bell.wav", "bill.txt"),
    ] {
        let mut zip = zip::ZipWriter::new(fs::File::create(bench.path("evil.ferry")).unwrap());
        for (name, bytes) in [
            ("deft-needle/pack.toml", receipt(slot, file).as_bytes()),
            ("deft-needle/sheet.toml", evil.as_bytes()),
            ("sounds/x.wav", &sound),
            ("bill.txt", b"text"),
        ] {
            zip.start_file(name, zip::write::SimpleFileOptions::default()).unwrap();
            std::io::Write::write_all(&mut zip, bytes).unwrap();
        }
        zip.finish().unwrap();
        let ran =
            bench.run(&["install", "evil.ferry", "--root", "game", "--root", "settings=settings"]);
        assert!(ran.code >= 2, "{slot} {file}: {}", ran.out);
        assert_eq!(tree(&bench, &ROOTS), stock, "{slot} {file}");
        assert!(!Path::new("/etc/x.wav").exists() && !bench.path("outside.wav").exists());
    }
}

/// The hash as packs write it, told by the program itself.
fn blake3_of(bench: &Bench, bytes: &[u8]) -> String {
    bench.put("card/SAY/TICK09.PRM", bytes);
    bench.run(&["learn", "card", "-o", "card.toml"]);
    let list = fs::read_to_string(bench.path("card.slots.csv")).unwrap();
    let line = list.lines().find(|line| line.contains("TICK09")).unwrap();
    let is_hash = |cell: &&str| cell.len() == 64;
    line.split(',').find(is_hash).unwrap().to_owned()
}

#[test]
fn archives_and_bare_packs_bring_lists_with_their_entries() {
    for form in ["zip", "folder"] {
        let bench = ferry();
        let pack = format!("form = \"{form}\"\nbare = true");
        bench.put(
            "ferry-sheet.toml",
            SHEET
                .replace("folder = \"sounds\"", &format!("folder = \"sounds\"\n{pack}"))
                .as_bytes(),
        );
        let job = JOB.replace("[values]", "archive = 'game/berths/{berth}.ferry'\n[values]");
        bench.put("quay.toml", job.as_bytes());
        let mut stock = tree(&bench, &ROOTS);
        stock.remove("game/music/warm.idx");
        let ran = bench.run(&["install", "quay.toml"]);
        assert_eq!(ran.code, 0, "{form}: {}", ran.err);
        let now = tree(&bench, &ROOTS);
        assert_eq!(now["game/cues.json"], stock["game/cues.json"], "{form}: its own list stays");
        let ran = bench.run(&["pack", "quay.toml", "-o", "bare"]);
        assert!(ran.code == 0 && !ran.out.contains("not in it"), "{form}: {}", ran.out);
        let read = |place: &str| match form {
            "folder" => fs::read(bench.path(&format!("{place}/sounds/cues.json"))).unwrap(),
            _ => {
                let bytes = fs::read(bench.path(place)).unwrap();
                let mut zip = zip::ZipArchive::new(std::io::Cursor::new(bytes)).unwrap();
                let mut list = Vec::new();
                let mut entry = zip.by_name("sounds/cues.json").unwrap();
                std::io::Read::read_to_end(&mut entry, &mut list).unwrap();
                list
            }
        };
        let list = read("game/berths/QUAY-7.ferry");
        assert!(String::from_utf8_lossy(&list).contains("\"millis\": 1500"), "{form}");
        assert_eq!(read("bare"), list, "{form}");
        assert!(bench.run(&["install", "quay.toml"]).out.contains("nothing to do"), "{form}");
        let checked = bench.run(&["check", "game", "--target", "ferry-sheet.toml"]);
        assert_eq!(checked.code, 0, "{form}: {}", checked.out);
        // What the job no longer names goes out of the folder, too.
        let fewer = job.rsplit_once("[[replace]]").unwrap().0;
        bench.put("quay.toml", fewer.as_bytes());
        let ran = bench.run(&["install", "quay.toml"]);
        assert_eq!(ran.code, 0, "{form}: {}", ran.err);
        let now = tree(&bench, &ROOTS);
        let left = now.keys().find(|name| name.starts_with("game/berths") && name.contains("dusk"));
        assert_eq!(left, None, "{form}");
        assert_eq!(bench.run(&["restore", "game"]).code, 0);
        assert_eq!(tree(&bench, &ROOTS), stock, "{form}");
        assert!(!bench.path("game/berths").exists(), "{form}");
    }
    // Where no root is at hand, what is not in it is said.
    let bench = ferry();
    bench.put(
        "ferry-sheet.toml",
        SHEET.replace("folder = \"sounds\"", "folder = \"sounds\"\nbare = true").as_bytes(),
    );
    let rootless = JOB.replace("roots = { game = 'game', settings = 'settings' }\n", "");
    let rootless = rootless.replace("gull_#", "gull_1").replace("music/dusk", "music/storm");
    bench.put("rootless.toml", rootless.as_bytes());
    let ran = bench.run(&["pack", "rootless.toml", "-o", "bare.ferry"]);
    assert!(ran.code == 0 && ran.out.contains("not in it"), "{} {}", ran.out, ran.err);
}
