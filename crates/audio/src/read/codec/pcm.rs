//! PCM and floating-point bytes to samples; full scale is ±1.

use crate::block::Block;
use crate::spec::{ByteOrder, Codec};

/// Decodes interleaved whole frames into `block`, whose channels set the number of channels.
/// `codec` must be PCM or floating point; anything else gives silence. 8-bit samples are unsigned
/// (RIFF) where `order` is little, signed (AIFF, AU, CAF) where it is big.
pub fn decode(codec: Codec, order: ByteOrder, bytes: &[u8], block: &mut Block) {
    let big = order == ByteOrder::Big;
    match codec {
        Codec::Pcm8 if big => {
            spread(bytes, block, big, |b| f64::from(i8::from_be_bytes(b)) / 128.0)
        }
        Codec::Pcm8 => spread(bytes, block, big, |[b]: [u8; 1]| (f64::from(b) - 128.0) / 128.0),
        Codec::Pcm16 => spread(bytes, block, big, |b| f64::from(i16::from_le_bytes(b)) / 32_768.0),
        Codec::Pcm24 => spread(bytes, block, big, |[a, b, c]| {
            f64::from(i32::from_le_bytes([0, a, b, c])) / 2_147_483_648.0
        }),
        Codec::Pcm32 => {
            spread(bytes, block, big, |b| f64::from(i32::from_le_bytes(b)) / 2_147_483_648.0)
        }
        Codec::F32 => spread(bytes, block, big, |b| f64::from(f32::from_le_bytes(b))),
        Codec::F64 => spread(bytes, block, big, f64::from_le_bytes),
        _ => block.channels_mut().iter_mut().for_each(|c| c.fill(0.0)),
    }
}

/// Hands each sample's bytes to `one`, least significant first.
fn spread<const N: usize>(
    bytes: &[u8],
    block: &mut Block,
    big: bool,
    one: impl Fn([u8; N]) -> f64,
) {
    let count = block.channels().len();
    let value = |bytes: &[u8; N]| {
        let mut bytes = *bytes;
        if big {
            bytes.reverse();
        }
        one(bytes)
    };
    let (samples, _) = bytes.as_chunks::<N>();
    match block.channels_mut() {
        [mono] => {
            for (sample, bytes) in mono.iter_mut().zip(samples) {
                *sample = value(bytes);
            }
        }
        [left, right] => {
            let (frames, _) = samples.as_chunks::<2>();
            for ((left, right), [first, second]) in left.iter_mut().zip(right).zip(frames) {
                (*left, *right) = (value(first), value(second));
            }
        }
        channels => {
            for (index, channel) in channels.iter_mut().enumerate() {
                for (sample, bytes) in
                    channel.iter_mut().zip(samples.iter().skip(index).step_by(count))
                {
                    *sample = value(bytes);
                }
            }
        }
    }
}
