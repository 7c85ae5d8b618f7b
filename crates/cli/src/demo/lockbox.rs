//! A closed format: only its maker's encoder knows what is inside.

use super::{Stage, synth::Sound};
use crate::args::StandInLockbox;
use crate::exit::Exit;
use crate::failure::Failure;
use deft_needle_core::error::Error as CoreError;
use deft_needle_standin::lockbox;
use std::fs;
use std::time::Duration;

/// The stand-in for that encoder.
pub fn encode(args: &StandInLockbox) -> Result<Exit, Failure> {
    std::thread::sleep(Duration::from_secs(args.slow));
    let wav = fs::read(&args.input).map_err(CoreError::read(&args.input))?;
    let made = lockbox::encode(&wav).map_err(|what| Failure::Outside { what })?;
    fs::write(&args.output, made).map_err(CoreError::write("write", &args.output))?;
    Ok(Exit::Done)
}

/// The tallow bell of the game, made anew by its own encoder, then by hand.
pub(super) fn play(stage: &mut Stage<'_>) -> Result<(), Failure> {
    let mut bell = Sound::silence(48_000.0, 1.0);
    bell.pipe(0.05, 330.0, 0.8);
    let samples = bell.at_peak(0.5).samples;
    stage.save_sound("hold/stock.wav", "wav pcm16 48000 stereo", vec![samples.clone(), samples])?;
    let wav = fs::read(stage.path("hold/stock.wav")).unwrap_or_default();
    stage.save("hold/BELL.LBX", &lockbox::encode(&wav).unwrap_or_default())?;
    let _ = fs::remove_file(stage.path("hold/stock.wav"));

    stage.tell("10. A format that is closed: only its maker's encoder writes it.");
    stage.run("inspect hold/BELL.LBX", Exit::Unreadable)?;
    let encoder =
        "--encoder \"deft-needle stand-in-lockbox {in} {out}\" --feed \"wav pcm16 48000 stereo\"";
    stage.run(
        &format!("swap takes/kettle.wav hold/BELL.LBX --root hold {encoder}"),
        Exit::Refused,
    )?;
    stage.run(
        &format!("swap takes/kettle.wav hold/BELL.LBX --root hold {encoder} --allow-commands"),
        Exit::Done,
    )?;
    let heard = lockbox::load(&fs::read(stage.path("hold/BELL.LBX")).unwrap_or_default());
    stage.by_hand(&format!("the game {heard}"));
    stage.run("swap takes/kettle.wav hold/BELL.LBX --root hold --as-is", Exit::Refused)?;
    stage.run("restore hold", Exit::Done)
}
