//! Loops from the command line.
#![allow(clippy::as_conversions, clippy::unwrap_used, missing_docs)]

mod bench;

use bench::Bench;

/// 440 Hz on the left and 550 on the right: a quarter of a second is whole periods of one alone.
#[test]
fn seams_are_judged_and_told() {
    let bench = Bench::new();
    for (typed, code, part) in [
        (vec!["--loop", "0.1s..0.3s"], 0, "good"),
        (vec!["--loop", "0.1s..0.35s"], 1, "bad"),
        (vec!["--loop", "0.1s+100s"], 4, "which is 0.500 s long"),
        (vec!["--loop", "none"], 2, "no seam without a loop"),
        (vec![], 4, "has no loop points"),
    ] {
        let ran = bench.run(&[&["seam", "clip.wav"][..], &typed].concat());
        let all = ran.out + &ran.err;
        assert!(
            ran.code == code && all.contains(part),
            "{typed:?}: {} {all}",
            ran.code
        );
    }
    let set = ["fit", "clip.wav", "-o", "round.wav", "--loop", "0.1s..0.3s"];
    assert_eq!(bench.run(&set).code, 0);
    let seam = bench.json(&["seam", "round.wav"]);
    assert_eq!(seam["seams"][0]["verdict"], "good");
    assert_eq!(seam["seams"][0]["range"]["end"], 13_230);
}
