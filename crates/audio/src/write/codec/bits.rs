//! Bits from the most significant on.

use crate::num::low_byte;

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
        while self.held >= 8 {
            self.held -= 8;
            let [byte, ..] = (self.pending >> self.held).to_le_bytes();
            self.bytes.push(byte);
        }
    }

    /// Appends all bits of another.
    pub fn append(&mut self, other: &Self) {
        other.bytes.iter().for_each(|byte| self.put((*byte).into(), 8));
        let [rest, ..] = other.pending.to_le_bytes();
        self.put(rest.into(), other.held);
    }

    /// How many bits there are.
    pub fn length(&self) -> usize {
        8 * self.bytes.len() + usize::from(low_byte(self.held.cast_signed()))
    }

    /// The bytes, the last filled up with zeros.
    pub fn finish(mut self) -> Vec<u8> {
        if self.held > 0 {
            self.put(0, 8 - self.held);
        }
        self.bytes
    }
}
