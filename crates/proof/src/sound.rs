//! What browsers play: FLAC where that is smaller, else WAV. Nothing is lost of what 24 bits hold.

use crate::draw::PARTS;
use deft_needle_audio::measure::picture::{Painter, Picture};
use deft_needle_audio::num::size;
use deft_needle_audio::render::render_source;
use deft_needle_audio::shape::blocks::BlockStep as _;
use deft_needle_audio::shape::quantise::Dither;
use deft_needle_audio::spec::{Channels, Codec, Container, Encoding, Format, Kind, Output};
use deft_needle_audio::{Clip, Error, Observer};
use std::io::Cursor;

/// A sound as browsers play it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Playable {
    /// The file.
    pub bytes: Vec<u8>,
    /// Its media type.
    pub kind: &'static str,
    /// Its extension.
    pub extension: &'static str,
}

/// Channels that FLAC holds at most.
const MOST_CHANNELS: u16 = 8;

/// Makes it of a clip, and draws the clip while it is read.
///
/// # Errors
/// Those of reading.
pub fn playable(clip: &Clip, observer: &dyn Observer) -> Result<(Playable, Picture), Error> {
    let own = clip.facts().format;
    let few = match own.encoding.codec.kind() {
        Kind::Integer(bits) => bits <= 16,
        Kind::Float(_) => false,
        Kind::Lossy => own.encoding.codec.facts().decoded_bits.is_some_and(|bits| bits <= 16),
    };
    let plain = Channels::new(own.channels.count()).unwrap_or(own.channels);
    let made = |container, codec| {
        let encoding = Encoding::plain(codec);
        let format = Format { container, encoding, rate: own.rate, channels: plain };
        let output = Output::plain(format, clip.facts().frames);
        let mut bytes = Cursor::new(Vec::new());
        let mut painter = Painter::new(clip.facts(), size(PARTS.into()));
        let source = (&mut painter).on(clip.frames()?);
        render_source(source, &output, Dither::None, &mut bytes, observer)?;
        Ok((bytes.into_inner(), painter.finish()))
    };
    let wav = if few { Codec::Pcm16 } else { Codec::Pcm24 };
    let of_wav =
        |(bytes, picture)| (Playable { bytes, kind: "audio/wav", extension: "wav" }, picture);
    if plain.count() > MOST_CHANNELS {
        return made(Container::Wav, wav).map(of_wav);
    }
    let (flac, picture) = made(Container::Flac, if few { Codec::Flac16 } else { Codec::Flac24 })?;
    let width = if few { 2 } else { 3 };
    let plainly = 44 + clip.facts().frames * u64::from(plain.count()) * width;
    if u64::try_from(flac.len()).is_ok_and(|length| length < plainly) {
        let playable = Playable { bytes: flac, kind: "audio/flac", extension: "flac" };
        return Ok((playable, picture));
    }
    made(Container::Wav, wav).map(of_wav)
}
