//! Whole jobs on all four targets: checked, installed, heard, shared, taken out again.

use super::{Code, Stage};
use crate::stand_ins::{brass_wren, lantern_ferry, porch_finch, slow_comet};
use deft_needle_core::error::Result;
use std::fmt::Display;
use std::fs;

/// The job sheets, and what lies beside them.
const FILES: &[(&str, &str)] = &[
    ("quay.toml", include_str!("jobs/quay.toml")),
    ("hasty.toml", include_str!("jobs/hasty.toml")),
    ("berth.toml", include_str!("jobs/berth.toml")),
    ("additions.toml", include_str!("jobs/additions.toml")),
    ("clock.toml", include_str!("jobs/clock.toml")),
    ("lines.tsv", include_str!("jobs/lines.tsv")),
    ("door.toml", include_str!("jobs/door.toml")),
    ("show.toml", include_str!("jobs/show.toml")),
    ("waybill.template", include_str!("sheets/waybill.template")),
];

/// Writes the job sheets.
pub fn make(stage: &Stage<'_>) -> Result<()> {
    for (name, text) in FILES {
        stage.save(name, voiced(text).as_bytes())?;
    }
    Ok(())
}

/// The voice is this program itself, wherever it lies.
fn voiced(text: &str) -> String {
    let program = std::env::current_exe().unwrap_or_default();
    let program = program.to_string_lossy().replace('\'', "");
    text.replace("['deft-needle', ", &format!("['{program}', "))
}

/// A job that replaces what is there.
pub fn in_place(stage: &mut Stage<'_>) -> Result<()> {
    stage.tell("A whole job for the game. `new` writes a sheet from a folder of clips; the rest stands in it as comments.");
    stage.run("new lantern-ferry.toml takes -o started.toml --root game", Code::Done)?;
    stage.tell("In a hurry, everything goes wrong at once. The check reports all of it before anything is written.");
    stage.run("check hasty.toml", Code::Short)?;
    stage.tell("And by hand? The game has a memory of its own for what it loaded.");
    game_starts(stage);
    let gull = stage.path("game/sfx/gull_2.ogg");
    let kept = fs::read(&gull).unwrap_or_default();
    stage.run(
        "fit takes/kettle.wav -o made/gull_2.ogg --target lantern-ferry.toml --slot sfx/gull_2.ogg --overwrite -q",
        Code::Done,
    )?;
    let fitted = fs::read(stage.path("made/gull_2.ogg")).unwrap_or_default();
    stage.save("game/sfx/gull_2.ogg", &fitted)?;
    stage.by_hand("made/gull_2.ogg is copied over sfx/gull_2.ogg");
    game_starts(stage);
    stage.save("game/sfx/gull_2.ogg", &kept)?;
    stage.tell("Done with care: looked at and heard, then installed, all of it or nothing.");
    stage.run("check quay.toml", Code::Done)?;
    stage.run("proof quay.toml -o quay.html", Code::Done)?;
    stage.run("install quay.toml", Code::Done)?;
    game_starts(stage);
    stage.by_hand("the gulls are not loud enough: one line more in the sheet, and once again");
    let sheet = fs::read_to_string(stage.path("quay.toml")).unwrap_or_default();
    let louder = sheet.replace("level = 'stock'\n", "gain = '+4dB'\n");
    stage.save("quay.toml", louder.as_bytes())?;
    stage.run("install quay.toml", Code::Done)?;
    stage.run("install quay.toml", Code::Done)?;
    stage.tell("Single swaps become a job sheet, too. And two jobs lie one over the other.");
    stage.run(
        "swap takes/horn.wav game/sfx/gull_1.ogg --target lantern-ferry.toml --gain -3dB --fade-out 50ms",
        Code::Done,
    )?;
    stage.run("status game", Code::Done)?;
    stage.run("status game --as-job --target lantern-ferry.toml", Code::Done)?;
    stage.run("restore game --job quay", Code::Refused)?;
    stage.run("restore game", Code::Done)?;
    stage.save("quay.toml", sheet.as_bytes())
}

/// A job that adds, and a pack of it.
pub fn additions(stage: &mut Stage<'_>) -> Result<()> {
    stage.tell("The game also takes additions: a tree that it prefers over its own files …");
    let berth = fs::read_to_string(stage.path("berth.toml")).unwrap_or_default();
    stage.save("elsewhere.toml", berth.replace("QUAY-7", "QUAY-1").as_bytes())?;
    stage.run("check elsewhere.toml", Code::Short)?;
    stage.run("install berth.toml", Code::Done)?;
    game_starts(stage);
    stage.run("restore game", Code::Done)?;
    stage.tell(
        "… or one archive with a manifest. A pack is the same archive, to share with others.",
    );
    stage.run("install additions.toml", Code::Done)?;
    game_starts(stage);
    stage.run("restore game", Code::Done)?;
    stage.run("pack additions.toml -o quay-bells.ferry", Code::Done)?;
    stage.run("install quay-bells.ferry --root game --root settings=settings", Code::Done)?;
    game_starts(stage);
    stage.run("status game", Code::Done)?;
    stage.run("restore game", Code::Done)
}

/// The same for the other three.
pub fn others(stage: &mut Stage<'_>) -> Result<()> {
    stage.tell("A new voice for the clock: each line of a list is spoken by a command, which has to be allowed.");
    stage.run("install clock.toml", Code::Refused)?;
    stage.run("install clock.toml --allow-commands", Code::Done)?;
    starts(stage, "the card goes into the clock", &|stage| brass_wren::boot(&stage.path("card")));
    stage.run("restore card", Code::Done)?;
    if cfg!(feature = "aac") {
        stage.tell("The intercom: a melody that loops, and a tone that its list has to name.");
        stage.run("install door.toml", Code::Done)?;
        starts(stage, "somebody rings", &|stage| porch_finch::boot(&stage.path("finch")));
        stage.run("restore finch", Code::Done)?;
    }
    stage.tell("The planetarium: a cue in a folder of its own, and in the show's property list.");
    stage.run("install show.toml", Code::Done)?;
    starts(stage, "the lights go down", &|stage| slow_comet::boot(&stage.path("comet")));
    stage.run("restore comet", Code::Done)
}

/// Starts the game.
pub fn game_starts(stage: &mut Stage<'_>) {
    starts(stage, "the game is started", &|stage| {
        lantern_ferry::boot(&stage.path("game"), &stage.path("settings"))
    });
}

/// Starts a device, and shows what it says.
fn starts<B: Display, E: Display>(
    stage: &mut Stage<'_>,
    what: &str,
    boot: &dyn Fn(&Stage<'_>) -> Result<B, E>,
) {
    stage.by_hand(what);
    match boot(stage) {
        Ok(boot) => stage.screen.say(&boot.to_string()),
        Err(error) => {
            stage.screen.warn(&error.to_string());
            stage.as_expected = false;
        }
    }
}
