//! What `stsd` says of the packets.

use super::boxes::{boxed, full};
use crate::spec::Format;

/// A sound description (14496-12, 12.2.3): data reference 1, channels, 16 bits by custom, rate.
fn entry(kind: &[u8; 4], format: Format, bits: u16, inner: &[u8]) -> Vec<u8> {
    let mut bytes = vec![0, 0, 0, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0, 0];
    bytes.extend_from_slice(&format.channels.count().to_be_bytes());
    bytes.extend_from_slice(&bits.to_be_bytes());
    bytes.extend_from_slice(&[0; 4]);
    // Sixteen bits before the point; a rate that does not fit stands in the codec's own header.
    let rate = u16::try_from(format.rate.hertz()).unwrap_or(0);
    bytes.extend_from_slice(&rate.to_be_bytes());
    bytes.extend_from_slice(&[0; 2]);
    bytes.extend_from_slice(inner);
    let mut all = vec![0, 0, 0, 0, 0, 0, 0, 1];
    all.extend_from_slice(&boxed(kind, &bytes));
    all
}

/// ALAC with its configuration.
pub fn alac(format: Format, bits: u32, config: &[u8]) -> Vec<u8> {
    let bits = u16::try_from(bits).unwrap_or(16);
    entry(b"alac", format, bits, &full(b"alac", 0, config))
}

/// AAC with the description of its stream (14496-14, 5.6).
#[cfg(feature = "aac")]
pub fn aac(format: Format, stream: &[u8]) -> Vec<u8> {
    entry(b"mp4a", format, 16, &full(b"esds", 0, stream))
}
