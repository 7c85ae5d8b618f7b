//! The short tour: the heart of the program in a few screens.

use super::{Code, Stage, brass_wren, jobs};
use deft_needle_core::error::Result;

/// Look, swap, hear, undo; then a whole job, and undo.
pub fn play(stage: &mut Stage<'_>) -> Result<()> {
    stage.tell("1. Look: what does the clock play today, and what would replace it?");
    stage.run("inspect card/SAY/TICK01.PRM takes/kettle.wav", Code::Done)?;
    stage.tell(
        "2. Swap: the clip is fitted to the file that it replaces, verified, and put in place.",
    );
    stage.run("swap takes/kettle.wav card/SAY/TICK01.PRM --root card", Code::Done)?;
    stage.tell("3. Hear: the new tick and an old one in turns. The clock likes it, too.");
    stage.run(
        "hear card/SAY/TICK01.PRM --beside card/SAY/TICK02.PRM -o new-and-old.wav --overwrite",
        Code::Done,
    )?;
    brass_wren::switch_on(stage);
    stage.tell("4. Undo: the original is back, bit for bit.");
    stage.run("status card", Code::Done)?;
    stage.run("restore card", Code::Done)?;
    stage.tell("5. A whole job for a game, from one sheet: all of it or nothing.");
    stage.run("proof quay.toml -o quay.html", Code::Done)?;
    stage.run("install quay.toml", Code::Done)?;
    stage.run("status game", Code::Done)?;
    jobs::game_starts(stage);
    stage.run("restore game", Code::Done)
}

/// What to type after it.
pub const NEXT: &[(&str, &str)] = &[
    ("deft-needle proof quay.toml -o quay.html --open", "the game's job, to see and to hear"),
    ("deft-needle inspect takes", "what the clips are"),
    (
        "deft-needle swap takes/whisper.wav card/SAY/GREET.PRM --root card --trim-silence --level stock",
        "",
    ),
    ("deft-needle restore card", "and out again"),
    ("deft-needle seam takes/concertina.wav", "where the tune loops"),
    ("deft-needle check hasty.toml", "a job with everything wrong"),
    ("deft-needle demo --list", "the chapters of the full demo"),
];
