//! Replacing, taking back, and being killed in between.

use crate::bench::{Bench, wav};
use std::fs;
use std::process::Stdio;

#[test]
fn swap_status_and_restore_make_a_circle() {
    let bench = Bench::new();
    let slot = "card/SAY/TICK01.PRM";
    let stock = fs::read(bench.path(slot)).unwrap();
    let ran = bench.run(&["swap", "clip.wav", slot, "--root", "card"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    for part in [
        "before    wav pcm8 18900 mono",
        "after     wav pcm8 18900 mono",
        "left unchanged: SAY/TICK02.PRM",
    ] {
        assert!(ran.out.contains(part), "{part}: {}", ran.out);
    }
    // The ledger above is found without being named, and the first stock stays the stock.
    assert_eq!(bench.run(&["swap", "Käse, 鐘 2.wav", slot, "--root", "card"]).code, 0);
    assert_eq!(
        bench
            .run(&["swap", "clip.wav", "card/NEW/X.PRM", "--new", "--like", "card/SAY/CUCKOO.PRM"])
            .code,
        0
    );
    let status = &bench.json(&["status", "card"])["roots"][0];
    let slots = status["slots"].as_array().unwrap();
    assert_eq!(slots.len(), 2);
    assert_eq!(
        (&slots[1]["slot"], &slots[1]["condition"]),
        (&"SAY/TICK01.PRM".into(), &"installed".into())
    );
    assert!(slots[1]["installed"]["clip"].as_str().unwrap().contains('鐘'));
    // Neither check nor inspect looks into the ledger.
    assert_eq!(bench.json(&["check", "card"])["checked"], 4);

    assert_eq!(bench.run(&["restore", slot, "--dry-run"]).code, 0);
    assert_eq!(bench.run(&["restore", slot]).code, 0);
    assert_eq!(fs::read(bench.path(slot)).unwrap(), stock);
    assert_eq!(bench.run(&["restore", "card", "NEW/Y.PRM"]).code, 5);
    assert_eq!(bench.run(&["restore", "card", "NEW/X.PRM"]).code, 0);
    assert_eq!(bench.names("card"), ["LIST.TSV", "SAY"], "the folder that was made is gone");

    // Changed since: refused until the user says what to do; a ledger elsewhere works the same.
    let elsewhere = ["--root", "card", "--ledger", "ledger"];
    assert_eq!(bench.run(&[&["swap", "clip.wav", slot], &elsewhere[..]].concat()).code, 0);
    fs::write(bench.path(slot), b"vendor").unwrap();
    let restore =
        |more: &[&str]| bench.run(&[&["restore", "card"], &elsewhere[2..], more].concat());
    let refused = restore(&[]);
    assert_eq!(refused.code, 5);
    assert!(refused.err.contains("--changed overwrite"), "{}", refused.err);
    assert_eq!(restore(&["--changed", "overwrite"]).code, 0);
    assert_eq!(fs::read(bench.path(slot)).unwrap(), stock);
}

#[test]
fn warnings_of_a_swap() {
    let bench = Bench::new();
    bench.put("card/SAY/LOUD.PRM", &wav(18_900, 1, 8, 19_000, 0.02));
    bench.put("long.wav", &wav(18_900, 1, 16, 90_000, 0.9));
    let ran = bench.run(&["swap", "long.wav", "card/SAY/LOUD.PRM", "--root", "card"]);
    for part in ["LU louder than the stock", "4.7 times as long"] {
        assert!(ran.out.contains(part), "{part}: {}", ran.out);
    }
    // The root is told even where only problems are.
    let ran = bench.run(&["swap", "clip.wav", "card/SAY/LOUD.PRM", "-q"]);
    assert!(ran.err.contains("the root is") && ran.out.is_empty(), "{}{}", ran.out, ran.err);
    assert!(ran.err.contains("its ledger knows this file"), "{}", ran.err);
}

#[test]
fn a_loop_of_the_stock_is_missed() {
    let bench = Bench::new();
    let mut stock = wav(18_900, 1, 8, 4_000, 0.4);
    let words = [0u32, 0, 52_910, 60, 0, 0, 0, 1, 0, 0, 0, 100, 3_999, 0, 0];
    stock.extend(b"smpl\x3C\0\0\0");
    stock.extend(words.iter().flat_map(|w| w.to_le_bytes()));
    let size = stock.len() as u32 - 8;
    stock[4..8].copy_from_slice(&size.to_le_bytes());
    bench.put("card/SAY/HUM.PRM", &stock);
    let inspected = bench.run(&["card/SAY/HUM.PRM"]).out;
    assert!(inspected.contains("frames 100 up to 4000"), "{inspected}");
    let ran = bench.run(&["swap", "clip.wav", "card/SAY/HUM.PRM", "--root", "card"]);
    let said = "the stock loops, this clip has no loop points";
    assert!(ran.out.contains(said), "{}{}", ran.out, ran.err);
    assert_eq!(bench.run(&["restore", "card/SAY/HUM.PRM"]).code, 0);
    assert_eq!(fs::read(bench.path("card/SAY/HUM.PRM")).unwrap(), stock);
}

/// Whenever the program is killed, the output is the old file or the new one.
#[cfg(unix)]
#[test]
fn killed_at_any_moment_the_old_file_or_the_new_one_is_there() {
    let bench = Bench::new();
    bench.put("long.wav", &wav(44_100, 2, 16, 1_500_000, 0.5));
    let args =
        ["fit", "long.wav", "-o", "out.wav", "--spec", "wav pcm24 48000 stereo", "--overwrite"];
    assert_eq!(bench.run(&args).code, 0);
    let new = fs::read(bench.path("out.wav")).unwrap();
    for delay in (0..40).map(|n| n * 7) {
        fs::write(bench.path("out.wav"), b"old").unwrap();
        let mut child = bench.command(&args).stdout(Stdio::null()).spawn().unwrap();
        std::thread::sleep(std::time::Duration::from_millis(delay));
        let _ = child.kill();
        child.wait().unwrap();
        let found = fs::read(bench.path("out.wav")).unwrap();
        assert!(found == b"old" || found == new, "after {delay} ms: {} bytes", found.len());
    }
    // What a killed run left beside it, the next one clears away.
    assert_eq!(bench.run(&args).code, 0);
    let parts = bench.names(".").into_iter().filter(|name| name.starts_with(".deft-needle"));
    assert_eq!(parts.count(), 0);
}
