//! What the game takes for a sound, by the folder that it lies in.

use super::round::{ambience, music};
use std::fmt;
use vorbis_rs::VorbisDecoder;

/// A sound that was loaded.
pub struct Sound {
    frames: usize,
    rate: usize,
    what: &'static str,
}

/// Whether a file is one of the game's sounds by its place.
pub fn is_meant(name: &str) -> bool {
    ["sfx/", "music/", "ambience/", "deck/"].iter().any(|folder| name.starts_with(folder))
}

impl Sound {
    /// Loads one.
    ///
    /// # Errors
    /// Why it stays silent.
    pub fn load(name: &str, bytes: &[u8]) -> Result<Self, String> {
        let looped = |loaded: super::round::Loaded, what| Self {
            frames: loaded.channels.first().map_or(0, Vec::len),
            rate: loaded.rate,
            what,
        };
        match name.split_once('/') {
            Some(("music", _)) => music(bytes).map(|loaded| looped(loaded, "looping")),
            Some(("ambience", _)) => ambience(bytes).map(|loaded| looped(loaded, "looping")),
            Some(("deck", _)) => deck(bytes),
            _ => effect(bytes),
        }
    }

    /// How long it lasts.
    pub fn millis(&self) -> u64 {
        let millis = (2000 * self.frames + self.rate) / (2 * self.rate).max(1);
        u64::try_from(millis).unwrap_or(u64::MAX)
    }
}

impl fmt::Display for Sound {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} ms {}", self.millis(), self.what)
    }
}

/// An effect is placed in space, so it is mono.
fn effect(bytes: &[u8]) -> Result<Sound, String> {
    if !bytes.starts_with(b"OggS") {
        return Err("not an Ogg file, whatever its name says".to_owned());
    }
    let mut decoder = VorbisDecoder::<&[u8]>::new(bytes).map_err(|error| error.to_string())?;
    let form = (decoder.sampling_frequency().get(), decoder.channels().get());
    if form != (44_100, 1) {
        return Err(format!(
            "{} Hz, {} channels: 44100 Hz mono alone is placed in space",
            form.0, form.1
        ));
    }
    let mut frames = 0;
    while let Some(block) = decoder.decode_audio_block().map_err(|error| error.to_string())? {
        frames += block.samples().first().map_or(0, |channel| channel.len());
    }
    Ok(Sound { frames, rate: 44_100, what: "in mono" })
}

/// Four channels of 16-bit PCM behind the shortest of headers.
fn deck(bytes: &[u8]) -> Result<Sound, String> {
    let plain = b"\x01\0\x04\0\x44\xAC\0\0\x20\x62\x05\0\x08\0\x10\0";
    if bytes.get(..4) != Some(b"RIFF") || bytes.get(12..20) != Some(b"fmt \x10\0\0\0") {
        return Err("its header is not the plain one of a WAV".to_owned());
    }
    if bytes.get(20..36) != Some(plain) || bytes.get(36..40) != Some(b"data") {
        return Err("the deck has four speakers, 16 bits, 44100 Hz, and no other chunk".to_owned());
    }
    Ok(Sound { frames: (bytes.len() - 44) / 8, rate: 44_100, what: "on four speakers" })
}
