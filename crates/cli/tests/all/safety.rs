//! What `docs/safety.md` promises, on the built program and real files.

use crate::bench::{Bench, told, wav};
use std::fs;
use std::io::{Cursor, Write as _};
use std::process::Stdio;
use std::time::{Duration, Instant};

const SLOT: &str = "card/SAY/TICK01.PRM";

/// Limits of what a stranger's file may take: in less than a second and 256 MiB.
fn quick(bench: &Bench, args: &[&str]) -> crate::bench::Ran {
    let began = Instant::now();
    let mut command = bench.command(args);
    #[cfg(target_os = "linux")]
    {
        // The address space of the program alone; its threads' stacks take some of that, too.
        let line: Vec<String> = args.iter().map(|arg| format!("'{arg}'")).collect();
        let program = command.get_program().to_string_lossy().into_owned();
        let limited = format!("ulimit -v 1500000; exec '{program}' --threads 2 {}", line.join(" "));
        let data = command
            .get_envs()
            .find_map(|(name, value)| (name == "DEFT_NEEDLE_DATA").then_some(value?));
        let data = data.unwrap().to_owned();
        let mut shell = std::process::Command::new("sh");
        shell.args(["-c", &limited]).current_dir(bench.0.path()).env("DEFT_NEEDLE_DATA", data);
        command = shell;
    }
    let ran = told(command.stdin(Stdio::null()).output().unwrap());
    // Debug builds on a busy machine: what is guarded against takes minutes.
    assert!(began.elapsed() < Duration::from_secs(20), "{args:?} took {:?}", began.elapsed());
    ran
}

#[test]
fn one_file_belongs_to_one_ledger_however_it_is_named() {
    let bench = Bench::new();
    let stock = fs::read(bench.path(SLOT)).unwrap();
    // From inside the folder: nothing speaks for the current folder, until it is named.
    let inside = |args: &[&str], at: &str| {
        let mut command = bench.command(args);
        told(command.current_dir(bench.path(at)).stdin(Stdio::null()).output().unwrap())
    };
    let ran = inside(&["swap", "../../clip.wav", "TICK01.PRM"], "card/SAY");
    assert!(ran.code == 5 && ran.err.contains("--root"), "{}", ran.err);
    assert!(!bench.path("card/SAY/.deft-needle").exists());
    let ran = inside(&["swap", "../../clip.wav", "TICK01.PRM", "--root", "."], "card/SAY");
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert!(bench.path("card/SAY/.deft-needle").is_dir());
    // Status and restore of any folder above or below act on it.
    for at in ["card", ".", "card/SAY", SLOT] {
        let status = bench.json(&["status", at]);
        assert_eq!(status["roots"][0]["slots"][0]["slot"], "TICK01.PRM", "{at}");
    }
    assert_eq!(inside(&["status"], "card/SAY").out.matches("installed").count(), 1);
    // A second swap with another root finds the ledger that knows the file.
    let ran = bench.run(&["swap", "Käse, 鐘 2.wav", SLOT, "--root", "card"]);
    assert!(ran.code == 0 && ran.err.contains("its ledger knows this file"), "{}", ran.err);
    assert!(!bench.path("card/.deft-needle").exists());
    // A job cannot begin a second one over the same file.
    bench.put("t.toml", b"name = 'T'\n[[slots]]\nin-root = '.'\n[[rule]]\nmatch = '**'\nspec = 'wav pcm8 18900 mono'\nextensions = ['PRM']\n");
    bench.put(
        "j.toml",
        format!(
            "target = 't.toml'\nroot = 'card'\n[[replace]]\nslot = '{}'\nclip = 'clip.wav'\n",
            &SLOT[5..]
        )
        .as_bytes(),
    );
    let ran = bench.run(&["install", "j.toml"]);
    assert!(ran.code == 5 && ran.err.contains("was replaced before"), "{}", ran.err);
    // Other files there are another ledger's; a restore of all of it brings everything back.
    assert_eq!(
        bench
            .run(&["swap", "clip.wav", "card/X.PRM", "--root", "card", "--new", "--like", SLOT])
            .code,
        0
    );
    assert_eq!(bench.run(&["restore", "card"]).code, 0);
    assert_eq!(fs::read(bench.path(SLOT)).unwrap(), stock);
    assert_eq!(bench.names("card"), ["LIST.TSV", "SAY"]);
    assert_eq!(bench.names("card/SAY").len(), 3);
}

#[test]
fn a_ledger_takes_no_folder_that_is_not_its_own() {
    let bench = Bench::new();
    for (name, file) in
        [("a", "stock/mine.txt"), ("b", "ledger.log"), ("c", "stock/letter/x"), ("d", "other.txt")]
    {
        bench.put(&format!("{name}/{file}"), b"this is mine\n");
        for args in [vec!["swap", "clip.wav", SLOT, "--root", "card"], vec!["restore", "card"]] {
            let ran = bench.run(&[&args[..], &["--ledger", name]].concat());
            assert_eq!(ran.code, 5, "{name}: {}{}", ran.out, ran.err);
        }
        assert_eq!(fs::read(bench.path(&format!("{name}/{file}"))).unwrap(), b"this is mine\n");
    }
    // A root that is a ledger's folder is refused, whatever it is called.
    assert_eq!(
        bench.run(&["swap", "clip.wav", SLOT, "--root", "card", "--ledger", "kept"]).code,
        0
    );
    bench.put("x.wav", &wav(18_900, 1, 8, 100, 0.1));
    for root in ["kept", "kept/stock"] {
        let ran = bench.run(&[
            "swap",
            "clip.wav",
            &format!("{root}/x"),
            "--root",
            root,
            "--new",
            "--like",
            "x.wav",
        ]);
        assert!(ran.code == 5 && ran.err.contains("belongs to a ledger"), "{}", ran.err);
    }
}

#[test]
fn a_forged_ledger_is_not_believed() {
    let bench = Bench::new();
    // A ledger with a second root, moved into a stranger's folder.
    bench.put("t.toml", b"name = 'T'\nroots = ['card', 'settings']\n[[slots]]\nin-root = '.'\n[[rule]]\nmatch = '**/*.PRM'\nspec = 'wav pcm8 18900 mono'\nextensions = ['PRM']\n[[entry]]\nroot = 'settings'\nfile = 'a.ini'\nat = 'A/B'\nvalue = 'c'\n");
    bench.put("settings/a.ini", b"[A]\nB=x\n");
    bench.put("j.toml", b"target = 't.toml'\nroots = { card = 'card', settings = 'settings' }\n[[replace]]\nslot = 'SAY/TICK01.PRM'\nclip = 'clip.wav'\n");
    assert_eq!(bench.run(&["install", "j.toml"]).code, 0);
    let told_file = fs::read(bench.path("settings/a.ini")).unwrap();
    fs::rename(bench.path("card"), bench.path("shared")).unwrap();
    // Another user, who knows nothing of it.
    let stranger = |args: &[&str]| {
        let mut command = bench.command(args);
        command.env("DEFT_NEEDLE_DATA", bench.path("stranger"));
        told(command.stdin(Stdio::null()).output().unwrap())
    };
    for args in [
        vec!["restore", "shared"],
        vec!["status", "shared"],
        vec!["swap", "clip.wav", "shared/SAY/TICK02.PRM"],
    ] {
        let ran = stranger(&args);
        assert!(ran.code == 5 && ran.err.contains("--adopt"), "{args:?}: {}{}", ran.out, ran.err);
    }
    // Adopted, it still reaches no other root until that is named.
    let ran = stranger(&["restore", "shared", "--adopt"]);
    assert!(ran.code == 5 && ran.err.contains("settings=FOLDER"), "{}", ran.err);
    assert_eq!(fs::read(bench.path("settings/a.ini")).unwrap(), told_file);
    let ran = stranger(&["restore", "shared", "--adopt", "--root", "settings=settings"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert_eq!(fs::read(bench.path("settings/a.ini")).unwrap(), b"[A]\nB=x\n");
}

#[test]
fn patterns_of_caches_remove_nothing_else() {
    let bench = Bench::new();
    let sheet = |clear: &str| {
        format!(
            "name = 'T'\nclear = {clear}\nmarker = 'LIST.TSV'\n[[slots]]\nin-root = '.'\n[[rule]]\nmatch = 'SAY/**'\nspec = 'wav pcm8 18900 mono'\nextensions = ['PRM']\n"
        )
    };
    bench.put("j.toml", b"target = 't.toml'\nroot = 'card'\n[[replace]]\nslot = 'SAY/TICK01.PRM'\nclip = 'clip.wav'\n");
    bench.put("card/warm.idx", b"cache");
    for clear in ["'**'", "'**/*.PRM'", "'*.TSV'", "'SAY/*'"] {
        bench.put("t.toml", sheet(clear).as_bytes());
        for args in [
            vec!["check", "t.toml"],
            vec!["install", "j.toml"],
            vec!["install", "j.toml", "--dry-run"],
        ] {
            let ran = bench.run(&args);
            assert!(
                ran.code >= 2 && ran.err.contains("not a cache"),
                "{clear} {args:?}: {}",
                ran.err
            );
        }
    }
    // Case is no way around it, nor a name that only the job knows.
    bench.put("t.toml", sheet("'**/tick0?.prm'").as_bytes());
    bench.put("card/say/tick07.prm", b"x");
    bench.put("t.toml", sheet("['*.idx', '**/*.bak']").as_bytes());
    let dry = bench.run(&["install", "j.toml", "--dry-run"]);
    assert!(dry.out.contains("warm.idx is cleared"), "{}", dry.out);
    assert_eq!(bench.run(&["install", "j.toml"]).code, 0);
    assert!(!bench.path("card/warm.idx").exists());
}

#[test]
fn a_wrong_overlay_or_archive_locks_nothing() {
    let bench = Bench::new();
    bench.put("t.toml", b"name = 'T'\n[[slots]]\nin-root = '.'\n[[rule]]\nmatch = '**/*.PRM'\nspec = 'wav pcm8 18900 mono'\nextensions = ['PRM']\n[pack]\nextension = 'zip'\n");
    for place in ["overlay = 'nowhere/over'", "archive = 'nowhere/a.zip'"] {
        bench.put("j.toml", format!("target = 't.toml'\nroot = 'card'\n{place}\n[[replace]]\nslot = 'SAY/TICK01.PRM'\nclip = 'clip.wav'\n").as_bytes());
        for command in ["check", "install"] {
            let ran = bench.run(&[command, "j.toml"]);
            assert!(ran.code == 5 && ran.err.contains("does not exist"), "{place}: {}", ran.err);
        }
        assert_eq!(bench.run(&["swap", "clip.wav", SLOT, "--root", "card"]).code, 0);
        assert_eq!(bench.run(&["restore", "card"]).code, 0);
    }
}

#[test]
fn three_loops_at_once_lose_nothing() {
    let bench = Bench::new();
    let before: Vec<Vec<u8>> = ["TICK01", "TICK02", "CUCKOO"]
        .map(|name| fs::read(bench.path(&format!("card/SAY/{name}.PRM"))).unwrap())
        .into();
    let rounds =
        std::env::var("DEFT_NEEDLE_ROUNDS").ok().and_then(|n| n.parse().ok()).unwrap_or(40);
    std::thread::scope(|scope| {
        for name in ["TICK01", "TICK02", "CUCKOO"] {
            let bench = &bench;
            scope.spawn(move || {
                let slot = format!("card/SAY/{name}.PRM");
                for _ in 0..rounds {
                    for args in [
                        vec!["swap", "Käse, 鐘 2.wav", &slot, "--root", "card"],
                        vec!["restore", &slot],
                    ] {
                        let ran = bench.run(&args);
                        assert!([0, 5].contains(&ran.code), "{args:?}: {}", ran.err);
                    }
                }
            });
        }
    });
    bench.run(&["restore", "card"]);
    let after = ["TICK01", "TICK02", "CUCKOO"]
        .map(|name| fs::read(bench.path(&format!("card/SAY/{name}.PRM"))).unwrap());
    assert!(before == after.to_vec(), "an original is lost");
    assert_eq!(bench.names("card"), ["LIST.TSV", "SAY"]);
}

#[test]
fn a_lost_log_is_refused_and_rescued() {
    let bench = Bench::new();
    let stock = fs::read(bench.path(SLOT)).unwrap();
    assert_eq!(bench.run(&["learn", "card", "-o", "t.toml"]).code, 0);
    assert_eq!(bench.run(&["swap", "clip.wav", SLOT, "--root", "card"]).code, 0);
    for log in ["card/.deft-needle/ledger.log", "card/.deft-needle/stock/ledger.log"] {
        fs::remove_file(bench.path(log)).unwrap();
    }
    for args in [
        vec!["restore", "card"],
        vec!["status", "card"],
        vec!["swap", "clip.wav", SLOT, "--root", "card"],
    ] {
        let ran = bench.run(&args);
        assert!(ran.code == 5 && ran.err.contains("deft-needle rescue"), "{args:?}: {}", ran.err);
    }
    let dry = bench.run(&["rescue", "card", "--dry-run"]);
    assert!(dry.code == 1 && dry.out.contains("wav pcm8 18900 mono"), "{}{}", dry.out, dry.err);
    let ran = bench.run(&["rescue", "card", "--target", "t.toml"]);
    assert!(
        ran.code == 0 && ran.out.contains("known by the list's hash"),
        "{}{}",
        ran.out,
        ran.err
    );
    assert_eq!(fs::read(bench.path(SLOT)).unwrap(), stock);
    let ran = bench.run(&["rescue", "card"]);
    assert_eq!(ran.code, 5, "{}", ran.out);
}

#[cfg(unix)]
#[test]
fn what_lies_around_is_neither_followed_nor_waited_for() {
    use std::os::unix::fs::symlink;
    let bench = Bench::new();
    bench.put("precious", b"precious");
    // Links at names that could be guessed, as outputs and as slots.
    for name in [".out.wav.deft-needle-part", "out.wav"] {
        symlink(bench.path("precious"), bench.path(name)).unwrap();
    }
    for more in [vec![], vec!["--overwrite"]] {
        let ran = bench.run(&[vec!["fit", "clip.wav", "-o", "out.wav"], more].concat());
        assert_eq!(ran.code, 5, "{}", ran.err);
    }
    assert_eq!(bench.run(&["fit", "clip.wav", "-o", "new.wav"]).code, 0);
    symlink(bench.path("precious"), bench.path("card/SAY/.TICK01.PRM.deft-needle-part")).unwrap();
    assert_eq!(bench.run(&["swap", "clip.wav", SLOT, "--root", "card"]).code, 0);
    assert!(fs::symlink_metadata(bench.path(SLOT)).unwrap().is_file());
    assert_eq!(fs::read(bench.path("precious")).unwrap(), b"precious");
    // Pipes, as clip, slot, list, sheet and log.
    for pipe in ["pipe.wav", "card/SAY/PIPE.PRM", "pipe.toml"] {
        let made = std::process::Command::new("mkfifo").arg(bench.path(pipe)).status();
        assert!(made.unwrap().success());
    }
    for args in [
        vec!["inspect", "pipe.wav"],
        vec!["fit", "pipe.wav", "-o", "x.wav"],
        vec!["swap", "clip.wav", "card/SAY/PIPE.PRM", "--root", "card"],
        vec!["swap", "pipe.wav", SLOT, "--root", "card"],
        vec!["check", "pipe.wav"],
        vec!["slots", "pipe.toml"],
        vec!["install", "pipe.toml"],
    ] {
        let mut child =
            bench.command(&args).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        let began = Instant::now();
        let status = loop {
            match child.try_wait().unwrap() {
                Some(status) => break status,
                None if began.elapsed() > Duration::from_secs(20) => {
                    let _ = child.kill();
                    panic!("{args:?} waits for a pipe");
                }
                None => std::thread::sleep(Duration::from_millis(10)),
            }
        };
        assert!([1, 2, 3, 5].contains(&status.code().unwrap()), "{args:?}: {status}");
    }
}

#[cfg(unix)]
#[test]
fn names_that_are_no_unicode_and_those_that_turn_text_are_shown_safely() {
    use std::os::unix::ffi::OsStrExt as _;
    let bench = Bench::new();
    let odd = std::ffi::OsStr::from_bytes(b"k\xFFttle.wav");
    fs::copy(bench.path("clip.wav"), bench.path(".").join(odd)).unwrap();
    for args in [&["inspect"][..], &["check"], &["seam"]] {
        for json in [&[][..], &["--json"]] {
            let mut command = bench.command(args);
            let ran = told(command.arg(odd).args(json).stdin(Stdio::null()).output().unwrap());
            assert!(ran.code <= 1, "{args:?} {json:?}: {} {}", ran.code, ran.err);
            assert!(json.is_empty() || serde_json::from_str::<serde_json::Value>(&ran.out).is_ok());
        }
    }
    let mut command = bench.command(&["fit"]);
    let ran = told(command.arg(odd).args(["-o", "k.wav", "--json"]).output().unwrap());
    assert!(ran.code == 0 && ran.err.contains("not valid Unicode"), "{}", ran.err);
    // The same of files that cannot be read, where the name is part of the error.
    fs::write(bench.path(".").join(odd), b"not audio").unwrap();
    fs::create_dir(bench.path("other")).unwrap();
    fs::write(bench.path("other").join(odd), b"not audio either").unwrap();
    for (args, code) in [
        (&["inspect"][..], 3),
        (&["check", "--spec", "wav pcm16 44100 mono"], 1),
        (&["fit", "--spec", "wav pcm16 44100 mono", "-o", "new/"], 3),
        (&["hear", "-o", "h.wav"], 3),
        (&["seam"], 3),
        (&["swap", "other/slot.wav"], 5),
        (&["restore"], 5),
    ] {
        for json in [&[][..], &["--json"]] {
            let mut command = bench.command(args);
            let ran = told(command.arg(odd).args(json).stdin(Stdio::null()).output().unwrap());
            assert!(ran.code == code, "{args:?} {json:?}: {} {}", ran.code, ran.err);
            assert!(code == 1 || ran.err.contains("error: "), "{args:?}: {}", ran.err);
            assert!(json.is_empty() || serde_json::from_str::<serde_json::Value>(&ran.out).is_ok());
        }
    }
    // A name whose end would be shown first.
    let turned = "gull\u{202E}vaw.exe";
    bench.put(turned, b"x");
    let ran = bench.run(&["inspect", turned]);
    assert!(ran.err.contains("\\u{202e}") && !ran.err.contains('\u{202E}'), "{}", ran.err);
}

#[test]
fn bombs_are_one_error_each() {
    let bench = Bench::new();
    let zeros = vec![0u8; 1 << 20];
    // An archive that inflates without an end.
    let mut zip = zip::ZipWriter::new(Cursor::new(Vec::new()));
    for name in 0..6 {
        zip.start_file(format!("{name}.wav"), zip::write::SimpleFileOptions::default()).unwrap();
        for _ in 0..120 {
            zip.write_all(&zeros).unwrap();
        }
    }
    bench.put("bomb.zip", &zip.finish().unwrap().into_inner());
    // A name of a gigabyte.
    let mut header = tar::Header::new_gnu();
    header.set_entry_type(tar::EntryType::GNULongName);
    header.set_path("././@LongLink").unwrap();
    header.set_size(1 << 30);
    header.set_cksum();
    let mut tar = header.as_bytes().to_vec();
    tar.extend(&zeros);
    tar.extend(&zeros);
    bench.put("name.tar", &tar);
    for archive in ["bomb.zip", "name.tar"] {
        let ran = quick(&bench, &["learn", archive, "-o", "t.toml"]);
        assert!([3, 5].contains(&ran.code), "{archive}: {} {}", ran.code, ran.err);
    }
    // A sample rate that asks for more than any machine has.
    let mut fast = wav(44_100, 2, 16, 500, 0.5);
    fast[24..28].copy_from_slice(&u32::MAX.to_le_bytes());
    bench.put("fast.wav", &fast);
    let ran = quick(
        &bench,
        &["fit", "fast.wav", "clip.wav", "-o", "out/", "--spec", "wav pcm16 8000 mono"],
    );
    assert!(ran.code == 3 && bench.path("out/clip.wav").is_file(), "{}", ran.err);
    // Sheets: large, with many and costly expressions, with many patterns.
    let find = "[[slots]]\nin-root = 'a'\nfind = '(\\w{50}){50}'\n";
    let rule = "[[rule]]\nmatch = '**/*[!a]*'\nspec = 'any any any any'\n";
    for (what, text) in [
        ("large", "# \n".repeat(4 << 20)),
        ("costly", format!("name = 'x'\n{}", find.repeat(300))),
        ("many", format!("name = 'x'\n{}", rule.repeat(30_000))),
    ] {
        bench.put("bad.toml", text.as_bytes());
        let ran = quick(&bench, &["slots", "bad.toml"]);
        assert!(
            [2, 3].contains(&ran.code) && ran.err.len() < 3000,
            "{what}: {} {}",
            ran.code,
            ran.err
        );
    }
    // Names by the million.
    let names: String = (0..300_000).map(|n| format!("sfx/sound_{n}.wav\n")).collect();
    bench.put("card/names.txt", names.as_bytes());
    bench.put("many.toml", b"name = 'x'\n[[slots]]\nin-root = 'names.txt'\n[[rule]]\nmatch = '**'\nspec = 'wav any any any'\n");
    let ran = quick(&bench, &["slots", "many.toml", "--root", "card", "gull"]);
    assert!([2, 5].contains(&ran.code), "{} {}", ran.code, ran.err);
    // An icon of 60,000 pixels.
    bench.put("t.toml", b"name = 'T'\n[[rule]]\nmatch = '**'\nspec = 'wav any any any'\nnew = 'any'\n[pack]\nextension = 'zip'\nicon = { path = 'i.png', size = 60000 }\n");
    bench.put("j.toml", b"target = 't.toml'\n[[replace]]\nslot = 'a.wav'\nclip = 'clip.wav'\n");
    let ran = quick(&bench, &["pack", "j.toml", "-o", "p.zip"]);
    assert!(ran.code == 5 && ran.err.contains("60000"), "{} {}", ran.code, ran.err);
}

#[cfg(unix)]
#[test]
fn interrupted_it_says_what_is_done_and_leaves_nothing() {
    let bench = Bench::new();
    let interrupt = |child: &std::process::Child| {
        let sent =
            std::process::Command::new("kill").args(["-INT", &child.id().to_string()]).status();
        assert!(sent.unwrap().success());
    };
    // While standard input is waited for.
    let mut child = bench
        .command(&["fit", "-", "-o", "x.wav"])
        .stdin(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    std::thread::sleep(Duration::from_millis(500));
    interrupt(&child);
    let began = Instant::now();
    let status = loop {
        match child.try_wait().unwrap() {
            Some(status) => break status,
            None => std::thread::sleep(Duration::from_millis(10)),
        }
        assert!(began.elapsed() < Duration::from_secs(10), "it waits on");
    };
    assert_eq!(status.code(), Some(130));
    // While an encoder runs: it ends, and what it has started ends with it.
    bench.put("slow.sh", b"#!/bin/sh\nsleep 30 &\necho $! > child\nwait\n");
    let script = bench.path("slow.sh");
    let encoder = format!("sh {} {{in}} {{out}}", script.display());
    let slot = "card/SAY/TICK01.PRM";
    let stock = fs::read(bench.path(slot)).unwrap();
    let child = bench
        .command(&[
            "swap",
            "clip.wav",
            slot,
            "--root",
            "card",
            "--encoder",
            &encoder,
            "--allow-commands",
        ])
        .stdout(Stdio::null())
        .stderr(Stdio::piped())
        .env("TMPDIR", bench.0.path())
        .spawn()
        .unwrap();
    let mut pid = None;
    for _ in 0..500 {
        std::thread::sleep(Duration::from_millis(20));
        let found = glob(&bench, "child");
        pid = found.and_then(|text| text.trim().parse::<u32>().ok());
        if pid.is_some() {
            break;
        }
    }
    interrupt(&child);
    let ran = told(child.wait_with_output().unwrap());
    assert_eq!(ran.code, 130, "{}", ran.err);
    std::thread::sleep(Duration::from_millis(300));
    // One that nobody has waited for may still be listed.
    let state = std::process::Command::new("ps")
        .args(["-o", "stat=", "-p", &pid.unwrap().to_string()])
        .output()
        .unwrap();
    let state = String::from_utf8(state.stdout).unwrap();
    let gone = state.trim().is_empty() || state.trim().starts_with('Z');
    assert!(gone, "the encoder's child lives on: {state}");
    assert_eq!(fs::read(bench.path(slot)).unwrap(), stock);
    let left = bench.names(".").into_iter().filter(|name| name.starts_with("deft-needle-run"));
    assert_eq!(left.count(), 0);
}

/// A file somewhere below the bench.
#[cfg(unix)]
fn glob(bench: &Bench, name: &str) -> Option<String> {
    fn find(folder: &std::path::Path, name: &str) -> Option<String> {
        for entry in fs::read_dir(folder).ok()?.flatten() {
            if entry.file_name() == name {
                return fs::read_to_string(entry.path()).ok();
            }
            if let Some(found) = entry.path().is_dir().then(|| find(&entry.path(), name)).flatten()
            {
                return Some(found);
            }
        }
        None
    }
    find(bench.0.path(), name)
}

#[test]
fn a_pack_takes_no_job_of_the_users_out() {
    let bench = Bench::new();
    bench.put("t.toml", b"name = 'T'\n[[slots]]\nin-root = '.'\n[[rule]]\nmatch = '**/*.PRM'\nspec = 'wav pcm8 18900 mono'\nextensions = ['PRM']\n[pack]\nextension = 'zip'\n");
    let job = |slot: &str| {
        format!(
            "name = 'quay'\ntarget = 't.toml'\nroot = 'card'\n[[replace]]\nslot = 'SAY/{slot}.PRM'\nclip = 'clip.wav'\n"
        )
    };
    bench.put("theirs.toml", job("TICK02").as_bytes());
    assert_eq!(bench.run(&["pack", "theirs.toml", "-o", "theirs.zip"]).code, 0);
    bench.put("mine.toml", job("TICK01").as_bytes());
    assert_eq!(bench.run(&["install", "mine.toml"]).code, 0);
    let mine = fs::read(bench.path(SLOT)).unwrap();
    let ran = bench.run(&["install", "theirs.zip", "--root", "card"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert_eq!(fs::read(bench.path(SLOT)).unwrap(), mine);
    let status = bench.json(&["status", "card"]);
    assert_eq!(status["roots"][0]["slots"].as_array().unwrap().len(), 2);
    // Its name alone undoes it.
    assert_eq!(bench.run(&["restore", "card", "--job", "quay (pack)"]).code, 0);
    assert_eq!(fs::read(bench.path(SLOT)).unwrap(), mine);
}

#[test]
fn status_does_not_believe_its_log() {
    let bench = Bench::new();
    assert_eq!(bench.run(&["swap", "clip.wav", SLOT, "--root", "card"]).code, 0);
    let stock = bench.path("card/.deft-needle/stock");
    let copies = fs::read_dir(&stock).unwrap().flatten().map(|entry| entry.path());
    let copy = copies.into_iter().find(|path| path.file_name().unwrap().len() == 64).unwrap();
    assert_eq!(bench.run(&["status", "card", "--verify"]).code, 0);
    let whole = fs::read(&copy).unwrap();
    fs::write(&copy, vec![7; whole.len()]).unwrap();
    assert_eq!(bench.run(&["status", "card"]).code, 0);
    let ran = bench.run(&["status", "card", "--verify"]);
    assert!(ran.code == 1 && ran.out.contains("missing or damaged"), "{}", ran.out);
    fs::remove_file(&copy).unwrap();
    assert_eq!(bench.run(&["status", "card"]).code, 1);
    assert_eq!(bench.run(&["restore", "card"]).code, 5);
    fs::write(&copy, whole).unwrap();
    assert_eq!(bench.run(&["restore", "card"]).code, 0);
}

#[test]
fn a_damaged_block_and_a_silent_clip_are_told_by_name() {
    let bench = Bench::new();
    assert_eq!(
        bench.run(&["fit", "clip.wav", "-o", "clip.qoa", "--spec", "qoa qoa any any"]).code,
        0
    );
    let mut bytes = fs::read(bench.path("clip.qoa")).unwrap();
    bytes[8 + 8 + 32 + 4096] = 9;
    bench.put("bad.qoa", &bytes);
    let ran = bench.run(&["fit", "bad.qoa", "-o", "x.wav"]);
    assert!(ran.code == 3 && ran.err.contains("bad.qoa"), "{} {}", ran.code, ran.err);
    bench.put("silent.wav", &wav(44_100, 1, 16, 4_000, 0.0));
    let ran = bench.run(&[
        "fit",
        "clip.wav",
        "silent.wav",
        "-o",
        "out/",
        "--level",
        "-16LUFS",
        "--spec",
        "wav pcm16 any any",
    ]);
    assert!(ran.code == 4 && ran.err.contains("silent.wav"), "{}", ran.err);
    let long = format!("card/SAY/{}.PRM", "x".repeat(248));
    let ran = bench.run(&["swap", "clip.wav", &long, "--root", "card", "--new", "--like", SLOT]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    let longer = format!("card/SAY/{}.PRM", "x".repeat(300));
    let ran = bench.run(&["swap", "clip.wav", &longer, "--root", "card", "--new", "--like", SLOT]);
    assert!(ran.code > 2 && ran.err.contains("too long"), "{}", ran.err);
}

#[test]
fn watching_waits_until_a_clip_is_whole() {
    let bench = Bench::new();
    bench.put("t.toml", b"name = 'T'\n[[slots]]\nin-root = '.'\n[[rule]]\nmatch = '**/*.PRM'\nspec = 'wav pcm8 18900 mono'\nextensions = ['PRM']\n");
    bench.put("j.toml", b"target = 't.toml'\nroot = 'card'\n[[replace]]\nslot = 'SAY/TICK01.PRM'\nclip = 'take.wav'\n");
    bench.put("take.wav", &wav(18_900, 1, 16, 3_000, 0.5));
    let child = bench
        .command(&["watch", "j.toml", "--idle", "3"])
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let frames = |bytes: Vec<u8>| bytes.len().saturating_sub(44);
    let until = |wanted: usize| {
        for _ in 0..400 {
            std::thread::sleep(Duration::from_millis(20));
            if frames(fs::read(bench.path(SLOT)).unwrap_or_default()) == wanted {
                return;
            }
        }
        panic!("{wanted} frames never came");
    };
    until(3_000);
    // Half of a longer clip is saved; the rest comes later.
    let long = wav(18_900, 1, 16, 9_000, 0.5);
    fs::write(bench.path("take.wav"), &long[..7_001]).unwrap();
    std::thread::sleep(Duration::from_millis(900));
    assert_eq!(frames(fs::read(bench.path(SLOT)).unwrap()), 3_000, "half a clip was installed");
    fs::write(bench.path("take.wav"), &long).unwrap();
    until(9_000);
    let ran = told(child.wait_with_output().unwrap());
    assert_eq!(ran.code, 0, "{}", ran.err);
}

/// Every test that the promises name is there, and every promise names one.
#[test]
fn promises_name_tests_that_are_there() {
    let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let text = fs::read_to_string(folder.join("docs/safety.md")).unwrap();
    let (mut code, mut open) = (String::new(), vec![folder.join("crates")]);
    while let Some(folder) = open.pop() {
        for path in fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()) {
            match path.extension() {
                _ if path.is_dir() => open.push(path),
                Some(end) if end == "rs" => code += &fs::read_to_string(path).unwrap(),
                _ => {}
            }
        }
    }
    let is_name = |word: &&str| {
        word.matches('_').count() > 1 && word.chars().all(|c| c.is_ascii_lowercase() || c == '_')
    };
    let named: Vec<&str> = text.split('`').filter(is_name).collect();
    for name in &named {
        assert!(code.contains(&format!("#[test]\nfn {name}()")), "there is no test {name}");
    }
    assert!(named.len() > 30, "{named:?}");
    for table in text.split("what fails without it").skip(1) {
        for row in table.lines().skip(2).take_while(|line| line.starts_with('|')) {
            assert!(row.split('`').any(|word| is_name(&word)), "no test: {row}");
        }
    }
}
