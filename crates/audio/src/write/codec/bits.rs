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

    /// Appends codes of 31 bits at most, whose upper bits are zeros, as [`Bits::put`] would one after another.
    #[inline(never)]
    pub fn put_all(&mut self, codes: impl Iterator<Item = (u32, u32)>) {
        // On its own, so that what is pending stays in registers. Its first bit is on top, and it is written at each code,
        // whole bytes or not: without a branch, which nobody could foresee.
        let (mut pending, mut held) = (self.pending << (63 - self.held) << 1, self.held);
        let mut at = self.bytes.len();
        for (value, bits) in codes {
            if at + 8 > self.bytes.len() {
                self.bytes.resize(2 * at + 64, 0);
            }
            held += bits;
            pending |= u64::from(value) << (64 - held);
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
