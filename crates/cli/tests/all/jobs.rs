//! Whole jobs with the built program: checked, installed, kept in step, taken out again.

use crate::bench::ferry::{JOB, ROOTS, SHEET, ferry, tree};
use crate::bench::{Bench, wav};
use std::fs;
use std::process::Stdio;
use std::time::{Duration, Instant};

#[test]
fn a_job_goes_in_and_out_again() {
    let bench = ferry();
    let mut stock = tree(&bench, &ROOTS);
    stock.remove("game/music/warm.idx");
    let before = tree(&bench, &ROOTS);
    for look in [&["check", "quay.toml"][..], &["install", "quay.toml", "--dry-run"]] {
        let ran = bench.run(look);
        assert_eq!(ran.code, 0, "{}{}", ran.out, ran.err);
        for part in
            ["sfx/gull_2.wav", "cues.json: /cues/dusk", "music/warm.idx is cleared", "no problems"]
        {
            assert!(ran.out.contains(part), "{part}: {}", ran.out);
        }
        assert_eq!(tree(&bench, &ROOTS), before, "looking changes nothing");
    }
    let done = bench.json(&["install", "quay.toml"]);
    assert_eq!(done["placed"].as_array().unwrap().len(), 3);
    assert_eq!(done["caches"][0], "music/warm.idx");
    let cues = fs::read_to_string(bench.path("game/cues.json")).unwrap();
    assert_eq!(
        cues,
        "{\n  \"cues\": { \"storm\": {}, \"dusk\": { \"plays\": \"music/dusk.ogg\", \"millis\": 1500, \"from\": 24000 } } // all\n}\n"
    );
    assert_eq!(
        bench.run(&["check", "game/sfx/gull_1.wav", "--spec", "wav pcm16 22050 mono"]).code,
        0
    );
    // Nothing changed: nothing is done. One clip changed: that one alone.
    let installed = tree(&bench, &ROOTS);
    assert!(bench.run(&["install", "quay.toml"]).out.contains("nothing to do"));
    assert_eq!(tree(&bench, &ROOTS), installed);
    bench.put("quay.toml", JOB.replace("-3dB", "-9dB").as_bytes());
    let done = bench.json(&["install", "quay.toml"]);
    assert_eq!(done["placed"].as_array().unwrap().len(), 2);
    assert_eq!(done["unchanged"][0], "music/dusk.ogg");
    // A slot that is named no more gets its stock back, and its entry goes.
    bench.put("quay.toml", JOB.split("[[replace]]\nslot = 'music").next().unwrap().as_bytes());
    let done = bench.json(&["install", "quay.toml"]);
    assert_eq!(done["restored"][0], "music/dusk.ogg");
    assert_eq!(fs::read(bench.path("game/cues.json")).unwrap(), stock["game/cues.json"]);
    let status = bench.run(&["status", "game"]).out;
    assert!(status.contains("quay") && !status.contains("dusk"), "{status}");
    assert_eq!(bench.run(&["restore", "game", "--job", "quay"]).code, 0);
    assert_eq!(tree(&bench, &ROOTS), stock);
    assert!(!bench.path("game/.deft-needle").exists());
}

#[test]
fn all_that_is_wrong_is_told_at_once_and_nothing_is_written() {
    let bench = ferry();
    let before = tree(&bench, &ROOTS);
    let replace = |slot: &str, rest: &str| format!("[[replace]]\nslot = '{slot}'\n{rest}\n");
    let head = JOB.split("[[replace]]").next().unwrap();
    for (job, code, parts) in [
        (
            replace(
                "sfx/gul_1.wav",
                "clip = 'clip.wav'\n[[replace]]\nslot='sfx/gul_#.wav'\nclip = 'clip.wav'",
            ),
            5,
            &["line 8", "no slot that sfx/gul_#.wav matches"][..],
        ),
        (
            replace("sfx/bell.wav", "clip = 'clop.wav'"),
            5,
            &["there is no clip clop.wav", "did you mean clip.wav"],
        ),
        (replace("music/dusk.ogg", "clip = 'loud.wav'\nspeed = 0.5"), 4, &["4.000 s", "3.000 s"]),
        (
            replace("sfx/bell.wav", "clip = 'clip.wav'\ncut = '1s..9s'"),
            4,
            &["lies outside the clip"],
        ),
        (
            replace("sfx/bell.wav", "clip = 'clip.wav'")
                + &replace("sfx/bell.wav", "clip = 'loud.wav'"),
            2,
            &["given to clip.wav already"],
        ),
        (
            replace("sfx/gull_1.wav", "clip = 'clip.wav'")
                + &replace("sfx/gull_3.wav", "clip = 'clip.wav'"),
            5,
            &["there would be 3 variants, and 1, 2, 4 work", "2 of 3 variants", "gull_2.wav"],
        ),
        (
            replace("sfx/gull_#.wav", "clips = ['clip.wav', 'loud.wav', 'clip.wav']"),
            2,
            &["3 clips for 2 slots"],
        ),
        (
            replace("sfx/bell.wav", "clip = 'clip.wav'\nlevle = 'stock'"),
            2,
            &["unknown key \"levle\"", "did you mean level"],
        ),
        (
            replace("sfx/bell.wav", "clip = 'clip.wav'\ngain = 'loud'"),
            2,
            &["line 8", "invalid gain \"loud\""],
        ),
        (replace("sfx/bell.wav", "clip = \"C:\\new\\tones.wav\""), 2, &["single quotes"]),
        (
            replace("BANK.LBX", "clip = 'clip.wav'"),
            4,
            &["begins with 52 49 46 46, should be 4C 42 58 31"],
        ),
        (replace("sfx/bell.wav", ""), 2, &["it names no clip"]),
        (replace("sfx/bell.wav", "clip = 'clip.wav'\npad = '0..9s'"), 2, &["pad"]),
    ] {
        bench.put("wrong.toml", format!("{head}{job}").as_bytes());
        // To find something is what a check is for; a sheet that cannot be read is no such finding.
        let found = if bench.run(&["check", "wrong.toml"]).out.is_empty() { code } else { 1 };
        for (command, code) in [("check", found), ("install", code)] {
            let ran = bench.run(&[command, "wrong.toml"]);
            let told = ran.out + &ran.err;
            assert_eq!(ran.code, code, "{command} {job}: {told}");
            assert!(parts.iter().all(|part| told.contains(part)), "{job}: {told}");
        }
    }
    for (path, code, part) in [
        ("nothing.toml", 3, "cannot read nothing.toml"),
        ("clip.wav", 2, "neither a job sheet nor a pack"),
        ("ferry-sheet.toml", 2, "it is a target's sheet"),
        ("game", 2, "it is a folder, and no pack"),
    ] {
        let ran = bench.run(&["install", path]);
        assert!(ran.code == code && ran.err.contains(part), "{path}: {}", ran.err);
    }
    let over = SHEET.replace("40MiB", "100KiB");
    bench.put("ferry-sheet.toml", over.as_bytes());
    let ran = bench.run(&["check", "quay.toml"]);
    assert!(ran.code == 1 && ran.err.contains("there is room for 100.0 KiB"), "{}", ran.err);
    assert_eq!(tree(&bench, &ROOTS), before);
}

#[test]
fn pieces_clips_and_defaults_are_dealt() {
    let bench = ferry();
    let head = JOB.split("[values]").next().unwrap();
    let job = format!(
        "{head}[defaults]\nfade-out = '20ms'\n[[replace]]\nslots = ['sfx/bell.wav', 'sfx/gull_wing.wav']\n\
         clip = 'knocks.wav'\npieces = [2, 1]\n[[replace]]\nslot = 'sfx/gull_#.wav'\n\
         clips = ['clip.wav', 'Käse, 鐘 2.wav']\n"
    );
    // Two knocks of different lengths with silence between.
    let mut samples = Vec::new();
    for (loud, frames) in [(0, 4000), (9000, 5000), (0, 20_000), (9000, 10_000), (0, 4000)] {
        samples.extend((0..frames).map(|i| if i % 20 < 10 { loud } else { -loud }));
    }
    let spec = hound::WavSpec {
        channels: 1,
        sample_rate: 22_050,
        bits_per_sample: 16,
        sample_format: hound::SampleFormat::Int,
    };
    let mut writer = hound::WavWriter::create(bench.path("knocks.wav"), spec).unwrap();
    samples.iter().for_each(|s: &i16| writer.write_sample(*s).unwrap());
    writer.finalize().unwrap();
    // As an editor of another system saves it.
    let job = job
        .replace('\n', "\r\n")
        .replace("sfx/gull_#", "sfx\\gull_#")
        .replace("'clip.wav', ", "'takes\\clip.wav', ");
    bench.put("takes/clip.wav", &wav(44_100, 2, 16, 22_050, 0.5));
    bench.put("dealt.toml", format!("\u{feff}{job}").as_bytes());
    let done = bench.json(&["install", "dealt.toml"]);
    let of = |slot: &str| {
        let placed = done["placed"].as_array().unwrap();
        placed.iter().find(|p| p["slot"] == slot).unwrap()["installed"].clone()
    };
    assert!(
        of("sfx/bell.wav")["seconds"].as_f64().unwrap()
            > 1.8 * of("sfx/gull_wing.wav")["seconds"].as_f64().unwrap()
    );
    assert_eq!(of("sfx/gull_1.wav")["clip"], "takes\\clip.wav");
    assert_eq!(of("sfx/gull_2.wav")["clip"], "Käse, 鐘 2.wav");
    for slot in ["sfx/bell.wav", "sfx/gull_1.wav"] {
        let decisions = of(slot)["decisions"].to_string();
        assert!(decisions.contains("\"faded\""), "{decisions}");
    }
}

#[test]
fn swaps_by_hand_become_a_job_and_clips_a_sheet_to_start_from() {
    let bench = ferry();
    let swap = [
        "swap",
        "clip.wav",
        "game/sfx/bell.wav",
        "--root",
        "game",
        "--gain",
        "-6dB",
        "--snap",
        "--cut",
        "0..0.2s",
        "--tag",
        "TITLE=It's",
    ];
    assert_eq!(bench.run(&swap).code, 0);
    let swapped = fs::read(bench.path("game/sfx/bell.wav")).unwrap();
    let job = bench.run(&["status", "game", "--as-job", "--target", "ferry-sheet.toml"]).out;
    assert_eq!(bench.run(&["restore", "game"]).code, 0);
    bench.put("by-hand.toml", job.as_bytes());
    let ran = bench.run(&["install", "by-hand.toml"]);
    assert_eq!(ran.code, 0, "{job}{}", ran.err);
    assert_eq!(fs::read(bench.path("game/sfx/bell.wav")).unwrap(), swapped);
    bench.run(&["restore", "game"]);

    for name in ["gull 1.wav", "gull-2.wav", "The bell at noon.wav", "concertina.wav"] {
        bench.put(&format!("takes/{name}"), &wav(22_050, 1, 16, 4_000, 0.3));
    }
    let ran =
        bench.run(&["new", "ferry-sheet.toml", "takes", "-o", "jobs/new.toml", "--root", "game"]);
    assert_ne!(ran.code, 0, "no folder is made for it");
    let ran = bench.run(&["new", "ferry-sheet.toml", "takes", "-o", "new.toml", "--root", "game"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    let text = fs::read_to_string(bench.path("new.toml")).unwrap();
    for part in [
        "slot = 'sfx/gull_#.wav'\nclips = ['takes/gull 1.wav', 'takes/gull-2.wav']",
        "# the bell at noon\nslot = 'sfx/bell.wav'",
        "takes as an addition:\n[[replace]]\nslot = 'sfx/concertina.wav'",
        "#   music/storm.ogg",
        "berth = ''",
    ] {
        assert!(text.contains(part), "{part}: {text}");
    }
    // What it writes can be read, once the roots are named.
    let text = text.replace(
        "# roots = { game = 'game', settings = 'FOLDER' }",
        "roots = { game = 'game', settings = 'settings' }",
    );
    bench.put("new.toml", text.as_bytes());
    let ran = bench.run(&["check", "new.toml"]);
    assert_eq!(ran.code, 0, "{text}{}{}", ran.out, ran.err);
}

#[test]
fn lines_are_spoken_once_and_only_when_that_is_allowed() {
    let bench = Bench::new();
    let voice = env!("CARGO_BIN_EXE_deft-needle").replace('\\', "/");
    bench.put("wren.toml", b"name = 'Wren'\n[[slots]]\nin-root = '.'\nfind = '^SAY/.*'\n[[rule]]\nmatch = 'SAY/*'\nspec = 'wav pcm8 18900 mono'\nextensions = ['PRM']\n");
    let lines = |second: &str| format!("slot\tsay\nTICK01\tahoy\nTICK02\t{second}\n");
    bench.put("lines.tsv", lines("two bells").as_bytes());
    let job = format!(
        "target = 'wren.toml'\nroot = 'card'\n[voice]\ncommand = ['{voice}', 'stand-in-voice', '{{text}}', '{{out}}']\n\
         [[replace]]\nprompts = 'lines.tsv'\nslot = 'SAY/{{slot}}.PRM'\nspeed = 1.25\n"
    );
    bench.put("voices.toml", job.as_bytes());
    let ran = bench.run(&["install", "voices.toml"]);
    assert!(ran.code == 5 && ran.err.contains("--allow-commands"), "{}", ran.err);
    assert!(!bench.path("voices.voices").exists());
    let ran = bench.run(&["install", "voices.toml", "--allow-commands"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert!(ran.out.contains("no line for 1 slot: SAY/CUCKOO.PRM"), "{}", ran.out);
    // Each letter is a tone of 50 ms, played 1.25 times as fast.
    let seconds =
        |slot: &str| bench.json(&["inspect", slot])["files"][0]["seconds"].as_f64().unwrap();
    assert!((seconds("card/SAY/TICK02.PRM") - 9.0 * 0.05 / 1.25).abs() < 1e-3);
    let spoken = || {
        let mut all: Vec<_> = fs::read_dir(bench.path("voices.voices"))
            .unwrap()
            .flatten()
            .map(|e| (e.file_name(), e.metadata().unwrap().modified().unwrap()))
            .collect();
        all.sort();
        all
    };
    let first = spoken();
    // Unchanged lines need no command, and are not spoken again.
    assert!(bench.run(&["install", "voices.toml"]).out.contains("nothing to do"));
    bench.put("lines.tsv", lines("three bells").as_bytes());
    let done = bench.json(&["install", "voices.toml", "--allow-commands"]);
    assert_eq!(done["placed"].as_array().unwrap().len(), 1);
    let now = spoken();
    assert!(now.len() == 3 && first.iter().all(|one| now.contains(one)));
    bench.put("lines.tsv", (lines("x") + "TICK77\tsurplus\n").as_bytes());
    let ran = bench.run(&["check", "voices.toml"]);
    assert!(ran.code == 1 && ran.err.contains("no slot SAY/TICK77.PRM"), "{}", ran.err);
    // A list without headings, as a spreadsheet leaves it: columns by number, UTF-16, quotes and comments.
    let plain = "# of the clock\r\nSAY;TICK01;\"ahoy; he said \"\"aye\"\"\"\r\nSAY;TICK02;aye\r\n";
    let wide: Vec<u8> =
        "\u{feff}".encode_utf16().chain(plain.encode_utf16()).flat_map(u16::to_le_bytes).collect();
    bench.put("lines.csv", &wide);
    let by_number = "prompts = { list = 'lines.csv', slot = 2, say = 3 }\nslot = '{1}/{slot}.PRM'";
    let job = job.replace("prompts = 'lines.tsv'\nslot = 'SAY/{slot}.PRM'", by_number);
    bench.put("voices.toml", job.as_bytes());
    let done = bench.json(&["install", "voices.toml", "--allow-commands"]);
    let said: Vec<&str> =
        done["placed"].as_array().unwrap().iter().map(|p| p["clip"].as_str().unwrap()).collect();
    assert_eq!(said, ["\"ahoy; he said \"aye\"\"", "\"aye\""]);
}

#[test]
fn watching_keeps_in_step_until_it_is_idle() {
    let bench = ferry();
    let mut child = bench
        .command(&["watch", "quay.toml", "--idle", "2"])
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let holds = |path: &str, not: &[u8]| {
        let began = Instant::now();
        loop {
            let now = fs::read(bench.path(path)).unwrap();
            if now != not {
                return now;
            }
            assert!(began.elapsed() < Duration::from_secs(20), "{path} never changed");
            std::thread::sleep(Duration::from_millis(20));
        }
    };
    let stock = fs::read(bench.path("game/sfx/gull_1.wav")).unwrap();
    let first = holds("game/sfx/gull_1.wav", &stock);
    // Turn, save, hear: a sheet, then a clip.
    std::thread::sleep(Duration::from_millis(300));
    bench.put("quay.toml", JOB.replace("-3dB", "-12dB").as_bytes());
    let second = holds("game/sfx/gull_1.wav", &first);
    std::thread::sleep(Duration::from_millis(300));
    bench.put("clip.wav", &wav(44_100, 2, 16, 11_025, 0.5));
    holds("game/sfx/gull_1.wav", &second);
    assert_eq!(child.wait().unwrap().code(), Some(0));
    assert!(bench.run(&["install", "quay.toml"]).out.contains("nothing to do"));
    // A wrong name is told at once, and what stays wrong is told at the end.
    assert_eq!(bench.run(&["watch", "quai.toml", "--idle", "0.1"]).code, 3);
    bench.put("quay.toml", JOB.replace("'clip.wav'", "'clop.wav'").as_bytes());
    assert_eq!(bench.run(&["watch", "quay.toml", "--idle", "0.1"]).code, 5);
}

#[test]
fn any_ledger_folder_and_a_lock_between_two() {
    let bench = ferry();
    let ran = bench.run(&["install", "quay.toml", "--ledger", "kept"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert!(!bench.path("game/.deft-needle").exists() && bench.path("kept/stock").is_dir());
    let lock = fs::File::options().write(true).open(bench.path("kept/lock")).unwrap();
    lock.lock().unwrap();
    let ran = bench.run(&["install", "quay.toml", "--ledger", "kept"]);
    assert!(ran.code == 5 && ran.err.contains("another run"), "{}", ran.err);
    drop(lock);
    assert_eq!(bench.run(&["restore", "game", "--ledger", "kept"]).code, 0);
    assert!(!bench.path("kept").exists());
}

/// Every example of the page on entries: made as it says, and reverted byte for byte.
#[test]
fn the_examples_of_entries_are_true() {
    let text = include_str!("../../../../docs/entries.md");
    let part = |rest: &str| rest.split("```").next().unwrap().to_owned();
    let mut count = 0;
    for rest in text.split("```toml\n").skip(1) {
        let (entry, before) = (part(rest), part(rest.split("```before\n").nth(1).unwrap()));
        let after = part(rest.split("```after\n").nth(1).unwrap());
        let file = entry.lines().find_map(|line| line.strip_prefix("file")).unwrap();
        let file = file.split('"').nth(1).unwrap();
        let bench = Bench::new();
        let sheet = "name = 'T'\nroots = ['game', 'settings']\n[[rule]]\nmatch = 'music/*.wav'\n\
                     spec = 'wav pcm16 22050 mono'\nnew = 'any'\n";
        bench.put("sheet.toml", format!("{sheet}{entry}").as_bytes());
        bench.put("dusk.wav", &wav(22_050, 1, 16, 22_050, 0.3));
        bench.put(
            "job.toml",
            b"target = 'sheet.toml'\nroot = 'game'\n[values]\nberth = 'QUAY-7'\n[[replace]]\n\
              slot = 'music/dusk.wav'\nclip = 'dusk.wav'\nloop = '0.5s..1s'\n",
        );
        bench.put(&format!("game/{file}"), before.as_bytes());
        let read = || fs::read_to_string(bench.path(&format!("game/{file}"))).unwrap();
        let ran = bench.run(&["install", "job.toml"]);
        assert_eq!(ran.code, 0, "{entry}{}", ran.err);
        assert_eq!(read(), after, "{entry}");
        assert_eq!(bench.run(&["restore", "game"]).code, 0);
        assert_eq!(read(), before, "{entry}");
        count += 1;
    }
    assert!(count >= 7);
}
