//! Targets of shapes that a plain folder of sounds does not have: hashed stores, links, loops in texts, nested
//! lists, archives, whole sets, second roots.

use crate::bench::{Bench, wav};
use std::fs;
use std::io::Write as _;

fn sound(level: f64) -> Vec<u8> {
    wav(22_050, 1, 16, 11_025, level)
}

#[test]
fn stock_under_hashed_names_is_known_by_its_real_ones() {
    let bench = Bench::new();
    let names = ["apple/drop1", "apple/drop2", "gate/creak"];
    let mut index = Vec::new();
    for (at, name) in names.into_iter().enumerate() {
        let bytes = sound(0.1 + f64::from(u32::try_from(at).unwrap()) / 10.0);
        let hash = deft_needle_core::Hash::of(&bytes).hex();
        bench.put(&format!("game/store/{}/{hash}", &hash[..2]), &bytes);
        index.push(format!("\"{name}.wav\": {{\"hash\": \"{hash}\", \"size\": {}}}", bytes.len()));
    }
    bench.put("game/names.json", format!("{{\"v\": {{{}}}}}", index.join(",")).as_bytes());
    fs::create_dir(bench.path("game/mods")).unwrap();
    bench.play("$ deft-needle learn game -o g.toml\n…");
    let sheet = fs::read_to_string(bench.path("g.toml")).unwrap();
    for part in ["pointer = '/v'", "stock = 'store/{hash|first 2}/{hash}'", "# overlay = 'FOLDER'"]
    {
        assert!(sheet.contains(part), "{part}: {sheet}");
    }
    bench.play(
        "
        $ deft-needle check game --target g.toml --root game
        game checked as game: 3 files, all pass
        …
        $ deft-needle swap clip.wav game/apple/drop1.wav --target g.toml --root game [2]
        error: g.toml: the target's sheet names no overlay
        …
        $ deft-needle inspect gate/creak.wav --target g.toml --root game
        …game/store/…
        is        wav pcm16 22050 mono, …
        …
        ",
    );
    bench.put("g.toml", sheet.replace("# overlay = 'FOLDER'", "overlay = 'mods/mine' ").as_bytes());
    bench.put(
        "j.toml",
        b"target = 'g.toml'\nroot = 'game'\n[[replace]]\nslot = 'gate/creak.wav'\nclip = 'clip.wav'\nlevel = 'stock'\n",
    );
    bench.play(
        "
        $ deft-needle swap clip.wav game/apple/drop1.wav --target g.toml --root game
        apple/drop1.wav
        before    wav pcm16 22050 mono  0.500 s  …
        after     wav pcm16 22050 mono  0.500 s  …
        …
        $ deft-needle install j.toml
        gate/creak.wav: installed clip.wav
        …
        $ deft-needle slots g.toml --root game
        slot …
        apple/drop#.wav …  1 replaced, 1 stock
        gate/creak.wav …  replaced
        3 slots
        $ deft-needle check game --target g.toml --root game
        game checked as g: 5 files, all pass
        …
        "
        .replace("checked as g:", "checked as game:")
        .as_str(),
    );
    // The hashed file itself is left alone, and what was learnt stays what it was.
    bench.play("$ deft-needle learn game -o again.toml\n…");
    let lists = ["g", "again"].map(|n| fs::read(bench.path(&format!("{n}.slots.csv"))).unwrap());
    assert_eq!(lists[0], lists[1]);
    let matched = bench.json(&["status", "game"]);
    assert_eq!(matched["roots"][0]["slots"][0]["slot"], "mods/mine/apple/drop1.wav");
    bench.play("$ deft-needle restore game\n…");
    assert!(bench.names("game/mods").is_empty());
}

#[cfg(unix)]
#[test]
fn links_are_slots() {
    use std::os::unix::fs::{PermissionsExt as _, symlink};
    let bench = Bench::new();
    bench.put("theme/bell.wav", &sound(0.2));
    symlink("bell.wav", bench.path("theme/alarm.wav")).unwrap();
    symlink("/etc/hostname", bench.path("theme/out.wav")).unwrap();
    bench.play(
        "
        $ deft-needle learn theme -o t.toml
        theme: 2 sounds
        …
        $ deft-needle slots t.toml
        slot … link to
        alarm.wav  …  bell.wav
        bell.wav   …
        2 slots
        $ deft-needle swap clip.wav theme/bell.wav --root theme
        …
        note      also changes what links to it: alarm.wav
        $ deft-needle restore theme
        …
        $ deft-needle swap clip.wav theme/alarm.wav --root theme --link follow
        bell.wav
        …
        note      alarm.wav is a link to this file
        $ deft-needle restore theme
        …
        $ deft-needle swap clip.wav theme/alarm.wav --root theme --level stock
        alarm.wav
        before    wav pcm16 22050 mono  0.500 s  …
        …
        note      the slot is a link to bell.wav: a file takes its place, and restore brings the link back
        $ deft-needle check theme --target t.toml
        theme checked as theme: 2 files, all pass
        …
        $ deft-needle swap clip.wav theme/out.wav --root theme [5]
        …
        ",
    );
    // A file in a link's place can be read by whom its target could be read by.
    let mode = |name: &str| fs::metadata(bench.path(name)).unwrap().permissions().mode();
    assert_eq!(mode("theme/alarm.wav"), mode("theme/bell.wav"));
    assert!(!bench.path("theme/alarm.wav").is_symlink());
    bench.play("$ deft-needle restore theme\nalarm.wav: stock restored");
    assert_eq!(fs::read_link(bench.path("theme/alarm.wav")).unwrap().to_str(), Some("bell.wav"));
    // A job says it, or its sheet.
    let job =
        "target = 't.toml'\nroot = 'theme'\n[[replace]]\nslot = 'alarm.wav'\nclip = 'clip.wav'\n";
    bench.put("j.toml", format!("{job}link = 'follow'\n").as_bytes());
    bench.play("$ deft-needle install j.toml\nbell.wav: installed clip.wav\n…");
    assert!(bench.path("theme/alarm.wav").is_symlink());
}

/// New files are for everybody whom the user's mask lets read them.
#[cfg(unix)]
#[test]
fn what_is_new_can_be_read_as_other_files_of_the_user() {
    use std::os::unix::fs::PermissionsExt as _;
    let bench = Bench::new();
    let mode = |name: &str| fs::metadata(bench.path(name)).unwrap().permissions().mode() & 0o777;
    bench.play(
        "
        $ deft-needle fit clip.wav -o a.wav --spec \"wav pcm16 22050 mono\"
        …
        $ deft-needle swap clip.wav card/SAY/NEW.PRM --new --root card
        …
        ",
    );
    assert_eq!(mode("a.wav"), mode("clip.wav"));
    assert_eq!(mode("card/SAY/NEW.PRM"), mode("clip.wav"));
    fs::set_permissions(bench.path("a.wav"), fs::Permissions::from_mode(0o640)).unwrap();
    bench
        .play("$ deft-needle fit clip.wav -o a.wav --spec \"wav pcm16 22050 mono\" --overwrite\n…");
    assert_eq!(mode("a.wav"), 0o640);
}

#[test]
fn loops_in_texts_beside_the_files_come_and_go_with_them() {
    let bench = Bench::new();
    bench.put("long.wav", &wav(44_100, 1, 16, 88_200, 0.3));
    for (at, name) in ["mill", "weir"].into_iter().enumerate() {
        let (start, end) = (2_000 * (at + 1), 9_000 + at);
        bench.put(&format!("game/{name}.wav"), &sound(0.3));
        bench.put(&format!("game/{name}.wav.loop"), format!("{start}\r\n{end}\r\n").as_bytes());
        bench.put(
            &format!("game/{name}.tune"),
            format!("plays: {name}.wav\nfrom: {start} for: {}\n", end - start).as_bytes(),
        );
    }
    let stock = fs::read(bench.path("game/mill.tune")).unwrap();
    bench.play(
        "
        $ deft-needle learn game -o g.toml
        …
        $ deft-needle check game --target g.toml --root game
        game checked as game: 2 files, all pass
        …
        $ deft-needle swap clip.wav game/mill.wav --target g.toml --root game [4]
        error: clip.wav: the target requires a loop, and this clip has no loop points
        …
        $ deft-needle swap long.wav game/mill.wav --target g.toml --root game --loop 0.5s..1.5s
        mill.wav
        before    wav pcm16 22050 mono, loops …
        after     wav pcm16 22050 mono, loops …
        …
        $ deft-needle inspect game/mill.wav --target g.toml --root game
        …
        loop      frames 11175 up to 33225 (1.000 s), endless
        …
        $ deft-needle check game --target g.toml --root game
        game checked as game: 2 files, all pass
        …
        ",
    );
    let text = |name: &str| fs::read_to_string(bench.path(name)).unwrap();
    assert_eq!(text("game/mill.wav.loop"), "11175\r\n33225\r\n");
    assert_eq!(text("game/mill.tune"), "plays: mill.wav\nfrom: 11175 for: 22050\n");
    // The file has no loop points of its own: the target would read both.
    assert!(
        bench.json(&["inspect", "game/mill.wav"])["files"][0]["loops"]
            .as_array()
            .unwrap()
            .is_empty()
    );
    // A slot that is restored by its name takes its texts along.
    bench.play(
        "
        $ deft-needle restore game/mill.wav
        mill.tune: stock restored
        mill.wav: stock restored
        mill.wav.loop: stock restored
        ",
    );
    assert_eq!(fs::read(bench.path("game/mill.tune")).unwrap(), stock);
    let job = "target = 'g.toml'\nroot = 'game'\n[[replace]]\nslot = 'SLOT'\nclip = 'long.wav'\nloop = '0.5s..1.5s'\n";
    bench.put("j.toml", job.replace("SLOT", "mill.wav").as_bytes());
    bench.play("$ deft-needle install j.toml\n…");
    // The same again changes nothing; another slot gives the first one's text back.
    bench.play("$ deft-needle install j.toml\nj: nothing to do…\n");
    bench.put("j.toml", job.replace("SLOT", "weir.wav").as_bytes());
    bench.play("$ deft-needle install j.toml\n…");
    assert_eq!(fs::read(bench.path("game/mill.tune")).unwrap(), stock);
}

#[test]
fn names_are_read_out_of_nested_lists() {
    let bench = Bench::new();
    bench.put("game/events.json", b"\xEF\xBB\xBF{ // by hand\n\"gate\": {\"takes\": [\"sfx/open_a\", {\"name\": \"sfx/open_b\", \"weight\": 2}]},\n\"hen\": {\"takes\": [{\"name\": \"sfx/hurt1\"}],},}");
    bench.put("game/voices.csv", b"anna;hello;welcome, aboard\n# spare\nanna;bye;\n");
    bench.put("game/bank.xml", b"<?xml version=\"1.0\"?><bank><sound file='snd/hit.wav'/><sound><file>snd/low.wav</file></sound></bank>");
    let mut zip = zip::ZipWriter::new(fs::File::create(bench.path("game/base.zip")).unwrap());
    for (name, bytes) in [
        ("lists/more.txt", &b"amb/wind\r\n\r\n// no\r\namb/rain\r\n"[..]),
        ("sfx/gull.wav", &sound(0.2)),
    ] {
        zip.start_file(name, zip::write::SimpleFileOptions::default()).unwrap();
        zip.write_all(bytes).unwrap();
    }
    zip.finish().unwrap();
    let rule = "[[rule]]\nmatch = '**'\nspec = 'wav pcm16 22050 mono'\nnew = 'listed'\n";
    for (list, want) in [
        (
            "in-root = 'events.json'\npointer = '/*/takes'\nfield = 'name'\nextension = 'wav'",
            "sfx/hurt1.wav sfx/open_a.wav sfx/open_b.wav",
        ),
        (
            "in-root = 'voices.csv'\ncolumn = [1, 2]\nextension = 'wav'",
            "anna/bye.wav anna/hello.wav",
        ),
        ("in-root = 'bank.xml'\npointer = '/bank/sound/@file'", "snd/hit.wav"),
        ("in-root = 'bank.xml'\npointer = '/bank/sound/file'", "snd/low.wav"),
        ("in-root = 'base.zip/lists/more.txt'\nextension = 'wav'", "amb/rain.wav amb/wind.wav"),
        ("in-root = 'base.zip/sfx'", "gull.wav"),
    ] {
        bench.put("g.toml", format!("name = 'G'\n[[slots]]\n{list}\n{rule}").as_bytes());
        let slots = bench.json(&["slots", "g.toml", "--root", "game"]);
        let names: Vec<&str> = slots["slots"]
            .as_array()
            .unwrap()
            .iter()
            .map(|slot| slot["name"].as_str().unwrap())
            .collect();
        assert_eq!(names.join(" "), want, "{list}");
    }
    for (list, said) in [
        ("in-root = 'events.json'\npointer = '/*/none'", "/*/none"),
        ("in-root = 'bank.xml'\npointer = '/bank/tune'", "/bank/tune"),
        ("in-root = 'base.zip/lists/mor.txt'", "did you mean lists/more.txt?"),
        ("in-root = 'events.json'\npointer = '/*/takes'\nstock = '{hash'", "g.toml, line 5"),
    ] {
        bench.put("g.toml", format!("name = 'G'\n[[slots]]\n{list}\n{rule}").as_bytes());
        let ran = bench.run(&["slots", "g.toml", "--root", "game"]);
        assert!(ran.code != 0 && ran.err.contains(said), "{list}: {}", ran.err);
    }
}

#[test]
fn paths_lead_to_the_clips_of_a_chain() {
    let bench = Bench::new();
    bench.play(
        "
        $ deft-needle fit clip.wav -o a.ogg --spec 'ogg vorbis 44100 stereo'
        …
        $ deft-needle fit clip.wav -o b.ogg --spec 'ogg flac16 22050 mono'
        …
        ",
    );
    let links = ["a.ogg", "b.ogg"].map(|name| fs::read(bench.path(name)).unwrap());
    fs::write(bench.path("radio.ogg"), links.concat()).unwrap();
    fs::write(bench.path("whole.ogg#2"), &links[0]).unwrap();
    let mut zip = zip::ZipWriter::new(fs::File::create(bench.path("takes.zip")).unwrap());
    zip.start_file("bell.wav", zip::write::SimpleFileOptions::default()).unwrap();
    zip.write_all(&sound(0.2)).unwrap();
    zip.finish().unwrap();
    bench.play(
        "
        $ deft-needle inspect radio.ogg
        radio.ogg
        is        ogg vorbis 44100 stereo, …
        …
        note      2 clips are chained in it; the first is read, radio.ogg#2 is the next
        $ deft-needle inspect radio.ogg#2
        radio.ogg#2
        is        ogg flac16 22050 mono, …
        …
        $ deft-needle inspect radio.ogg#3 [5]
        error: radio.ogg has no clip 3
        help: it holds 2: radio.ogg#1 to radio.ogg#2
        $ deft-needle inspect whole.ogg#2
        whole.ogg#2
        is        ogg vorbis 44100 stereo, …
        …
        $ deft-needle inspect clip.wav#1 [3]
        error: cannot read clip.wav#1: …
        help: did you mean clip.wav (another extension)?
        $ deft-needle fit radio.ogg#2 -o radio.ogg --overwrite --spec 'ogg vorbis any any' [5]
        error: radio.ogg#2: radio.ogg holds the clip, and other things with it
        help: choose another output: replacing it would lose them
        $ deft-needle fit takes.zip/bell.wav -o takes.zip --overwrite --spec 'wav pcm16 any any' [5]
        error: takes.zip/bell.wav: takes.zip holds the clip, and other things with it
        …
        $ deft-needle fit radio.ogg#2 -o second.wav --spec 'wav pcm16 any any'
        radio.ogg#2 to second.wav
        wav pcm16 22050 mono, …
        …
        ",
    );
    // A job takes its clips from both, and two of one file are two.
    bench.put("game/a.wav", &sound(0.2));
    bench.put("game/b.wav", &sound(0.3));
    bench.put("game/c.wav", &sound(0.4));
    bench.put("g.toml", b"name = 'g'\nroots = ['game']\n[[slots]]\nin-root = '.'\n[[rule]]\nmatch = '**'\nspec = 'wav pcm16 22050 mono'\n");
    bench.put(
        "j.toml",
        b"target = 'g.toml'\nroot = 'game'\n[[replace]]\nslot = 'a.wav'\nclip = 'radio.ogg'\n\
          [[replace]]\nslot = 'b.wav'\nclip = 'radio.ogg#2'\n[[replace]]\nslot = 'c.wav'\nclip = 'takes.zip/bell.wav'\n",
    );
    bench.play("$ deft-needle install j.toml\n…");
    let bytes =
        ["a", "b", "c"].map(|name| fs::read(bench.path(&format!("game/{name}.wav"))).unwrap());
    assert!(bytes[0] != bytes[1] && bytes[1].len() == 44 + 2 * 11_025, "{}", bytes[1].len());
    assert_eq!(bytes[2], sound(0.2));
}

#[test]
fn paths_lead_into_archives() {
    let bench = Bench::new();
    fs::create_dir(bench.path("game")).unwrap();
    let mut zip = zip::ZipWriter::new(fs::File::create(bench.path("game/base.zip")).unwrap());
    for name in ["sfx/gull.wav", "sfx/deep/bell.wav"] {
        zip.start_file(name, zip::write::SimpleFileOptions::default()).unwrap();
        zip.write_all(&sound(0.2)).unwrap();
    }
    zip.finish().unwrap();
    bench.play(
        "
        $ deft-needle inspect game/base.zip/sfx/gull.wav
        game/base.zip/sfx/gull.wav
        is        wav pcm16 22050 mono, …
        …
        $ deft-needle inspect game/base.zip/sfx/gul.wav [5]
        error: game/base.zip has no sfx/gul.wav
        help: did you mean sfx/gull.wav?
        $ deft-needle fit clip.wav -o new.wav --like game/base.zip/sfx/gull.wav
        …
        wav pcm16 22050 mono, 0.500 s; converted and verified
        $ deft-needle hear new.wav --beside game/base.zip/sfx/gull.wav -o both.wav
        …
        $ deft-needle seam game/base.zip/sfx/gull.wav --loop 0.1s..0.4s
        …
        $ deft-needle learn game -o g.toml [5]
        error: game has its sounds in archives: base.zip holds 2
        help: name the archive: game/base.zip
        $ deft-needle learn game/base.zip/sfx -o g.toml
        game/base.zip/sfx: 2 sounds
        …
        $ deft-needle slots g.toml
        slot           spec …
        deep/bell.wav  …
        gull.wav       …
        2 slots
        ",
    );
    bench.put("game/horn.wav", &sound(0.1));
    let ran = bench.run(&["learn", "game", "-o", "h.toml"]);
    assert!(
        ran.out.contains("base.zip holds 2 sounds: deft-needle learn game/base.zip"),
        "{}",
        ran.out
    );
}

#[test]
fn whole_sets_are_whole() {
    let bench = Bench::new();
    for name in ["a", "b", "c", "d", "e"] {
        bench.put(&format!("game/en/{name}.wav"), &sound(0.2));
    }
    let names = "en/a.wav\nen/b.wav\nen/c.wav\nen/d.wav\nen/e.wav\nfr/a.wav\nfr/b.wav\n";
    bench.put("names.txt", names.as_bytes());
    let sheet = |more: &str, of_list: &str| {
        let text = format!(
            "name = 'G'\n[[slots]]\nfrom = 'names.txt'\n{of_list}\n[[rule]]\nmatch = '**'\nspec = 'wav pcm16 22050 mono'\nnew = 'listed'\n{more}\n"
        );
        bench.put("g.toml", text.as_bytes());
    };
    let job = |slots: &str| {
        let text = format!(
            "target = 'g.toml'\nroot = 'game'\n[[replace]]\nslots = [{slots}]\nclip = 'clip.wav'\n"
        );
        bench.put("j.toml", text.as_bytes());
    };
    sheet("", "");
    bench.play("$ deft-needle check game --target g.toml --root game\n…no file for 2 listed names that the target takes as additions: fr/a.wav, fr/b.wav\n…5 files, all pass\n…");
    assert_eq!(
        bench.json(&["check", "game", "--target", "g.toml", "--root", "game"])["trees"][0]["absent"],
        serde_json::json!(["fr/a.wav", "fr/b.wav"])
    );
    // What a job leaves of a folder of which it replaces most.
    job("'en/a.wav', 'en/b.wav', 'en/c.wav', 'en/d.wav'");
    bench.play("$ deft-needle check j.toml\n…\nnote      4 of 5 slots of en replaced; left unchanged: en/e.wav\n…");
    job("'en/a.wav'");
    assert!(!bench.run(&["check", "j.toml"]).out.contains("left unchanged"));
    for (rule, list) in [("complete = true", ""), ("", "complete = true")] {
        sheet(rule, list);
        bench.play("$ deft-needle check game --target g.toml --root game [1]\n…fr/a.wav: missing…\n…fr/b.wav: missing…\n…");
        job("'fr/a.wav'");
        bench.play("$ deft-needle install j.toml [5]\n…\nerror: no file for 1 listed name would be there: fr/b.wav\nhelp: …\n…");
        job("'fr/a.wav', 'fr/b.wav'");
        bench.play("$ deft-needle install j.toml\n…\n$ deft-needle restore game\n…");
    }
}

#[test]
fn second_roots_are_named_everywhere() {
    let bench = Bench::new();
    bench.put("game/sfx/a.wav", &sound(0.2));
    bench.put("settings/names.txt", b"sfx/a.wav\n");
    bench.put("takes/a.wav", &sound(0.4));
    bench.put("g.toml", b"name = 'G'\nroots = ['game', 'settings']\n[[slots]]\nroot = 'settings'\nin-root = 'names.txt'\n[[rule]]\nmatch = '**'\nspec = 'wav pcm16 22050 mono'\n");
    let roots = "--root game --root settings=settings";
    bench.play(
        &"
        $ deft-needle slots g.toml ROOTS
        slot …
        sfx/a.wav …
        1 slots
        $ deft-needle check game --target g.toml ROOTS
        game checked as G: 1 file, all pass
        …
        $ deft-needle new g.toml takes -o j.toml ROOTS
        j.toml: 1 clip matched by name, 0 left as comments
        …
        $ deft-needle install j.toml
        sfx/a.wav: installed takes/a.wav
        …
        $ deft-needle swap clip.wav game/sfx/a.wav --target g.toml ROOTS
        sfx/a.wav
        …
        $ deft-needle slots g.toml --root game --root setings=settings [5]
        error: G has no root \"setings\"
        help: there are: game, settings
        $ deft-needle slots g.toml --root game=game --root settings=settings
        slot …
        sfx/a.wav …
        1 slots
        "
        .replace("ROOTS", roots),
    );
    assert!(
        fs::read_to_string(bench.path("j.toml"))
            .unwrap()
            .contains("roots = { game = 'game', settings = 'settings' }")
    );
}

#[test]
fn a_swap_judges_new_names_without_a_sheet() {
    let bench = Bench::new();
    bench.put("game/music/storm.wav", &sound(0.2));
    for (slot, said) in [
        ("game/music/Storm.wav", "differs"),
        ("game/musc/rain.wav", "there is no folder game/musc"),
        ("game/MUSIC/rain.wav", "did you mean game/music (upper and lower case differ)?"),
        ("game/music/rain.ogg.wav", "second extension"),
        ("game/music/rain.flac", ".wav"),
    ] {
        let ran = bench.run(&[
            "swap",
            "clip.wav",
            slot,
            "--root",
            "game",
            "--new",
            "--like",
            "game/music/storm.wav",
        ]);
        assert!(ran.code == 5 && ran.err.contains(said), "{slot}: {} {}", ran.code, ran.err);
    }
    for slot in ["game/music/rain.wav", "game/quite new/rain.wav", "game/music/TICK"] {
        let ran = bench.run(&[
            "swap",
            "clip.wav",
            slot,
            "--root",
            "game",
            "--new",
            "--like",
            "game/music/storm.wav",
        ]);
        assert_eq!(ran.code, 0, "{slot}: {}", ran.err);
    }
}

#[test]
fn clips_find_their_slots_by_path_then_by_name() {
    let bench = Bench::new();
    for slot in [
        "anna/hello",
        "anna/bye",
        "bob/hello",
        "sfx/gull_1",
        "sfx/gull_2",
        "sfx/gull_3",
        "sfx/horn",
    ] {
        bench.put(&format!("game/{slot}.wav"), &sound(0.2));
    }
    for clip in [
        "bob/hello",
        "bob/bye",
        "spare/hello",
        "spare/horn",
        "gull/take 2",
        "gull/take 10",
        "gull/take 1",
        "gull/take 11",
        "odd",
    ] {
        bench.put(&format!("takes/{clip}.wav"), &sound(0.3));
    }
    bench.play("$ deft-needle learn game -o g.toml\n…\n$ deft-needle new g.toml takes -o j.toml --root game\nj.toml: 5 clips matched by name, 4 left as comments\n…");
    let text = fs::read_to_string(bench.path("j.toml")).unwrap();
    for part in [
        "slot = 'bob/hello.wav'\nclip = 'takes/bob/hello.wav'\n",
        "clip = 'takes/bob/bye.wav'  # not in bob; that name is in anna/bye.wav\n",
        "clip = 'takes/spare/hello.wav'  # one of anna/hello.wav, bob/hello.wav\n",
        "slot = 'sfx/horn.wav'\nclip = 'takes/spare/horn.wav'\n",
        "slot = 'sfx/gull_#.wav'\nclips = ['takes/gull/take 1.wav', 'takes/gull/take 2.wav', 'takes/gull/take 10.wav']\n",
        "clip = 'takes/gull/take 11.wav'  # sfx/gull_#.wav has 3 slots\n",
        "# clip = 'takes/odd.wav'\n",
        "#   anna/bye.wav\n",
    ] {
        assert!(text.contains(part), "{part}: {text}");
    }
    bench.play("$ deft-needle check j.toml\n…");
}

#[test]
fn what_is_not_written_here_is_copied_where_it_conforms() {
    let bench = Bench::new();
    // Samples without a header are whatever their rule says.
    bench.put("game/prompt.raw", &[0x55; 4_000]);
    bench.put("g.toml", b"name = 'G'\n[[slots]]\nin-root = '.'\n[[rule]]\nmatch = '*.raw'\nspec = 'raw alaw 8000 mono'\nlongest = '2s'\nlevel = 'stock'\n");
    bench.put("j.toml", b"target = 'g.toml'\nroot = 'game'\n[[replace]]\nslot = 'prompt.raw'\nclip = 'clip.wav'\nlevel = 'keep'\n");
    bench.play(
        "
        $ deft-needle check game --target g.toml --root game
        game checked as G: 1 file, all pass
        …
        $ deft-needle inspect game/prompt.raw --target g.toml --root game
        …
        is        raw alaw 8000 mono, …
        length    0.500 s, 4000 frames
        …
        $ deft-needle install j.toml
        prompt.raw: installed clip.wav
        …
        $ deft-needle check game --target g.toml --root game
        game checked as G: 1 file, all pass
        …
        $ deft-needle status game --verify
        …
        $ deft-needle restore game
        prompt.raw: stock restored
        ",
    );
}
