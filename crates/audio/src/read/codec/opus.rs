//! Opus packets to samples, by the opus-decoder crate; always at 48,000 Hz (RFC 7845, 5.1).

use crate::block::Block;
use crate::read::packets::Decoder;
use crate::units::SampleRate;
use opus_decoder::OpusMultistreamDecoder;

/// Frames of one packet at most: 120 ms (RFC 6716, 2.1.4).
const MOST_FRAMES: usize = 5760;

/// How streams make channels (RFC 7845, 5.1.1).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Mapping {
    /// Streams in a packet.
    pub streams: u8,
    /// How many of them are stereo; they come first.
    pub coupled: u8,
    /// Which decoded channel feeds each output channel.
    pub channels: Vec<u8>,
    /// Louder by so many 256ths of a decibel.
    pub gain: i16,
}

/// One stream's decoder.
pub struct Opus {
    decoder: OpusMultistreamDecoder,
    samples: Vec<i16>,
    gain: f64,
}

impl Opus {
    /// Prepares a decoder.
    ///
    /// # Errors
    /// What it cannot do, in words.
    pub fn new(mapping: &Mapping) -> Result<Self, String> {
        let channels = mapping.channels.len();
        let (streams, coupled) = (mapping.streams.into(), mapping.coupled.into());
        let decoder = OpusMultistreamDecoder::new(SampleRate::STUDIO.hertz(), channels, streams, coupled, &mapping.channels)
            .map_err(|error| error.to_string())?;
        Ok(Self {
            decoder,
            samples: vec![0; MOST_FRAMES * channels],
            gain: 10f64.powf(f64::from(mapping.gain) / 256.0 / 20.0),
        })
    }
}

impl Decoder for Opus {
    fn decode(&mut self, packet: &[u8], block: &mut Block) -> Result<(), String> {
        let channels = block.channels().len();
        let frames = self
            .decoder
            .decode(packet, &mut self.samples, false)
            .map_err(|error| error.to_string())?;
        for frame in self.samples[..frames * channels].chunks_exact(channels) {
            for (channel, sample) in block.channels_mut().iter_mut().zip(frame) {
                channel.push(f64::from(*sample) / 32_768.0 * self.gain);
            }
        }
        Ok(())
    }
}
