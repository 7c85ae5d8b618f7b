//! Loops that never click: found, smoothed, proved, and heard by the game itself.

use super::{Code, Stage};
use crate::stand_ins::lantern_ferry;
use deft_needle_core::error::Result;

/// A tune that repeats, waves that never do, and a motor.
pub fn play(stage: &mut Stage<'_>) -> Result<()> {
    stage.tell("The game plays music and ambience without end. Where does the tune repeat?");
    stage.run("seam takes/concertina.wav", Code::Done)?;
    stage.tell("Waves on a quay never do. A crossfade at the seam makes them; hear it, see it.");
    for (command, exit) in [
        ("seam takes/harbour.wav --loop 0.6s..5.2s", Code::Short),
        (
            "seam takes/harbour.wav --loop 0.6s..5.2s --crossfade 500ms --hear harbour-seam.wav --plot harbour-seam.png",
            Code::Done,
        ),
    ] {
        stage.run(command, exit)?;
    }
    stage.tell("Into the game. Rates change; the loops stay exact.");
    for command in [
        "swap takes/concertina.wav game/music/crossing.ogg --target lantern-ferry.toml --loop auto --dry-run",
        "swap takes/concertina.wav game/music/crossing.ogg --target lantern-ferry.toml --loop auto",
        "swap takes/harbour.wav game/ambience/water.wav --target lantern-ferry.toml --loop 0.6s..5.2s --crossfade 500ms",
        "swap takes/motor.wav game/ambience/engine.wav --target lantern-ferry.toml --loop auto",
    ] {
        stage.run(command, Code::Done)?;
    }
    stage.tell("The game starts, and plays each three times round:");
    for slot in ["music/crossing.ogg", "ambience/water.wav", "ambience/engine.wav"] {
        let heard = lantern_ferry::go_round(&stage.path("game"), slot, 3);
        stage.screen.say(&format!("  {slot:<22}{heard}"));
        if !heard.is_clean() {
            stage.as_expected = false;
        }
    }
    stage.tell(
        "A door intercom loops a whole melody, and has no place for points: cut at the best seam.",
    );
    stage.run(
        "fit takes/concertina.wav -o made/doorbell.m4a --spec \"m4a aac:96k 32000 mono\" --cut seam --verbose",
        Code::Done,
    )?;
    stage.run("restore game", Code::Done)
}
