//! Chunks that come along from the clip, with what changes in them.

use crate::num::scaled;
use crate::spec::Patch;

impl Patch {
    /// The chunk's contents with the change made.
    #[must_use]
    pub fn apply(&self, mut bytes: Vec<u8>) -> Vec<u8> {
        match self {
            Self::Same => {}
            Self::Loops { rate, ranges } => {
                // RIFF 1.0 "Sampler Chunk": the third word is the sample period in nanoseconds.
                put(&mut bytes, 8, |_| scaled(1_000_000_000, 1, rate.hertz().into()));
                for (record, range) in records(bytes.len(), 36).zip(ranges) {
                    put(&mut bytes, record + 8, |_| range.start);
                    // The stored end is the last frame played.
                    put(&mut bytes, record + 12, |_| range.end.saturating_sub(1));
                }
            }
            Self::Cues { from, to } => {
                for record in records(bytes.len(), 4) {
                    for field in [4, 20] {
                        put(&mut bytes, record + field, |frame| scaled(frame, *to, *from));
                    }
                }
            }
        }
        bytes
    }
}

/// Where records of 24 bytes begin.
fn records(length: usize, first: usize) -> impl Iterator<Item = usize> {
    (first..length).step_by(24)
}

fn put(bytes: &mut [u8], at: usize, change: impl Fn(u64) -> u64) {
    if let Some(field) = bytes.get_mut(at..at + 4)
        && let &mut [a, b, c, d] = field
    {
        let new = change(u32::from_le_bytes([a, b, c, d]).into());
        field.copy_from_slice(&u32::try_from(new).unwrap_or(u32::MAX).to_le_bytes());
    }
}
