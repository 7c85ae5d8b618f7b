//! Vorbis, MP3, AAC-LC, ALAC and FLAC packets to samples, by the symphonia crates.

use crate::block::Block;
use crate::error::Error;
use crate::read::Packets;
use crate::read::packets::Decoder;
use std::cell::RefCell;
use std::collections::VecDeque;
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
    decoder: Option<Box<dyn AudioDecoder>>,
    planes: Vec<Vec<f64>>,
    /// Under which headers it waits for the next file that has the same, where it may.
    headers: Option<Vec<u8>>,
}

/// Decoders of Vorbis by the headers that they were made for. To build the tables of one takes as long as to decode a
/// second, and files of one encoder and quality have the same.
type Waiting = VecDeque<(Vec<u8>, Box<dyn AudioDecoder>)>;

thread_local! {
    static WAITING: RefCell<Waiting> = const { RefCell::new(VecDeque::new()) };
}

/// How many wait in each thread.
const MOST_WAITING: usize = 4;
/// Headers beyond this size are those of no known encoder.
const MOST_HEADERS: usize = 1 << 16;

/// One that was made for these headers.
fn waiting(headers: &[u8]) -> Option<Box<dyn AudioDecoder>> {
    WAITING.with_borrow_mut(|all| {
        let at = all.iter().position(|(own, _)| own == headers)?;
        all.remove(at).map(|(_, decoder)| decoder)
    })
}

impl Drop for Symphonia {
    fn drop(&mut self) {
        if let (Some(headers), Some(mut decoder)) = (self.headers.take(), self.decoder.take()) {
            decoder.reset();
            // Where the thread itself ends, so do those that wait in it.
            let _ = WAITING.try_with(|all| {
                if let Ok(mut all) = all.try_borrow_mut() {
                    all.push_front((headers, decoder));
                    all.truncate(MOST_WAITING);
                }
            });
        }
    }
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
        let headers = match &setup {
            Setup::Vorbis(identification, setup) => Some([&identification[..], setup].concat()),
            _ => None,
        };
        let headers = headers.filter(|headers| headers.len() <= MOST_HEADERS);
        if let Some(decoder) = headers.as_deref().and_then(waiting) {
            return Ok(Self { decoder: Some(decoder), planes: Vec::new(), headers });
        }
        let mut made = Self::with(&setup.parameters())?;
        made.headers = headers;
        Ok(made)
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
        let decoder = Some(decoder.map_err(|error| error.to_string())?);
        Ok(Self { decoder, planes: Vec::new(), headers: None })
    }
}

impl Decoder for Symphonia {
    fn decode(&mut self, packet: &[u8], block: &mut Block) -> Result<(), String> {
        let packet = PacketRef::new(0, Timestamp::from(0), Duration::from(0u32), packet);
        let decoder = self.decoder.as_mut().ok_or("its decoder is gone")?;
        let decoded = decoder.decode_ref(&packet).map_err(|error| {
            // What it held when it broke must not reach another file.
            self.headers = None;
            error.to_string()
        })?;
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
