//! Companded bytes to samples (ITU-T G.711, tables 1 and 2).

use crate::block::Block;

/// A-law, table 1: sign, three bits of segment, four of step; every second bit is inverted. Gives the
/// 13-bit value, scaled to 16 bits.
pub fn from_a_law(byte: u8) -> i16 {
    let code = byte ^ 0x55;
    let (segment, step) = (code >> 4 & 7, i16::from(code & 15));
    let magnitude = match segment {
        0 => 16 * step + 8,
        _ => (16 * step + 264) << (segment - 1),
    };
    // A set sign bit is positive.
    if code & 0x80 == 0 { -magnitude } else { magnitude }
}

/// Mu-law, table 2: all bits inverted; the value is that of a 14-bit code less the bias of 33, scaled
/// to 16 bits.
pub fn from_mu_law(byte: u8) -> i16 {
    let code = !byte;
    let (segment, step) = (code >> 4 & 7, i16::from(code & 15));
    let magnitude = ((8 * step + 132) << segment) - 132;
    if code & 0x80 == 0 { magnitude } else { -magnitude }
}

/// Decodes interleaved frames into `block`, whose channels set the number of channels.
pub fn decode(bytes: &[u8], block: &mut Block, value: fn(u8) -> i16) {
    let table: Vec<f64> = (0..=255).map(|b| f64::from(value(b)) / 32_768.0).collect();
    let count = block.channels().len();
    for (index, channel) in block.channels_mut().iter_mut().enumerate() {
        let codes = bytes.iter().skip(index).step_by(count);
        for (sample, code) in channel.iter_mut().zip(codes) {
            *sample = table[usize::from(*code)];
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Character signals and their values as printed in G.711: the ends of every segment, positive
    /// half, tables 1a and 2a (column 8, "quantized value at decoder output").
    #[test]
    fn the_printed_tables() {
        // Table 1a, values in units of 1/4096 of full scale; doubled steps of 2 in the first segments.
        let a_law: [(u8, i16); 9] = [
            (0xD5, 1),
            (0xC5, 33),
            (0xF5, 66),
            (0xE5, 132),
            (0x95, 264),
            (0x85, 528),
            (0xB5, 1056),
            (0xA5, 2112),
            (0xAA, 4032),
        ];
        for (code, value) in a_law {
            assert_eq!(from_a_law(code), value * 8, "{code:02X}");
            assert_eq!(from_a_law(code ^ 0x80), -value * 8);
        }
        // Table 2a, values in units of 1/8159 of full scale.
        let mu_law: [(u8, i16); 10] = [
            (0xFF, 0),
            (0xFE, 2),
            (0xEF, 33),
            (0xDF, 99),
            (0xCF, 231),
            (0xBF, 495),
            (0xAF, 1023),
            (0x9F, 2079),
            (0x8F, 4191),
            (0x80, 8031),
        ];
        for (code, value) in mu_law {
            assert_eq!(from_mu_law(code), value * 4, "{code:02X}");
            assert_eq!(from_mu_law(code ^ 0x80), -value * 4);
        }
    }
}
