//! Samples to PCM bytes. Samples must lie on the grid already: nothing is rounded here.

use crate::block::Block;
use crate::num::{low_byte, low_half, nearest32, single};
use crate::spec::{ByteOrder, Codec};

/// Appends whole interleaved frames. `codec` must be PCM or floating point; others append nothing.
/// Bytes are unsigned where `order` is little (RIFF), signed where it is big (AIFF).
pub fn encode(codec: Codec, order: ByteOrder, block: &Block, bytes: &mut Vec<u8>) {
    let big = order == ByteOrder::Big;
    match codec {
        Codec::Pcm8 => {
            let zero = if big { 0 } else { 128 };
            weave(block, bytes, big, |s| [low_byte(nearest32(s * 128.0) + zero)]);
        }
        Codec::Pcm16 => {
            weave(block, bytes, big, |s| low_half(nearest32(s * 32_768.0)).to_le_bytes())
        }
        Codec::Pcm24 => weave(block, bytes, big, |s| {
            let [a, b, c, _] = nearest32(s * 8_388_608.0).to_le_bytes();
            [a, b, c]
        }),
        Codec::Pcm32 => weave(block, bytes, big, |s| nearest32(s * 2_147_483_648.0).to_le_bytes()),
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
    let ordered = |sample: &f64| {
        let mut value = one(*sample);
        if big {
            value.reverse();
        }
        value
    };
    let start = bytes.len();
    bytes.resize(start + block.frames() * count * N, 0);
    let (samples, _) = bytes[start..].as_chunks_mut::<N>();
    match block.channels() {
        [mono] => {
            for (bytes, sample) in samples.iter_mut().zip(mono) {
                *bytes = ordered(sample);
            }
        }
        [left, right] => {
            let (frames, _) = samples.as_chunks_mut::<2>();
            for ((frame, left), right) in frames.iter_mut().zip(left).zip(right) {
                *frame = [ordered(left), ordered(right)];
            }
        }
        channels => {
            for (index, channel) in channels.iter().enumerate() {
                let places = samples.iter_mut().skip(index).step_by(count);
                for (bytes, sample) in places.zip(channel) {
                    *bytes = ordered(sample);
                }
            }
        }
    }
}
