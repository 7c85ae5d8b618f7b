//! What `stsd` says of the packets.

use super::super::codec::alac::config;
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

/// ALAC with its configuration; `rates` are the largest packet in bytes and the mean bit rate.
pub fn alac(format: Format, bits: u32, rates: [u32; 2]) -> Vec<u8> {
    let [largest, mean] = rates;
    let narrow = |n: u32| u8::try_from(n).unwrap_or(u8::MAX);
    let channels = narrow(format.channels.count().into());
    let config = config(narrow(bits), channels, format.rate.hertz(), largest, mean);
    let bits = u16::try_from(bits).unwrap_or(16);
    entry(b"alac", format, bits, &full(b"alac", 0, &config))
}

/// AAC with its `esds` (14496-14, 5.6; 14496-1, 7.2.6); `rates` are the largest and the mean bit rate.
#[cfg(feature = "aac")]
pub fn aac(format: Format, specific: &[u8], rates: [u32; 2]) -> Vec<u8> {
    let descriptor = |tag: u8, contents: &[u8]| {
        // Four groups of seven bits, as most files have it.
        let n = crate::num::count32(contents.len());
        let group = |shift: u32, more: u8| (n >> shift & 0x7F).to_le_bytes()[0] | more;
        let mut bytes = vec![tag, group(21, 0x80), group(14, 0x80), group(7, 0x80), group(0, 0)];
        bytes.extend_from_slice(contents);
        bytes
    };
    let [largest, mean] = rates;
    // MPEG-4 audio, an audio stream that goes down, a buffer of 6,144 bits a channel.
    let buffer = 768 * u32::from(format.channels.count());
    let mut decoder = vec![0x40, 0x15];
    decoder.extend_from_slice(&buffer.to_be_bytes()[1..]);
    decoder.extend_from_slice(&largest.to_be_bytes());
    decoder.extend_from_slice(&mean.to_be_bytes());
    decoder.extend_from_slice(&descriptor(5, specific));
    let mut stream = vec![0, 0, 0];
    stream.extend_from_slice(&descriptor(4, &decoder));
    stream.extend_from_slice(&descriptor(6, &[2]));
    entry(b"mp4a", format, 16, &full(b"esds", 0, &descriptor(3, &stream)))
}
