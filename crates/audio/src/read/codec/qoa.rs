//! QOA frames to samples ("QOA Specification" 1.0, 2023).

use super::super::bytes::{be16, be64};
use crate::block::Block;

/// Frames of sound in one QOA frame, in each channel.
pub const FRAME: u64 = 5120;
/// Samples in one slice of eight bytes.
pub const SLICE: usize = 20;

/// Bytes of a frame that holds this many slices a channel.
pub const fn frame_bytes(slices: u64, channels: u64) -> u64 {
    8 + 16 * channels + 8 * slices * channels
}

/// The seven divided steps that codes 0 to 7 mean: `round(scale^2.75 * …)`, by the specification's table.
const DEQUANTISED: [[i32; 8]; 16] = [
    [1, -1, 3, -3, 5, -5, 7, -7],
    [5, -5, 18, -18, 32, -32, 49, -49],
    [16, -16, 53, -53, 95, -95, 147, -147],
    [34, -34, 113, -113, 203, -203, 315, -315],
    [63, -63, 210, -210, 378, -378, 588, -588],
    [104, -104, 345, -345, 621, -621, 966, -966],
    [158, -158, 528, -528, 950, -950, 1477, -1477],
    [228, -228, 760, -760, 1368, -1368, 2128, -2128],
    [316, -316, 1053, -1053, 1895, -1895, 2947, -2947],
    [422, -422, 1405, -1405, 2529, -2529, 3934, -3934],
    [548, -548, 1828, -1828, 3290, -3290, 5117, -5117],
    [696, -696, 2320, -2320, 4176, -4176, 6496, -6496],
    [868, -868, 2893, -2893, 5207, -5207, 8099, -8099],
    [1064, -1064, 3548, -3548, 6386, -6386, 9933, -9933],
    [1286, -1286, 4288, -4288, 7718, -7718, 12005, -12005],
    [1536, -1536, 5120, -5120, 9216, -9216, 14336, -14336],
];

/// Appends the frames of one QOA frame; a broken or cut one gives as many as there are.
pub fn decode(bytes: &[u8], block: &mut Block) {
    let channels = block.channels().len();
    let before = block.frames();
    let Some(samples) = be16(bytes, 2).map(usize::from) else {
        return;
    };
    if bytes.first().copied().map(usize::from) != Some(channels) {
        return;
    }
    let mut states = Vec::with_capacity(channels);
    for channel in 0..channels {
        let word =
            |at: usize| be16(bytes, 8 + 16 * channel + at).map(|v| i32::from(v.cast_signed()));
        let four = |at: usize| Some([word(at)?, word(at + 2)?, word(at + 4)?, word(at + 6)?]);
        match (four(0), four(8)) {
            (Some(history), Some(weights)) => states.push((history, weights)),
            _ => return,
        }
    }
    let slices = bytes[8 + 16 * channels..].chunks_exact(8);
    for (turn, slice) in slices.enumerate() {
        let channel = turn % channels;
        let (history, weights) = &mut states[channel];
        let out = &mut block.channels_mut()[channel];
        let wanted = (before + samples).saturating_sub(out.len()).min(SLICE);
        let Some(word) = be64(slice, 0) else { return };
        let scale = usize::try_from(word >> 60).unwrap_or_default();
        for turn in 0..wanted {
            let code = usize::try_from(word >> (57 - 3 * turn) & 7).unwrap_or_default();
            let residual = DEQUANTISED[scale][code];
            let guess = history
                .iter()
                .zip(&*weights)
                .fold(0i32, |sum, (h, w)| sum.wrapping_add(h.wrapping_mul(*w)))
                >> 13;
            let value = guess.wrapping_add(residual).clamp(-32_768, 32_767);
            let delta = residual >> 4;
            for (weight, past) in weights.iter_mut().zip(&*history) {
                *weight = weight.wrapping_add(if *past < 0 { -delta } else { delta });
            }
            *history = [history[1], history[2], history[3], value];
            out.push(f64::from(value) / 32_768.0);
        }
    }
    block.level_out();
}
