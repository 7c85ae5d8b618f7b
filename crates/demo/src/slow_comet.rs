//! The planetarium's show player: cues of full quality in folders, some with loops.

use super::Stage;
use super::synth::{Noise, Sound};
use deft_needle_audio::units::FrameRange;
use deft_needle_core::error::Result;
use std::f64::consts::TAU;

/// What the handbook tells.
pub const SHEET: &str = include_str!("sheets/slow-comet.toml");

/// Makes the show.
pub fn make(stage: &Stage<'_>) -> Result<()> {
    stage.save("slow-comet.toml", SHEET.as_bytes())?;
    stage.save("comet/show.plist", PLIST.as_bytes())?;
    let pad = |hertz: f64, seed: u32| {
        let mut noise = Noise::new(seed);
        let mut pad = Sound::silence(48_000.0, 1.5);
        pad.add(0.0, 1.5, |t| {
            (TAU * hertz * t).sin() + 0.6 * (TAU * 1.5 * hertz * t).sin() + 0.02 * noise.next()
        });
        pad.at_peak(0.4).samples
    };
    for (name, hertz, range) in [
        ("Rising/Dusk 1", 110.0, None),
        ("Rising/Dusk 2", 146.8, None),
        ("Rising/Bed", 55.0, Some((0, 72_000))),
        ("Comet/Tail", 220.0, Some((9_600, 57_600))),
    ] {
        stage.save_formed(
            &format!("comet/cues/{name}.aiff"),
            "aiff pcm24 48000 stereo",
            vec![pad(hertz, 1), pad(hertz * 1.003, 2)],
            |output| {
                if let Some((start, end)) = range {
                    output.loops = super::looped(FrameRange { start, end });
                }
            },
        )?;
    }
    Ok(())
}

const PLIST: &str = r#"<?xml version="1.0" encoding="UTF-8"?>
<plist version="1.0">
<dict>
  <key>Show</key><string>Slow Comet</string>
  <key>Cues</key>
  <array><string>Rising/Bed</string><string>Comet/Tail</string></array>
</dict>
</plist>
"#;
