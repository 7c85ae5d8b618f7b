//! Opus packets to samples, by the ropus crate; always at 48,000 Hz (RFC 7845, 5.1).

use crate::block::Block;
use crate::read::packets::Decoder;
use crate::units::SampleRate;
use ropus::OpusMSDecoder;

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
    /// Louder by this many 256ths of a decibel.
    pub gain: i16,
    /// Whether each channel has its place among loudspeakers.
    pub placed: bool,
}

/// One stream's decoder.
pub struct Opus {
    decoder: OpusMSDecoder,
    samples: Vec<i32>,
    gain: f64,
}

impl Opus {
    /// Prepares a decoder.
    ///
    /// # Errors
    /// What it cannot do, in words.
    pub fn new(mapping: &Mapping) -> Result<Self, String> {
        let channels = mapping.channels.len();
        let hertz = SampleRate::STUDIO.hertz().cast_signed();
        let (streams, coupled) = (mapping.streams.into(), mapping.coupled.into());
        let count = i32::try_from(channels).unwrap_or(0);
        let decoder = OpusMSDecoder::new(hertz, count, streams, coupled, &mapping.channels)
            .map_err(|code| format!("the decoder refuses it with code {code}"))?;
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
        let length = i32::try_from(packet.len()).unwrap_or(0);
        let most = i32::try_from(MOST_FRAMES).unwrap_or(0);
        let frames = self
            .decoder
            .decode24(Some(packet), length, &mut self.samples, most, false)
            .map_err(|code| format!("a packet is not a valid (code {code})"))?;
        let frames = usize::try_from(frames).unwrap_or(0);
        for frame in self.samples[..frames * channels].chunks_exact(channels) {
            for (channel, sample) in block.channels_mut().iter_mut().zip(frame) {
                channel.push(f64::from(*sample) / 8_388_608.0 * self.gain);
            }
        }
        Ok(())
    }
}
