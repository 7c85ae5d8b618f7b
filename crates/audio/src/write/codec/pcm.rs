//! Samples to PCM bytes. Samples must lie on the grid already: nothing is rounded here.

use crate::block::Block;
use crate::num::{int32, low_byte, low_half, single};
use crate::spec::{ByteOrder, Codec};

/// Appends whole interleaved frames. `codec` must be PCM or floating point; others append nothing.
/// Bytes are unsigned where `order` is little (RIFF), signed where it is big (AIFF).
pub fn encode(codec: Codec, order: ByteOrder, block: &Block, bytes: &mut Vec<u8>) {
    let big = order == ByteOrder::Big;
    match codec {
        Codec::Pcm8 => {
            let zero = if big { 0 } else { 128 };
            weave(block, bytes, big, |s| [low_byte(int32(s * 128.0) + zero)]);
        }
        Codec::Pcm16 => weave(block, bytes, big, |s| low_half(int32(s * 32_768.0)).to_le_bytes()),
        Codec::Pcm24 => weave(block, bytes, big, |s| {
            let [a, b, c, _] = int32(s * 8_388_608.0).to_le_bytes();
            [a, b, c]
        }),
        Codec::Pcm32 => weave(block, bytes, big, |s| int32(s * 2_147_483_648.0).to_le_bytes()),
        Codec::F32 => weave(block, bytes, big, |s| single(s).to_le_bytes()),
        Codec::F64 => weave(block, bytes, big, f64::to_le_bytes),
        _ => {}
    }
}

/// Each sample's bytes come from `one`, least significant first.
fn weave<const N: usize>(
    block: &Block,
    bytes: &mut Vec<u8>,
    big: bool,
    one: impl Fn(f64) -> [u8; N],
) {
    let count = block.channels().len();
    let start = bytes.len();
    bytes.resize(start + block.frames() * count * N, 0);
    for (index, channel) in block.channels().iter().enumerate() {
        let frames = bytes[start..].chunks_exact_mut(N * count);
        for (frame, sample) in frames.zip(channel) {
            let mut value = one(*sample);
            if big {
                value.reverse();
            }
            frame[index * N..(index + 1) * N].copy_from_slice(&value);
        }
    }
}
