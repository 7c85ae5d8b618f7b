//! What targets accept and how their sounds are called: learnt, searched, checked.

use super::{Code, Stage};
use deft_needle_core::error::Result;
use std::fs;

/// Asks all four targets what they accept.
pub fn play(stage: &mut Stage<'_>) -> Result<()> {
    learnt(stage)?;
    mistakes(stage)?;
    fitted(stage)
}

fn learnt(stage: &mut Stage<'_>) -> Result<()> {
    stage.tell("A game this time. What does it accept? Let its own files tell.");
    stage.run("learn game -o learnt/lantern-ferry.toml", Code::Done)?;
    let sheet = fs::read_to_string(stage.path("learnt/lantern-ferry.toml")).unwrap_or_default();
    stage.screen.say(&sheet);
    stage.run("check game --target learnt/lantern-ferry.toml", Code::Done)?;
    stage.by_hand("the same for a clock, an intercom and a planetarium");
    for (root, name) in [("card", "brass-wren"), ("finch", "porch-finch"), ("comet", "slow-comet")]
    {
        stage.run(&format!("learn {root} -o learnt/{name}.toml"), Code::Done)?;
        stage.run(&format!("check {root} --target learnt/{name}.toml"), Code::Done)?;
    }
    stage
        .tell("What is that sound called? The makers' own sheet has labels, and lists more names.");
    stage.run("slots lantern-ferry.toml --root game", Code::Done)?;
    stage.run("slots lantern-ferry.toml --root game storm", Code::Done)?;
    stage.run("slots game guul", Code::Done)?;
    stage.run("slots game \"gull_*\" --as-job", Code::Done)
}

/// What people do by hand, caught before the game is started.
fn mistakes(stage: &mut Stage<'_>) -> Result<()> {
    stage.tell("Somebody has been at it by hand. The sheet shows what is wrong before the game is started.");
    let kettle = fs::read(stage.path("takes/kettle.wav")).unwrap_or_default();
    let kept = fs::read(stage.path("game/sfx/gull_2.ogg")).unwrap_or_default();
    let wrong = ["game/sfx/Gull_4.ogg", "game/sfx/gull_wing.ogg.wav", "game/sfx/möwe.ogg"];
    stage.by_hand("kettle.wav becomes gull_2.ogg, Gull_4.ogg, gull_wing.ogg.wav and möwe.ogg; a bell is thrown away");
    stage.save("game/sfx/gull_2.ogg", &kettle)?;
    for name in wrong {
        stage.save(name, &kettle)?;
    }
    let bell = fs::read(stage.path("game/sfx/bell-b.ogg")).unwrap_or_default();
    let _ = fs::remove_file(stage.path("game/sfx/bell-b.ogg"));
    stage.run("check game --target learnt/lantern-ferry.toml", Code::Short)?;
    for name in wrong {
        let _ = fs::remove_file(stage.path(name));
    }
    stage.save("game/sfx/gull_2.ogg", &kept)?;
    stage.save("game/sfx/bell-b.ogg", &bell)
}

fn fitted(stage: &mut Stage<'_>) -> Result<()> {
    stage.tell("And right: the sheet says what the slot wants, options win over it.");
    for (command, exit) in [
        (
            "fit takes/kettle.wav -o made/gull_2.ogg --target learnt/lantern-ferry.toml --slot sfx/gull2.ogg",
            Code::Refused,
        ),
        (
            "fit takes/kettle.wav -o made/gull_2.ogg --target learnt/lantern-ferry.toml --slot sfx/gull_2.ogg --level stock",
            Code::Done,
        ),
        (
            "fit \"takes/music box.wav\" -o made/crossing.ogg --overwrite --target learnt/lantern-ferry.toml --slot music/crossing.ogg",
            Code::CannotMeet,
        ),
        (
            "fit \"takes/music box.wav\" -o made/crossing.ogg --overwrite --target learnt/lantern-ferry.toml --slot music/crossing.ogg --loop 0.38s..3.46s",
            Code::Done,
        ),
        (
            "hear made/crossing.ogg --loops 2 --loop-tags start=REPEAT_AT,length=REPEAT_FOR -o crossing-twice.wav",
            Code::Done,
        ),
        ("seam game/ambience/engine.wav", Code::Done),
        ("swap takes/kettle.wav game/deck/horn.wav --target lantern-ferry.toml", Code::Done),
        ("swap takes/kettle.wav game/sfx/whistle.ogg --target lantern-ferry.toml", Code::Done),
        (
            "swap takes/story.wav card/SAY/HOUR01.PRM --target brass-wren.toml --trim-silence",
            Code::CannotMeet,
        ),
        ("slots lantern-ferry.toml --root game horn", Code::Done),
        ("restore game", Code::Done),
        ("sheets", Code::Done),
        ("fit takes/kettle.wav -o made/whistle.wav --target placed-effect --gain -6dB", Code::Done),
    ] {
        stage.run(command, exit)?;
    }
    Ok(())
}
