//! Opening clips: by content, never by extension; frames in blocks.
//!
//! Nothing here imports from `write`: what is written is proved by these readers.

mod aiff;
mod au;
mod bytes;
mod caf;
mod chunks;
pub mod codec;
mod comments;
pub(crate) mod flac;
mod input;
mod mkv;
mod mp3;
pub(crate) mod mp4;
pub mod ogg;
mod packets;
pub(crate) mod plain;
pub mod private;
mod qoa;
mod raw;
mod reading;
mod reversed;
pub mod sniff;
mod spool;
mod wav;

pub use input::{Handle, Input, open_regular};
pub use private::Private;

use crate::block::{Samples, Source};
use crate::clip::{Extra, Loop};
use crate::error::{Error, Result};
use crate::spec::Facts;
use crate::spec::{Container, Format, LoopTags};
use crate::units::FrameRange;
use packets::Joined;
use reading::Reading;
use sniff::Sniffed;
use spool::Spool;
use std::fmt::Debug;
use std::io::{Read, Seek, SeekFrom};
use std::path::Path;
use std::sync::Arc;

/// What the user says of a file that its content cannot tell.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Hints {
    /// Samples without a header, of this format.
    pub raw: Option<Format>,
    /// Names of loop tags beside the usual ones.
    pub loop_tags: Option<LoopTags>,
    /// The loop that a file beside it tells.
    pub beside: Option<FrameRange>,
    /// Whether it is played from its last frame to its first.
    pub reverse: bool,
}

/// How the samples of an opened file are reached.
trait Body: Debug + Send + Sync {
    /// The frames from the start.
    fn frames(&self, file: Handle, path: &Path, facts: &Facts) -> Result<Box<dyn Source>>;

    /// The encoded samples, to copy.
    fn packets(&self, file: Handle, path: &Path) -> Result<Box<dyn Packets>>;

    /// What a decoder must know before the first packet.
    fn stream(&self) -> Stream {
        Stream::default()
    }
}

/// Encoded samples in pieces of the codec's own size, or of many frames where it has none.
pub trait Packets: Send {
    /// Fills `packet` with the next one; `false` at the end.
    ///
    /// # Errors
    /// [`Error::Read`].
    fn next(&mut self, packet: &mut Vec<u8>) -> Result<bool>;
}

/// What is needed beside packets to put them into another file.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Stream {
    /// The codec's own headers: Vorbis' identification and setup packets, the sample description of
    /// MP4, FLAC's STREAMINFO.
    pub headers: Vec<Vec<u8>>,
    /// Frames that decoders give before the first that counts.
    pub delay: u64,
    /// Frames of a packet, where all have the same.
    pub packet_frames: u32,
    /// How many packets there are, where that is known.
    pub packets: u64,
    /// Bytes of all of them.
    pub bytes: u64,
}

/// What a reader found.
struct Opened {
    facts: Facts,
    body: Box<dyn Body>,
}

/// An opened clip: its facts, and its frames as often as they are asked for.
#[derive(Debug)]
pub struct Clip {
    input: Input,
    hints: Hints,
    facts: Facts,
    body: Box<dyn Body>,
}

impl Clip {
    /// Opens a file and reads its headers.
    ///
    /// # Errors
    /// [`Error::Read`], [`Error::Malformed`], [`Error::Unsupported`] or [`Error::Unknown`].
    pub fn open(path: &Path) -> Result<Self> {
        Self::from_input(Input::file(path), &Hints::default())
    }

    /// Opens an input, such as spooled standard input.
    ///
    /// # Errors
    /// As [`Clip::open`].
    pub fn from_input(input: Input, hints: &Hints) -> Result<Self> {
        let mut file = input.open()?;
        let path = input.name().to_owned();
        let reading = Reading::new(&mut file, &path, hints)?;
        let mut opened = match hints.raw {
            Some(format) => raw::open(reading, format)?,
            None => open(reading)?,
        };
        if let Some(range) = hints.beside.filter(|range| range.end <= opened.facts.frames) {
            opened.facts.loops = vec![Loop::endless(range)];
        }
        let Opened { facts, body } = match hints.reverse {
            true => reversed::reversed(opened),
            false => opened,
        };
        Ok(Self { input, hints: hints.clone(), facts, body })
    }

    /// The same clip the other way round.
    ///
    /// # Errors
    /// As [`Clip::open`].
    pub fn reversed(&self) -> Result<Self> {
        let hints = Hints { reverse: !self.hints.reverse, ..self.hints.clone() };
        Self::from_input(self.input.clone(), &hints)
    }

    /// A clip of other frames, which a source gives once: they are kept in a private file. It has no encoded samples
    /// that could be copied.
    ///
    /// # Errors
    /// Those of the source; [`Error::Read`] where there is no room for its frames.
    pub fn remade(&self, facts: Facts, source: &mut dyn Source) -> Result<Self> {
        let wrong = |source| Error::Read { path: self.input.name().to_owned(), source };
        let spool = Spool::of(source, &facts, false, wrong)?;
        let (input, hints) = (self.input.clone(), self.hints.clone());
        Ok(Self { input, hints, facts, body: Box::new(Arc::new(spool)) })
    }

    /// Where it comes from.
    pub fn input(&self) -> &Input {
        &self.input
    }

    /// What its headers say.
    pub fn facts(&self) -> &Facts {
        &self.facts
    }

    /// Its frames from the start.
    ///
    /// # Errors
    /// [`Error::Read`] where it can no longer be opened.
    pub fn frames(&self) -> Result<Box<dyn Source>> {
        // Decoders want a packet even of a file that was cut before the first.
        if self.facts.frames == 0 {
            let channels = usize::from(self.facts.format.channels.count());
            let nothing = Samples::new(self.facts.format.rate, vec![Vec::new(); channels]);
            return Ok(Box::new(nothing));
        }
        let file = self.input.open()?;
        self.body.frames(file, self.input.name(), &self.facts)
    }

    /// The contents of one of its extra chunks.
    ///
    /// # Errors
    /// [`Error::Read`] where they can no longer be read.
    pub fn extra_bytes(&self, extra: &Extra) -> Result<Vec<u8>> {
        let mut file = self.input.open()?;
        let mut bytes = Vec::new();
        file.seek(SeekFrom::Start(extra.offset))
            .and_then(|_| file.take(extra.bytes).read_to_end(&mut bytes))
            .map_err(|source| Error::Read { path: self.input.name().to_owned(), source })?;
        Ok(bytes)
    }

    /// Its encoded samples, for copying.
    ///
    /// # Errors
    /// [`Error::Read`] where it can no longer be opened.
    pub fn packets(&self) -> Result<Box<dyn Packets>> {
        self.body.packets(self.input.open()?, self.input.name())
    }

    /// The same in one, to compare.
    ///
    /// # Errors
    /// As [`Clip::packets`].
    pub fn audio_bytes(&self) -> Result<impl Read + use<>> {
        Ok(Joined::new(self.packets()?))
    }

    /// What is needed beside its packets.
    pub fn stream(&self) -> Stream {
        Stream { bytes: self.facts.audio_bytes, ..self.body.stream() }
    }
}

/// By content: a reader a container.
fn open(mut file: Reading<'_>) -> Result<Opened> {
    match sniff::by_first_bytes(&file.at(0, sniff::ENOUGH)?) {
        Sniffed::Known { container, about } => match container {
            Container::Wav | Container::Rf64 | Container::W64 => wav::open(file.of("WAV")),
            Container::Aiff | Container::Aifc => aiff::open(file.of("AIFF")),
            Container::Au => au::open(file.of("AU")),
            Container::Caf => caf::open(file.of("CAF")),
            Container::Flac => flac::open(file.of("FLAC")),
            Container::Mp3 => mp3::open(file.of("MP3")),
            Container::M4a | Container::Mp4 => mp4::open(file.of("MPEG-4")),
            Container::Mkv => mkv::open(file.of("Matroska")),
            Container::Ogg => ogg::open(file.of("Ogg")),
            Container::Qoa => qoa::open(file.of("QOA")),
            Container::Raw => Err(file.unsupported(about)),
        },
        Sniffed::Named { about } => Err(file.unsupported(about)),
        Sniffed::Unknown { looks } => {
            Err(Error::Unknown { path: file.path().to_owned(), what: looks })
        }
    }
}
