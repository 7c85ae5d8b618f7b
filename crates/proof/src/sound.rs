//! What browsers play: FLAC where that is smaller, else WAV. Nothing is lost of what 24 bits hold.

use crate::draw::PARTS;
use deft_needle_audio::block::Source;
use deft_needle_audio::measure::picture::{Painter, Picture};
use deft_needle_audio::num::{count, size};
use deft_needle_audio::render::{render_source, render_to_play};
use deft_needle_audio::shape::blocks::BlockStep as _;
use deft_needle_audio::shape::quantise::Dither;
use deft_needle_audio::spec::{Channels, Codec, Container, Encoding, Format, Kind, Output};
use deft_needle_audio::write::Out;
use deft_needle_audio::{Clip, Error, Observer};
use std::fs::File;
use std::io::{self, BufWriter, Cursor, Read, Write as _};
use std::path::{Path, PathBuf};

/// A sound as browsers play it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Playable {
    /// The file.
    pub file: Kept,
    /// Bytes of it.
    pub bytes: u64,
    /// Its media type.
    pub kind: &'static str,
    /// Its extension.
    pub extension: &'static str,
}

/// Where a sound is until it has its place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Kept {
    /// In memory.
    Here(Vec<u8>),
    /// In a file.
    File(PathBuf),
}

impl Playable {
    /// All bytes.
    ///
    /// # Errors
    /// Those of reading.
    pub fn read(&self) -> io::Result<Vec<u8>> {
        match &self.file {
            Kept::Here(bytes) => Ok(bytes.clone()),
            Kept::File(path) => std::fs::read(path),
        }
    }

    /// The bytes, one after another.
    ///
    /// # Errors
    /// Those of opening.
    pub fn open(&self) -> io::Result<Box<dyn Read + '_>> {
        Ok(match &self.file {
            Kept::Here(bytes) => Box::new(bytes.as_slice()),
            Kept::File(path) => Box::new(File::open(path)?),
        })
    }
}

/// Channels that FLAC holds at most.
const MOST_CHANNELS: u16 = 8;

/// Whether no more than 16 bits of its samples count.
fn is_plain(clip: &Clip) -> bool {
    let codec = clip.facts().format.encoding.codec;
    match codec.kind() {
        Kind::Integer(bits) => bits <= 16,
        Kind::Float(_) => false,
        Kind::Lossy => codec.facts().decoded_bits.is_some_and(|bits| bits <= 16),
    }
}

/// What it takes at most, in bytes.
pub fn most_bytes(clip: &Clip) -> u64 {
    let width = if is_plain(clip) { 2 } else { 3 };
    44 + clip.facts().frames * u64::from(clip.facts().format.channels.count()) * width
}

/// Makes it of a clip's frames, in memory or at a path, and draws them as they come. Where it has to be made twice, the
/// clip is read again.
///
/// # Errors
/// Those of reading and writing.
pub fn record(
    clip: &Clip,
    frames: &mut dyn Source,
    path: Option<&Path>,
    observer: &dyn Observer,
) -> Result<(Playable, Picture), Error> {
    let own = clip.facts().format;
    let plain = Channels::new(own.channels.count()).unwrap_or(own.channels);
    let made = |container, codec, frames: &mut dyn Source| {
        let encoding = Encoding::plain(codec);
        let format = Format { container, encoding, rate: own.rate, channels: plain };
        let output = Output::plain(format, clip.facts().frames);
        let mut painter = Painter::new(clip.facts(), size(PARTS.into()));
        let mut write = |out: &mut dyn Out| {
            let mut source = (&mut painter).on(&mut *frames);
            match container {
                Container::Flac => render_to_play(&mut source, &output, out, observer),
                _ => render_source(source, &output, Dither::None, out, observer).map(drop),
            }
        };
        let (file, bytes) = match path {
            None => {
                let mut out = Cursor::new(Vec::new());
                write(&mut out)?;
                let bytes = count(out.get_ref().len());
                (Kept::Here(out.into_inner()), bytes)
            }
            Some(path) => {
                let unwritten = |source| Error::Write { source };
                let mut out = BufWriter::new(File::create(path).map_err(unwritten)?);
                write(&mut out)?;
                out.flush().map_err(unwritten)?;
                let bytes = out.get_ref().metadata().map_err(unwritten)?.len();
                (Kept::File(path.to_owned()), bytes)
            }
        };
        let (kind, extension) = match container {
            Container::Flac => ("audio/flac", "flac"),
            _ => ("audio/wav", "wav"),
        };
        Ok((Playable { file, bytes, kind, extension }, painter.finish()))
    };
    let [wav, flac] = match is_plain(clip) {
        true => [Codec::Pcm16, Codec::Flac16],
        false => [Codec::Pcm24, Codec::Flac24],
    };
    if plain.count() > MOST_CHANNELS {
        return made(Container::Wav, wav, frames);
    }
    let (smaller, picture) = made(Container::Flac, flac, frames)?;
    match smaller.bytes < most_bytes(clip) {
        true => Ok((smaller, picture)),
        false => made(Container::Wav, wav, &mut *clip.frames()?),
    }
}
