//! The clips of somebody who wants their own sounds in the clock; some are wrong on purpose.

use super::Stage;
use super::synth::{Noise, Sound};

use deft_needle_core::error::Result;
use std::f64::consts::TAU;

/// Makes all takes.
pub fn make(stage: &Stage<'_>) -> Result<()> {
    stage.save_sound("takes/kettle.wav", "wav f32 48000 stereo", kettle())?;
    stage.save_sound("takes/story.wav", "wav pcm16 44100 mono", vec![story()])?;
    stage.save_sound("takes/whisper.wav", "wav pcm24 44100 mono", vec![whisper()])?;
    stage.save_sound("takes/music box.wav", "wav pcm16 44100 stereo", music_box())?;
    stage.save_sound("takes/three knocks.wav", "wav pcm16 32000 mono", vec![knocks()])?;
    stage.save_sound("takes/harbour call.wav", "wav pcm16 44100 stereo", harbour_call())?;
    stage.save_sound("takes/flipped.wav", "wav pcm16 44100 stereo", flipped())?;
    stage.save_sound("takes/horn.wav", "aiff pcm16 22050 mono", vec![horn()])?;
    stage.save_sound("takes/concertina.wav", "wav pcm24 44100 stereo", concertina())?;
    stage.save_sound("takes/harbour.wav", "wav pcm24 48000 stereo", harbour())?;
    stage.save_sound("takes/motor.wav", "wav pcm16 48000 mono", vec![motor()])
}

/// A tune: two bars that lead in, four bars twice over, and the last chord dying away. 132 beats a minute.
fn concertina() -> Vec<Vec<f64>> {
    const BEAT: f64 = 60.0 / 132.0;
    const LEAD: [i32; 8] = [0, 4, 7, 4, 5, 9, 7, 2];
    const TUNE: [i32; 16] = [12, 11, 7, 9, 7, 4, 5, 2, 4, 5, 7, 12, 11, 9, 7, 2];
    let side = |offset: f64, detune: f64| {
        let mut sound = Sound::silence(44_100.0, 20.0);
        let steps = LEAD.iter().chain(TUNE.iter().cycle().take(32));
        let mut at = 0.0;
        for (index, step) in (0..).zip(steps) {
            let hertz = 261.6 * detune * 2f64.powf(f64::from(*step) / 12.0);
            sound.pluck(at + offset, hertz, 1.6 * BEAT);
            if index % 2 == 0 {
                sound.pluck(at, hertz / 4.0, 2.0 * BEAT);
            }
            at += BEAT;
        }
        sound.at_peak(0.5).samples
    };
    vec![side(0.0, 1.0), side(0.011, 1.002)]
}

/// Waves on a quay: they rise and fall as they like, and nothing comes twice.
fn harbour() -> Vec<Vec<f64>> {
    let side = |seed: u32, late: f64| {
        let mut sound = Sound::silence(48_000.0, 7.0);
        let (mut noise, mut low, mut lower) = (Noise::new(seed), 0.0, 0.0);
        sound.add(0.0, 7.0, |t| {
            low += 0.11 * (noise.next() - low);
            lower += 0.02 * (low - lower);
            let swell = (0.9 * (t - late)).sin() + 0.8 * (2.3 * (t - late) + 1.0).sin();
            (low - lower) * 10f64.powf(0.55 * swell)
        });
        sound.at_peak(0.5).samples
    };
    vec![side(21, 0.0), side(34, 0.1)]
}

/// A motor at 97.3 turns a second, which is no whole number of frames.
fn motor() -> Vec<f64> {
    let mut sound = Sound::silence(48_000.0, 1.5);
    sound.add(0.0, 1.5, |t| {
        let turn = TAU * 97.3 * t;
        turn.sin() + 0.6 * (2.0 * turn + 0.4).sin() + 0.3 * (5.0 * turn).sin()
    });
    sound.at_peak(0.4).samples
}

/// A whistling kettle: stereo, floating point, loud.
fn kettle() -> Vec<Vec<f64>> {
    let channel = |seed: u32, detune: f64| {
        let mut sound = Sound::silence(48_000.0, 1.6);
        let mut noise = Noise::new(seed);
        let mut phase = 0.0;
        sound.add(0.15, 1.3, |t| {
            let hertz = (1400.0 + 900.0 * (1.0 - (-3.0 * t).exp())) * detune;
            phase += TAU * hertz / 48_000.0;
            let swell = (t / 0.4).min(1.0) * ((1.3 - t) / 0.1).clamp(0.0, 1.0);
            swell * (phase.sin() + 0.3 * (2.0 * phase).sin() + 0.25 * noise.next())
        });
        sound.at_peak(0.9).samples
    };
    vec![channel(1, 1.0), channel(2, 1.004)]
}

/// Nine seconds of talk: too long for the clock.
fn story() -> Vec<f64> {
    let mut sound = Sound::silence(44_100.0, 9.0);
    for (start, pitch) in [(0.3, 118.0), (2.4, 126.0), (4.6, 110.0), (6.8, 104.0)] {
        sound.voice(start, 1.9, pitch);
    }
    sound.at_peak(0.6).samples
}

/// A voice far too quiet.
fn whisper() -> Vec<f64> {
    let mut sound = Sound::silence(44_100.0, 1.8);
    let mut noise = Noise::new(9);
    sound.voice(0.25, 1.2, 190.0);
    sound.add(0.25, 1.2, |t| 2.0 * (TAU * 2.6 * t).sin().abs() * noise.next());
    sound.at_peak(0.012).samples
}

/// A tune on a music box, the notes wandering from left to right.
fn music_box() -> Vec<Vec<f64>> {
    let mut sides = [Sound::silence(44_100.0, 4.0), Sound::silence(44_100.0, 4.0)];
    let tune = [0, 4, 7, 12, 11, 7, 4, 2, 0, 7, 4, 0];
    for (index, step) in (0..).zip(tune) {
        let start = 0.1 + 0.28 * f64::from(index);
        let hertz = 523.25 * 2f64.powf(f64::from(step) / 12.0);
        for (side, share) in sides.iter_mut().zip([index % 3, 2 - index % 3]) {
            let level = 0.4 + 0.3 * f64::from(share);
            let mut note = Sound::silence(44_100.0, 0.6);
            note.pluck(0.0, hertz, 0.6);
            note.samples.iter_mut().for_each(|s| *s *= level);
            let mut samples = note.samples.into_iter();
            side.add(start, 0.6, |_| samples.next().unwrap_or(0.0));
        }
    }
    sides.map(|side| side.at_peak(0.5).samples).to_vec()
}

/// Three knocks in one take, with silence between.
fn knocks() -> Vec<f64> {
    let mut sound = Sound::silence(32_000.0, 3.2);
    for (start, hertz) in [(0.4, 180.0), (1.4, 210.0), (2.4, 160.0)] {
        sound.bell(start, hertz, 0.25);
    }
    sound.at_peak(0.7).samples
}

/// A voice in the middle of a band: different tunes left and right.
fn harbour_call() -> Vec<Vec<f64>> {
    let mut voice = Sound::silence(44_100.0, 4.0);
    voice.voice(0.4, 3.2, 122.0);
    let voice = voice.at_peak(0.5).samples;
    let side = |tune: [i32; 8]| {
        let mut sound = Sound::silence(44_100.0, 4.0);
        for (index, step) in (0..).zip(tune) {
            let hertz = 261.6 * 2f64.powf(f64::from(step) / 12.0);
            sound.pluck(0.5 * f64::from(index), hertz, 0.5);
        }
        sound.at_peak(0.4).samples
    };
    [side([0, 4, 7, 4, 0, 5, 9, 5]), side([14, 11, 17, 11, 14, 16, 12, 16])]
        .map(|side| side.iter().zip(&voice).map(|(a, b)| a + b).collect())
        .to_vec()
}

/// A recording with one cable the wrong way round: right is left turned over.
fn flipped() -> Vec<Vec<f64>> {
    let mut sound = Sound::silence(44_100.0, 1.5);
    sound.pipe(0.1, 392.0, 0.5);
    sound.pipe(0.7, 329.6, 0.6);
    let left = sound.at_peak(0.5).samples;
    let right = left.iter().map(|sample| -0.97 * sample).collect();
    vec![left, right]
}

/// A horn that somebody renamed from `.aiff` to `.wav` instead of converting it.
fn horn() -> Vec<f64> {
    let mut sound = Sound::silence(22_050.0, 0.8);
    sound.pipe(0.05, 220.0, 0.7);
    sound.at_peak(0.8).samples
}
