//! Vorbis, MP3, AAC-LC, ALAC and FLAC packets to samples, by the symphonia crates.

use crate::block::Block;
use crate::error::Error;
use crate::read::Packets;
use crate::read::packets::Decoder;
use std::io::ErrorKind;
use std::path::{Path, PathBuf};
use symphonia::core::codecs::audio::well_known as id;
use symphonia::core::codecs::audio::{AudioCodecParameters, AudioDecoder, AudioDecoderOptions};
use symphonia::core::errors::Error as Broken;
use symphonia::core::formats::FormatReader;
use symphonia::core::packet::PacketRef;
use symphonia::core::units::{Duration, Timestamp};
use symphonia::default::codecs::{
    AacDecoder, AlacDecoder, FlacDecoder, MpaDecoder, PcmDecoder, VorbisDecoder,
};

/// Which decoder, with what it must know before the first packet.
#[derive(Debug, Clone)]
pub enum Setup {
    /// The identification and the setup packet.
    Vorbis(Vec<u8>, Vec<u8>),
    /// Nothing: every frame says all.
    Mp3,
    /// The AudioSpecificConfig.
    Aac(Vec<u8>),
    /// The ALACSpecificConfig.
    Alac(Vec<u8>),
    /// The contents of STREAMINFO.
    Flac(Vec<u8>),
}

/// One of symphonia's decoders.
pub struct Symphonia {
    decoder: Box<dyn AudioDecoder>,
    planes: Vec<Vec<f64>>,
}

impl Setup {
    fn parameters(self) -> AudioCodecParameters {
        let (codec, extra) = match self {
            Self::Vorbis(identification, setup) => {
                (id::CODEC_ID_VORBIS, [identification, setup].concat())
            }
            Self::Mp3 => (id::CODEC_ID_MP3, Vec::new()),
            Self::Aac(config) => (id::CODEC_ID_AAC, config),
            Self::Alac(config) => (id::CODEC_ID_ALAC, config),
            Self::Flac(info) => (id::CODEC_ID_FLAC, info),
        };
        let mut parameters = AudioCodecParameters::new();
        parameters.for_codec(codec);
        if !extra.is_empty() {
            parameters.with_extra_data(extra.into());
        }
        parameters
    }
}

impl Symphonia {
    /// Prepares a decoder.
    ///
    /// # Errors
    /// What it cannot do, in words.
    pub fn new(setup: Setup) -> Result<Self, String> {
        Self::with(&setup.parameters())
    }

    /// Prepares a decoder for a track that symphonia has found itself.
    ///
    /// # Errors
    /// As [`Symphonia::new`].
    pub fn with(parameters: &AudioCodecParameters) -> Result<Self, String> {
        type Made<D> = symphonia::core::errors::Result<D>;
        fn boxed<D: AudioDecoder + 'static>(made: Made<D>) -> Made<Box<dyn AudioDecoder>> {
            made.map(|decoder| -> Box<dyn AudioDecoder> { Box::new(decoder) })
        }
        // Trimming also leaves out what the first packet of Vorbis gives, which is not audio yet.
        let vorbis = parameters.codec == id::CODEC_ID_VORBIS;
        let options = AudioDecoderOptions::default().gapless(vorbis);
        let decoder = match parameters.codec {
            id::CODEC_ID_VORBIS => boxed(VorbisDecoder::try_new(parameters, &options)),
            id::CODEC_ID_MP3 => boxed(MpaDecoder::try_new(parameters, &options)),
            id::CODEC_ID_AAC => boxed(AacDecoder::try_new(parameters, &options)),
            id::CODEC_ID_ALAC => boxed(AlacDecoder::try_new(parameters, &options)),
            id::CODEC_ID_FLAC => boxed(FlacDecoder::try_new(parameters, &options)),
            _ => boxed(PcmDecoder::try_new(parameters, &options)),
        };
        Ok(Self { decoder: decoder.map_err(|error| error.to_string())?, planes: Vec::new() })
    }
}

impl Decoder for Symphonia {
    fn decode(&mut self, packet: &[u8], block: &mut Block) -> Result<(), String> {
        let packet = PacketRef::new(0, Timestamp::from(0), Duration::from(0u32), packet);
        let decoded = self.decoder.decode_ref(&packet).map_err(|e| e.to_string())?;
        let wanted = block.channels().len();
        if decoded.num_planes() != wanted {
            return Err(format!(
                "a packet holds {} channels, the headers say {wanted}",
                decoded.num_planes()
            ));
        }
        // The planes of symphonia lie in the order of WAV.
        decoded.copy_to_vecs_planar(&mut self.planes);
        for (channel, plane) in block.channels_mut().iter_mut().zip(&self.planes) {
            channel.extend_from_slice(plane);
        }
        Ok(())
    }
}

/// Packets of one track, as a reader of symphonia's takes them out of a file.
pub struct TrackPackets {
    reader: Box<dyn FormatReader>,
    track: u32,
    path: PathBuf,
    format: &'static str,
    /// Whether the file ended within a packet.
    pub cut: bool,
}

impl TrackPackets {
    /// Those of track `track`; `format` names the file in errors.
    pub fn new(
        reader: Box<dyn FormatReader>,
        track: u32,
        path: &Path,
        format: &'static str,
    ) -> Self {
        Self { reader, track, path: path.to_owned(), format, cut: false }
    }
}

impl Packets for TrackPackets {
    fn next(&mut self, packet: &mut Vec<u8>) -> Result<bool, Error> {
        loop {
            match self.reader.next_packet() {
                Ok(Some(next)) if next.track_id == self.track => {
                    *packet = next.data.into_vec();
                    return Ok(true);
                }
                Ok(Some(_)) => {}
                Ok(None) => return Ok(false),
                Err(Broken::IoError(error)) if error.kind() == ErrorKind::UnexpectedEof => {
                    self.cut = true;
                    return Ok(false);
                }
                Err(error) => {
                    return Err(Error::Malformed {
                        path: self.path.clone(),
                        format: self.format,
                        what: error.to_string(),
                        offset: 0,
                    });
                }
            }
        }
    }
}
