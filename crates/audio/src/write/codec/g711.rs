//! Samples to companded bytes (ITU-T G.711, tables 1 and 2).

use crate::block::Block;
use crate::num::{low_byte, sample16};

/// A-law of a 16-bit sample: the interval of table 1 that it lies in.
pub fn to_a_law(sample: i16) -> u8 {
    // Thirteen bits count; of −1 to −16 all lie in the first negative interval.
    let (sign, magnitude) = match sample {
        0.. => (0x80, i32::from(sample)),
        _ => (0, i32::from(!sample)),
    };
    let code = match magnitude {
        ..256 => magnitude >> 4,
        _ => {
            let segment = 24 - (magnitude.leading_zeros().cast_signed());
            segment << 4 | magnitude >> (segment + 3) & 15
        }
    };
    (low_byte(code) | sign) ^ 0x55
}

/// Mu-law of a 16-bit sample: the interval of table 2 that it lies in; beyond 8,158 of its 14 bits it
/// is held.
pub fn to_mu_law(sample: i16) -> u8 {
    let (sign, magnitude) = match sample {
        0.. => (0x80, i32::from(sample)),
        _ => (0, -i32::from(sample)),
    };
    let biased = magnitude.min(32_635) + 132;
    let segment = 24 - biased.leading_zeros().cast_signed();
    let code = segment << 4 | biased >> (segment + 3) & 15;
    !low_byte(code) & 0x7F | sign
}

/// Appends whole interleaved frames.
pub fn encode(block: &Block, code: fn(i16) -> u8, bytes: &mut Vec<u8>) {
    let count = block.channels().len();
    let start = bytes.len();
    bytes.resize(start + block.frames() * count, 0);
    for (index, channel) in block.channels().iter().enumerate() {
        let places = bytes[start..].iter_mut().skip(index).step_by(count);
        for (place, sample) in places.zip(channel) {
            *place = code(sample16(*sample));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::read::codec::g711::{from_a_law, from_mu_law};

    /// Every code comes back as itself, the curve never falls, and no sample goes to a level that is
    /// further off than half a step.
    #[test]
    fn all_codes_and_all_samples() {
        for (to, from) in
            [(to_a_law as fn(i16) -> u8, from_a_law as fn(u8) -> i16), (to_mu_law, from_mu_law)]
        {
            for code in 0..=255 {
                // Mu-law has two codes for zero; both are 0 as samples.
                let again = to(from(code));
                assert!(again == code || from(code) == 0, "{code:02X}");
            }
            let mut before = i16::MIN;
            for sample in i16::MIN..=i16::MAX {
                let level = from(to(sample));
                assert!(level >= before, "{sample}: {level} after {before}");
                before = level;
                // Half a step at most: steps are a 16th of what they begin at, and 16 near zero.
                let off = (i32::from(level) - i32::from(sample)).abs();
                let half = (i32::from(sample).abs() + 132) / 32 + 8;
                assert!(off <= half, "{sample} became {level}");
            }
        }
    }

    /// G.711, tables 1a and 2a, column 3: where segments begin.
    #[test]
    fn segments_begin_where_the_tables_say() {
        for (start, code) in [(0, 0), (256, 1), (512, 2), (1024, 3), (8192, 6), (16_384, 7)] {
            assert_eq!((to_a_law(start) ^ 0xD5) >> 4, code, "{start}");
        }
        for (value, code) in [(31, 1), (95, 2), (223, 3), (479, 4), (991, 5), (2015, 6), (4063, 7)]
        {
            // Fourteen bits in the table, sixteen here.
            assert_eq!(!to_mu_law(4 * value) >> 4 & 7, code, "{value}");
            assert_eq!(!to_mu_law(4 * value - 1) >> 4 & 7, code - 1, "{value}");
        }
    }
}
