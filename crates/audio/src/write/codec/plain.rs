//! Encodings whose bytes follow from the number of frames alone: PCM, ADPCM, QOA, those of telephones.

use super::g722::G722;
use super::g726::G726;
use super::gsm::Gsm;
use super::ima::{Ima, Ima4};
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
    if let Some(unit) = output.format.unit() {
        return unit;
    }
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
    /// IMA ADPCM in packets of 64 frames.
    Ima4(Ima4),
    /// Microsoft's ADPCM.
    Ms(Ms),
    /// QOA.
    Qoa(Qoa),
    /// GSM.
    Gsm(Box<Gsm>),
    /// G.722.
    G722(Box<G722>),
    /// G.726.
    G726(Box<G726>),
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
            (Codec::ImaAdpcm, None) => Self::Ima4(Ima4::new(output.format.channels.count().into())),
            (Codec::MsAdpcm, Some(bytes)) => {
                Self::Ms(Ms::new(bytes, output.format.channels.count().into()))
            }
            (Codec::Qoa, _) => Self::Qoa(Qoa::new(
                output.format.rate.hertz(),
                output.format.channels.count().into(),
            )),
            (Codec::Gsm, _) => Self::Gsm(Box::new(Gsm::new(unit(output).0 != 33))),
            (Codec::G722, _) => Self::G722(Box::default()),
            _ if codec.g726_bits().is_some() => Self::G726(Box::new(G726::new(codec))),
            _ => Self::Pcm(codec, order),
        }
    }

    /// Appends what is ready.
    pub fn encode(&mut self, block: &Block, bytes: &mut Vec<u8>) {
        match self {
            Self::Pcm(codec, order) => pcm::encode(*codec, *order, block, bytes),
            Self::Companded(code) => g711::encode(block, *code, bytes),
            Self::Ima(ima) => ima.encode(block, bytes),
            Self::Ima4(ima) => ima.encode(block, bytes),
            Self::Ms(ms) => ms.encode(block, bytes),
            Self::Qoa(qoa) => qoa.encode(block, bytes),
            Self::Gsm(gsm) => gsm.encode(block, bytes),
            Self::G722(g722) => g722.encode(block, bytes),
            Self::G726(g726) => g726.encode(block, bytes),
        }
    }

    /// Appends the rest.
    pub fn finish(&mut self, bytes: &mut Vec<u8>) {
        match self {
            Self::Ima(ima) => ima.finish(bytes),
            Self::Ima4(ima) => ima.finish(bytes),
            Self::Ms(ms) => ms.finish(bytes),
            Self::Qoa(qoa) => qoa.finish(bytes),
            Self::Gsm(gsm) => gsm.finish(bytes),
            Self::G722(g722) => g722.finish(bytes),
            Self::Pcm(..) | Self::Companded(_) | Self::G726(_) => {}
        }
    }
}
