//! The game: effects in variants, music and ambience that loop, four-channel deck speakers.

use super::Stage;
use super::synth::{Noise, Sound};
use deft_needle_audio::spec::LoopTags;
use deft_needle_audio::units::FrameRange;
use deft_needle_core::error::Result;
use std::f64::consts::TAU;

/// What the makers tell.
pub const SHEET: &str = include_str!("sheets/lantern-ferry.toml");

const EFFECT: &str = "ogg vorbis:q5 44100 mono";

/// Makes the game and its settings.
pub fn make(stage: &Stage<'_>) -> Result<()> {
    stage.save("lantern-ferry.toml", SHEET.as_bytes())?;
    stage.save("game/ferry.toml", b"name = \"Lantern Ferry\"\nberths = []\n")?;
    stage.save("game/cues.json", CUES.as_bytes())?;
    stage.save("game/warm.idx", b"nothing yet\n")?;
    stage.save(
        "settings/ferry.cfg",
        b"; where the ferry lies\r\n[Harbour]\r\nBerth=QUAY-7\r\n\r\n[Mixer]\r\nBanks=BASE\r\n",
    )?;
    for (number, hertz) in [(1, 1900.0), (2, 2050.0), (3, 1760.0)] {
        let mut cry = Sound::silence(44_100.0, 0.5 + 0.1 * f64::from(number));
        cry.pipe(0.02, hertz, 0.2);
        cry.pipe(0.25, hertz * 0.8, 0.22);
        let name = format!("game/sfx/gull_{number}.ogg");
        stage.save_sound(&name, EFFECT, vec![cry.at_peak(0.5).samples])?;
    }
    let mut wing = Sound::silence(44_100.0, 0.6);
    let mut noise = Noise::new(5);
    wing.add(0.0, 0.6, |t| (TAU * 6.0 * t).sin().max(0.0) * noise.next());
    stage.save_sound("game/sfx/gull_wing.ogg", EFFECT, vec![wing.at_peak(0.2).samples])?;
    for (letter, hertz) in [("a", 440.0), ("b", 523.3)] {
        let mut bell = Sound::silence(44_100.0, 1.2);
        bell.bell(0.0, hertz, 1.1);
        let name = format!("game/sfx/bell-{letter}.ogg");
        stage.save_sound(&name, EFFECT, vec![bell.at_peak(0.5).samples])?;
    }
    for number in 1..=3u32 {
        let mut step = Sound::silence(44_100.0, 0.3);
        step.bell(0.01, 90.0 + 12.0 * f64::from(number), 0.2);
        let name = format!("game/sfx/plank/step ({number}).ogg");
        stage.save_sound(&name, EFFECT, vec![step.at_peak(0.4).samples])?;
    }
    music(stage)?;
    ambience(stage)?;
    let horn = |hertz: f64| {
        let mut horn = Sound::silence(44_100.0, 1.0);
        horn.pipe(0.05, hertz, 0.9);
        horn.at_peak(0.5).samples
    };
    let deck = vec![horn(110.0), horn(138.6), horn(138.6), horn(110.0)];
    stage.save_formed("game/deck/horn.wav", "wav pcm16 44100 4ch", deck, |output| {
        output.header = Some(deft_needle_audio::spec::Header::Plain);
    })
}

/// What the game can be told to play; the whistle is listed, and not there yet.
const CUES: &str = r#"{
  "cues": {
    "crossing": { "plays": "music/crossing.ogg", "millis": 4000 },
    "trk_04": { "plays": "music/trk_04.ogg", "millis": 3000 },
    "whistle": { "plays": "sfx/whistle.ogg", "millis": 0 }
  }
}
"#;

/// Two tunes with an intro each; players find the loop by the game's own texts.
fn music(stage: &Stage<'_>) -> Result<()> {
    for (name, seconds, root) in [("crossing", 4.0, 261.6), ("trk_04", 3.0, 196.0)] {
        let side = |offset: i32| {
            let mut tune = Sound::silence(48_000.0, seconds);
            for (index, step) in (0..).zip([0, 4, 7, 12, 7, 4, 2, 5, 9, 5, 2, 0]) {
                let hertz = root * 2f64.powf(f64::from(step + offset) / 12.0);
                tune.pluck(0.25 * f64::from(index), hertz, 0.5);
            }
            tune.at_peak(0.4).samples
        };
        let range =
            FrameRange { start: 48_000, end: if name == "crossing" { 192_000 } else { 144_000 } };
        stage.save_formed(
            &format!("game/music/{name}.ogg"),
            "ogg vorbis:q6 48000 stereo",
            vec![side(0), side(7)],
            |output| {
                output.loop_tags = "start=REPEAT_AT,length=REPEAT_FOR"
                    .parse()
                    .unwrap_or_else(|_| LoopTags::default());
                output.loops = super::looped(range);
            },
        )?;
    }
    Ok(())
}

/// Water that loops whole, and an engine whose loop is some turns of its shaft.
fn ambience(stage: &Stage<'_>) -> Result<()> {
    let side = |seed: u32| {
        let (mut noise, mut low) = (Noise::new(seed), 0.0);
        let mut water = Sound::silence(44_100.0, 2.0);
        water.add(0.0, 2.0, |t| {
            low += 0.05 * (noise.next() - low);
            low * (1.0 + 0.5 * (TAU * t).sin())
        });
        water.at_peak(0.2).samples
    };
    let whole = FrameRange { start: 0, end: 88_200 };
    let engine = |hertz: f64| {
        let mut engine = Sound::silence(44_100.0, 1.0);
        engine.add(0.0, 1.0, |t| (TAU * hertz * t).sin() + 0.5 * (TAU * 2.0 * hertz * t).sin());
        engine.at_peak(0.3).samples
    };
    let turns = FrameRange { start: 4_410, end: 39_690 };
    for (name, samples, range) in [
        ("water", vec![side(3), side(8)], whole),
        ("engine", vec![engine(50.0), engine(50.0)], turns),
    ] {
        stage.save_formed(
            &format!("game/ambience/{name}.wav"),
            "wav pcm16 44100 stereo",
            samples,
            |output| output.loops = super::looped(range),
        )?;
    }
    Ok(())
}
