//! IMA ADPCM as Brass Wren's chip decodes it (IMA Digital Audio Focus and Technical Working Groups,
//! "Recommended Practices", 1992; block layout of WAV).

const STEPS: [i32; 89] = [
    7, 8, 9, 10, 11, 12, 13, 14, 16, 17, 19, 21, 23, 25, 28, 31, 34, 37, 41, 45, 50, 55, 60, 66,
    73, 80, 88, 97, 107, 118, 130, 143, 157, 173, 190, 209, 230, 253, 279, 307, 337, 371, 408, 449,
    494, 544, 598, 658, 724, 796, 876, 963, 1060, 1166, 1282, 1411, 1552, 1707, 1878, 2066, 2272,
    2499, 2749, 3024, 3327, 3660, 4026, 4428, 4871, 5358, 5894, 6484, 7132, 7845, 8630, 9493,
    10442, 11487, 12635, 13899, 15289, 16818, 18500, 20350, 22385, 24623, 27086, 29794, 32767,
];
const MOVES: [i32; 8] = [-1, -1, -1, -1, 2, 4, 6, 8];

/// Decodes one mono block; `None` where its first bytes are not sound.
pub fn decode_block(block: &[u8]) -> Option<Vec<i16>> {
    let &[low, high, index, reserved, ref codes @ ..] = block else {
        return None;
    };
    if index > 88 || reserved != 0 {
        return None;
    }
    let first = i16::from_le_bytes([low, high]);
    let (mut value, mut index) = (i32::from(first), i32::from(index));
    let mut samples = vec![first];
    for byte in codes {
        for code in [byte & 15, byte >> 4] {
            let step = STEPS[usize::try_from(index).unwrap_or(0)];
            let mut change = step >> 3;
            for (bit, part) in [(4, step), (2, step >> 1), (1, step >> 2)] {
                if code & bit != 0 {
                    change += part;
                }
            }
            value += if code & 8 == 0 { change } else { -change };
            value = value.clamp(-32_768, 32_767);
            index = (index + MOVES[usize::from(code & 7)]).clamp(0, 88);
            samples.push(i16::try_from(value).unwrap_or(0));
        }
    }
    Some(samples)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Worked by hand: step 7, code 7 adds 0 + 7 + 3 + 1, then the index is 8 (step 16), and code 8
    /// (minus nothing) takes 2.
    #[test]
    fn a_block_worked_by_hand() {
        assert_eq!(decode_block(&[100, 0, 0, 0, 0x87]), Some(vec![100, 111, 109]));
        assert_eq!(decode_block(&[0, 0, 89, 0, 0]), None);
        assert_eq!(decode_block(&[0, 0]), None);
    }
}
