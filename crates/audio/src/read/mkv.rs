//! The first sound track of Matroska and WebM that can be decoded; symphonia takes the file apart.

use super::codec::opus::Opus;
use super::codec::surround::Surround;
use super::codec::symphonia::{Symphonia, TrackPackets};
use super::ogg::opus_head;
use super::packets::{Decoded, Decoder};
use super::reading::Reading;
use super::{Body, Opened, Packets};
use crate::block::{Block, Source};
use crate::error::{Error, Result};
use crate::num::{count, count32, scaled};
use crate::read::input::Handle;
use crate::spec::Facts;
use crate::spec::{Channels, Codec, Container, Encoding, Format};
use crate::units::SampleRate;
use std::io::{self, BufReader, Read, Seek, SeekFrom};
use std::path::Path;
use symphonia::core::codecs::CodecParameters;
use symphonia::core::codecs::audio::AudioCodecParameters;
use symphonia::core::codecs::audio::well_known as id;
use symphonia::core::formats::{FormatOptions, FormatReader};
use symphonia::core::io::MediaSourceStream;
use symphonia::default::formats::MkvReader;

/// A track of this number.
#[derive(Debug)]
struct Track {
    id: u32,
    parameters: AudioCodecParameters,
}

/// Reads the headers, and decodes the whole once: Matroska counts in milliseconds, not in frames.
pub(super) fn open(mut file: Reading<'_>) -> Result<Opened> {
    let reader = reader(file.again()?, file.path())?;
    let sounds: Vec<_> = reader
        .tracks()
        .iter()
        .filter_map(|track| match &track.codec_params {
            Some(CodecParameters::Audio(parameters)) => Some((track.id, parameters.clone())),
            _ => None,
        })
        .collect();
    let found = sounds.iter().find_map(|(id, found)| Some((*id, codec_of(found)?, found)));
    let Some((id, codec, parameters)) = found else {
        return Err(file.unsupported(match sounds.first() {
            None => "Matroska without a sound track",
            Some((_, parameters)) => named(parameters),
        }));
    };
    if sounds.len() > 1 {
        file.left_aside(format!("it holds {} sound tracks; one is read", sounds.len()));
    }
    let format = format_of(codec, parameters, &file)?;
    let track = Track { id, parameters: parameters.clone() };
    let (frames, audio_bytes) = decode_all(&track, format, &mut file)?;
    let unplayed = file.io(|handle| match discarded(handle, id) {
        // A file that is cut short says nothing of its end.
        Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => Ok(0),
        found => found,
    })?;
    let unplayed = scaled(unplayed, format.rate.hertz().into(), 1_000_000_000);
    let frames = frames.saturating_sub(unplayed);
    let facts = Facts { frames, audio_bytes, ..Facts::new(format, file.length()) };
    Ok(file.opened(facts, track))
}

/// Elements that hold others, down to what is looked for (RFC 9559, 5.1: Segment, Cluster, BlockGroup).
const HOLDERS: [u32; 3] = [0x1853_8067, 0x1F43_B675, 0xA0];
/// A block in a group and one by itself, and what of a group's is not played (RFC 9559, 5.1.3.5.1, 5.1.3.4 and
/// 5.1.3.5.7).
const BLOCKS: [u32; 2] = [0xA1, 0xA3];
const DISCARD_PADDING: u32 = 0x75A2;

/// Nanoseconds at a track's end that are decoded and not played.
fn discarded(file: &mut Handle, track: u32) -> io::Result<u64> {
    let length = file.seek(SeekFrom::End(0))?;
    file.seek(SeekFrom::Start(0))?;
    let mut file = BufReader::new(file);
    let (mut at, mut found, mut own) = (0, 0, false);
    while at < length {
        let (Some((id, a)), Some((size, b))) =
            (number(&mut file, true)?, number(&mut file, false)?)
        else {
            break;
        };
        at += a + b;
        let id = u32::try_from(id).unwrap_or(0);
        if HOLDERS.contains(&id) {
            continue;
        }
        // A size of ones alone is left open, one beyond the file is cut: nothing tells what follows.
        let unknown = size == (1 << (7 * b)) - 1 || size > length.saturating_sub(at);
        let used = match id {
            _ if unknown => break,
            _ if BLOCKS.contains(&id) => {
                let (number, bytes) = number(&mut file, false)?.unwrap_or_default();
                own = number == u64::from(track);
                // Whatever comes later is played to its end, where it does not say otherwise.
                found = if own { 0 } else { found };
                bytes
            }
            DISCARD_PADDING if size <= 8 => {
                let mut bytes = [0; 8];
                let length = crate::num::size(size);
                file.read_exact(&mut bytes[8 - length..])?;
                let nanoseconds = u64::from_be_bytes(bytes);
                // A negative one would be at the beginning.
                let positive = nanoseconds.leading_zeros() > 64 - 8 * count32(length);
                found = if own && positive { nanoseconds } else { found };
                size
            }
            _ => 0,
        };
        let rest = i64::try_from(size.saturating_sub(used)).unwrap_or(i64::MAX);
        file.seek_relative(rest)?;
        at = at.saturating_add(size);
    }
    Ok(found)
}

/// A number whose first byte tells its length (RFC 8794, 4), with that mark or without it; and its bytes.
fn number(file: &mut impl Read, marked: bool) -> io::Result<Option<(u64, u64)>> {
    let mut first = [0];
    if file.read(&mut first)? == 0 || first[0] == 0 {
        return Ok(None);
    }
    let more = first[0].leading_zeros();
    let own = if marked { first[0] } else { first[0] & (0x7F >> more) };
    let mut rest = [0; 7];
    let rest = &mut rest[..crate::num::size(more.into())];
    file.read_exact(rest)?;
    let value = rest.iter().fold(u64::from(own), |value, byte| value << 8 | u64::from(*byte));
    Ok(Some((value, u64::from(more) + 1)))
}

fn format_of(
    codec: Codec,
    parameters: &AudioCodecParameters,
    file: &Reading<'_>,
) -> Result<Format> {
    let (rate, channels) = match codec {
        Codec::Opus => {
            let head = parameters.extra_data.as_deref().unwrap_or_default();
            let (mapping, _) = opus_head(head).map_err(|what| file.unsupported(what))?;
            (SampleRate::STUDIO.hertz(), mapping.channels.len())
        }
        _ => {
            let rate = parameters.sample_rate.unwrap_or(0);
            (rate, parameters.channels.as_ref().map_or(0, |c| c.count()))
        }
    };
    let rate = SampleRate::new(rate);
    let channels = u16::try_from(channels).ok().and_then(|count| match count {
        4 => Channels::new(4),
        count => Channels::usual(count),
    });
    Ok(Format {
        container: Container::Mkv,
        encoding: Encoding::plain(codec),
        rate: rate.ok_or_else(|| file.unsupported("Matroska without a sample rate"))?,
        channels: channels.ok_or_else(|| file.unsupported("Matroska without channels"))?,
    })
}

/// How many frames of sound a track holds, and how many bytes its packets have.
fn decode_all(track: &Track, format: Format, file: &mut Reading<'_>) -> Result<(u64, u64)> {
    let made = decoder_of(&track.parameters);
    let (mut decoder, delay) = made.map_err(|what| file.unsupported(what))?;
    let reader = reader(file.again()?, file.path())?;
    let mut packets = TrackPackets::new(reader, track.id, file.path(), "Matroska");
    let (mut packet, mut block) = (Vec::new(), Block::default());
    let (mut frames, mut bytes) = (0, 0);
    while packets.next(&mut packet)? {
        block.clear();
        block.shape(format.channels.count().into(), 0);
        decoder.decode(&packet, &mut block).map_err(|what| file.malformed(what, 0))?;
        frames += count(block.frames());
        bytes += count(packet.len());
    }
    if packets.cut {
        file.corrected("it ends within a packet: it is cut short");
    }
    Ok((frames.saturating_sub(delay), bytes))
}

fn reader(file: Handle, path: &Path) -> Result<Box<dyn FormatReader>> {
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

/// How packets become frames, and the frames that come before the first.
fn decoder_of(parameters: &AudioCodecParameters) -> Result<(Box<dyn Decoder>, u64), String> {
    let wide = parameters.channels.as_ref().is_some_and(|c| c.count() > 2);
    Ok(match parameters.codec {
        id::CODEC_ID_OPUS => {
            let head = parameters.extra_data.as_deref().unwrap_or_default();
            let (mapping, delay) = opus_head(head)?;
            (Box::new(Opus::new(&mapping)?), delay)
        }
        id::CODEC_ID_VORBIS if wide => {
            let (identification, setup) = vorbis_headers(parameters)?;
            (Box::new(Surround::new(identification, setup)?), 0)
        }
        _ => (Box::new(Symphonia::with(parameters)?), 0),
    })
}

/// Both packets lie behind one another; the first has 30 bytes ("Vorbis I specification", 4.2.2).
fn vorbis_headers(parameters: &AudioCodecParameters) -> Result<(&[u8], &[u8]), String> {
    let both = parameters.extra_data.as_deref().unwrap_or_default();
    let split = both.split_at_checked(30);
    split.ok_or_else(|| "its Vorbis headers are too short".to_owned())
}

impl Body for Track {
    fn frames(&self, file: Handle, path: &Path, facts: &Facts) -> Result<Box<dyn Source>> {
        let made = decoder_of(&self.parameters);
        let (decoder, skip) = made.map_err(|what| Error::Unsupported {
            path: path.to_owned(),
            what: format!("Matroska with {} ({what})", facts.format.encoding),
        })?;
        let packets = self.packets(file, path)?;
        Ok(Box::new(Decoded::new(packets, decoder, path, facts, skip)))
    }

    fn packets(&self, file: Handle, path: &Path) -> Result<Box<dyn Packets>> {
        let reader = reader(file, path)?;
        Ok(Box::new(TrackPackets::new(reader, self.id, path, "Matroska")))
    }
}
