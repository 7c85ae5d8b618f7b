//! Originals of files that are edited, and where parts cross: entries and swaps, updates, other roots, packs, pages. An
//! original is let go only where the very same bytes are in place, or where the user has said so of that file by name.

use crate::bench::Bench;
use crate::bench::ferry::tree;
use std::fs;

/// A target whose sounds are closed, with lists of several formats in two roots.
const SHEET: &str = r#"
name = 'Lists'
roots = ['game', 'settings']
companions = { match = '**/*.snd', extension = 'lip' }
[[rule]]
match = '**/*.snd'
spec = 'opaque'
new = 'any'
[[rule]]
match = '*.json'
spec = 'opaque'
[[entry]]
match = '**/*.snd'
file = 'names.json'
at = '/names/-'
value = '{stem}'
[[entry]]
match = '**/*.snd'
root = 'settings'
file = 'mix.ini'
at = 'Mixer/Banks'
value = '+{stem}'
separator = ';'
"#;

const LIST: &[u8] = b"{\n  // kept\n  \"names\": [\"old\"]\n}\n";
const ROOTS: [&str; 2] = ["game", "settings"];

fn lists() -> Bench {
    let bench = Bench::new();
    bench.put("lists.toml", SHEET.as_bytes());
    bench.put("game/names.json", LIST);
    bench.put("game/a.snd", b"stock of a");
    bench.put("game/a.lip", b"lips of a");
    bench.put("settings/mix.ini", b"; mine\r\n[Mixer]\r\nBanks = BASE\r\n");
    bench.put("mine.snd", b"mine");
    bench.put("other.json", b"{\n  // ours\n  \"names\": [] }");
    bench.put("job.toml", job("slot = 'a.snd'\nclip = 'mine.snd'").as_bytes());
    bench
}

fn job(line: &str) -> String {
    let roots = "roots = { game = 'game', settings = 'settings' }";
    format!("target = 'lists.toml'\n{roots}\n[[replace]]\n{line}\n")
}

fn run(bench: &Bench, line: &str) -> (i32, String) {
    let ran = bench.run(&line.split(' ').collect::<Vec<_>>());
    (ran.code, ran.out + &ran.err)
}

/// Runs a line that must work.
fn fine(bench: &Bench, line: &str) -> String {
    let (code, said) = run(bench, line);
    assert_eq!(code, 0, "{line}: {said}");
    said
}

/// The first kept copy of a slot, put back by the command that `status` names.
fn brings_back(bench: &Bench, slot: &str, bytes: &[u8]) {
    let status = fine(bench, "status game");
    assert!(status.contains(&format!("{slot}: kept copy")), "{status}");
    fine(bench, &format!("restore game {slot} --kept"));
    assert_eq!(fs::read(bench.path("game").join(slot)).unwrap(), bytes);
}

#[test]
fn a_list_that_somebody_spoilt_comes_back_by_name() {
    type Deed = fn(&Bench);
    let deeds: [(&str, Deed, i32); 5] = [
        ("deleted", |bench| fs::remove_file(bench.path("game/names.json")).unwrap(), 0),
        ("emptied", |bench| bench.put("game/names.json", b""), 5),
        ("damaged", |bench| bench.put("game/names.json", b"{ \"names\": [\"a\""), 5),
        ("without our entry", |bench| bench.put("game/names.json", b"{\"names\": [\"x\"]}"), 0),
        (
            "a link",
            |bench| {
                fs::remove_file(bench.path("game/names.json")).unwrap();
                #[cfg(unix)]
                std::os::unix::fs::symlink("nowhere", bench.path("game/names.json")).unwrap();
                #[cfg(not(unix))]
                bench.put("game/names.json", b"");
            },
            5,
        ),
    ];
    for (what, deed, code) in deeds {
        for changed in ["", " --changed overwrite", " --changed keep"] {
            let bench = lists();
            fine(&bench, "install job.toml");
            deed(&bench);
            let spoilt = fs::read(bench.path("game/names.json")).ok();
            let (found, said) = run(&bench, &format!("restore game{changed}"));
            let want = if changed.is_empty() { code } else { 0 };
            assert_eq!(found, want, "{what}{changed}: {said}");
            if found == 5 {
                assert!(said.contains("--changed"), "{what}: {said}");
                continue;
            }
            let now = fs::read(bench.path("game/names.json")).ok();
            if now.as_deref() != Some(LIST) {
                assert_eq!(now, spoilt, "{what}{changed}");
                brings_back(&bench, "names.json", LIST);
            }
            assert_eq!(fs::read(bench.path("game/a.snd")).unwrap(), b"stock of a");
        }
    }
}

#[test]
fn what_is_edited_and_replaced_is_one_stack() {
    let stock = tree(&lists(), &ROOTS);
    let swap = "swap other.json game/names.json --root game --as-is";
    let both = job(
        "slot = 'a.snd'\nclip = 'mine.snd'\n[[replace]]\nslot = 'names.json'\nclip = 'other.json'",
    );
    for (steps, back) in [
        // Entries, and the whole over them; both go together, or one after the other.
        (vec!["install job.toml", swap], vec!["restore game"]),
        (vec!["install job.toml", swap], vec!["restore game names.json", "restore game --job job"]),
        // The whole, and entries in it.
        (vec![swap, "install job.toml"], vec!["restore game"]),
        (vec![swap, "install job.toml"], vec!["restore game --job job", "restore game names.json"]),
        // One job that does both, changed and taken out.
        (vec!["install both.toml"], vec!["restore game"]),
        (vec!["install both.toml", "install both.toml"], vec!["restore game --job both"]),
    ] {
        let bench = lists();
        bench.put("both.toml", both.as_bytes());
        for step in &steps {
            fine(&bench, step);
        }
        let list = fs::read_to_string(bench.path("game/names.json")).unwrap();
        let swapped_last = steps.last() == Some(&swap);
        assert_eq!(list.contains("\"a\""), !swapped_last, "{steps:?}: {list}");
        for step in &back {
            fine(&bench, step);
        }
        assert_eq!(tree(&bench, &ROOTS), stock, "{steps:?} {back:?}");
        assert!(!bench.path("game/.deft-needle").exists(), "{steps:?} {back:?}");
    }
}

#[test]
fn an_update_gives_lists_back_byte_for_byte() {
    let (bench, stock) = (lists(), tree(&lists(), &ROOTS));
    fine(&bench, "install job.toml");
    bench.put(
        "lists.toml",
        SHEET.replace("match = '**/*.snd'\nfile", "match = 'no/*.snd'\nfile").as_bytes(),
    );
    fine(&bench, "install job.toml");
    assert_eq!(fs::read(bench.path("game/names.json")).unwrap(), LIST);
    fine(&bench, "restore game");
    assert_eq!(tree(&bench, &ROOTS), stock);
}

#[test]
fn a_root_that_the_ledger_knows_is_where_the_ledger_knows_it() {
    let (bench, stock) = (lists(), tree(&lists(), &ROOTS));
    fine(&bench, "install job.toml");
    bench.put("other/mix.ini", b"[Mixer]\r\nBanks=THEIRS\r\n");
    let (code, said) = run(&bench, "restore game --root settings=other");
    assert!(code == 5 && said.contains("settings"), "{said}");
    // One that was moved is known by what is in it.
    fs::rename(bench.path("settings"), bench.path("moved")).unwrap();
    let (code, _) = run(&bench, "restore game --root settings=other");
    assert_eq!(code, 5);
    fine(&bench, "restore game --root settings=moved");
    fs::rename(bench.path("moved"), bench.path("settings")).unwrap();
    assert_eq!(tree(&bench, &ROOTS), stock);
    assert_eq!(fs::read(bench.path("other/mix.ini")).unwrap(), b"[Mixer]\r\nBanks=THEIRS\r\n");
}

#[test]
fn what_a_tool_writes_over_beside_a_slot_comes_back() {
    let (bench, stock) = (lists(), tree(&lists(), &ROOTS));
    fine(&bench, "install job.toml");
    // The target's own tool makes the companion anew, in place.
    bench.put("game/a.lip", b"lips of mine");
    fine(&bench, "install job.toml");
    assert_eq!(fs::read(bench.path("game/a.lip")).unwrap(), b"lips of mine");
    fine(&bench, "restore game");
    assert_eq!(tree(&bench, &ROOTS), stock);
}

#[test]
fn kept_copies_are_listed_restored_and_deleted_by_name() {
    let bench = lists();
    fine(&bench, "install job.toml");
    bench.put("game/a.snd", b"an update");
    fine(&bench, "restore game --changed keep");
    assert_eq!(fs::read(bench.path("game/a.snd")).unwrap(), b"an update");
    let (code, said) = run(&bench, "restore game --kept");
    assert!(code == 2 && said.contains("names of slots"), "{said}");
    brings_back(&bench, "a.snd", b"stock of a");
    // What was there is kept in its turn.
    brings_back(&bench, "a.snd", b"an update");
    fine(&bench, "restore game a.snd --drop");
    assert!(!fine(&bench, "status game").contains("kept copy"));
    assert!(!bench.path("game/.deft-needle").exists());
    let (code, said) = run(&bench, "restore game a.snd --drop");
    assert!(code == 5 && said.contains("nothing is installed"), "{said}");
}

#[test]
fn a_pack_in_a_users_sound_goes_without_it() {
    let (bench, stock) = (lists(), tree(&lists(), &ROOTS));
    fine(&bench, "install job.toml");
    let sheet = "name = 'F'\n[[rule]]\nmatch = '**/*.snd'\nspec = 'opaque'\nnew = 'any'\n\
        [[entry]]\nfile = 'a.snd'\nformat = 'lines'\nvalue = 'theirs'\n";
    bench.put("friend/f.toml", sheet.as_bytes());
    bench.put("friend/new.snd", b"new");
    bench.put("friend/game/a.snd", b"stock of a");
    bench.put(
        "friend/f-job.toml",
        b"target = 'f.toml'\nroot = 'game'\n[[replace]]\nslot = 'new.snd'\nclip = 'new.snd'\n",
    );
    fine(&bench, "pack friend/f-job.toml -o f.zip");
    fine(&bench, "install f.zip --root game");
    assert_eq!(fs::read(bench.path("game/a.snd")).unwrap(), b"mine\ntheirs");
    let (code, said) = run(&bench, "restore game --job job");
    assert!(code == 5 && said.contains("f-job (pack)"), "{said}");
    fine(&bench, "restore game --job f-job");
    assert_eq!(fs::read(bench.path("game/a.snd")).unwrap(), b"mine");
    fine(&bench, "restore game --job job");
    assert_eq!(tree(&bench, &ROOTS), stock);
}

#[test]
fn caches_meet_nothing_that_is_kept_beside_slots() {
    for clear in ["'*.lip'", "'**/*.lip'", "'cards/*'"] {
        let bench = lists();
        let made = "[[make]]\nmatch = '**/*.snd'\nfile = 'cards/{stem}.txt'\ntext = 'x'\n";
        bench.put("game/cards/a.txt", b"the target's own");
        bench.put("lists.toml", format!("clear = {clear}\n{SHEET}{made}").as_bytes());
        let (code, said) = run(&bench, "check job.toml");
        assert!(code > 0 && said.contains("clear"), "{clear}: {said}");
        let (code, _) = run(&bench, "install job.toml");
        assert!(code > 0, "{clear}");
        assert_eq!(fs::read(bench.path("game/a.lip")).unwrap(), b"lips of a");
    }
}

#[test]
fn pages_go_over_pages_alone() {
    let bench = Bench::new();
    bench.put("theirs.html", b"<!doctype html>\n<body data-id=\"1\">their own</body>\n");
    let page = |out: &str, more: &str| {
        let line = format!("proof clip.wav card/SAY/TICK01.PRM --root card -o {out}{more}");
        run(&bench, &line)
    };
    assert_eq!(page("theirs.html", "").0, 5);
    for out in ["clip.wav", "card/SAY/TICK02.PRM", "card/LIST.TSV"] {
        let before = fs::read(bench.path(out)).unwrap();
        let (code, said) = page(out, " --overwrite");
        assert!(code > 0, "{out}: {said}");
        assert_eq!(fs::read(bench.path(out)).unwrap(), before, "{out}");
    }
    assert_eq!(page("theirs.html", " --overwrite").0, 0);
    assert_eq!(page("theirs.html", "").0, 0, "it is one of ours now");
}

#[test]
fn what_is_under_a_name_is_what_the_name_says() {
    let bench = Bench::new();
    let sheet = "name = 'T'\n[[slots]]\nin-root = '.'\n[[rule]]\nmatch = '**'\n\
        spec = ['mp3 mp3:128k 44100 stereo', 'ogg vorbis:q4 44100 stereo']\n";
    bench.put("t.toml", sheet.as_bytes());
    fine(&bench, "fit clip.wav -o g/old.ogg");
    fine(&bench, "swap clip.wav g/old.ogg --root g --target t.toml");
    assert!(fine(&bench, "inspect g/old.ogg").contains("ogg vorbis"));
    bench.put("j.toml", b"target = 't.toml'\nroot = 'g'\n[[replace]]\nslot = 'old.ogg'\nclip = 'clip.wav'\nspec = 'mp3 mp3:128k 44100 stereo'\n");
    let (code, said) = run(&bench, "check j.toml");
    assert!(code > 0 && said.contains("--name-anyway"), "{said}");
    // A new file is named as its neighbours are, and none differs from another in case alone.
    for (slot, part) in [
        ("card/SAY/NEW.WAV", "prm"),
        ("card/SAY/tick01.prm", "TICK01.PRM"),
        ("card/say/NEW.PRM", "SAY"),
    ] {
        let line = format!("swap clip.wav {slot} --new --root card --like card/SAY/CUCKOO.PRM");
        let (code, said) = run(&bench, &line);
        assert!(code == 5 && said.contains(part), "{slot}: {said}");
    }
}
