//! The page of proof, with the built program: what is heard is what is installed, and nothing of a target is changed.

use crate::bench::ferry::{JOB, ROOTS, ferry, tree};
use crate::bench::{Bench, wav};
use base64::Engine as _;
use base64::prelude::BASE64_STANDARD;
use std::fs;
use std::process::Stdio;
use std::time::{Duration, Instant};

/// The part of the page that is about one slot.
fn card<'a>(page: &'a str, slot: &str) -> &'a str {
    let start = page.find(&format!("data-slot=\"{slot}\"")).unwrap();
    page[start..].split("</article>").next().unwrap()
}

/// The sound of one side of a slot, as browsers play it.
fn sound(page: &str, slot: &str, side: &str) -> Vec<u8> {
    let part = card(page, slot).split(&format!("class=\"side {side}\"")).nth(1).unwrap();
    let data = part.split("base64,").nth(1).unwrap().split('"').next().unwrap();
    BASE64_STANDARD.decode(data).unwrap()
}

/// Whether a sound of the page holds the same samples as a file, to the last of 24 bits.
fn same(bench: &Bench, sound: &[u8], file: &str) -> bool {
    bench.put("heard.flac", sound);
    let samples = |name: &str| {
        let clip = deft_needle_audio::Clip::open(&bench.path(name)).unwrap();
        deft_needle_audio::block::collect(&mut *clip.frames().unwrap()).unwrap()
    };
    let (heard, meant) = (samples("heard.flac"), samples(file));
    let near = |a: &f64, b: &f64| (a - b.clamp(-1.0, 1.0)).abs() <= 1.0 / 8_388_608.0;
    heard.len() == meant.len()
        && heard
            .iter()
            .zip(&meant)
            .all(|(a, b)| a.len() == b.len() && a.iter().zip(b).all(|(a, b)| near(a, b)))
}

fn read(bench: &Bench, name: &str) -> String {
    fs::read_to_string(bench.path(name)).unwrap()
}

#[test]
fn what_is_heard_is_what_is_installed() {
    let bench = ferry();
    let before = tree(&bench, &ROOTS);
    let told = bench.json(&["proof", "quay.toml", "-o", "pages/quay.html"]);
    assert_eq!((&told["slots"], &told["files"]), (&3.into(), &serde_json::Value::Null), "{told}");
    assert!(tree(&bench, &ROOTS) == before, "a proof changes nothing");
    let page = read(&bench, "pages/quay.html");
    assert!(page.contains("all slots take about") && page.contains("<meter"), "the budget");
    assert!(same(&bench, &sound(&page, "sfx/gull_1.wav", "stock"), "game/sfx/gull_1.wav"));
    // Nothing is fitted twice: two slots are copies of one.
    let ran = bench.run(&["install", "quay.toml", "-vv"]);
    assert!(ran.code == 0 && ran.err.matches("fitted before").count() == 2, "{}", ran.err);
    for slot in ["sfx/gull_1.wav", "music/dusk.ogg"] {
        assert!(same(&bench, &sound(&page, slot, "new"), &format!("game/{slot}")), "{slot}");
    }
    assert!(card(&page, "music/dusk.ogg").contains("data-loop="));
    // What is installed, against its stock; and the job once more, of which nothing is new.
    assert_eq!(bench.run(&["proof", "game", "-o", "pages/game.html"]).code, 0);
    let installed = read(&bench, "pages/game.html");
    for side in ["stock", "new"] {
        let (a, b) =
            (sound(&page, "sfx/gull_1.wav", side), sound(&installed, "sfx/gull_1.wav", side));
        assert!(a == b, "{side}");
    }
    assert_eq!(bench.run(&["proof", "quay.toml", "-o", "pages/quay.html"]).code, 0);
    let again = read(&bench, "pages/quay.html");
    assert!(card(&again, "sfx/gull_1.wav").contains("data-state=\"unchanged\""));
    assert!(sound(&again, "sfx/gull_1.wav", "new") == sound(&page, "sfx/gull_1.wav", "new"));
    assert_eq!(bench.run(&["restore", "game"]).code, 0);
    let before = tree(&bench, &ROOTS);
    // A pack, and one clip for one slot with the options of a swap.
    assert_eq!(bench.run(&["pack", "quay.toml", "-o", "quay.ferry"]).code, 0);
    let roots = ["--root", "game", "--root", "settings=settings"];
    let ran = bench.run(&[&["proof", "quay.ferry", "-o", "pages/pack.html"][..], &roots].concat());
    assert_eq!(ran.code, 0, "{}", ran.err);
    let packed = read(&bench, "pages/pack.html");
    assert!(sound(&packed, "sfx/gull_1.wav", "new") == sound(&page, "sfx/gull_1.wav", "new"));
    let one = [
        "proof",
        "clip.wav",
        "game/sfx/bell.wav",
        "-o",
        "pages/bell.html",
        "--level",
        "stock",
        "--root",
        "game",
    ];
    let ran = bench.run(&one);
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert!(read(&bench, "pages/bell.html").contains("level = "));
    assert!(tree(&bench, &ROOTS) == before, "a proof changes nothing");
}

#[test]
fn sounds_lie_beside_a_page_and_what_is_not_ours_stays() {
    let bench = ferry();
    bench.put("page.files/notes.txt", b"the user's own");
    // Named as a page names its sounds, and no sound of a page.
    bench.put("page.files/0123456789abcdef.flac", b"a sound of the user's");
    let told = bench.json(&["proof", "quay.toml", "-o", "page.html", "--inline", "0"]);
    assert!(told["files"].as_str().unwrap().ends_with("page.files"), "{told}");
    let names = bench.names("page.files");
    let page = read(&bench, "page.html");
    assert!(names.len() > 2, "{names:?}");
    for name in names.iter().filter(|name| name.ends_with(".js")) {
        assert!(page.contains(&format!("data-script=\"page.files/{name}\"")), "{name}");
        assert!(read(&bench, &format!("page.files/{name}")).starts_with("needleSound("));
    }
    // Once all is in the page, only what is the user's is left.
    assert_eq!(bench.run(&["proof", "quay.toml", "-o", "page.html"]).code, 0);
    assert_eq!(bench.names("page.files"), ["0123456789abcdef.flac", "notes.txt"]);
    // A file that is no page stays, unless that is said.
    bench.put("letter.html", b"<p>a letter</p>");
    let ran = bench.run(&["proof", "quay.toml", "-o", "letter.html"]);
    assert!(ran.code == 5 && ran.err.contains("letter.html"), "{}", ran.err);
    assert_eq!(read(&bench, "letter.html"), "<p>a letter</p>");
    // What the page is about is never written over, whatever is said.
    let job = read(&bench, "quay.toml");
    let ran = bench.run(&["proof", "quay.toml", "-o", "./quay.toml", "--overwrite"]);
    assert!(ran.code == 2 && ran.err.contains("what the page is about"), "{}", ran.err);
    assert_eq!(read(&bench, "quay.toml"), job);
    // Nor is a user's file beside the page that has the name of what would be put there.
    bench.put("other.files/turn.js", b"mine");
    let ran = bench.run(&["watch", "quay.toml", "--idle", "1", "--proof", "other.html"]);
    assert!(ran.err.contains("turn.js"), "{}", ran.err);
    assert_eq!(read(&bench, "other.files/turn.js"), "mine");
    assert_eq!(bench.run(&["proof", "quay.toml", "-o", "letter.html", "--overwrite"]).code, 0);
    #[cfg(unix)]
    {
        // Nothing goes through a link to somewhere else.
        fs::create_dir(bench.path("elsewhere")).unwrap();
        std::os::unix::fs::symlink("elsewhere", bench.path("linked.files")).unwrap();
        let ran = bench.run(&["proof", "quay.toml", "-o", "linked.html", "--inline", "0"]);
        assert!(ran.code == 5 && ran.err.contains("is a link"), "{}", ran.err);
        assert!(bench.names("elsewhere").is_empty());
    }
    let ran = bench.run(&["proof", "clip.wav", "-o", "page.html"]);
    assert!(ran.code == 2 && ran.err.contains("name the file to replace"), "{}", ran.err);
    // Options of a swap are for a clip and a slot.
    let ran = bench.run(&["proof", "quay.toml", "-o", "page.html", "--gain", "3dB"]);
    assert!(ran.code == 2 && ran.err.contains("--gain is for a clip and a slot"), "{}", ran.err);
}

#[test]
fn problems_stand_first_and_what_can_be_made_is_shown() {
    let bench = ferry();
    bench.put("<b>&amp;.wav", &wav(44_100, 1, 16, 4_000, 0.3));
    let hostile = JOB
        .replace("clip = 'clip.wav'", "clip = '<b>&amp;.wav'")
        .replace("'loud.wav'", "'gone.wav'");
    bench.put("bad.toml", hostile.as_bytes());
    let ran = bench.run(&["proof", "bad.toml", "-o", "bad.html"]);
    assert_ne!(ran.code, 0);
    let page = read(&bench, "bad.html");
    let (problems, slots) = (page.find("gone.wav").unwrap(), page.find("<table id").unwrap());
    assert!(problems < slots);
    assert!(page.contains("&#60;b&#62;&#38;amp;.wav") && !page.contains("<b>&amp;"));
}

#[test]
fn only_what_was_approved_is_installed() {
    let bench = ferry();
    let marks = |job: &str, slot: &str, mark: &str| {
        format!(
            "{{\"job\": \"{job}\", \"marks\": [{{\"slot\": \"{slot}\", \"mark\": \"{mark}\", \"note\": \"\"}}, {{\"slot\": \"music/dusk.ogg\", \"mark\": \"again\"}}]}}"
        )
    };
    let stock = fs::read(bench.path("game/music/dusk.ogg")).unwrap();
    for (text, want) in [
        (marks("quay", "sfx/gull_1.wav", "again"), "no slot is marked good"),
        (marks("pier", "sfx/gull_1.wav", "good"), "marks of the job pier"),
        (marks("quay", "sfx/gull_9.wav", "good"), "gull_9"),
        ("no marks".to_owned(), "holds no marks"),
    ] {
        bench.put("marks.json", text.as_bytes());
        let ran = bench.run(&["install", "quay.toml", "--only-approved", "marks.json"]);
        assert!(
            [2, 5].contains(&ran.code) && ran.err.contains(want),
            "{want}: {} {}",
            ran.code,
            ran.err
        );
    }
    bench.put("marks.json", marks("quay", "sfx/gull_1.wav", "good").as_bytes());
    let ran = bench.run(&["install", "quay.toml", "--only-approved", "marks.json"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert_eq!(fs::read(bench.path("game/music/dusk.ogg")).unwrap(), stock);
    assert!(bench.run(&["status", "game"]).out.contains("1 slot replaced"));
}

#[test]
fn a_watched_job_writes_its_page_at_each_turn() {
    let bench = ferry();
    let mut child = bench
        .command(&["watch", "quay.toml", "--idle", "3", "--proof", "quay.html"])
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let turn = |not: &str| {
        let began = Instant::now();
        loop {
            let now = fs::read_to_string(bench.path("quay.files/turn.js")).unwrap_or_default();
            if !now.is_empty() && now != not {
                return now;
            }
            assert!(began.elapsed() < Duration::from_secs(30), "no other turn came");
            std::thread::sleep(Duration::from_millis(20));
        }
    };
    let first = turn("");
    bench.put("quay.toml", JOB.replace("-3dB", "-12dB").as_bytes());
    let second = turn(&first);
    let number = second.trim_start_matches("needleTurn(").split(')').next().unwrap();
    assert_eq!(child.wait().unwrap().code(), Some(0));
    assert!(read(&bench, "quay.html").contains(&format!("data-turn=\"{number}\"")));
    bench.put("letter.html", b"<p>a letter</p>");
    assert_eq!(bench.run(&["watch", "quay.toml", "--idle", "1", "--proof", "letter.html"]).code, 5);
}
