//! The talking clock: its card, the usual mistakes, and how it goes right.

use super::synth::Sound;
use super::{Code, Stage};
use crate::stand_ins::brass_wren::boot;
use deft_needle_core::error::{Error, Result};
use std::fs;

/// What the manual says.
const SHEET: &str = include_str!("sheets/brass-wren.toml");

const RATE: f64 = 18_900.0;
const SPEC: &str = "wav pcm8 18900 mono";

/// What the clock says, and how it sounds.
const PROMPTS: &[(&str, &str)] = &[
    ("TICK01", "tick"),
    ("TICK02", "tick"),
    ("TICK03", "tick"),
    ("CUCKOO", "cuckoo"),
    ("CHIME", "the hour strikes"),
    ("GREET", "good morning"),
    ("NIGHT", "good night"),
    ("HOUR01", "it is one o'clock"),
    ("HOUR02", "it is two o'clock"),
];

/// The first chapter.
pub fn play(stage: &mut Stage<'_>) -> Result<()> {
    stage.tell("What does the clock want? Look at a file that works today.");
    stage.run("inspect card/SAY/CUCKOO.PRM", Code::Done)?;
    stage.tell("What have we got? One of these is not what its name says.");
    stage.run("inspect takes/*.wav", Code::Done)?;
    stage.run("inspect \"takes/three knocks.wav\"", Code::Done)?;
    mistakes(stage)?;
    done_right(stage)?;
    stage.tell("And out again: every byte of the stock is back.");
    stage.run("restore card/SAY/HOUR01.PRM", Code::Done)?;
    stage.run("restore card", Code::Done)
}

/// What people do by hand, and what comes of it.
fn mistakes(stage: &mut Stage<'_>) -> Result<()> {
    stage.tell("The usual mistakes: files renamed and copied onto the card by hand.");
    let kept = ["TICK02.PRM", "GREET.PRM", "NIGHT.PRM"]
        .map(|name| (name, fs::read(stage.path(&format!("card/SAY/{name}")))));
    stage.by_hand(
        "kettle.wav becomes TICK02.PRM, horn.wav becomes GREET.PRM, NIGHT.PRM becomes night.prm",
    );
    for (take, slot) in [("kettle.wav", "TICK02.PRM"), ("horn.wav", "GREET.PRM")] {
        let bytes = fs::read(stage.path(&format!("takes/{take}"))).unwrap_or_default();
        stage.save(&format!("card/SAY/{slot}"), &bytes)?;
    }
    let (night, lower) = (stage.path("card/SAY/NIGHT.PRM"), stage.path("card/SAY/night.prm"));
    fs::rename(&night, &lower).map_err(Error::write("rename", &night))?;
    switch_on(stage);
    stage.by_hand("a check would have shown it before the clock was even switched on");
    stage.run("check card/SAY --like card/SAY/CUCKOO.PRM", Code::Short)?;
    stage.by_hand("the stock goes back by hand");
    fs::rename(&lower, &night).map_err(Error::write("rename", &lower))?;
    for (name, bytes) in kept {
        stage.save(&format!("card/SAY/{name}"), &bytes.unwrap_or_default())?;
    }
    Ok(())
}

fn done_right(stage: &mut Stage<'_>) -> Result<()> {
    stage.tell("Now done right. First only the plan:");
    stage.run(
        "fit takes/kettle.wav -o kettle.PRM --like card/SAY/TICK01.PRM --dry-run",
        Code::Done,
    )?;
    stage.tell("Swap: fit, verify, keep the stock, put in place. Wrong names are caught.");
    for typo in ["card/SAY/TIKC01.PRM", "card/SAY/tick01.prm", "card/SAY/TICK01.PRM.wav"] {
        stage.run(&format!("swap takes/kettle.wav {typo} --root card"), Code::Refused)?;
    }
    for (take, slot) in [
        ("takes/kettle.wav", "TICK01"),
        ("\"takes/music box.wav\"", "CHIME"),
        ("takes/whisper.wav", "GREET"),
        ("takes/story.wav", "HOUR01"),
        ("takes/flipped.wav", "HOUR02"),
    ] {
        stage.run(&format!("swap {take} card/SAY/{slot}.PRM --root card"), Code::Done)?;
    }
    stage.run("swap takes/horn.wav card/SAY/NIGHT.PRM --root card", Code::Done)?;
    switch_on(stage);
    stage.by_hand(
        "it plays, but: the whisper is hardly heard, the story too long, the flipped one gone",
    );
    stage.tell("Not good enough yet: shape the clips, and swap again. The stock stays the stock.");
    for (take, slot, options) in [
        ("takes/whisper.wav", "GREET", "--trim-silence --level stock"),
        (
            "takes/story.wav",
            "HOUR01",
            "--trim-silence --longest 6s --too-long loudest --level stock",
        ),
        ("takes/flipped.wav", "HOUR02", "--route L --level stock"),
        ("\"takes/harbour call.wav\"", "NIGHT", "--keep shared --voicing quayside --level stock"),
        ("\"takes/three knocks.wav\"", "TICK02", "--piece 2"),
    ] {
        stage.run(&format!("swap {take} card/SAY/{slot}.PRM {options}"), Code::Done)?;
    }
    stage.run("inspect takes/story.wav --plot story.png --plot-rate 18900 -q", Code::Done)?;
    stage.tell("What is in, is it right, and what does the clock say?");
    stage.run("status card", Code::Done)?;
    stage.run("check card/SAY --spec \"wav pcm8|imaadpcm 18900|9450 mono\"", Code::Done)?;
    stage.run(
        "hear card/SAY/TICK01.PRM --beside card/SAY/TICK02.PRM -o new-and-old.wav",
        Code::Done,
    )?;
    switch_on(stage);
    Ok(())
}

/// Puts the card into the clock, prints what it says, and keeps what is heard.
pub fn switch_on(stage: &mut Stage<'_>) {
    stage.by_hand("the card goes into the clock");
    match boot(&stage.path("card")) {
        Ok(boot) => {
            stage.screen.say(&boot.to_string());
            if stage.save("heard.wav", &boot.heard(18_900)).is_ok() {
                stage.by_hand("a recording of it: heard.wav");
            }
        }
        Err(error) => {
            stage.screen.warn(&error.to_string());
            stage.as_expected = false;
        }
    }
}

/// Makes its card.
pub fn make(stage: &Stage<'_>) -> Result<()> {
    stage.save("brass-wren.toml", SHEET.as_bytes())?;
    stage.save("card/WREN.ID", b"BRASS WREN 1\r\n")?;
    let mut list = "slot\tsay\r\n".to_owned();
    for (slot, say) in PROMPTS {
        list += &format!("{slot}.PRM\t{say}\r\n");
        stage.save_sound(&format!("card/SAY/{slot}.PRM"), SPEC, vec![stock(slot)])?;
    }
    stage.save("card/LIST.TSV", list.as_bytes())
}

fn stock(slot: &str) -> Vec<f64> {
    let number = f64::from(slot.bytes().last().unwrap_or(b'0') - b'0');
    match slot {
        "CUCKOO" => {
            let mut sound = Sound::silence(RATE, 1.1);
            sound.pipe(0.02, 659.3, 0.4);
            sound.pipe(0.5, 523.3, 0.55);
            sound.at_peak(0.7).samples
        }
        "CHIME" => {
            let mut sound = Sound::silence(RATE, 2.6);
            for (start, hertz) in [(0.0, 392.0), (0.6, 329.6), (1.2, 349.2), (1.8, 261.6)] {
                sound.bell(start, hertz, 0.8);
            }
            sound.at_peak(0.7).samples
        }
        "GREET" | "NIGHT" | "HOUR01" | "HOUR02" => {
            let mut sound = Sound::silence(RATE, 1.5);
            let pitch = if slot == "NIGHT" { 96.0 } else { 130.0 + 4.0 * (number % 10.0) };
            sound.voice(0.05, 1.35, pitch);
            sound.at_peak(0.6).samples
        }
        _ => {
            let mut sound = Sound::silence(RATE, 0.25);
            sound.bell(0.0, 1500.0 + 90.0 * number, 0.2);
            sound.at_peak(0.6).samples
        }
    }
}
