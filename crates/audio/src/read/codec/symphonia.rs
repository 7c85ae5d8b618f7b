//! Vorbis, MP3, AAC-LC, ALAC and FLAC packets to samples, by the symphonia crates.

use crate::block::Block;
use crate::read::packets::Decoder;
use symphonia::core::audio::{Channels, GenericAudioBufferRef};
use symphonia::core::codecs::audio::well_known as id;
use symphonia::core::codecs::audio::{AudioCodecParameters, AudioDecoder, AudioDecoderOptions};
use symphonia::core::packet::PacketRef;
use symphonia::core::units::{Duration, Timestamp};
use symphonia::default::codecs::{AacDecoder, AlacDecoder, FlacDecoder, MpaDecoder, VorbisDecoder};

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

impl Symphonia {
    /// Prepares a decoder.
    ///
    /// # Errors
    /// What it cannot do, in words.
    pub fn new(setup: Setup) -> Result<Self, String> {
        let mut parameters = AudioCodecParameters::new();
        // Trimming also leaves out what the first packet of Vorbis gives, which is no sound yet.
        let vorbis = matches!(setup, Setup::Vorbis(..));
        let options = AudioDecoderOptions::default().gapless(vorbis);
        type Made<D> = symphonia::core::errors::Result<D>;
        fn boxed<D: AudioDecoder + 'static>(
            made: Made<D>,
        ) -> Result<Box<dyn AudioDecoder>, String> {
            made.map(|decoder| -> Box<dyn AudioDecoder> { Box::new(decoder) })
                .map_err(|error| error.to_string())
        }
        let decoder = match setup {
            Setup::Vorbis(identification, setup) => {
                let extra = [identification, setup].concat();
                parameters
                    .for_codec(id::CODEC_ID_VORBIS)
                    .with_extra_data(extra.into());
                boxed(VorbisDecoder::try_new(&parameters, &options))
            }
            Setup::Mp3 => {
                parameters.for_codec(id::CODEC_ID_MP3);
                boxed(MpaDecoder::try_new(&parameters, &options))
            }
            Setup::Aac(config) => {
                parameters
                    .for_codec(id::CODEC_ID_AAC)
                    .with_extra_data(config.into());
                boxed(AacDecoder::try_new(&parameters, &options))
            }
            Setup::Alac(config) => {
                parameters
                    .for_codec(id::CODEC_ID_ALAC)
                    .with_extra_data(config.into());
                boxed(AlacDecoder::try_new(&parameters, &options))
            }
            Setup::Flac(info) => {
                parameters
                    .for_codec(id::CODEC_ID_FLAC)
                    .with_extra_data(info.into());
                boxed(FlacDecoder::try_new(&parameters, &options))
            }
        }?;
        Ok(Self {
            decoder,
            planes: Vec::new(),
        })
    }
}

impl Decoder for Symphonia {
    fn decode(&mut self, packet: &[u8], block: &mut Block) -> Result<(), String> {
        let packet = PacketRef::new(0, Timestamp::from(0), Duration::from(0u32), packet);
        let decoded = self
            .decoder
            .decode_ref(&packet)
            .map_err(|e| e.to_string())?;
        append(&decoded, &mut self.planes, block)
    }
}

/// Appends what was decoded; the planes of symphonia lie in the order of WAV.
pub fn append(
    decoded: &GenericAudioBufferRef<'_>,
    planes: &mut Vec<Vec<f64>>,
    block: &mut Block,
) -> Result<(), String> {
    let wanted = block.channels().len();
    if decoded.num_planes() != wanted {
        return Err(format!(
            "a packet holds {} channels, the headers say {wanted}",
            decoded.num_planes()
        ));
    }
    decoded.copy_to_vecs_planar(planes);
    for (channel, plane) in block.channels_mut().iter_mut().zip(planes) {
        channel.extend_from_slice(plane);
    }
    Ok(())
}

/// How many channels a set of symphonia's has.
pub fn channel_count(channels: &Channels) -> usize {
    channels.count()
}
