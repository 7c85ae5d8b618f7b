//! The header of Opus in Ogg, and the lengths of its packets.

use super::super::bytes::le16;
use super::super::codec::opus::Mapping;

/// RFC 7845, 5.1: the mapping, and the frames to leave out at the start.
pub fn head(bytes: &[u8]) -> Result<(Mapping, u64), String> {
    let short = || "its Opus header is too short".to_owned();
    let byte = |at: usize| bytes.get(at).copied().ok_or_else(short);
    let version = byte(8)?;
    if version >> 4 != 0 {
        return Err(format!("its Opus header is of version {version}"));
    }
    let count = byte(9)?;
    let delay = le16(bytes, 10).ok_or_else(short)?.into();
    let gain = le16(bytes, 16).ok_or_else(short)?.cast_signed();
    let (streams, coupled, mut channels): (_, _, Vec<u8>) = match byte(18)? {
        0 if count == 1 || count == 2 => (1, count - 1, (0..count).collect()),
        0 => {
            return Err(format!("its Opus header says {count} channels for one stream"));
        }
        _ => {
            let table = bytes.get(21..21 + usize::from(count)).ok_or_else(short)?;
            (byte(19)?, byte(20)?, table.to_vec())
        }
    };
    let decoded = streams.checked_add(coupled).filter(|_| streams > 0 && coupled <= streams);
    let sound = |entry: &u8| *entry == 255 || decoded.is_some_and(|n| *entry < n);
    if count == 0 || count > 8 || decoded.is_none() || !channels.iter().all(sound) {
        return Err("its Opus header maps channels that there are not".to_owned());
    }
    // RFC 7845, 5.1.1.2 and 5.1.1.3: channels in the order of Vorbis, or in none.
    let placed = byte(18)? != 255;
    if placed {
        let order = crate::spec::vorbis_order(count.into());
        channels = order.iter().map(|&at| channels[at]).collect();
    }
    let mapping = Mapping { streams, coupled, channels, gain, placed };
    Ok((mapping, delay))
}

/// The header of the same stream with this many frames to leave out at its start; `None` where it cannot say so.
pub fn with_delay(mut head: Vec<u8>, delay: u64) -> Option<Vec<u8>> {
    let delay = u16::try_from(delay).ok()?;
    head.get_mut(10..12)?.copy_from_slice(&delay.to_le_bytes());
    Some(head)
}

/// RFC 6716, 3.1 and 3.2: how many frames of 48 kHz a packet holds.
pub fn frames(packet: &[u8]) -> u64 {
    let Some(&toc) = packet.first() else { return 0 };
    let config = toc >> 3;
    let length = match config {
        0..=11 => [480, 960, 1920, 2880][usize::from(config & 3)],
        12..=15 => [480, 960][usize::from(config & 1)],
        _ => 120 << (config & 3),
    };
    let pieces = match toc & 3 {
        0 => 1,
        3 => packet.get(1).map_or(0, |byte| u64::from(byte & 0x3F)),
        _ => 2,
    };
    length * pieces
}
