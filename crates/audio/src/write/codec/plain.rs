//! Encodings whose bytes follow from the number of frames alone: PCM, G.711, ADPCM, QOA.

use super::ima::Ima;
use super::ms::Ms;
use super::qoa::Qoa;
use super::{g711, pcm};
use crate::block::Block;
use crate::read::codec::adpcm::{ima_frames, ms_frames};
use crate::spec::Output;
use crate::spec::{ByteOrder, Codec};

/// Bytes of one frame, or of one block, and its frames.
pub fn unit(output: &Output) -> (u64, u64) {
    let channels = u64::from(output.format.channels.count());
    match output.block_bytes {
        Some(bytes) => {
            let frames = match output.format.encoding.codec {
                Codec::MsAdpcm => ms_frames(bytes.into(), channels),
                _ => ima_frames(bytes.into(), channels),
            };
            (bytes.into(), frames.max(1))
        }
        None => {
            let sample = output.format.encoding.codec.sample_bytes().unwrap_or(1);
            (u64::from(sample) * channels, 1)
        }
    }
}

/// Bytes of all samples.
pub fn data_bytes(output: &Output) -> u64 {
    let (bytes, frames) = unit(output);
    output.frames.div_ceil(frames).saturating_mul(bytes)
}

/// One of the encoders.
#[derive(Debug)]
pub enum Plain {
    /// PCM or floating point.
    Pcm(Codec, ByteOrder),
    /// G.711.
    Companded(fn(i16) -> u8),
    /// IMA ADPCM.
    Ima(Ima),
    /// Microsoft's ADPCM.
    Ms(Ms),
    /// QOA.
    Qoa(Qoa),
}

impl Plain {
    /// The encoder of the output; `order` is that of samples of more than one byte, and whether
    /// single bytes are signed.
    pub fn new(output: &Output, order: ByteOrder) -> Self {
        let codec = output.format.encoding.codec;
        match (codec, output.block_bytes) {
            (Codec::MuLaw, _) => Self::Companded(g711::to_mu_law),
            (Codec::ALaw, _) => Self::Companded(g711::to_a_law),
            (Codec::ImaAdpcm, Some(bytes)) => {
                Self::Ima(Ima::new(bytes, output.format.channels.count().into()))
            }
            (Codec::MsAdpcm, Some(bytes)) => {
                Self::Ms(Ms::new(bytes, output.format.channels.count().into()))
            }
            (Codec::Qoa, _) => Self::Qoa(Qoa::new(
                output.format.rate.hertz(),
                output.format.channels.count().into(),
            )),
            _ => Self::Pcm(codec, order),
        }
    }

    /// Appends what is ready.
    pub fn encode(&mut self, block: &Block, bytes: &mut Vec<u8>) {
        match self {
            Self::Pcm(codec, order) => pcm::encode(*codec, *order, block, bytes),
            Self::Companded(code) => g711::encode(block, *code, bytes),
            Self::Ima(ima) => ima.encode(block, bytes),
            Self::Ms(ms) => ms.encode(block, bytes),
            Self::Qoa(qoa) => qoa.encode(block, bytes),
        }
    }

    /// Appends the rest.
    pub fn finish(&mut self, bytes: &mut Vec<u8>) {
        match self {
            Self::Ima(ima) => ima.finish(bytes),
            Self::Ms(ms) => ms.finish(bytes),
            Self::Qoa(qoa) => qoa.finish(bytes),
            Self::Pcm(..) | Self::Companded(_) => {}
        }
    }
}
