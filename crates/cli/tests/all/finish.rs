//! Jobs that finish the work: files that are made, companions, clips in bulk, parts of a job, packs.

use crate::bench::{Bench, wav};
use std::fs;

fn sound(level: f64) -> Vec<u8> {
    wav(22_050, 1, 16, 11_025, level)
}

/// A game that wants to be told of every sound in several places.
fn game() -> Bench {
    let bench = Bench::new();
    for slot in ["sfx/hit", "sfx/low"] {
        bench.put(&format!("game/{slot}.wav"), &sound(0.2));
    }
    bench.put("game/sfx/hit.lip", b"open shut");
    bench.put(
        "game/names.json",
        b"{\n  \"titles\": [\"Hit\", \"low\"],\n  \"values\": [\"hit\", \"low\"]\n}\n",
    );
    bench.put("game/sounds.def", b"noise \"last\" {\r\n}\r\n");
    bench.put("card.template", b"{{\n  \"is\": {slot|json}, \"of\": {job|json}\n}}\n");
    bench.put(
        "g.toml",
        br#"name = 'G'
companions = { match = 'sfx/*', extension = 'lip' }
[[slots]]
in-root = '.'
[[rule]]
match = 'sfx/*.wav'
spec = 'wav pcm16 22050 mono'
new = 'any'
[[entry]]
match = 'sfx/*'
when = 'new'
file = 'names.json'
at = '/titles/-'
value = '{stem|title}'
order = 'sorted'
[[entry]]
match = 'sfx/*'
when = 'new'
file = 'names.json'
at = '/values/-'
value = '{stem}'
index-of = { list = '/titles', value = '{stem|title}' }
[[entry]]
match = 'sfx/*'
when = 'new'
file = 'sounds.def'
format = 'script'
at = '^noise "last"'
put = 'before'
value = 'noise "{stem}" {{ play "{slot}" }}'
[[make]]
match = 'sfx/*'
when = 'new'
file = 'cards/{stem}.json'
template = 'card.template'
[[pack]]
"#
        .strip_suffix(b"[[pack]]\n")
        .unwrap(),
    );
    for (clip, level) in [("reed", 0.3), ("Kettle", 0.4), ("hit", 0.1)] {
        bench.put(&format!("takes/{clip}.wav"), &sound(level));
    }
    bench.put("takes/reed.lip", b"hum");
    bench
}

fn job(more: &str) -> String {
    format!("target = 'g.toml'\nroot = 'game'\n{more}")
}

#[test]
fn lists_that_belong_together_stay_together() {
    let bench = game();
    let stock = fs::read(bench.path("game/names.json")).unwrap();
    let script = fs::read(bench.path("game/sounds.def")).unwrap();
    bench.put(
        "j.toml",
        job("[[replace]]\nslot = 'sfx/{clip.stem}.wav'\nclips = ['takes/*.wav']\n").as_bytes(),
    );
    bench.play("$ deft-needle check j.toml\n…\n$ deft-needle install j.toml\n…");
    let text = |name: &str| fs::read_to_string(bench.path(name)).unwrap();
    assert_eq!(
        text("game/names.json"),
        "{\n  \"titles\": [\"Hit\", \"Kettle\", \"low\", \"Reed\"],\n  \"values\": [\"hit\", \"Kettle\", \"low\", \"reed\"]\n}\n"
    );
    assert_eq!(
        text("game/sounds.def"),
        "noise \"Kettle\" { play \"sfx/Kettle.wav\" }\r\nnoise \"reed\" { play \"sfx/reed.wav\" }\r\nnoise \"last\" {\r\n}\r\n"
    );
    assert_eq!(text("game/cards/reed.json"), "{\n  \"is\": \"sfx/reed.wav\", \"of\": \"j\"\n}\n");
    // What is replaced asks for nothing that only new slots need.
    assert!(!bench.path("game/cards/hit.json").exists());
    assert_eq!(text("game/sfx/reed.lip"), "hum");
    bench.play(
        "
        $ deft-needle status game
        game: 3 slots replaced, 3 files beside them, 6 entries made
        …
        $ deft-needle install j.toml
        j: nothing to do…
        ",
    );
    // What somebody takes out by hand is missed, and made again.
    let made = text("game/names.json");
    bench.put("game/names.json", made.replace(", \"reed\"", "").as_bytes());
    bench.put("game/sfx/reed.lip", b"");
    bench.play(
        "
        $ deft-needle check game game/sfx [1]
        game/sfx/reed.lip: no longer holds what was installed
        game/names.json: lacks the entry /values holds \"reed\", which what is installed needs
        4 files checked against what their names say: all pass
        2 files are no longer as they were installed
        $ deft-needle check j.toml
        …
          entry     names.json: /titles holds \"Reed\"  (already there)
          entry     names.json: /values holds \"reed\"
          entry     sounds.def: noise \"Kettle\" { play \"sfx/Kettle.wav\" }  (already there)
        …
        ",
    );
    bench.put("game/names.json", made.as_bytes());
    fs::remove_file(bench.path("game/sfx/reed.lip")).unwrap();
    bench.play(
        "
        $ deft-needle check game [1]
        game/sfx/reed.lip: is gone, though it was installed
        4 files checked against what their names say: all pass
        1 file is no longer as it was installed
        ",
    );
    bench.put("game/sfx/reed.lip", b"hum");
    bench.play(
        "
        $ deft-needle check game
        4 files checked against what their names say: all pass
        $ deft-needle restore game/sfx/reed.wav
        …
        ",
    );
    for gone in ["game/sfx/reed.wav", "game/sfx/reed.lip", "game/cards/reed.json"] {
        assert!(!bench.path(gone).exists(), "{gone}");
    }
    bench.play("$ deft-needle restore game\n…");
    assert_eq!(fs::read(bench.path("game/names.json")).unwrap(), stock);
    assert_eq!(fs::read(bench.path("game/sounds.def")).unwrap(), script);
    assert_eq!(bench.names("game"), ["names.json", "sfx", "sounds.def"]);
}

#[test]
fn a_companion_of_another_sound_is_told() {
    let bench = game();
    bench.put(
        "j.toml",
        job("[[replace]]\nslot = 'sfx/hit.wav'\nclip = 'takes/hit.wav'\n").as_bytes(),
    );
    bench.play(
        "
        $ deft-needle install j.toml
        …
        note      sfx/hit.lip still belongs to the stock: no such file lies beside the clip
        …
        ",
    );
    bench.put("takes/hit.lip", b"new");
    bench.play("$ deft-needle install j.toml\n…");
    assert_eq!(fs::read(bench.path("game/sfx/hit.lip")).unwrap(), b"new");
    bench.play("$ deft-needle restore game --job j\n…");
    assert_eq!(fs::read(bench.path("game/sfx/hit.lip")).unwrap(), b"open shut");
}

#[test]
fn clips_come_in_bulk_and_jobs_go_in_parts() {
    let bench = game();
    bench.put(
        "takes/swaps.csv",
        b"slot;clip\r\nsfx/hit.wav;hit.wav\r\n# later\r\nsfx/low.wav;\r\nsfx/reed.wav;reed.wav\r\n",
    );
    bench.put("j.toml", job("[[replace]]\ntable = 'takes/swaps.csv'\n").as_bytes());
    bench.play(
        "
        $ deft-needle install j.toml --only sfx/hat.wav [5]
        error: the job has no slot sfx/hat.wav
        help: did you mean sfx/hit.wav?
        $ deft-needle install j.toml --only sfx/reed.wav
        sfx/reed.wav: installed hit…
        …
        "
        .replace("installed hit…", "installed reed.wav")
        .as_str(),
    );
    let slots = |bench: &Bench| {
        let status = bench.json(&["status", "game"]);
        let slots = status["roots"][0]["slots"].as_array().unwrap().clone();
        let names = slots.iter().map(|slot| slot["slot"].as_str().unwrap().to_owned());
        names.filter(|name| name.ends_with(".wav")).collect::<Vec<_>>().join(" ")
    };
    assert_eq!(slots(&bench), "sfx/reed.wav");
    // The rest joins it, and a part of the job that is done again leaves the others alone.
    bench.play(
        "$ deft-needle install j.toml\n…\n$ deft-needle install j.toml --only 'sfx/h*.wav'\n…",
    );
    assert_eq!(slots(&bench), "sfx/hit.wav sfx/reed.wav");
    for (more, said) in [
        (
            "[[replace]]\nslot = 'sfx/hit.wav'\nclips = ['takes/*.flac']\n",
            "no file matches takes/*.flac",
        ),
        (
            "[[replace]]\ntable = 'takes/swaps.csv'\nslot = 'sfx/hit.wav'\n",
            "a table names slots and clips by itself",
        ),
        (
            "[[replace]]\nslot = 'sfx/{clip.nonsense}.wav'\nclip = 'takes/hit.wav'\n",
            "{clip.nonsense} is not known here",
        ),
    ] {
        bench.put("bad.toml", job(more).as_bytes());
        let ran = bench.run(&["check", "bad.toml"]);
        let said_all = ran.out.clone() + &ran.err;
        assert!(ran.code != 0 && said_all.contains(said), "{more}: {said_all}");
    }
}

/// One clip for many slots is fitted once; the files are equal, and what each slot held is told of each.
#[test]
fn one_clip_for_many_slots_is_made_once() {
    let bench = Bench::new();
    for (name, level) in [("a", 0.01), ("b", 0.3), ("c", 0.3)] {
        bench.put(&format!("game/{name}.wav"), &sound(level));
    }
    bench.put("g.toml", b"name = 'G'\n[[slots]]\nin-root = '.'\n[[rule]]\nmatch = '*.wav'\nspec = 'wav pcm16 22050 mono'\n");
    bench.put("j.toml", job("[[replace]]\nslot = '*.wav'\nclip = 'clip.wav'\n").as_bytes());
    let done = bench.json(&["install", "j.toml"]);
    let placed = done["placed"].as_array().unwrap();
    let files =
        ["a", "b", "c"].map(|name| fs::read(bench.path(&format!("game/{name}.wav"))).unwrap());
    assert!(files[0] == files[1] && files[1] == files[2]);
    let louder =
        |at: usize| placed[at]["notices"].as_array().unwrap().iter().any(|n| n["kind"] == "level");
    assert_eq!([louder(0), louder(1), louder(2)], [true, false, false]);
    for one in placed {
        assert_eq!(one["installed"]["spec"], "wav pcm16 22050 mono");
        assert!(one["before"]["lufs"].is_number() && one["after"]["lufs"].is_number());
    }
}

#[test]
fn packs_are_checked_before_they_are_made() {
    let bench = game();
    let pack = "\n[pack]\nextension = 'gpk'\nfiles = [{ path = 'info.json', template = 'info.template' }]\nicon = { path = 'stamp.jpg', size = 16 }\n";
    let sheet = fs::read_to_string(bench.path("g.toml")).unwrap() + pack;
    bench.put("g.toml", sheet.as_bytes());
    bench.put("info.template", b"{{ \"says\": {description|json}, \"version\": {version|numbers}, \"sounds\": [\n{each, separator \",\"}\n  {slot|json}\n{end}\n] }}\n");
    let mut picture = std::io::Cursor::new(Vec::new());
    let mut encoder = png::Encoder::new(&mut picture, 40, 20);
    encoder.set_color(png::ColorType::Rgb);
    encoder.write_header().unwrap().write_image_data(&[7; 40 * 20 * 3]).unwrap();
    bench.put("art.png", &picture.into_inner());
    let text = "[pack]\nversion = [1, 0, 2]\ndescription = 'She said \"no\"'\nicon = 'art.png'\n[[replace]]\nslot = 'sfx/{clip.stem}.wav'\nclips = ['takes/*.wav']\n";
    bench.put("j.toml", format!("target = 'g.toml'\n{text}").as_bytes());
    bench.play(
        "
        $ deft-needle pack j.toml -o j.gpk --dry-run
        j.gpk would be packed: 3 slots, 3 files, about …
        …
        $ deft-needle pack j.toml -o j.gpk
        j.gpk packed and read back: 3 slots, …
        …
        ",
    );
    let mut zip = zip::ZipArchive::new(fs::File::open(bench.path("j.gpk")).unwrap()).unwrap();
    let mut read = |name: &str| {
        let mut bytes = Vec::new();
        std::io::Read::read_to_end(&mut zip.by_name(name).unwrap(), &mut bytes).unwrap();
        bytes
    };
    let info: serde_json::Value = serde_json::from_slice(&read("info.json")).unwrap();
    assert_eq!(info["says"], "She said \"no\"");
    assert_eq!(info["version"], serde_json::json!([1, 0, 2]));
    assert_eq!(info["sounds"].as_array().unwrap().len(), 3);
    assert!(read("stamp.jpg").starts_with(b"\xFF\xD8\xFF"));
    // What belongs to slots goes along.
    assert_eq!(read("sfx/reed.lip"), b"hum");
    assert!(!read("cards/reed.json").is_empty());
    bench.play(
        "
        $ deft-needle install j.gpk --root game --dry-run
        …
        3 slots would be replaced: no problems
        $ deft-needle install j.gpk --root game
        …
        ",
    );
    assert!(bench.path("game/cards/reed.json").is_file());
    assert_eq!(fs::read(bench.path("game/sfx/reed.lip")).unwrap(), b"hum");
    bench.play("$ deft-needle restore game\n…");
    for (template, said) in [
        ("{{ \"says\": {description}, }}", "what it makes is no JSON"),
        ("{ says }}", "write }} for a brace"),
        ("{\n}", "write {{ for a brace"),
        ("{{\n{ \"says\": 1 }\n}}", "line 2, column 1: { \"says\": 1 } names nothing"),
        ("{{\n  {descripton}", "line 2, column 3: {descripton} is not known here"),
        ("{{\n{each}\n {frame}\n{end}", "line 3, column 2: {frame} is not known of sfx/hit.wav"),
    ] {
        bench.put("info.template", template.as_bytes());
        let ran = bench.run(&["pack", "j.toml", "-o", "k.gpk", "--dry-run"]);
        assert!(ran.code == 2 && ran.err.contains(said), "{template}: {} {}", ran.code, ran.err);
    }
}

#[test]
fn an_odd_template_of_a_sheet_is_told_once_where_it_stands() {
    let bench = game();
    let sheet = fs::read_to_string(bench.path("g.toml")).unwrap();
    let all = "[[replace]]\nslot = 'sfx/{clip.stem}.wav'\nclips = ['takes/*.wav']\n";
    bench.put("j.toml", job(all).as_bytes());
    for (sound, odd) in [
        ("value = '{stem}'\n", "value = '{stm}'\n"),
        ("file = 'cards/{stem}.json'", "file = 'cards/{stm}.json'"),
    ] {
        bench.put("g.toml", sheet.replace(sound, odd).as_bytes());
        let line = sheet[..sheet.find(sound).unwrap()].matches('\n').count() + 1;
        let column = odd.find('{').unwrap() + 1;
        let ran = bench.run(&["check", "j.toml"]);
        let said = format!("g.toml, line {line}, column {column}: {{stm}} is not known of sfx/");
        assert!(ran.code == 1 && ran.err.contains(&said), "{} {said} {}", ran.code, ran.err);
        assert_eq!(ran.err.matches("error: ").count(), 1, "{}", ran.err);
    }
}

#[test]
fn outputs_make_their_folders_both_or_none() {
    let bench = Bench::new();
    let spec = ["--spec", "wav pcm16 22050 stereo", "--guide", "g/u/ide.wav"];
    let fit = |out: &str| bench.run(&[&["fit", "clip.wav", "-o", out], &spec[..]].concat());
    assert_eq!(fit("a/b/c.wav").code, 0);
    assert!(bench.path("a/b/c.wav").is_file() && bench.path("g/u/ide.wav").is_file());
    // The guide is there already: the other one is not written either.
    let ran = fit("a/d.wav");
    assert!(ran.code == 5 && !bench.path("a/d.wav").exists(), "{}", ran.err);
    // In a slot it is known for what it is, and the full clip for what that is.
    bench.put("game/a.wav", &sound(0.1));
    for (clip, is_guide) in [("g/u/ide.wav", true), ("a/b/c.wav", false)] {
        assert_eq!(bench.run(&["swap", clip, "game/a.wav", "--root", "game"]).code, 0);
        let said = bench.run(&["status", "game"]).out.contains("this is a guide");
        assert_eq!(said, is_guide, "{clip}");
    }
    let strip = [&spec[..2], &["--guide", "bare.wav", "--tags", "strip"]].concat();
    assert_eq!(bench.run(&[&["fit", "clip.wav", "-o", "full.wav"], &strip[..]].concat()).code, 0);
    let bare = fs::read(bench.path("bare.wav")).unwrap();
    assert!(!bare.windows(4).any(|id| id == b"ICMT"));
}

#[test]
fn what_lies_over_a_job_is_told_in_order() {
    let bench = game();
    let sheet = fs::read_to_string(bench.path("g.toml")).unwrap();
    let entry =
        "\n[[entry]]\nmatch = 'sfx/*'\nfile = 'names.json'\nat = '/last'\nvalue = '{job}'\n";
    bench.put("g.toml", (sheet + entry).as_bytes());
    let line = |slot: &str| format!("[[replace]]\nslot = '{slot}'\nclip = 'clip.wav'\n");
    for (name, slots) in [
        ("low", vec!["sfx/hit.wav", "sfx/reed.wav"]),
        ("middle", vec!["sfx/reed.wav", "sfx/more.wav"]),
        ("high", vec!["sfx/more.wav"]),
    ] {
        let lines: String = slots.iter().map(|slot| line(slot)).collect();
        bench.put(&format!("{name}.toml"), job(&lines).as_bytes());
        let ran = bench.run(&["install", &format!("{name}.toml")]);
        assert_eq!(ran.code, 0, "{name}: {}", ran.err);
    }
    // What another job has put in the place of an entry does not make that one a fault.
    bench.play(
        "
        $ deft-needle check game --target g.toml
        …
        $ deft-needle check game
        4 files checked against what their names say: all pass
        $ deft-needle status game
        …
        names.json: /last = \"low\"  covered  job low
        …
        names.json: /last = \"middle\"  covered  job middle
        …
        names.json: /last = \"high\"  installed  job high
        …
        $ deft-needle restore game --job low [5]
        error: middle was installed over low in …
        help: restore what lies over it first, in this order: deft-needle restore ROOT --job high, then deft-needle restore ROOT --job middle
        $ deft-needle restore game --job high
        …
        $ deft-needle restore game --job middle
        …
        $ deft-needle restore game --job low
        …
        ",
    );
}

#[test]
fn entries_that_somebody_took_out_are_not_reverted_twice() {
    let bench = game();
    let path = bench.path("game/names.json");
    let stock = fs::read(&path).unwrap();
    bench.put("j.toml", job("[[replace]]\nslot = 'sfx/reed.wav'\nclip = 'clip.wav'\n").as_bytes());
    bench.play(
        "
        $ deft-needle check g.toml
        g.toml: sheet OK: 1 rule, names not read (add --root)
        $ deft-needle check g.toml --root game
        g.toml: sheet OK: 1 rule, 2 names
        $ deft-needle install j.toml
        …
        ",
    );
    let made = fs::read_to_string(&path).unwrap();
    bench.put("game/names.json", made.replace(", \"reed\"", "").as_bytes());
    bench.play(
        "
        $ deft-needle restore game
        …
        names.json: /titles holds \"Reed\": entry reverted
        …
        names.json: /values holds \"reed\": entry already gone or changed
        ",
    );
    assert_eq!(fs::read(&path).unwrap(), stock);
}

#[test]
fn caches_of_other_additions_go_too() {
    let bench = Bench::new();
    bench.put("game/a.wav", &sound(0.1));
    for cache in
        ["added/mine/warm.idx", "added/theirs/warm.idx", "game/warm.idx", "added/theirs/keep.txt"]
    {
        bench.put(cache, b"cache");
    }
    bench.put("g.toml", b"name = 'G'\nroots = ['game', 'added']\nclear = ['warm.idx', 'added:*/warm.idx']\n[[slots]]\nin-root = '.'\n[[rule]]\nmatch = '*.wav'\nspec = 'wav pcm16 22050 mono'\n");
    let text = "target = 'g.toml'\nroots = { game = 'game', added = 'added' }\noverlay = 'added/mine'\n[[replace]]\nslot = 'a.wav'\nclip = 'clip.wav'\n";
    bench.put("j.toml", text.as_bytes());
    let planned = bench.json(&["check", "j.toml"]);
    let all = serde_json::json!(["warm.idx", "added:mine/warm.idx", "added:theirs/warm.idx"]);
    assert_eq!(planned["caches"], all);
    let done = bench.json(&["install", "j.toml"]);
    assert_eq!(done["caches"], all);
    for gone in ["added/mine/warm.idx", "added/theirs/warm.idx", "game/warm.idx"] {
        assert!(!bench.path(gone).exists(), "{gone}");
    }
    assert!(bench.path("added/theirs/keep.txt").exists());
    // Whoever restores it, and has not the sheet at hand, clears them as well.
    bench.put("added/theirs/warm.idx", b"cache");
    assert_eq!(bench.run(&["restore", "game"]).code, 0);
    assert!(!bench.path("added/theirs/warm.idx").exists());
}

#[test]
fn found_loops_keep_within_the_limits() {
    let bench = Bench::new();
    // A tune of four seconds that repeats itself every half second.
    let note = |at: f64| (at * 880.0 * std::f64::consts::TAU).sin() * (1.0 - (at % 0.5));
    let spec = hound::WavSpec {
        channels: 1,
        sample_rate: 22_050,
        bits_per_sample: 16,
        sample_format: hound::SampleFormat::Int,
    };
    let mut writer = hound::WavWriter::create(bench.path("tune.wav"), spec).unwrap();
    for frame in 0..22_050 * 4 {
        let value = note(f64::from(frame) / 22_050.0) * 12_000.0;
        writer.write_sample(value as i16).unwrap();
    }
    writer.finalize().unwrap();
    let long = |found: &serde_json::Value| {
        let range = &found["found"][0]["range"];
        range["end"].as_u64().unwrap() - range["start"].as_u64().unwrap()
    };
    assert!(long(&bench.json(&["seam", "tune.wav"])) > 22_050);
    assert!(long(&bench.json(&["seam", "tune.wav", "--longest", "0.7s"])) <= 15_435);
    bench.put("game/bed.wav", &sound(0.2));
    for (rule, loops) in [
        ("longest = '1.2s'", "loop = 'auto'"),
        ("longest = '1.2s'", "cut = 'seam'"),
        ("loop-longest = '1s'\nloop-shortest = '0.6s'", "loop = 'auto'"),
    ] {
        bench.put("g.toml", format!("name = 'G'\n[[slots]]\nin-root = '.'\n[[rule]]\nmatch = '*.wav'\nspec = 'wav pcm16 22050 mono'\n{rule}\n").as_bytes());
        bench.put(
            "j.toml",
            job(&format!("[[replace]]\nslot = 'bed.wav'\nclip = 'tune.wav'\n{loops}\n")).as_bytes(),
        );
        let ran = bench.run(&["install", "j.toml"]);
        assert_eq!(ran.code, 0, "{rule} {loops}: {}{}", ran.out, ran.err);
        bench.play("$ deft-needle check game --target g.toml --root game\n…all pass\n…\n$ deft-needle restore game\n…");
    }
}

/// An encoder that takes many files is called once for all of a job's.
#[cfg(unix)]
#[test]
fn one_call_of_an_encoder_makes_many_files() {
    use std::os::unix::fs::PermissionsExt;
    let bench = Bench::new();
    let script = "#!/bin/sh\necho \"$# files\" >> \"${0%/*}/calls\"\nfor file; do\n  { printf TIN1; cat \"$file\"; } > \"${file%.wav}.tin\"\ndone\n";
    bench.put("tools/tinner", script.as_bytes());
    let tool = bench.path("tools/tinner");
    fs::set_permissions(tool, fs::Permissions::from_mode(0o755)).unwrap();
    bench.put("g.toml", b"name = 'G'\n[[slots]]\nin-root = '.'\n[[rule]]\nmatch = '*.TIN'\nspec = 'opaque'\nfirst-bytes = '54 49 4E 31'\nencoder = { command = ['tools/tinner', '{in...}'], out = '{stem}.tin', feed = 'wav pcm16 22050 mono' }\n");
    let mut lines = String::new();
    for (at, level) in [0.1, 0.2, 0.3].into_iter().enumerate() {
        bench.put(&format!("game/{at}.TIN"), b"TIN1 stock");
        bench.put(&format!("takes/{at}.wav"), &sound(level));
        lines += &format!("[[replace]]\nslot = '{at}.TIN'\nclip = 'takes/{at}.wav'\n");
    }
    bench.put("j.toml", job(&lines).as_bytes());
    bench.play("$ deft-needle install j.toml --allow-commands\n…");
    for at in 0..3 {
        let made = fs::read(bench.path(&format!("game/{at}.TIN"))).unwrap();
        let clip = fs::read(bench.path(&format!("takes/{at}.wav"))).unwrap();
        // The clips are plain files of the feed already.
        assert!(made.starts_with(b"TIN1") && made[4..] == clip[..], "{at}");
    }
    assert_eq!(fs::read_to_string(bench.path("tools/calls")).unwrap(), "3 files\n");
    bench.play(
        "$ deft-needle swap takes/2.wav game/0.TIN --target g.toml --root game --allow-commands\n…",
    );
    assert_eq!(fs::read_to_string(bench.path("tools/calls")).unwrap(), "3 files\n1 files\n");
    bench.play("$ deft-needle restore game\n…");
    assert_eq!(fs::read(bench.path("game/0.TIN")).unwrap(), b"TIN1 stock");
    let unnamed =
        fs::read_to_string(bench.path("g.toml")).unwrap().replace("out = '{stem}.tin', ", "");
    bench.put("g.toml", unnamed.as_bytes());
    let ran = bench.run(&["install", "j.toml", "--allow-commands"]);
    assert!(
        ran.code != 0 && ran.err.contains("needs the names of its output files"),
        "{}",
        ran.err
    );
}

/// A file that is made replaces nothing else of the target's, and is made of nothing outside the sheet's folder.
#[test]
fn made_files_stand_in_nobodys_way() {
    let bench = game();
    bench.put("game/mark.toml", b"[mark]\n");
    bench.put("secret.txt", b"secret");
    let sheet = fs::read_to_string(bench.path("g.toml")).unwrap();
    let (head, _) = sheet.split_once("[[make]]").unwrap();
    let head = head.replacen("companions", "marker = 'mark.toml'\ncompanions", 1);
    let lines = "[values]\nfrom = '../secret.txt'\n[[replace]]\nslot = 'sfx/hit.wav'\nclip = 'clip.wav'\n[[replace]]\nslot = 'sfx/low.wav'\nclip = 'clip.wav'\n";
    bench.put(
        "sub/j.toml",
        format!("target = 'g.toml'\nroot = '../game'\n{lines}")
            .replace("'clip.wav'", "'../clip.wav'")
            .as_bytes(),
    );
    for (file, content, said) in [
        ("card.json", "text = '{stem|json}'", "two slots make card.json, with different contents"),
        ("sfx/more.wav", "text = '{stem}'", "which is a slot"),
        ("SFX/{stem}.WAV", "text = 'x'", "which is a slot"),
        ("mark.toml", "text = 'x = 1'", "which is a marker"),
        ("names.json", "text = '{{}}'", "which is a file with entries"),
        ("{stem}.txt", "from = '{from}'", "one that does not lead out of its folder"),
    ] {
        let make = format!("{head}[[make]]\nmatch = 'sfx/*'\nfile = '{file}'\n{content}\n");
        bench.put("sub/g.toml", make.as_bytes());
        for command in [&["check", "sub/j.toml"][..], &["install", "sub/j.toml"]] {
            let ran = bench.run(command);
            let all = ran.out.clone() + &ran.err;
            assert!(ran.code != 0 && all.contains(said), "{file} {command:?}: {all}");
        }
    }
    // The same for both is one file.
    let make = format!("{head}[[make]]\nmatch = 'sfx/*'\nfile = 'card.json'\ntext = '1'\n");
    bench.put("sub/g.toml", make.as_bytes());
    bench.play("$ deft-needle install sub/j.toml\n…\n$ deft-needle restore game\n…");
    assert!(!bench.path("game/card.json").exists());
}
