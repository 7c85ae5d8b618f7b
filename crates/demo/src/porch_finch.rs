//! The intercom: melodies under an extension of its own, short tones of the telephone kind.

use super::Stage;
use super::synth::Sound;
use deft_needle_core::error::Result;

/// What the leaflet tells.
pub const SHEET: &str = include_str!("sheets/porch-finch.toml");

/// Makes its memory.
pub fn make(stage: &Stage<'_>) -> Result<()> {
    stage.save("porch-finch.toml", SHEET.as_bytes())?;
    stage.save("finch/finch.id", b"PF-2\n")?;
    stage.save("finch/tones.txt", b"tones of this door\nbusy\nopen\nwrong\nnight\n")?;
    for (name, root) in [("morning", 523.3), ("Ferry bell", 392.0)] {
        let side = |offset: i32| {
            let mut tune = Sound::silence(44_100.0, 2.0);
            for (index, step) in (0..).zip([0, 7, 4, 12, 7, 4]) {
                let hertz = root * 2f64.powf(f64::from(step + offset) / 12.0);
                tune.bell(0.3 * f64::from(index), hertz, 0.6);
            }
            tune.at_peak(0.5).samples
        };
        // Without the encoder of AAC, a lossless one of the same container will do.
        let spec = match cfg!(feature = "aac") {
            true => "m4a aac:96k 44100 stereo",
            false => "m4a alac16 44100 stereo",
        };
        stage.save_sound(&format!("finch/ring/{name}.pfr"), spec, vec![side(0), side(4)])?;
    }
    for (name, hertz, beats) in [("busy", 425.0, 2), ("open", 660.0, 1), ("wrong", 220.0, 3)] {
        let mut tone = Sound::silence(8_000.0, 0.3 * f64::from(beats));
        for beat in 0..beats {
            tone.pipe(0.3 * f64::from(beat), hertz, 0.2);
        }
        stage.save_sound(
            &format!("finch/tone/{name}.wav"),
            "wav alaw 8000 mono",
            vec![tone.at_peak(0.6).samples],
        )?;
    }
    Ok(())
}
