//! Samples to AAC-LC packets, by the FDK library.

use crate::block::Block;
use crate::num::{count32, sample16, size};
use crate::spec::{Encoding, Format, Quality};
use fdk_aac::enc::{AudioObjectType, BitRate, ChannelMode, Encoder, EncoderParams, Transport};

/// Frames of a packet.
pub const FRAMES: u32 = 1024;

/// Bits a second where nothing is asked: 1.5 a sample, in whole thousands.
pub fn usual_bit_rate(format: Format) -> u32 {
    let samples = format.rate.hertz() * u32::from(format.channels.count());
    (samples * 3 / 2).next_multiple_of(8000).clamp(8000, 512_000)
}

/// Encodes packet after packet.
pub struct Aac {
    encoder: Encoder,
    /// The AudioSpecificConfig.
    config: Vec<u8>,
    channels: u32,
    /// Frames that decoders give before the first.
    pub delay: u32,
    waiting: Vec<i16>,
    packet: Vec<u8>,
}

impl Aac {
    /// Prepares the encoder.
    ///
    /// # Errors
    /// What it refuses, in words.
    pub fn new(format: Format) -> Result<Self, String> {
        let Encoding { quality, .. } = format.encoding;
        let mono = format.channels.count() == 1;
        let encoder = Encoder::new(EncoderParams {
            bit_rate: match quality {
                Some(Quality::BitRate(kilobits) | Quality::Average(kilobits)) => {
                    BitRate::Cbr(1000 * u32::from(kilobits))
                }
                Some(Quality::Scale(10)) => BitRate::VbrVeryLow,
                Some(Quality::Scale(20)) => BitRate::VbrLow,
                Some(Quality::Scale(30)) => BitRate::VbrMedium,
                Some(Quality::Scale(40)) => BitRate::VbrHigh,
                Some(Quality::Scale(_)) => BitRate::VbrVeryHigh,
                None => BitRate::Cbr(usual_bit_rate(format)),
            },
            sample_rate: format.rate.hertz(),
            transport: Transport::Raw,
            channels: if mono { ChannelMode::Mono } else { ChannelMode::Stereo },
            audio_object_type: AudioObjectType::Mpeg4LowComplexity,
        })
        .map_err(|error| error.to_string())?;
        let info = encoder.info().map_err(|error| error.to_string())?;
        let length = size(info.confSize.into());
        Ok(Self {
            config: info.confBuf.get(..length).unwrap_or_default().to_vec(),
            channels: format.channels.count().into(),
            delay: info.nDelay,
            encoder,
            waiting: Vec::new(),
            packet: vec![0; 8192],
        })
    }

    /// What a file says of its stream (14496-1, 7.2.6): descriptors within one another; `rates` are the largest and the
    /// mean bit rate.
    pub fn stream(&self, [largest, mean]: [u32; 2]) -> Vec<u8> {
        let descriptor = |tag: u8, contents: &[u8]| {
            // Four groups of seven bits, as most files have it.
            let n = count32(contents.len());
            let group = |shift: u32, more: u8| (n >> shift & 0x7F).to_le_bytes()[0] | more;
            let mut bytes =
                vec![tag, group(21, 0x80), group(14, 0x80), group(7, 0x80), group(0, 0)];
            bytes.extend_from_slice(contents);
            bytes
        };
        // MPEG-4 audio, an audio stream that goes down, a buffer of 6,144 bits a channel.
        let mut decoder = vec![0x40, 0x15];
        decoder.extend_from_slice(&(768 * self.channels).to_be_bytes()[1..]);
        decoder.extend_from_slice(&largest.to_be_bytes());
        decoder.extend_from_slice(&mean.to_be_bytes());
        decoder.extend_from_slice(&descriptor(5, &self.config));
        let mut stream = vec![0, 0, 0];
        stream.extend_from_slice(&descriptor(4, &decoder));
        stream.extend_from_slice(&descriptor(6, &[2]));
        descriptor(3, &stream)
    }

    /// Hands over packets as they come.
    ///
    /// # Errors
    /// What the encoder refuses, in words.
    pub fn encode(&mut self, block: &Block, mut put: impl FnMut(&[u8])) -> Result<(), String> {
        let channels = block.channels();
        for frame in 0..block.frames() {
            let samples = channels.iter().map(|c| sample16(c[frame]));
            self.waiting.extend(samples);
        }
        let mut used = 0;
        loop {
            let given = &self.waiting[used..];
            if given.len() < size(FRAMES.into()) * channels.len() {
                break;
            }
            let done =
                self.encoder.encode(given, &mut self.packet).map_err(|error| error.to_string())?;
            used += done.input_consumed;
            if done.output_size > 0 {
                put(&self.packet[..done.output_size]);
            } else if done.input_consumed == 0 {
                break;
            }
        }
        self.waiting.drain(..used);
        Ok(())
    }
}
