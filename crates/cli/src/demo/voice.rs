//! The demo's voice: tones that spell a line, a letter each.

use super::synth::Sound;
use crate::args::StandInVoice;
use crate::exit::Exit;
use crate::failure::Failure;
use deft_needle_audio::block::Samples;
use deft_needle_audio::observe::Unobserved;
use deft_needle_audio::plan::Output;
use deft_needle_audio::render::render_source;
use deft_needle_audio::shape::quantise::Dither;
use deft_needle_audio::spec::Format;
use deft_needle_core::error::Error as CoreError;
use std::io::Cursor;

/// Seconds of a letter.
const LETTER: f64 = 0.05;

/// The tone of a letter, in hertz; blanks are silent.
fn tone(letter: char) -> Option<f64> {
    let place = u32::from(letter.to_ascii_lowercase()).checked_sub(u32::from('a'))?;
    (place < 26).then(|| 300.0 * 2f64.powf(f64::from(place) / 12.0))
}

/// Speaks a line into a WAV.
pub fn speak(args: &StandInVoice) -> Result<Exit, Failure> {
    let letters: Vec<char> = args.text.chars().collect();
    let seconds = LETTER * deft_needle_audio::num::real_size(letters.len().max(1));
    let mut sound = Sound::silence(22_050.0, seconds);
    for (index, letter) in (0..).zip(&letters) {
        if let Some(hertz) = tone(*letter) {
            sound.pipe(LETTER * f64::from(index), hertz, LETTER);
        }
    }
    let format: Format = "wav pcm16 22050 mono".parse()?;
    let samples = sound.at_peak(0.5).samples;
    let output = Output::plain(format, deft_needle_audio::num::count(samples.len()));
    let mut bytes = Cursor::new(Vec::new());
    let source = Samples::new(format.rate, vec![samples]);
    render_source(source, &output, Dither::Triangular, &mut bytes, &Unobserved)?;
    std::fs::write(&args.output, bytes.get_ref())
        .map_err(CoreError::write("write", &args.output))?;
    Ok(Exit::Done)
}
