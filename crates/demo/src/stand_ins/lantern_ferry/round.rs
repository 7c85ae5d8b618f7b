//! The game's player of music and ambience, which loop without end.
//!
//! Music is Ogg Vorbis whose texts `REPEAT_AT` and `REPEAT_FOR` say in frames where it loops.
//! Ambience is 16-bit stereo WAV with one loop in a `smpl` chunk, whose end is the last frame played.

use std::fmt;
use std::fs;
use std::path::Path;
use vorbis_rs::VorbisDecoder;

/// What the game heard itself play.
#[derive(Debug, Clone, PartialEq)]
pub enum Heard {
    /// It went round.
    Round {
        /// Frames before the loop.
        intro: usize,
        /// Frames of the loop.
        length: usize,
        /// How often.
        times: usize,
        /// The sharpest bend of the wave within a millisecond of any seam, beside the sharpest within
        /// a tenth of a second, in dB.
        bend: f64,
        /// By how much the level of 50 ms jumps at the seam, in dB.
        jump: f64,
        /// By how much it jumps elsewhere in the loop, at most.
        usual: f64,
    },
    /// It does not play.
    Silent(String),
}

/// A bend so much sharper than those around it is a tick.
const TICK: f64 = 3.0;
/// A jump in level of this many dB more than the sound itself does is heard.
const JUMP: f64 = 3.0;

impl Heard {
    /// Whether nobody hears where it loops.
    pub fn is_clean(&self) -> bool {
        match self {
            Self::Round { bend, jump, usual, .. } => *bend < TICK && jump.abs() < usual + JUMP,
            Self::Silent(_) => false,
        }
    }
}

impl fmt::Display for Heard {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Silent(why) => write!(f, "stays silent: {why}"),
            Self::Round { intro, length, times, bend, jump, usual } => {
                let told = match (self.is_clean(), *bend < TICK) {
                    (true, _) => "no tick",
                    (false, true) => "the level jumps each time round",
                    (false, false) => "a tick each time round",
                };
                write!(
                    f,
                    "{intro} frames, then {length} frames {times} times: {told} (sharpest bend at a seam \
                     {bend:+.1} dB beside those near it, level {jump:+.1} dB, elsewhere up to {usual:.1})"
                )
            }
        }
    }
}

/// Sound as the game holds it.
pub struct Loaded {
    /// Frames a second.
    pub rate: usize,
    /// Its samples.
    pub channels: Vec<Vec<f64>>,
    start: usize,
    length: usize,
}

/// Plays one of the game's files, `times` round.
pub fn go_round(game: &Path, slot: &str, times: usize) -> Heard {
    let path = slot.split('/').fold(game.to_owned(), |p, part| p.join(part));
    let loaded = fs::read(path).map_err(|error| error.to_string()).and_then(|bytes| {
        match slot.ends_with(".ogg") {
            true => music(&bytes),
            false => ambience(&bytes),
        }
    });
    match loaded {
        Err(why) => Heard::Silent(why),
        Ok(loaded) => loaded.listen(times),
    }
}

impl Loaded {
    fn listen(&self, times: usize) -> Heard {
        let end = self.start + self.length;
        let frames = self.channels.first().map_or(0, Vec::len);
        if self.length < self.rate / 50 || end > frames {
            return Heard::Silent(format!("no loop of {} frames in {frames}", self.length));
        }
        let (mut bend, mut jump, mut usual) = (f64::MIN, 0.0f64, 0.0f64);
        let side = self.rate / 20;
        for channel in &self.channels {
            let mut played = channel[..end].to_vec();
            for _ in 1..times {
                played.extend_from_slice(&channel[self.start..end]);
            }
            for place in (self.start + side..end - side).step_by(side) {
                usual = usual.max(level_change(channel, place, side).abs());
            }
            for turn in 1..times {
                let seam = self.start + turn * self.length;
                bend = bend.max(sharpness(&played, seam, self.rate));
                let change = level_change(&played, seam, side);
                jump = if change.abs() > jump.abs() { change } else { jump };
            }
        }
        Heard::Round { intro: self.start, length: self.length, times, bend, jump, usual }
    }
}

/// The sharpest bend at a place beside the sharpest around it, in dB.
fn sharpness(played: &[f64], place: usize, rate: usize) -> f64 {
    let sharpest = |from: usize, to: usize| {
        played[from.max(3)..to.min(played.len())]
            .iter()
            .zip(from.max(3)..)
            .map(|(s, n)| (s - 3.0 * played[n - 1] + 3.0 * played[n - 2] - played[n - 3]).abs())
            .fold(1e-6, f64::max)
    };
    let near = 3;
    let wide = rate / 10;
    let there = sharpest(place - near, place + near);
    let around = sharpest(place.saturating_sub(wide), place - near)
        .max(sharpest(place + near, place + wide));
    20.0 * (there / around).log10()
}

fn level_change(played: &[f64], place: usize, side: usize) -> f64 {
    let power = |part: &[f64]| part.iter().map(|s| s * s).sum::<f64>() + 1e-9;
    let before = power(&played[place.saturating_sub(side)..place]);
    let after = power(&played[place..(place + side).min(played.len())]);
    10.0 * (after / before).log10()
}

/// Loads music.
pub fn music(bytes: &[u8]) -> Result<Loaded, String> {
    let number = |name: &str| -> Result<usize, String> {
        let text = text(bytes, name).ok_or_else(|| format!("it has no {name}"))?;
        text.parse().map_err(|_| format!("{name}={text} is not a number of frames"))
    };
    let (start, length) = (number("REPEAT_AT")?, number("REPEAT_FOR")?);
    let mut decoder = VorbisDecoder::<&[u8]>::new(bytes).map_err(|error| error.to_string())?;
    let rate = decoder.sampling_frequency().get();
    if (rate, decoder.channels().get()) != (48_000, 2) {
        return Err("music is 48000 Hz stereo".to_owned());
    }
    let mut channels = vec![Vec::new(); 2];
    while let Some(block) = decoder.decode_audio_block().map_err(|error| error.to_string())? {
        for (own, new) in channels.iter_mut().zip(block.samples()) {
            own.extend(new.iter().map(|s| f64::from(*s)));
        }
    }
    Ok(Loaded { rate: 48_000, channels, start, length })
}

/// A text of the second packet: behind its name and maker, a count, and texts with their lengths
/// ("Vorbis I specification", 5.2.1). It must lie on one page.
fn text(bytes: &[u8], name: &str) -> Option<String> {
    let packet = bytes.windows(7).position(|w| w == b"\x03vorbis")?;
    let mut rest = &bytes[packet + 7..];
    let mut piece = |counted: bool| -> Option<&[u8]> {
        let length = u32::from_le_bytes(rest.get(..4)?.try_into().ok()?);
        rest = &rest[4..];
        let length = if counted { usize::try_from(length).ok()? } else { 0 };
        let piece = rest.get(..length)?;
        rest = &rest[length..];
        Some(piece)
    };
    piece(true)?;
    piece(false)?;
    loop {
        let line = String::from_utf8(piece(true)?.to_vec()).ok()?;
        if let Some((own, value)) = line.split_once('=')
            && own == name
        {
            return Some(value.to_owned());
        }
    }
}

/// Loads ambience.
pub fn ambience(bytes: &[u8]) -> Result<Loaded, String> {
    if bytes.get(..4) != Some(b"RIFF") || bytes.get(8..12) != Some(b"WAVE") {
        return Err("not a WAV file".to_owned());
    }
    let word = |at: usize| -> Option<usize> {
        let field = bytes.get(at..at + 4)?.try_into().ok()?;
        usize::try_from(u32::from_le_bytes(field)).ok()
    };
    let (mut form, mut data, mut looped) = (None, None, None);
    let mut at = 12;
    while let (Some(id), Some(length)) = (bytes.get(at..at + 4), word(at + 4)) {
        let body = at + 8;
        match id {
            b"fmt " => form = bytes.get(body..body + 16),
            b"data" => data = bytes.get(body..body + length),
            // The first loop's type, start and end lie behind 36 bytes of header and its name.
            b"smpl" if word(body + 28) == Some(1) => looped = word(body + 44).zip(word(body + 48)),
            _ => {}
        }
        at = body + length + length % 2;
    }
    // 16-bit PCM, 2 channels, 44100 Hz.
    let wanted: &[u8] = b"\x01\0\x02\0\x44\xAC\0\0\x10\xB1\x02\0\x04\0\x10\0";
    if form != Some(wanted) {
        return Err("ambience is 16-bit stereo at 44100 Hz".to_owned());
    }
    let data = data.ok_or("it has no samples")?;
    let (start, last) = looped.ok_or("it has no loop")?;
    let mut channels = vec![Vec::new(); 2];
    for frame in data.chunks_exact(4) {
        let sample =
            |at: usize| f64::from(i16::from_le_bytes([frame[at], frame[at + 1]])) / 32_768.0;
        channels[0].push(sample(0));
        channels[1].push(sample(2));
    }
    Ok(Loaded { rate: 44_100, channels, start, length: (last + 1).saturating_sub(start) })
}
