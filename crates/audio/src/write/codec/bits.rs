//! Bits from the most significant on.

use crate::num::size;

/// Gathers bits into bytes.
#[derive(Debug, Default)]
pub struct Bits {
    bytes: Vec<u8>,
    pending: u64,
    held: u32,
}

impl Bits {
    /// Appends the low `bits` bits of `value`, 32 at most.
    pub fn put(&mut self, value: u32, bits: u32) {
        let value = u64::from(value) & ((1 << bits) - 1);
        self.pending = self.pending << bits | value;
        self.held += bits;
        while self.held >= 32 {
            self.held -= 32;
            let [.., a, b, c, d] = (self.pending >> self.held).to_be_bytes();
            self.bytes.extend_from_slice(&[a, b, c, d]);
        }
    }

    /// Appends a code for each value, of 28 bits at most and its upper bits zeros, as [`Bits::put`] would one after another.
    #[inline(never)]
    pub fn put_all(&mut self, values: &[i32], code: impl Fn(i32) -> (u32, u32)) {
        // On its own, so that what is pending stays in registers. Its first bit is on top, and it is written at each pair
        // of codes, whole bytes or not: without a branch, which nobody could foresee.
        let (mut pending, mut held) = (self.pending << (63 - self.held) << 1, self.held);
        // No more than a part of a byte is left, so that there is room for two codes.
        let whole = held / 8;
        self.bytes.extend_from_slice(&pending.to_be_bytes()[..size(whole.into())]);
        pending <<= 8 * whole;
        held %= 8;
        let mut at = self.bytes.len();
        for pair in values.chunks(2) {
            let (first, wide) = code(pair[0]);
            let (second, more) = pair.get(1).map_or((0, 0), |second| code(*second));
            let (value, bits) = (u64::from(first) << more | u64::from(second), wide + more);
            if at + 8 > self.bytes.len() {
                self.bytes.resize(2 * at + 64, 0);
            }
            held += bits;
            pending |= value << (64 - held);
            self.bytes[at..at + 8].copy_from_slice(&pending.to_be_bytes());
            let whole = held / 8;
            at += size(whole.into());
            pending <<= 8 * whole;
            held %= 8;
        }
        self.bytes.truncate(at);
        (self.pending, self.held) = (pending >> (63 - held) >> 1, held);
    }

    /// Appends all bits of another.
    pub fn append(&mut self, other: &Self) {
        other.bytes.iter().for_each(|byte| self.put((*byte).into(), 8));
        let [.., a, b, c, d] = other.pending.to_be_bytes();
        self.put(u32::from_be_bytes([a, b, c, d]), other.held);
    }

    /// How many bits there are.
    pub fn length(&self) -> usize {
        8 * self.bytes.len() + size(self.held.into())
    }

    /// The bytes, the last filled up with zeros.
    pub fn finish(mut self) -> Vec<u8> {
        let left = self.pending << (64 - self.held).min(63);
        let bytes = size(self.held.div_ceil(8).into());
        self.bytes.extend_from_slice(&left.to_be_bytes()[..bytes]);
        self.bytes
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Behind any number of bits that wait, with codes of any length up to the longest.
    #[test]
    fn many_codes_are_written_as_one_after_another() {
        let code = |value: i32| (value.cast_unsigned(), 32 - value.leading_zeros().min(31));
        let values: Vec<i32> =
            (0..57).map(|n| (1 + n * 104_729 % 0xFFF_FFFF) >> (n * 7 % 28)).collect();
        for (before, many) in (0..32).flat_map(|before| [0, 1, 2, 57].map(|many| (before, many))) {
            let (mut apart, mut together) = (Bits::default(), Bits::default());
            for bits in [&mut apart, &mut together] {
                bits.put(0x5A5A_5A5A, before);
            }
            together.put_all(&values[..many], code);
            for value in &values[..many] {
                let (value, bits) = code(*value);
                apart.put(value, bits);
            }
            assert_eq!(together.length(), apart.length(), "{before} {many}");
            assert_eq!(together.finish(), apart.finish(), "{before} {many}");
        }
    }
}
