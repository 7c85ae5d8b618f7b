//! Loops from the command line.

use crate::bench::Bench;

/// 440 Hz on the left and 550 on the right: a quarter of a second is whole periods of one alone.
#[test]
fn seams_are_judged_and_told() {
    let bench = Bench::new();
    for (typed, code, part) in [
        (vec!["--loop", "0.1s..0.3s"], 0, "good"),
        (vec!["--loop", "0.1s..0.35s"], 1, "bad"),
        (vec!["--loop", "0.1s+100s"], 4, "which is 0.500 s long"),
        (vec!["--loop", "none"], 2, "no seam without a loop"),
        // What it brings none of is found: the tones meet every tenth of a second.
        (vec![], 0, "set it"),
        (vec!["--shortest", "1s"], 4, "no loop was found"),
        (vec!["--shortest", "0.3s", "--longest", "0.2s"], 4, "no loop lasts at least"),
        (vec!["--from", "0s..0.2s", "--to", "0.25s..end"], 0, "set it"),
        (vec!["--from", "5s..6s"], 4, "lies outside the clip"),
        (vec!["--from", "x"], 2, "expected A..B"),
        (vec!["--to", "0s..0.3s", "--near", "0s..0.2s"], 2, "cannot be used with"),
        (vec!["--from", "0s..0.2s", "--loop", "all"], 2, "cannot be used with"),
        (vec!["--loop", "0.1s..0.35s"], 1, "crossfade --crossfade"),
        (vec!["--near", "0.1s..0.3s", "--most", "1"], 0, "good"),
        (vec!["--loop", "0.1s..auto"], 0, "good"),
        (vec!["--loop", "0.1s..0.35s", "--crossfade", "40ms"], 0, "crossfade at the loop point"),
        (vec!["--loop", "0.1s..0.302s", "--loop-snap", "5ms"], 0, "the end moves by -88 frames"),
        (vec!["--loop", "0.1s..0.3s", "--crossfade", "1s"], 4, "is too long for"),
        (vec!["--hear", "-"], 2, "name a file"),
        (vec!["--find", "--loop", "all"], 2, "cannot be used with"),
        (vec!["--loop", "0.1s..0.3s", "-o", "seam.qoa"], 4, "no place for loop points"),
    ] {
        let ran = bench.run(&[&["seam", "clip.wav"][..], &typed].concat());
        let all = ran.out + &ran.err;
        assert!(ran.code == code && all.contains(part), "{typed:?}: {} {all}", ran.code);
    }
    let set = ["fit", "clip.wav", "-o", "round.wav", "--loop", "0.1s..0.3s"];
    let good = bench.run(&set);
    assert!(good.code == 0 && !good.err.contains("seam"), "{}", good.err);
    let spoilt = ["fit", "clip.wav", "-o", "spoilt.wav", "--loop", "0.1s..0.35s"];
    let told = bench.run(&spoilt);
    assert!(told.code == 0 && told.err.contains("the seam is bad"), "{}", told.err);
    let seam = bench.json(&["seam", "round.wav"]);
    assert_eq!(seam["seams"][0]["verdict"], "good");
    assert_eq!(seam["seams"][0]["range"]["end"], 13_230);
}

#[test]
fn seams_are_proved_and_set() {
    let bench = Bench::new();
    let typed =
        "seam clip.wav --loop auto --hear heard.wav --rounds 2 --plot seam.png -o set.wav --json";
    let typed: Vec<&str> = typed.split(' ').filter(|word| *word != "--json").collect();
    let told = bench.json(&typed);
    let [start, end] =
        ["start", "end"].map(|side| told["seams"][0]["range"][side].as_u64().unwrap());
    assert_eq!(told["found"][0]["verdict"], "good");
    // A fifth of a second at most on either side, twice, with a pause between.
    let heard = bench.json(&["inspect", "heard.wav"]);
    let frames = heard["files"][0]["frames"].as_u64().unwrap();
    let side = (end - start).min(88_200);
    assert_eq!(frames, 4 * side + 22_050);
    let set = bench.json(&["seam", "set.wav"]);
    assert_eq!(set["seams"][0]["range"]["start"], start);
    assert_eq!(&std::fs::read(bench.path("seam.png")).unwrap()[..4], b"\x89PNG");
    // Only the header was rewritten, up to the loop's end.
    let again = bench.run(&typed);
    assert_eq!(again.code, 5, "{}", again.err);
}

#[test]
fn multiples_come_from_the_sheet_or_the_command() {
    let bench = Bench::new();
    let sheet = "name = \"Berth\"\n[[rule]]\nmatch = \"*.wav\"\nspec = \"wav pcm16 44100 any\"\nloop = \"required\"\nloop-multiple = 1024\n";
    std::fs::write(bench.path("berth.toml"), sheet).unwrap();
    for (typed, code, part) in [
        (
            vec!["--target", "berth.toml", "--loop", "4000smp+8192smp"],
            0,
            "both points move 96 frames later",
        ),
        (vec!["--target", "berth.toml", "--loop", "4000smp+8001smp"], 4, "--loop-bend 1"),
        (
            vec!["--target", "berth.toml", "--loop", "4000smp+8001smp", "--loop-bend", "1"],
            0,
            "rounds, retuned by",
        ),
        (
            vec!["--spec", "wav any 22050 any", "--loop-multiple", "64", "--loop", "0.1s..0.3s"],
            0,
            "times 64",
        ),
        (
            vec!["--loop", "4000smp+8000smp", "--loop-multiple", "64", "--tail", "keep"],
            4,
            "--tail cut",
        ),
    ] {
        let ran = bench.run(
            &[&["fit", "clip.wav", "-o", "out.wav", "--overwrite", "-v"][..], &typed].concat(),
        );
        let all = ran.out + &ran.err;
        assert!(ran.code == code && all.contains(part), "{typed:?}: {} {all}", ran.code);
    }
    let checked = bench.run(&["check", "out.wav", "--target", "berth.toml"]);
    assert_eq!(checked.code, 1, "{}", checked.out);
}

/// What a container has no place for is told, with those that have one.
#[test]
fn loop_points_are_never_lost_without_a_word() {
    let bench = Bench::new();
    let loops = ["fit", "clip.wav", "-o", "looped.wav", "--loop", "0.1s..0.4s"];
    assert_eq!(bench.run(&loops).code, 0);
    for (out, lost) in [("a.qoa", true), ("a.w64", true), ("a.aiff", false), ("a.flac", false)] {
        let ran = bench.run(&["fit", "looped.wav", "-o", out]);
        assert_eq!(ran.code, 0, "{out}: {}", ran.err);
        let told = (ran.out + &ran.err).contains("loop points are lost");
        assert_eq!(told, lost, "{out}");
    }
}
