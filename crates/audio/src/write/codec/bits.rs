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
