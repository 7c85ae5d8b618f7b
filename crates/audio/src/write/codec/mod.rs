//! Encoders: samples to bytes.

#[cfg(feature = "aac")]
pub mod aac;
pub mod alac;
mod bits;
pub mod flac;
mod g711;
mod g722;
mod g726;
mod gsm;
mod ima;
pub mod mp3;
mod ms;
pub mod opus;
mod pcm;
pub mod plain;
pub mod qoa;
pub mod vorbis;

pub use g711::{to_a_law, to_mu_law};
pub use ima::usual_block;

use crate::block::Block;
use crate::spec::{ByteOrder, Codec};

/// Appends interleaved little-endian PCM.
pub fn plain_pcm(codec: Codec, block: &Block, bytes: &mut Vec<u8>) {
    pcm::encode(codec, ByteOrder::Little, block, bytes);
}
