//! The museum's audio guide: files under their hashes, an index of their names, signals that are links.

use super::stand_ins;
use super::synth::Sound;
use super::{Code, Stage};
use deft_needle_core::Hash;
use deft_needle_core::error::Result;
use std::fs;

/// What the caretakers tell.
pub const SHEET: &str = include_str!("sheets/glass-heron.toml");

/// Makes the guide.
pub fn make(stage: &Stage<'_>) -> Result<()> {
    stage.save("glass-heron.toml", SHEET.as_bytes())?;
    stage.save("heron/heron.id", b"GH-1\n")?;
    let mut rooms = Vec::new();
    for (name, hertz) in [("hall/whale", 98.0), ("hall/clock", 523.3), ("tower/wind", 196.0)] {
        let mut sound = Sound::silence(44_100.0, 1.5);
        sound.pipe(0.05, hertz, 1.3);
        let made = format!("heron/{}.ogg", name.replace('/', "-"));
        let samples = vec![sound.at_peak(0.4).samples];
        stage.save_sound(&made, "ogg vorbis:q5 44100 mono", samples)?;
        let made = stage.path(&made);
        let bytes = fs::read(&made).unwrap_or_default();
        let hash = Hash::of(&bytes).hex();
        let _ = fs::remove_file(made);
        stage.save(&format!("heron/store/{}/{hash}", &hash[..2]), &bytes)?;
        let size = bytes.len();
        rooms.push(format!("    \"{name}.ogg\": {{ \"hash\": \"{hash}\", \"size\": {size} }}"));
    }
    let index = format!("{{\n  \"rooms\": {{\n{}\n  }}\n}}\n", rooms.join(",\n"));
    stage.save("heron/names/7.json", index.as_bytes())?;
    stage.save("heron/tour.json", TOUR.as_bytes())?;
    stage.save("heron/way.def", WAY.as_bytes())?;
    stage.save("tower.toml", include_bytes!("jobs/tower.toml"))?;
    let mut bell = Sound::silence(44_100.0, 0.8);
    bell.bell(0.0, 659.3, 0.7);
    let bell = vec![bell.at_peak(0.5).samples];
    stage.save_sound("signals/bell.wav", "wav pcm16 44100 mono", bell)?;
    link(stage, "signals/closing.wav", "bell.wav")
}

/// Two lists that belong together.
const TOUR: &str = r#"{
  "titles": ["Clock", "Whale", "Wind"],
  "stops": ["hall/clock.ogg", "hall/whale.ogg", "tower/wind.ogg"]
}
"#;

/// A script of blocks.
const WAY: &str = "# the way through the house\nstop \"clock\" {\n}\nstop \"whale\" {\n}\nstop \"wind\" {\n}\nstop \"exit\" {\n}\n";

/// A link; where there are none, a copy.
fn link(stage: &Stage<'_>, name: &str, to: &str) -> Result<()> {
    let path = stage.path(name);
    #[cfg(unix)]
    let made = std::os::unix::fs::symlink(to, &path);
    #[cfg(windows)]
    let made = std::os::windows::fs::symlink_file(to, &path);
    match made {
        Ok(()) => Ok(()),
        Err(_) => {
            let bytes = fs::read(path.with_file_name(to)).unwrap_or_default();
            stage.save(name, &bytes)
        }
    }
}

/// A sound by its real name, though no file has it; and a signal that is a link.
pub fn play(stage: &mut Stage<'_>) -> Result<()> {
    stage
        .tell("A museum's guide keeps its sounds under their hashes, and an index of their names.");
    for command in [
        "learn heron -o learnt/glass-heron.toml",
        "slots glass-heron.toml --root heron",
        "inspect hall/whale.ogg --target glass-heron.toml --root heron",
    ] {
        stage.run(command, Code::Done)?;
    }
    stage.tell(
        "A replacement goes under the real name where the guide looks first; the store stays.",
    );
    for command in [
        "swap takes/horn.wav heron/hall/whale.ogg --target glass-heron.toml",
        "slots glass-heron.toml --root heron whale",
        "check heron --target glass-heron.toml",
        "restore heron",
    ] {
        stage.run(command, Code::Done)?;
    }
    stage.tell("New stops want a title and a place in two lists, a block in a script and a card. The guide walks through:");
    stage.run("install tower.toml", Code::Done)?;
    match stand_ins::glass_heron::walk(&stage.path("heron"), "guides/mine") {
        Ok(stops) => stage.screen.say(&format!("  {}", stops.join(", "))),
        Err(what) => {
            stage.screen.warn(&what);
            stage.as_expected = false;
        }
    }
    stage.run("check heron --target glass-heron.toml", Code::Done)?;
    stage.run("restore heron", Code::Done)?;
    stage.tell("One signal is a link to another. It makes way for a file, or the file that it leads to is replaced.");
    for command in [
        "slots signals",
        "swap takes/kettle.wav signals/closing.wav --root signals",
        "restore signals",
        "swap takes/kettle.wav signals/closing.wav --root signals --link follow",
        "restore signals",
    ] {
        stage.run(command, Code::Done)?;
    }
    Ok(())
}
