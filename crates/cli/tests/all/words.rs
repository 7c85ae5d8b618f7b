//! What is said, word by word: the commands that people type first, and the mistakes that they make.

use crate::bench::{Bench, game, learnt};
use std::fs;

#[test]
fn the_first_hour() {
    let bench = Bench::new();
    bench.play(
        "
        $ status card
        card: nothing is installed
        $ inspect clip.wav
        clip.wav
        is        wav pcm16 44100 stereo, plain header, 1411 kbit/s
        length    0.500 s, 22050 frames
        levels    peak -6.0 dBFS, true peak -6.0 dBTP, loudness -6.7 LUFS (max momentary)
        wave      …
        silence   0.000 s at the start, 0.000 s at the end (below -60 dBFS)
        $ inspect clip.wav text.wav [3]
        error: text.wav is not a recognised audio file: it begins with the bytes 74 68 69 73 20 69 73 20
        help: check that it is an audio file at all; swap --as-is places one of a closed format
        file      is                      header   length  kbit/s  peak  true peak  LUFS  loop  notes
        clip.wav  wav pcm16 44100 stereo  plain   0.500 s    1411  -6.0       -6.0  -6.7
        $ check card --like card/SAY/TICK01.PRM
        3 files checked against wav pcm8 18900 mono: all pass
        $ check clip.wav --like card/SAY/TICK01.PRM [1]
        clip.wav: is wav pcm16 44100 stereo, should be wav pcm8 18900 mono
        1 file checked against wav pcm8 18900 mono: 1 file fails
        $ fit clip.wav -o out.wav --spec 'wav pcm16 24000 mono' --dry-run
        clip.wav to out.wav
        from  wav pcm16 44100 stereo, 22050 frames, 0.500 s
        to    wav pcm16 24000 mono, 12000 frames, 0.500 s
        channels     stereo to mono: the average of left and right
        because required by the spec: mono
        sample rate  44100 to 24000 Hz (by 80/147): 22050 frames become 12000
        because required by the spec; content above 11400 Hz is lost
        bit depth    rounded to pcm16 again with TPDF dither
        because bits are lost
        $ fit clip.wav -o out.wav --spec 'wav pcm16 24000 mono'
        clip.wav to out.wav
        wav pcm16 24000 mono, 0.500 s; converted and verified
        $ fit clip.wav -o out.wav --spec 'wav pcm16 24000 mono' [5]
        error: clip.wav: out.wav exists already
        help: choose another name, or add --overwrite (or use swap, which keeps what was there)
        $ hear clip.wav -o heard.wav
        heard.wav
        wav pcm16 44100 stereo, 0.500 s
        from 0.000 s clip.wav
        $ seam clip.wav --loop 0.1s..0.4s
        clip.wav
        loop      0:00.100 to 0:00.400 (13230 frames, from 4410 up to 17640)
        seam      good
        click     none
        step      3.9 % of full scale, slope 0.02 % a frame
        level     +0.0 dB, spectrum 0.0 dB: change across the seam, 50 ms on each side
        …
        ",
    );
}

#[test]
fn a_swap_and_its_way_back() {
    let bench = Bench::new();
    let stock = fs::read(bench.path("card/SAY/TICK01.PRM")).unwrap();
    bench.play(
        "
        $ swap clip.wav card/SAY/TICK01.PRM --root card --dry-run
        clip.wav to SAY/TICK01.PRM in …card
        from  wav pcm16 44100 stereo, 22050 frames, 0.500 s
        to    wav pcm8 18900 mono, 9450 frames, 0.500 s
        channels     stereo to mono: the average of left and right
        because required by the spec: mono
        sample rate  44100 to 18900 Hz (by 3/7): 22050 frames become 9450
        because required by the spec; content above 8978 Hz is lost
        bit depth    pcm16 to pcm8 with noise-shaped TPDF dither
        because bit depth drops to 8
        note      1 of 2 variants of SAY/TICK#.PRM replaced; left unchanged: SAY/TICK02.PRM
        nothing was changed
        $ status card
        card: nothing is installed
        $ swap clip.wav card/SAY/TICK01.PRM --root card
        SAY/TICK01.PRM
        before    wav pcm8 18900 mono  0.212 s  -14.5 LUFS  peak -8.2 dBFS
        after     wav pcm8 18900 mono  0.500 s  -12.6 LUFS  peak -6.0 dBFS
        installed in …card; the stock is kept in ….deft-needle
        note      1 of 2 variants of SAY/TICK#.PRM replaced; left unchanged: SAY/TICK02.PRM
        $ swap clip.wav card/SAY/TICK04.PRM --root card [5]
        error: there is no card/SAY/TICK04.PRM
        help: did you mean TICK01.PRM or TICK02.PRM? (or add --new for a new file)
        $ status card --verify
        …card: 1 slot replaced
        slot            state       length  clip      job
        SAY/TICK01.PRM  installed  0.500 s  clip.wav  single swap
        every kept original was read and is intact
        $ status card -v
        …card: 1 slot replaced
        slot            state       length  clip      job
        SAY/TICK01.PRM  installed  0.500 s  clip.wav  single swap
        channels: stereo to mono: the average of left and right
        sample rate: 44100 to 18900 Hz (by 3/7): 22050 frames become 9450
        bit depth: pcm16 to pcm8 with noise-shaped TPDF dither
        $ restore card --dry-run
        SAY/TICK01.PRM: stock would be restored
        $ restore card
        SAY/TICK01.PRM: stock restored
        $ restore card [5]
        error: nothing is installed in …card, above or below it
        help: check the path; name a ledger elsewhere with --ledger
        ",
    );
    assert_eq!(fs::read(bench.path("card/SAY/TICK01.PRM")).unwrap(), stock);
}

#[test]
fn mistakes_say_what_to_do_next() {
    Bench::new().play(
        "
        $ fit none.wav -o o.wav [3]
        error: cannot read none.wav: …
        help: check the path: there is no such file
        $ fit clip.wav -o o.wav --gain loud [2]
        error: invalid --gain \"loud\": expected +7dB or -3dB
        help: deft-needle fit --help explains it
        $ fit clip.wav -o o.wav --texture=long [2]
        error: invalid --texture \"long\": expected …
        help: deft-needle fit --help explains it
        $ fit clip.wav -o o.wav --spec 'wav pcm16 24000' [2]
        error: invalid --spec …four words, as in \"wav pcm16 24000 mono\"; found 3 words
        …
        $ fit clip.wav -o o.wav --spec 'wav pcm17 24000 mono' [2]
        error: invalid --spec …\"pcm17\" is not an encoding; known are: pcm8 pcm16 …
        …
        $ fit clip.wav -o o.wav --longest 0.1s [4]
        error: clip.wav: the result would last 0.500 s, and 0.100 s is the longest that is allowed
        help: add --too-long cut or --too-long loudest, or choose a part with --cut
        $ fit clip.wav -o o.wav --longest 0.1s --too-long cut
        clip.wav to o.wav
        wav pcm16 44100 stereo, 0.100 s; converted and verified
        $ sheets nothing [2]
        error: there is no sheet nothing: neither a file nor a built-in one
        help: `deft-needle sheets` lists them
        $ fit clip.wav -o o2.wav --target nothing --slot a.wav [2]
        error: …there is no sheet nothing: neither a file nor a built-in one
        help: `deft-needle sheets` lists them
        $ restore card [5]
        error: nothing is installed in …card, above or below it
        help: check the path; name a ledger elsewhere with --ledger
        ",
    );
}

#[test]
fn what_rendering_found_is_a_note() {
    Bench::new().play(
        "
        $ fit clip.wav -o a.wav --gain +12dB
        clip.wav to a.wav
        wav pcm16 44100 stereo, 0.500 s; converted and verified
        before    peak -6.0 dBFS, true peak -6.0 dBTP, loudness -6.7 LUFS (max momentary)
        after     peak -0.0 dBFS, true peak -0.0 dBTP, loudness -0.7 LUFS (max momentary)
        note: clip.wav: limiter: up to 6.0 dB of gain reduction over 0.500 s, distortion 0.0 %
        $ fit clip.wav -o far.wav --gain +20dB
        clip.wav to far.wav
        wav pcm16 44100 stereo, 0.500 s; converted and verified
        …
        note: clip.wav: limiter: up to 14.0 dB of gain reduction over 0.500 s, distortion 0.0 %: lower --level or --gain
        $ fit clip.wav -o faded.wav --fade-out 2s --like clip.wav [4]
        error: clip.wav: the fade of 2.000 s is longer than the clip (0.500 s)
        help: shorten the fade
        $ fit clip.wav -o b.wav --gain +12dB --allow-clipping
        clip.wav to b.wav
        wav pcm16 44100 stereo, 0.500 s; converted and verified
        …
        note: clip.wav: … samples clipped at full scale: lower the clip's level
        $ fit clip.wav -o c.wav --gain +12dB --quiet
        ",
    );
}

#[test]
fn a_target_is_learnt_searched_and_checked() {
    let bench = Bench::new();
    bench.play(
        "
        $ learn card -o card.toml
        card: 3 sounds, 1 file without sound
        1 rule in card.toml
        names, lengths, loudness, loops and hashes in card.slots.csv
        next: deft-needle slots card.toml
        $ check card.toml
        card.toml: sheet OK: 1 rule, 3 names
        $ slots card TICK
        slot           variants  spec                 length   LUFS   now
        SAY/TICK#.PRM  01 02     wav pcm8 18900 mono  0.212 s  -14.5  stock
        2 of 3 slots
        $ slots card.toml nothing [1]
        no name or label of 3 matches nothing
        $ check card --target card.toml
        card checked as card: 3 files, all pass
        …
        ",
    );
}

/// Nothing but problems with `-q`, and nothing at all where there is none.
#[test]
fn quiet_commands_say_only_problems() {
    let bench = game();
    learnt(&bench);
    bench.put("job.toml", b"target = 'ferry.toml'\nroot = 'game'\n[[replace]]\nslot = 'sfx/bell.wav'\nclip = 'clip.wav'\n");
    let quiet = [
        "inspect clip.wav",
        "check clip.wav",
        "fit clip.wav -o o.wav",
        "fit clip.wav -o p.wav --dry-run",
        "hear clip.wav -o h.wav",
        "seam clip.wav --loop 0.1s..0.4s",
        "sheets",
        "slots game",
        "learn game -o again.toml",
        "check ferry.toml",
        "check job.toml",
        "install job.toml --dry-run",
        "install job.toml",
        "status game",
        "install job.toml",
        "restore game",
        "pack job.toml -o p.zip",
    ];
    for line in quiet {
        let ran = bench.sh(&format!("{line} -q"));
        assert_eq!(ran.code, 0, "{line}: {}", ran.err);
        // What was asked for is an answer, and no chatter: lists, tables and findings stay.
        let asked = [
            "inspect",
            "seam",
            "sheets",
            "slots",
            "status",
            "check job",
            "install job.toml --dry-run",
        ];
        let is_answer =
            asked.iter().any(|word| line.starts_with(word)) || line.contains("--dry-run");
        assert!(is_answer || ran.out.is_empty(), "{line}: {}", ran.out);
        let problem = |l: &str| l.is_empty() || l.starts_with("note: ") || l.starts_with("error:");
        assert!(ran.err.lines().all(problem), "{line}: {}", ran.err);
    }
    let wrong = bench.sh("check text.wav -q");
    assert!(
        wrong.code == 1 && wrong.out.contains("text.wav: named .wav but is no"),
        "{}",
        wrong.out
    );
}

/// Colour only where it is asked for, or a terminal is there; never a control byte otherwise.
#[test]
fn colours() {
    let bench = Bench::new();
    let lines = [
        "inspect clip.wav text.wav",
        "check card --like card/SAY/TICK01.PRM",
        "fit none.wav -o x.wav",
        "fit --help",
    ];
    for line in lines {
        for (options, env, coloured) in [
            (&[][..], None, false),
            (&["--color", "never"], None, false),
            (&["--color", "always"], None, true),
            (&["--color", "auto"], Some("NO_COLOR"), false),
        ] {
            let words = crate::bench::typed::words(line);
            let mut args: Vec<&str> = words.iter().map(String::as_str).collect();
            args.extend(options);
            let mut command = bench.command(&args);
            command.stdin(std::process::Stdio::null());
            if let Some(name) = env {
                command.env(name, "1");
            }
            let ran = crate::bench::told(command.output().unwrap());
            let escapes = ran.out.contains('\u{1b}') || ran.err.contains('\u{1b}');
            // Help is written by the parser of the command line before any option counts.
            assert!(
                escapes == coloured || line.ends_with("--help"),
                "{line} {options:?}: {}{}",
                ran.out,
                ran.err
            );
        }
    }
}

/// The system's own player is started with the file that was written, and with nothing else.
#[cfg(target_os = "linux")]
#[test]
fn hearing_starts_the_player() {
    use std::os::unix::fs::PermissionsExt as _;
    let bench = Bench::new();
    let player = bench.path("bin/xdg-open");
    bench.put("bin/xdg-open", b"#!/bin/sh\nprintf '%s' \"$*\" > \"$PLAYED\"\n");
    fs::set_permissions(&player, fs::Permissions::from_mode(0o755)).unwrap();
    let played = bench.path("played.txt");
    let path = format!("{}:/usr/bin:/bin", bench.path("bin").display());
    let mut command = bench.command(&["hear", "clip.wav", "-o", "h.wav", "--open"]);
    command.env("PATH", path).env("PLAYED", &played).stdin(std::process::Stdio::null());
    let ran = crate::bench::told(command.output().unwrap());
    assert_eq!(ran.code, 0, "{}", ran.err);
    // The player is not waited for.
    for _ in 0..200 {
        if fs::metadata(&played).is_ok_and(|found| found.len() > 0) {
            break;
        }
        std::thread::sleep(std::time::Duration::from_millis(20));
    }
    let said = fs::read_to_string(&played).unwrap();
    assert!(said.ends_with("h.wav"), "{said}");
    // Where there is none, the file is there all the same, and the command says what is missing.
    let mut command = bench.command(&["hear", "clip.wav", "-o", "h2.wav", "--open"]);
    command.env("PATH", bench.path("nothing")).stdin(std::process::Stdio::null());
    let ran = crate::bench::told(command.output().unwrap());
    assert!(bench.path("h2.wav").exists(), "{}", ran.err);
}

/// Every command that fails says so as an object, too, and keeps its exit code.
#[test]
fn errors_as_objects() {
    let bench = Bench::new();
    for (line, code, pointer, want) in [
        ("inspect none.wav", 3, "/failed/0/detail/error", "read"),
        ("check none.wav", 3, "/failed/0/detail/error", "read"),
        ("fit clip.wav -o clip.wav", 5, "/failed/0/detail/of/refusal", "path"),
        ("fit clip.wav -o o.wav --longest 0.1s", 4, "/failed/0/detail/error", "cannot-meet"),
        ("swap clip.wav card/SAY/NONE.PRM --root card", 5, "/error/detail/of/refusal", "slot"),
        ("restore card", 5, "/error/detail/of/refusal", "ledger"),
        ("learn none -o x.toml", 3, "/error/detail/error", "read"),
        ("install none.toml", 3, "/error/detail/error", "read"),
    ] {
        let mut words = crate::bench::typed::words(line);
        words.push("--json".to_owned());
        let args: Vec<&str> = words.iter().map(String::as_str).collect();
        let ran = bench.run(&args);
        assert_eq!(ran.code, code, "{line}: {}{}", ran.out, ran.err);
        let object: serde_json::Value =
            serde_json::from_str(&ran.out).unwrap_or_else(|e| panic!("{line}: {e}: {}", ran.out));
        let found = object.pointer(pointer).and_then(|value| value.as_str());
        assert_eq!(found, Some(want), "{line}: {object:#}");
    }
}

/// Every key that the documentation of `--json` does not name is a mistake in it.
#[test]
fn the_objects_are_documented() {
    let page = include_str!("../../../../docs/json.md");
    let bench = game();
    learnt(&bench);
    bench.put("job.toml", b"target = 'ferry.toml'\nroot = 'game'\n[[replace]]\nslot = 'sfx/bell.wav'\nclip = 'clip.wav'\n");
    for line in [
        "inspect clip.wav",
        "check clip.wav",
        "check game --target ferry.toml",
        "check ferry.toml",
        "check job.toml",
        "fit clip.wav -o o.wav --gain +3dB",
        "hear clip.wav -o h.wav",
        "seam clip.wav --loop 0.1s..0.4s",
        "sheets",
        "sheets loop-bed",
        "slots game",
        "learn game -o again.toml",
        "install job.toml --dry-run",
        "install job.toml",
        "status game",
        "status game --as-job",
        "restore game --dry-run",
        "restore game",
        "pack job.toml -o p.zip",
        "swap clip.wav game/sfx/bell.wav --root game --dry-run",
        "swap clip.wav game/sfx/bell.wav --root game",
        "new ferry.toml card -o n.toml --dry-run",
        "inspect none.wav",
    ] {
        let mut words = crate::bench::typed::words(line);
        words.push("--json".to_owned());
        let args: Vec<&str> = words.iter().map(String::as_str).collect();
        let ran = bench.run(&args);
        let object: serde_json::Value = serde_json::from_str(&ran.out)
            .unwrap_or_else(|e| panic!("{line}: {e}: {}{}", ran.out, ran.err));
        assert_eq!(
            ran.out.trim_end().lines().next().map(|l| l.starts_with('{')),
            Some(true),
            "{line}"
        );
        let mut missing = Vec::new();
        for key in object.as_object().unwrap().keys() {
            if !page.contains(&format!("`{key}`")) {
                missing.push(key.clone());
            }
            for inner in object[key].as_array().into_iter().flatten().filter_map(|v| v.as_object())
            {
                missing.extend(
                    inner.keys().filter(|key| !page.contains(&format!("`{key}`"))).cloned(),
                );
            }
        }
        assert!(missing.is_empty(), "{line}: docs/json.md lacks {missing:?}");
    }
}
