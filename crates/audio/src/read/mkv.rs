//! The first sound track of Matroska and WebM that can be decoded; symphonia takes the file apart.

use super::codec::opus::Opus;
use super::codec::surround::Surround;
use super::codec::symphonia::append;
use super::ogg::opus_head;
use super::packets;
use super::{Body, Opened, Packets};
use crate::block::{Block, Source};
use crate::clip::{Facts, Note};
use crate::error::{Error, Result};
use crate::num::{count, size};
use crate::spec::{Channels, Codec, Container, Encoding, Format, Layout};
use crate::units::SampleRate;
use std::fs::File;
use std::io::{self, Seek, SeekFrom};
use std::path::{Path, PathBuf};
use symphonia::core::codecs::CodecParameters;
use symphonia::core::codecs::audio::well_known as id;
use symphonia::core::codecs::audio::{AudioCodecParameters, AudioDecoder, AudioDecoderOptions};
use symphonia::core::errors::Error as Broken;
use symphonia::core::formats::{FormatOptions, FormatReader};
use symphonia::core::io::MediaSourceStream;
use symphonia::default::codecs;
use symphonia::default::formats::MkvReader;

/// A track of this number.
#[derive(Debug)]
struct Track {
    id: u32,
}

/// Reads the headers, and decodes the whole once: Matroska counts in milliseconds, not in frames.
pub(super) fn open(file: &mut File, path: &Path) -> Result<Opened> {
    let read = |source| Error::Read {
        path: path.to_owned(),
        source,
    };
    let length = file.seek(SeekFrom::End(0)).map_err(read)?;
    file.seek(SeekFrom::Start(0)).map_err(read)?;
    let reader = reader(file.try_clone().map_err(read)?, path)?;
    let sounds: Vec<_> = reader
        .tracks()
        .iter()
        .filter_map(|track| match &track.codec_params {
            Some(CodecParameters::Audio(parameters)) => Some((track.id, parameters.clone())),
            _ => None,
        })
        .collect();
    let unsupported = |what: &str| Error::Unsupported {
        path: path.to_owned(),
        what: what.to_owned(),
    };
    let found = sounds
        .iter()
        .find_map(|(id, parameters)| Some((*id, codec_of(parameters)?, parameters)));
    let Some((track, codec, parameters)) = found else {
        return Err(unsupported(match sounds.first() {
            None => "Matroska without a sound track",
            Some((_, parameters)) => named(parameters),
        }));
    };
    let (rate, channels) = match codec {
        Codec::Opus => {
            let head = parameters.extra_data.as_deref().unwrap_or_default();
            let (mapping, _) = opus_head(head).map_err(|what| unsupported(&what))?;
            (SampleRate::STUDIO.hertz(), mapping.channels.len())
        }
        _ => {
            let rate = parameters.sample_rate.unwrap_or(0);
            (rate, parameters.channels.as_ref().map_or(0, |c| c.count()))
        }
    };
    let rate =
        SampleRate::new(rate).ok_or_else(|| unsupported("Matroska without a sample rate"))?;
    let layout = match channels {
        6 => Some(Channels::of(Layout::Surround51)),
        8 => Some(Channels::of(Layout::Surround71)),
        n => u16::try_from(n).ok().and_then(Channels::new),
    };
    let format = Format {
        container: Container::Mkv,
        encoding: Encoding::plain(codec),
        rate,
        channels: layout.ok_or_else(|| unsupported("Matroska without channels"))?,
    };
    let mut facts = Facts::new(format, length);
    if sounds.len() > 1 {
        facts.notes.push(Note::LeftAside {
            what: format!("it holds {} sound tracks; one is read", sounds.len()),
        });
    }
    let body = Track { id: track };
    file.seek(SeekFrom::Start(0)).map_err(read)?;
    let mut frames = Frames::new(file.try_clone().map_err(read)?, path, format, track)?;
    let mut block = Block::default();
    loop {
        frames.next(&mut block)?;
        if block.is_empty() {
            break;
        }
        facts.frames += count(block.frames());
    }
    facts.audio_bytes = frames.bytes;
    if frames.cut {
        facts.notes.push(Note::Corrected {
            what: "it ends within a packet: it is cut short".to_owned(),
        });
    }
    Ok(Opened::new(facts, body))
}

fn reader(file: File, path: &Path) -> Result<Box<dyn FormatReader>> {
    let stream = MediaSourceStream::new(Box::new(file), Default::default());
    let reader = MkvReader::try_new(stream, FormatOptions::default());
    Ok(Box::new(reader.map_err(|error| Error::Malformed {
        path: path.to_owned(),
        format: "Matroska",
        what: error.to_string(),
        offset: 0,
    })?))
}

/// Codecs that are met and not decoded here.
fn named(parameters: &AudioCodecParameters) -> &'static str {
    match parameters.codec {
        id::CODEC_ID_AC3 => "Matroska with AC-3",
        id::CODEC_ID_EAC3 => "Matroska with E-AC-3",
        id::CODEC_ID_DCA => "Matroska with DTS",
        id::CODEC_ID_TRUEHD => "Matroska with TrueHD",
        _ => "Matroska with a codec that has no name here",
    }
}

fn codec_of(parameters: &AudioCodecParameters) -> Option<Codec> {
    match parameters.codec {
        id::CODEC_ID_VORBIS => Some(Codec::Vorbis),
        id::CODEC_ID_OPUS => Some(Codec::Opus),
        id::CODEC_ID_MP3 => Some(Codec::Mp3),
        id::CODEC_ID_AAC => Some(Codec::Aac),
        id::CODEC_ID_FLAC if parameters.bits_per_sample.is_some_and(|bits| bits > 16) => {
            Some(Codec::Flac24)
        }
        id::CODEC_ID_FLAC => Some(Codec::Flac16),
        id::CODEC_ID_ALAC => Some(Codec::Alac24),
        id::CODEC_ID_PCM_S16LE => Some(Codec::Pcm16),
        id::CODEC_ID_PCM_S24LE => Some(Codec::Pcm24),
        id::CODEC_ID_PCM_S32LE => Some(Codec::Pcm32),
        id::CODEC_ID_PCM_F32LE => Some(Codec::F32),
        _ => None,
    }
}

/// How packets become frames.
enum Decoder {
    Symphonia(Box<dyn AudioDecoder>),
    Ours(Box<dyn packets::Decoder>),
}

fn decoder_of(parameters: &AudioCodecParameters) -> Result<(Decoder, u64), String> {
    type Made<D> = symphonia::core::errors::Result<D>;
    fn boxed<D: AudioDecoder + 'static>(made: Made<D>) -> Result<Decoder, String> {
        made.map(|decoder| Decoder::Symphonia(Box::new(decoder)))
            .map_err(|error| error.to_string())
    }
    let options = AudioDecoderOptions::default().gapless(true);
    let decoder = match parameters.codec {
        id::CODEC_ID_OPUS => {
            let head = parameters.extra_data.as_deref().unwrap_or_default();
            let (mapping, delay) = opus_head(head)?;
            return Ok((Decoder::Ours(Box::new(Opus::new(&mapping)?)), delay));
        }
        id::CODEC_ID_VORBIS if parameters.channels.as_ref().is_some_and(|c| c.count() > 2) => {
            let (identification, setup) = vorbis_headers(parameters)?;
            let decoder = Surround::new(identification, setup)?;
            return Ok((Decoder::Ours(Box::new(decoder)), 0));
        }
        id::CODEC_ID_VORBIS => boxed(codecs::VorbisDecoder::try_new(parameters, &options)),
        id::CODEC_ID_MP3 => boxed(codecs::MpaDecoder::try_new(parameters, &options)),
        id::CODEC_ID_AAC => boxed(codecs::AacDecoder::try_new(parameters, &options)),
        id::CODEC_ID_FLAC => boxed(codecs::FlacDecoder::try_new(parameters, &options)),
        id::CODEC_ID_ALAC => boxed(codecs::AlacDecoder::try_new(parameters, &options)),
        _ => boxed(codecs::PcmDecoder::try_new(parameters, &options)),
    }?;
    Ok((decoder, 0))
}

/// Both packets lie behind one another; the first has 30 bytes ("Vorbis I specification", 4.2.2).
fn vorbis_headers(parameters: &AudioCodecParameters) -> Result<(&[u8], &[u8]), String> {
    let both = parameters.extra_data.as_deref().unwrap_or_default();
    let split = both.split_at_checked(30);
    split.ok_or_else(|| "its Vorbis headers are too short".to_owned())
}

impl Body for Track {
    fn frames(&self, file: File, path: &Path, facts: &Facts) -> Result<Box<dyn Source>> {
        Ok(Box::new(Frames::new(file, path, facts.format, self.id)?))
    }

    fn packets(&self, file: File, path: &Path) -> Result<Box<dyn Packets>> {
        Ok(Box::new(TrackPackets {
            reader: reader(file, path)?,
            track: self.id,
        }))
    }
}

/// The packets of one track.
struct TrackPackets {
    reader: Box<dyn FormatReader>,
    track: u32,
}

impl Packets for TrackPackets {
    fn next(&mut self, packet: &mut Vec<u8>) -> Result<bool> {
        while let Ok(Some(next)) = self.reader.next_packet() {
            if next.track_id == self.track {
                *packet = next.data.into_vec();
                return Ok(true);
            }
        }
        Ok(false)
    }
}

/// One track decoded.
struct Frames {
    reader: Box<dyn FormatReader>,
    decoder: Decoder,
    track: u32,
    format: Format,
    path: PathBuf,
    planes: Vec<Vec<f64>>,
    skip: u64,
    bytes: u64,
    cut: bool,
}

impl Frames {
    fn new(file: File, path: &Path, format: Format, track: u32) -> Result<Self> {
        let reader = reader(file, path)?;
        let found = reader.tracks().iter().find(|t| t.id == track);
        let parameters = found.and_then(|track| match &track.codec_params {
            Some(CodecParameters::Audio(parameters)) => Some(parameters.clone()),
            _ => None,
        });
        let made = decoder_of(&parameters.unwrap_or_default());
        let (decoder, skip) = made.map_err(|what| Error::Unsupported {
            path: path.to_owned(),
            what: format!("Matroska with {} ({what})", format.encoding),
        })?;
        Ok(Self {
            reader,
            decoder,
            track,
            format,
            path: path.to_owned(),
            planes: Vec::new(),
            skip,
            bytes: 0,
            cut: false,
        })
    }
}

impl Source for Frames {
    fn rate(&self) -> SampleRate {
        self.format.rate
    }

    fn channels(&self) -> usize {
        self.format.channels.count().into()
    }

    fn next(&mut self, block: &mut Block) -> Result<()> {
        loop {
            block.clear();
            block.shape(self.channels(), 0);
            let packet = match self.reader.next_packet() {
                Ok(Some(packet)) => packet,
                Ok(None) => return Ok(()),
                Err(Broken::IoError(error)) if error.kind() == io::ErrorKind::UnexpectedEof => {
                    self.cut = true;
                    return Ok(());
                }
                Err(error) => return Err(broken(&self.path, error.to_string())),
            };
            if packet.track_id != self.track {
                continue;
            }
            self.bytes += count(packet.data.len());
            let decoded = match &mut self.decoder {
                Decoder::Ours(decoder) => decoder.decode(&packet.data, block),
                Decoder::Symphonia(decoder) => match decoder.decode(&packet) {
                    Ok(decoded) => append(&decoded, &mut self.planes, block),
                    Err(error) => Err(error.to_string()),
                },
            };
            decoded.map_err(|what| broken(&self.path, what))?;
            let skipped = self.skip.min(count(block.frames()));
            block.skip(size(skipped));
            self.skip -= skipped;
            if !block.is_empty() {
                return Ok(());
            }
        }
    }
}

fn broken(path: &Path, what: String) -> Error {
    Error::Malformed {
        path: path.to_owned(),
        format: "Matroska",
        what,
        offset: 0,
    }
}
