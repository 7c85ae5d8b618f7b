//! ADPCM blocks to samples: IMA's as WAV stores it, and Microsoft's.
//!
//! Sources: "Recommended Practices for Enhancing Digital Audio Compatibility in Multimedia Systems
//! 3.00" (IMA, 1992); "Multimedia Data Standards Update" (Microsoft, 1994), ADPCM and DVI ADPCM.

use super::super::bytes::{be16, le16};
use crate::block::Block;
use crate::num::real_signed;

/// Step sizes (IMA 1992, table 2).
pub const STEPS: [i32; 89] = [
    7, 8, 9, 10, 11, 12, 13, 14, 16, 17, 19, 21, 23, 25, 28, 31, 34, 37, 41, 45, 50, 55, 60, 66,
    73, 80, 88, 97, 107, 118, 130, 143, 157, 173, 190, 209, 230, 253, 279, 307, 337, 371, 408, 449,
    494, 544, 598, 658, 724, 796, 876, 963, 1060, 1166, 1282, 1411, 1552, 1707, 1878, 2066, 2272,
    2499, 2749, 3024, 3327, 3660, 4026, 4428, 4871, 5358, 5894, 6484, 7132, 7845, 8630, 9493,
    10442, 11487, 12635, 13899, 15289, 16818, 18500, 20350, 22385, 24623, 27086, 29794, 32767,
];

/// How the step index moves (IMA 1992, table 1).
const MOVES: [i32; 8] = [-1, -1, -1, -1, 2, 4, 6, 8];

/// One channel's running state.
#[derive(Debug, Clone, Copy, Default)]
struct Ima {
    value: i32,
    index: i32,
}

impl Ima {
    fn next(&mut self, code: u8) -> f64 {
        let step = usize::try_from(self.index).map_or(STEPS[0], |index| STEPS[index.min(88)]);
        let mut change = step >> 3;
        for (bit, part) in [(4, step), (2, step >> 1), (1, step >> 2)] {
            if code & bit != 0 {
                change += part;
            }
        }
        let signed = if code & 8 == 0 { change } else { -change };
        self.value = (self.value + signed).clamp(-32_768, 32_767);
        self.index = (self.index + MOVES[usize::from(code & 7)]).clamp(0, 88);
        f64::from(self.value) / 32_768.0
    }
}

/// How many frames an IMA block of this many bytes holds: one in its header, then two a byte.
pub fn ima_frames(bytes: u64, channels: u64) -> u64 {
    match bytes.checked_sub(4 * channels) {
        Some(codes) => codes / (4 * channels) * 8 + 1,
        None => 0,
    }
}

/// Appends the frames of one IMA block as WAV has it; what is missing at its end gives no frames.
pub fn decode_ima(bytes: &[u8], block: &mut Block) {
    let channels = block.channels().len();
    let mut states = Vec::with_capacity(channels);
    for header in bytes.chunks_exact(4).take(channels) {
        let value = le16(header, 0).unwrap_or_default().cast_signed();
        states.push(Ima { value: value.into(), index: i32::from(header[2]).min(88) });
    }
    if states.len() < channels {
        return;
    }
    let codes = &bytes[4 * channels..];
    for (index, (channel, state)) in block.channels_mut().iter_mut().zip(&mut states).enumerate() {
        channel.push(f64::from(state.value) / 32_768.0);
        for group in codes.chunks_exact(4 * channels) {
            for byte in &group[4 * index..4 * index + 4] {
                channel.push(state.next(byte & 15));
                channel.push(state.next(byte >> 4));
            }
        }
    }
}

/// Appends the 64 frames of one packet a channel as AIFF-C and CAF have it ("QuickTime File Format", "IMA 4:1"): the
/// value in the upper nine bits of its head, the step's index in the others, then codes, the low one first.
pub fn decode_ima4(bytes: &[u8], block: &mut Block) {
    for (packet, channel) in bytes.chunks_exact(34).zip(block.channels_mut()) {
        let head = be16(packet, 0).unwrap_or_default();
        let value = i32::from((head & 0xFF80).cast_signed());
        let mut state = Ima { value, index: i32::from(head & 0x7F).min(88) };
        for byte in &packet[2..] {
            channel.push(state.next(byte & 15));
            channel.push(state.next(byte >> 4));
        }
    }
    block.level_out();
}

/// How the step of Microsoft's ADPCM moves, in 256ths.
pub const MS_MOVES: [i32; 16] =
    [230, 230, 230, 230, 307, 409, 512, 614, 768, 614, 512, 409, 307, 230, 230, 230];

/// The seven pairs of coefficients that every decoder knows, in 256ths.
pub const MS_COEFFICIENTS: [(i16, i16); 7] =
    [(256, 0), (512, -256), (0, 0), (192, 64), (240, 0), (460, -208), (392, -232)];

/// How many frames a block of this many bytes holds: two in its header, then two a byte.
pub fn ms_frames(bytes: u64, channels: u64) -> u64 {
    match bytes.checked_sub(7 * channels) {
        Some(codes) => codes * 2 / channels + 2,
        None => 0,
    }
}

/// In numbers that no header and no code overflows.
struct Ms {
    coefficients: (i64, i64),
    step: i64,
    last: [i64; 2],
}

impl Ms {
    fn next(&mut self, code: u8) -> f64 {
        let (a, b) = self.coefficients;
        let [one, two] = self.last;
        let signed = i64::from(code) - if code >= 8 { 16 } else { 0 };
        let guess = (one * a + two * b) >> 8;
        let value = (guess + signed * self.step).clamp(i16::MIN.into(), i16::MAX.into());
        let step = (i64::from(MS_MOVES[usize::from(code & 15)]) * self.step) >> 8;
        self.step = step.clamp(16, 1 << 24);
        self.last = [value, one];
        let value = i16::try_from(value).unwrap_or_default();
        f64::from(value) / 32_768.0
    }
}

/// Appends the frames of one block of Microsoft's ADPCM with these coefficients.
pub fn decode_ms(bytes: &[u8], coefficients: &[(i16, i16)], block: &mut Block) {
    let channels = block.channels().len();
    if bytes.len() < 7 * channels {
        return;
    }
    let word = |kind: usize, channel: usize| {
        let at = channels + 2 * (kind * channels + channel);
        i64::from(le16(bytes, at).unwrap_or_default().cast_signed())
    };
    let mut states: Vec<Ms> = (0..channels)
        .map(|channel| {
            let pair = coefficients.get(usize::from(bytes[channel])).copied().unwrap_or((256, 0));
            Ms {
                coefficients: (pair.0.into(), pair.1.into()),
                step: word(0, channel),
                last: [word(1, channel), word(2, channel)],
            }
        })
        .collect();
    for (channel, state) in block.channels_mut().iter_mut().zip(&states) {
        let [one, two] = state.last.map(|value| real_signed(value) / 32_768.0);
        channel.extend([two, one]);
    }
    let codes = bytes[7 * channels..].iter().flat_map(|byte| [byte >> 4, byte & 15]);
    let mut turn = 0;
    for code in codes {
        let sample = states[turn].next(code);
        block.channels_mut()[turn].push(sample);
        turn = (turn + 1) % channels;
    }
    block.level_out();
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Worked by hand from the document's own pseudo-code.
    #[test]
    fn a_block_worked_by_hand() {
        // Value 100, index 10 (step 19), codes 7, 12, 0, 8: low nibble first.
        let bytes = [100, 0, 10, 0, 0xC7, 0x80, 0, 0];
        let mut block = Block::new(1);
        decode_ima(&bytes, &mut block);
        let found: Vec<i32> =
            block.channels()[0].iter().map(|s| crate::num::int32(s * 32_768.0)).collect();
        // Step 19, code 7: 2+19+9+4 up to 134; 41, code 12: 5+41 down to 88; 50, code 0: 6 up to 94;
        // 45, code 8: 5 down to 89; then code 0 with steps of 41, 37, 34, 31: up by 5, 4, 4, 3.
        assert_eq!(found, [100, 134, 88, 94, 89, 94, 98, 102, 105]);
    }

    /// Worked by hand: predictor 0 repeats the last value, the step begins at 16 and stays there.
    #[test]
    fn a_block_of_microsofts() {
        let bytes = [0, 16, 0, 100, 0, 50, 0, 0x1F, 0x80];
        let mut block = Block::new(1);
        decode_ms(&bytes, &MS_COEFFICIENTS, &mut block);
        let found: Vec<i32> =
            block.channels()[0].iter().map(|s| crate::num::int32(s * 32_768.0)).collect();
        // 1: 100+16; 15 is -1: 116-16; 8 is -8: 100-128, the step grows to 48; 0: the same again.
        assert_eq!(found, [50, 100, 116, 100, -28, -28]);
        assert_eq!((ms_frames(9, 1), ima_frames(256, 1), ima_frames(3, 1)), (6, 505, 0));
    }

    /// The widest of everything that a header can say, and codes that widen the step at each sample.
    #[test]
    fn no_block_of_microsofts_overflows() {
        for (pair, code) in [((i16::MIN, i16::MIN), 0x88), ((i16::MAX, i16::MIN), 0x77)] {
            let head = [0, 0xFF, 0x7F, 0x00, 0x80, 0x00, 0x80];
            let bytes = [&head[..], &[code; 64]].concat();
            let mut block = Block::new(1);
            decode_ms(&bytes, &[pair], &mut block);
            assert_eq!(block.frames(), 130);
            assert!(block.channels()[0].iter().all(|sample| sample.abs() <= 1.0));
        }
    }
}
