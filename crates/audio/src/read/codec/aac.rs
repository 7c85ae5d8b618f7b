//! AAC that symphonia does not decode (HE-AAC, more than two channels), by the FDK library.

use crate::block::Block;
use crate::read::packets::Decoder;
use fdk_aac::dec::{Decoder as Fdk, DecoderError, Transport};

/// Samples of one access unit at most: 2,048 frames of eight channels.
const MOST_SAMPLES: usize = 2048 * 8;

/// One stream's decoder.
pub struct FdkAac {
    decoder: Fdk,
    samples: Vec<i16>,
}

impl FdkAac {
    /// Prepares a decoder from an AudioSpecificConfig.
    ///
    /// # Errors
    /// What it cannot do, in words.
    pub fn new(config: &[u8]) -> Result<Self, String> {
        let mut decoder = Fdk::new(Transport::Raw);
        decoder.config_raw(config).map_err(|error| error.to_string())?;
        Ok(Self { decoder, samples: vec![0; MOST_SAMPLES] })
    }

    /// Decodes a packet for the rate and the channels that come out; 0 where nothing does yet.
    pub fn listen(&mut self, packet: &[u8]) -> (u32, u16) {
        let heard =
            self.decoder.fill(packet).and_then(|_| self.decoder.decode_frame(&mut self.samples));
        let info = self.decoder.stream_info();
        match heard {
            Ok(()) => (
                u32::try_from(info.sampleRate).unwrap_or(0),
                u16::try_from(info.numChannels).unwrap_or(0),
            ),
            Err(_) => (0, 0),
        }
    }
}

impl Decoder for FdkAac {
    fn decode(&mut self, packet: &[u8], block: &mut Block) -> Result<(), String> {
        let mut rest = packet;
        while !rest.is_empty() {
            let taken = self.decoder.fill(rest).map_err(|error| error.to_string())?;
            if taken == 0 {
                break;
            }
            rest = &rest[taken..];
        }
        match self.decoder.decode_frame(&mut self.samples) {
            Ok(()) => {}
            Err(DecoderError::NOT_ENOUGH_BITS) => return Ok(()),
            Err(error) => return Err(error.to_string()),
        }
        let channels = block.channels().len();
        let size = self.decoder.decoded_frame_size().min(MOST_SAMPLES);
        let found = usize::try_from(self.decoder.stream_info().numChannels).unwrap_or_default();
        if found != channels {
            return Err(format!("a packet holds {found} channels, the headers say {channels}"));
        }
        for frame in self.samples[..size].chunks_exact(channels) {
            for (channel, sample) in block.channels_mut().iter_mut().zip(frame) {
                channel.push(f64::from(*sample) / 32_768.0);
            }
        }
        Ok(())
    }
}
