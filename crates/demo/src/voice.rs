//! The demo's voice: tones that spell a line, a letter each.

use super::synth::Sound;
use deft_needle_audio::block::Samples;
use deft_needle_audio::observe::Unobserved;
use deft_needle_audio::render::render_source;
use deft_needle_audio::shape::quantise::Dither;
use deft_needle_audio::spec::Format;
use deft_needle_audio::spec::Output;
use deft_needle_core::error::{Error, Result};
use std::io::Cursor;
use std::path::Path;

/// Seconds of a letter.
const LETTER: f64 = 0.05;

/// The tone of a letter, in hertz; blanks are silent.
fn tone(letter: char) -> Option<f64> {
    let place = u32::from(letter.to_ascii_lowercase()).checked_sub(u32::from('a'))?;
    (place < 26).then(|| 300.0 * 2f64.powf(f64::from(place) / 12.0))
}

/// Speaks a line into a WAV.
pub fn speak(text: &str, output: &Path) -> Result<()> {
    let letters: Vec<char> = text.chars().collect();
    let seconds = LETTER * deft_needle_audio::num::real_size(letters.len().max(1));
    let mut sound = Sound::silence(22_050.0, seconds);
    for (index, letter) in (0..).zip(&letters) {
        if let Some(hertz) = tone(*letter) {
            sound.pipe(LETTER * f64::from(index), hertz, LETTER);
        }
    }
    let format: Format = "wav pcm16 22050 mono".parse()?;
    let samples = sound.at_peak(0.5).samples;
    let form = Output::plain(format, deft_needle_audio::num::count(samples.len()));
    let mut bytes = Cursor::new(Vec::new());
    let source = Samples::new(format.rate, vec![samples]);
    render_source(source, &form, Dither::Triangular, &mut bytes, &Unobserved)?;
    std::fs::write(output, bytes.get_ref()).map_err(Error::write("write", output))
}
