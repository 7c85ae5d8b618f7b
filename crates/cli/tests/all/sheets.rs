//! Sheets by themselves: those that ship, those of the documentation; names without any.

use crate::bench::{Bench, wav};

/// The examples of the documentation are sheets that the program takes, and name every key it knows.
#[test]
fn the_documentation_has_every_key_in_an_example() {
    let bench = Bench::new();
    let text = include_str!("../../../../docs/target-sheets.md");
    let examples: Vec<&str> =
        text.split("```toml\n").skip(1).map(|rest| rest.split("```").next().unwrap()).collect();
    assert!(examples.len() >= 6);
    bench.put("lantern-ferry.slots.csv", b"name,spec,seconds,frames,lufs,loop,bytes,hash\n");
    for example in &examples {
        bench.put("example.toml", example.as_bytes());
        let ran = bench.run(&["check", "example.toml"]);
        assert_eq!(ran.code, 0, "{example}{}{}", ran.out, ran.err);
    }
    for table in [
        "",
        "[names]\n",
        "[[slots]]\n",
        "[[rule]]\n",
        "[[entry]]\n",
        "[[carry]]\n",
        "[pack]\n",
        "[[rule]]\nencoder = { nonsense = 1 }\n",
        "[pack]\nfiles = [{ nonsense = 1 }]\n",
    ] {
        bench.put("example.toml", format!("{table}nonsense = 1\n").as_bytes());
        let err = bench.run(&["check", "example.toml"]).err;
        let known = err.split("known are: ").nth(1).unwrap_or_else(|| panic!("{table}: {err}"));
        for key in known
            .trim()
            .split(", ")
            .filter(|key| !["slots", "labels", "rule", "entry", "names", "files"].contains(key))
        {
            let told = text.contains(&format!("`{key}`"))
                || text.contains(&format!("`[{key}]`"))
                || text.contains(&format!("`[[{key}]]`"));
            let shown = examples.iter().any(|example| example.contains(key));
            assert!(told && shown, "{key} of {table:?} is not documented");
        }
    }
}

#[test]
fn every_sheet_that_ships_makes_what_it_asks_for() {
    let bench = Bench::new();
    bench.put("speech.wav", &wav(48_000, 2, 16, 96_000, 0.3));
    let names = bench.json(&["sheets"]);
    for sheet in names["sheets"].as_array().unwrap() {
        let name = sheet["name"].as_str().unwrap();
        let out = format!("made-{name}/");
        let needs_loop = name == "loop-bed";
        let listed = name == "small-prompt";
        let ran = bench.run(&["fit", "speech.wav", "-o", &out, "--target", name]);
        let aac = cfg!(feature = "aac") || name != "ring-melody";
        let want = if needs_loop {
            4
        } else if !aac {
            2
        } else {
            0
        };
        assert_eq!(ran.code, if listed { 5 } else { want }, "{name}: {}{}", ran.out, ran.err);
        if ran.code == 0 {
            let check = bench.run(&["check", &out, "--target", name]);
            assert_eq!(check.code, 0, "{name}: {}{}", check.out, check.err);
        }
    }
    // A file of that name comes first.
    bench.put("placed-effect", b"name = 'mine'\n");
    assert!(bench.run(&["slots", "placed-effect"]).out.contains("gives no names"));
}

#[test]
fn names_are_checked_without_a_sheet() {
    let bench = Bench::new();
    let rules = ["--name-longest", "6", "--name-allowed", "A-Z0-9"];
    assert_eq!(
        bench.run(&[&["check", "card/SAY", "--spec", "any any any any"][..], &rules].concat()).code,
        0
    );
    let ran = bench.run(&[&["check", "clip.wav", "card/SAY"][..], &rules].concat());
    assert!(ran.code == 1 && ran.out.contains("use CLIP.wav"), "{}", ran.out);
    let fit = ["fit", "clip.wav", "-o", "too long.wav", "--spec", "wav pcm8 any any"];
    let ran = bench.run(&[&fit[..], &rules].concat());
    assert!(
        ran.code == 5 && ran.err.contains("use TOOLO.wav") || ran.err.contains("TOOLON.wav"),
        "{}",
        ran.err
    );
    assert!(!bench.path("too long.wav").exists());
}
