//! A closed format: only its maker's encoder knows what is inside.

use super::{Code, Stage, synth::Sound};
use crate::stand_ins::lockbox;
use deft_needle_core::error::{Error, Result};
use deft_needle_core::refusal::OutsideFault;
use std::fs;
use std::path::Path;
use std::time::Duration;

/// The stand-in for that encoder.
pub fn encode(input: &Path, output: &Path, slow: u64) -> Result<()> {
    std::thread::sleep(Duration::from_secs(slow));
    let wav = fs::read(input).map_err(Error::read(input))?;
    let made = lockbox::encode(&wav).map_err(|reason| Error::Outside {
        role: "encoder",
        program: "lockbox".to_owned(),
        why: OutsideFault::Lost { reason },
    })?;
    fs::write(output, made).map_err(Error::write("write", output))
}

/// The bell in the hold.
pub(super) fn make(stage: &Stage<'_>) -> Result<()> {
    let mut bell = Sound::silence(48_000.0, 1.0);
    bell.pipe(0.05, 330.0, 0.8);
    let samples = bell.at_peak(0.5).samples;
    stage.save_sound("hold/stock.wav", "wav pcm16 48000 stereo", vec![samples.clone(), samples])?;
    let wav = fs::read(stage.path("hold/stock.wav")).unwrap_or_default();
    stage.save("hold/BELL.LBX", &lockbox::encode(&wav).unwrap_or_default())?;
    let _ = fs::remove_file(stage.path("hold/stock.wav"));
    Ok(())
}

/// The bell made again by its own encoder, then by hand.
pub(super) fn play(stage: &mut Stage<'_>) -> Result<()> {
    stage.tell("A format that is closed: only its maker's encoder writes it.");
    stage.run("inspect hold/BELL.LBX", Code::Unreadable)?;
    let encoder =
        "--encoder \"deft-needle stand-in-lockbox {in} {out}\" --feed \"wav pcm16 48000 stereo\"";
    stage.run(
        &format!("swap takes/kettle.wav hold/BELL.LBX --root hold {encoder}"),
        Code::Refused,
    )?;
    stage.run(
        &format!("swap takes/kettle.wav hold/BELL.LBX --root hold {encoder} --allow-commands"),
        Code::Done,
    )?;
    let heard = lockbox::load(&fs::read(stage.path("hold/BELL.LBX")).unwrap_or_default());
    stage.by_hand(&format!("the game {heard}"));
    stage.run("swap takes/kettle.wav hold/BELL.LBX --root hold --as-is", Code::Refused)?;
    stage.run("restore hold", Code::Done)
}
