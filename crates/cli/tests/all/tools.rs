//! Settings, the doctor, completions and manual pages; folders where files are meant; what is said once.

use crate::bench::ferry::ferry;
use crate::bench::{Bench, Ran, told};
use serde_json::Value;
use std::fs;

fn with(bench: &Bench, variables: &[(&str, &str)], args: &[&str]) -> Ran {
    let mut command = bench.command(args);
    told(command.envs(variables.iter().copied()).output().unwrap())
}

#[test]
fn settings_come_from_the_environment_before_the_file() {
    let bench = Bench::new();
    bench.put("set.toml", b"threads = 2\nplain = true\n");
    let file = ("DEFT_NEEDLE_CONFIG", "set.toml");
    let of = |variables: &[(&str, &str)], key: &str| {
        let ran = with(&bench, variables, &["config", "--json"]);
        let object: Value = serde_json::from_str(&ran.out).unwrap();
        let all = object["settings"].as_array().unwrap().clone();
        let one = all.into_iter().find(|one| one["key"] == key).unwrap();
        format!("{} {}", one["value"].as_str().unwrap(), one["from"].as_str().unwrap())
    };
    assert_eq!(of(&[file], "threads"), "2 file");
    assert_eq!(of(&[file, ("DEFT_NEEDLE_THREADS", "3")], "threads"), "3 environment");
    assert_eq!(of(&[("DEFT_NEEDLE_CONFIG", "none.toml")], "threads"), "0 default");
    // The file is obeyed: plain results have no drawn waveform.
    assert!(!with(&bench, &[file], &["inspect", "clip.wav"]).out.contains("wave"));
    assert!(bench.run(&["inspect", "clip.wav"]).out.contains("wave"));
    assert_eq!(with(&bench, &[file], &["config", "--path"]).out.trim(), "set.toml");
    for (text, says) in [
        ("thread = 2\n", "did you mean threads?"),
        ("threads = 'many'\n", "invalid threads \"many\""),
        ("a = 1\nthreads = \n", "line 2"),
    ] {
        bench.put("set.toml", text.as_bytes());
        let ran = with(&bench, &[file], &["inspect", "clip.wav"]);
        assert!(ran.code == 2 && ran.err.contains(says), "{text}: {}", ran.err);
    }
}

#[test]
fn own_sheets_are_found_by_name() {
    let bench = Bench::new();
    bench.put(
        "mine/my-clock.toml",
        b"name = 'x'\n[[rule]]\nmatch = '**'\nspec = 'wav pcm8 8000 mono'",
    );
    let own = [("DEFT_NEEDLE_SHEETS", "mine")];
    let fit = ["fit", "clip.wav", "-o", "o.wav", "--target", "my-clock"];
    let ran = with(&bench, &own, &fit);
    assert!(ran.code == 0 && ran.out.contains("wav pcm8 8000 mono"), "{}{}", ran.out, ran.err);
    assert!(with(&bench, &own, &["sheets"]).out.contains("my-clock"));
    assert!(with(&bench, &own, &["sheets", "my-clok"]).err.contains("did you mean my-clock?"));
    assert_eq!(bench.run(&fit).code, 2);
}

#[test]
#[cfg(target_os = "linux")]
fn a_card_keeps_nothing_of_ours_where_the_setting_says_so() {
    let bench = Bench::new();
    // Memory is another drive than any disk: one of both is not where temporary folders are.
    let drive =
        |path: &std::path::Path| std::os::unix::fs::MetadataExt::dev(&path.metadata().unwrap());
    let other = ["/dev/shm", env!("CARGO_TARGET_TMPDIR")]
        .into_iter()
        .find(|place| drive(place.as_ref()) != drive(&bench.path("")));
    let card = tempfile::tempdir_in(other.expect("a second drive")).unwrap();
    let stock = fs::read(bench.path("card/SAY/TICK01.PRM")).unwrap();
    fs::write(card.path().join("TICK01.PRM"), &stock).unwrap();
    let (root, slot) = (card.path().to_str().unwrap(), card.path().join("TICK01.PRM"));
    let slot = slot.to_str().unwrap();
    let data = bench.path("data").to_str().unwrap().to_owned();
    let set = [("DEFT_NEEDLE_DRIVE_LEDGERS", "ledgers"), ("DEFT_NEEDLE_DATA", &data)];
    let run = |args: &[&str]| with(&bench, &set, args);
    let ran = run(&["swap", "clip.wav", slot, "--root", root]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert_eq!(fs::read_dir(card.path()).unwrap().count(), 1, "only the slot");
    let ledger = bench.names("ledgers").pop().unwrap();
    assert!(bench.path(&format!("ledgers/{ledger}/stock")).is_dir(), "{ledger}");
    // Without the registry, the ledger is found by the setting alone, from the slot and from its root.
    fs::remove_dir_all(&data).unwrap();
    assert!(run(&["status", root]).out.contains("1 slot replaced"));
    let ran = run(&["restore", slot]);
    assert_eq!((ran.code, fs::read(slot).unwrap() == stock), (0, true), "{}", ran.err);
    // What may be a drive that is away is not made up, and said.
    let ran =
        bench.run(&["swap", "clip.wav", slot, "--root", root, "--ledger", "away/ledgers/card"]);
    assert!(ran.code == 6 && ran.err.contains("cannot make"), "{}: {}", ran.code, ran.err);
    // A root on the drive of that folder keeps its ledger itself.
    run(&["swap", "clip.wav", "card/SAY/TICK01.PRM", "--root", "card"]);
    assert!(bench.path("card/.deft-needle").is_dir());
}

#[test]
fn the_doctor_finds_every_ledger_and_what_is_wrong_with_it() {
    let bench = Bench::new();
    let data = bench.path("data").to_str().unwrap().to_owned();
    let run = |args: &[&str]| with(&bench, &[("DEFT_NEEDLE_DATA", &data)], args);
    let health = || {
        let ran = run(&["doctor", "card", "--json"]);
        let object: Value = serde_json::from_str(&ran.out).unwrap();
        let roots = object["roots"].as_array().unwrap().clone();
        (roots.first().map(|root| root["health"].as_str().unwrap().to_owned()), ran.code)
    };
    assert_eq!(health(), (None, 0));
    let said = run(&["doctor", "card"]).out;
    assert!(said.contains("free") && said.contains("nothing is installed"), "{said}");
    run(&["swap", "clip.wav", "card/SAY/TICK01.PRM", "--root", "card"]);
    assert_eq!(health(), (Some("good".to_owned()), 0));
    // Known without being named, and listed by a bare status in a folder where nothing is.
    assert!(run(&["doctor"]).out.contains("1 slot installed, all in place"));
    fs::create_dir(bench.path("elsewhere")).unwrap();
    let mut status = bench.command(&["status"]);
    status.env("DEFT_NEEDLE_DATA", &data).current_dir(bench.path("elsewhere"));
    let listed = told(status.output().unwrap()).out;
    assert!(listed.contains("on this machine") && listed.contains("1 slot replaced"), "{listed}");
    bench.put("card/SAY/TICK01.PRM", b"somebody's");
    assert_eq!(health(), (Some("look".to_owned()), 1));
    for copy in fs::read_dir(bench.path("card/.deft-needle/stock")).unwrap() {
        let copy = copy.unwrap().path();
        if copy.file_name().unwrap().len() == 64 {
            fs::remove_file(copy).unwrap();
        }
    }
    assert_eq!(health(), (Some("damaged".to_owned()), 1));
    fs::rename(bench.path("card"), bench.path("gone")).unwrap();
    let ran = run(&["doctor"]);
    assert!(ran.code == 0 && ran.out.contains("not there now"), "{}", ran.out);
}

#[test]
fn completions_and_pages_come_for_every_command() {
    let bench = Bench::new();
    for shell in ["bash", "elvish", "fish", "powershell", "zsh"] {
        let ran = bench.run(&["completions", shell]);
        assert!(ran.code == 0 && ran.out.contains("deft-needle"), "{shell}: {}", ran.err);
    }
    // The shell asks the program itself, which knows the names of sheets.
    let asked = [("COMPLETE", "bash"), ("_CLAP_COMPLETE_INDEX", "2"), ("_CLAP_IFS", "\n")];
    let ran = with(&bench, &asked, &["--", "deft-needle", "sheets", "streamed"]);
    assert!(ran.out.contains("streamed-music"), "{}{}", ran.out, ran.err);
    assert_eq!(bench.run(&["man", "--all", "man1"]).code, 0);
    let pages = bench.names("man1");
    assert!(pages.len() >= 20 && pages.iter().any(|page| page.ends_with("deft-needle-fit.1")));
    let fit = bench.run(&["man", "fit"]).out;
    assert!(fit.contains(".TH deft-needle-fit 1") && fit.contains("trim"), "{fit}");
    assert!(!pages.iter().any(|page| page.contains("stand-in")));
    assert_eq!(bench.run(&["man", "nothing"]).code, 2);
}

#[test]
fn folders_are_taken_where_files_are_meant() {
    let bench = Bench::new();
    let clip = fs::read(bench.path("clip.wav")).unwrap();
    for name in ["takes/a.wav", "takes/night/b.wav", "takes/notes.txt"] {
        bench.put(name, &clip);
    }
    bench.put("takes/notes.txt", b"no sound");
    let seen = bench.json(&["inspect", "takes"]);
    assert_eq!(seen["files"].as_array().unwrap().len(), 2);
    let ran = bench.run(&["fit", "takes", "-o", "out/", "--spec", "wav pcm16 22050 mono"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert!(bench.path("out/a.wav").is_file() && bench.path("out/night/b.wav").is_file());
    assert_eq!(bench.run(&["hear", "takes", "-o", "both.wav"]).code, 0);
    // A second run into the folder of the clips does not take what the first one made for clips.
    let again =
        ["fit", "takes", "-o", "takes/out/", "--spec", "wav pcm16 22050 mono", "--overwrite"];
    for _ in 0..2 {
        assert_eq!(bench.run(&again).code, 0);
    }
    assert_eq!(bench.names("takes/out"), ["a.wav", "night"]);
    fs::create_dir(bench.path("empty")).unwrap();
    let ran = bench.run(&["inspect", "empty"]);
    assert!(ran.code == 2 && ran.err.contains("no audio file in empty"), "{}", ran.err);
}

#[test]
fn equal_errors_of_many_files_are_one() {
    let bench = Bench::new();
    for number in 0..9 {
        bench.put(&format!("bad/{number}.wav"), b"this is not audio");
    }
    let ran = bench.run(&["inspect", "bad"]);
    assert_eq!((ran.code, ran.err.matches("error:").count()), (3, 1), "{}", ran.err);
    assert!(ran.err.contains("8 more files with the same error"), "{}", ran.err);
    assert_eq!(bench.run(&["inspect", "bad", "-v"]).err.matches("error:").count(), 9);
    // What is not a sound at all is one error, whatever its first bytes.
    for number in 0..9_u8 {
        bench.put(&format!("odd/{number}.raw"), &[number, 200, 3, 4, 5, 6, 7, 8]);
    }
    let odd: Vec<String> = (0..9).map(|number| format!("odd/{number}.raw")).collect();
    let args: Vec<&str> = ["inspect"].into_iter().chain(odd.iter().map(String::as_str)).collect();
    assert_eq!(bench.run(&args).err.matches("error:").count(), 1);
    let failed = bench.json(&["inspect", "bad"])["failed"].as_array().unwrap().len();
    assert_eq!(failed, 9);
}

#[test]
fn plain_results_are_one_fact_a_line() {
    let bench = Bench::new();
    let out = bench.run(&["inspect", "clip.wav", "card", "--plain"]).out;
    assert!(out.contains("\n  LUFS") && !out.contains("LUFS  loop"), "{out}");
}

#[test]
fn quiet_means_only_problems() {
    let bench = Bench::new();
    bench.put("a.mp3", &fs::read(bench.path("clip.wav")).unwrap());
    let ran = bench.run(&["inspect", "clip.wav", "a.mp3", "-q"]);
    assert_eq!(ran.out, "a.mp3: named .mp3 but is wav\n", "{}", ran.err);
    for slot in ["TICK01", "TICK02"] {
        let slot = format!("card/SAY/{slot}.PRM");
        assert_eq!(bench.run(&["swap", "clip.wav", &slot, "--root", "card", "-q"]).out, "");
    }
    assert_eq!(bench.run(&["status", "card", "-q"]).out, "");
    fs::remove_file(bench.path("card/SAY/TICK02.PRM")).unwrap();
    let said = bench.run(&["status", "card", "-q"]).out;
    assert!(said.contains("TICK02") && !said.contains("TICK01"), "{said}");
    assert_eq!(bench.run(&["restore", "card", "-q"]).out, "");
}

#[test]
fn where_stock_is_kept_is_said_once() {
    let bench = Bench::new();
    let swap = |slot: &str, more: &[&str]| {
        let slot = format!("card/SAY/{slot}.PRM");
        let mut args = vec!["swap", "clip.wav", &slot, "--root", "card"];
        args.extend(more);
        bench.run(&args).out
    };
    assert!(swap("TICK01", &[]).contains("the stock is kept in"));
    assert!(!swap("TICK02", &[]).contains("the stock is kept in"));
    assert!(swap("CUCKOO", &["-v"]).contains("the stock is kept in"));
}

#[test]
fn every_command_prints_an_object_as_its_schema_says() {
    let bench = ferry();
    bench.put("takes/bell.wav", &fs::read(bench.path("clip.wav")).unwrap());
    let program = env!("CARGO_BIN_EXE_deft-needle");
    let encoder = format!("\"{program}\" fit {{in}} -o {{out}} --spec \"wav pcm8 8000 mono\"");
    let fit = ["fit", "clip.wav", "-o", "made.wav", "--encoder", &encoder, "--allow-commands"];
    bench.json(&fit);
    // `bench.json` holds each object against its schema.
    let lines = "--version
        inspect clip.wav text.wav
        fit clip.wav -o o.wav --spec wav~pcm16~22050~mono --level -20LUFS
        fit clip.wav -o p.ogg --gain 20dB --dry-run
        fit nothing.wav -o o.wav
        fit clip.wav --volume 3
        check clip.wav text.wav
        check game --target ferry-sheet.toml
        check ferry-sheet.toml
        check quay.toml
        swap clip.wav sfx/bell.wav --root game --dry-run
        swap clip.wav sfx/bell.wav --root game
        swap clip.wav sfx/none.wav --root game --target ferry-sheet.toml
        install quay.toml --dry-run
        install quay.toml
        install quay.toml
        status game
        status game --verify
        status game --as-job
        restore game --dry-run
        restore game
        rescue game --dry-run
        seam loud.wav --loop 0.5s..1.5s
        learn game -o learnt.toml
        slots learnt.toml
        slots ferry-sheet.toml nothing-of-it --root game
        sheets
        sheets streamed-music
        hear clip.wav -o heard.wav
        new ferry-sheet.toml takes -o new.toml --root game
        pack quay.toml -o p.ferry
        config
        doctor game
        man fit
        man --all pages
        completions fish
        demo tried --list";
    for line in lines.lines() {
        // `~` stands for a blank within a word.
        let typed: Vec<String> =
            line.split_whitespace().map(|word| word.replace('~', " ")).collect();
        bench.json(&typed.iter().map(String::as_str).collect::<Vec<_>>());
    }
}
