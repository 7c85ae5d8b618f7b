//! Texts, loop points and markers as chunks of WAV.

use crate::clip::{Direction, Loop, Marker, Tag};
use crate::num::{count32, scaled};
use crate::units::SampleRate;

fn word(bytes: &mut Vec<u8>, value: u64) {
    let value = u32::try_from(value).unwrap_or(u32::MAX);
    bytes.extend_from_slice(&value.to_le_bytes());
}

/// A `smpl` chunk (RIFF 1.0, "Sampler Chunk"): nine words, then six a loop, whose end is the last frame
/// that is played. Middle C, no fine tuning.
pub fn smpl(loops: &[Loop], rate: SampleRate) -> Vec<u8> {
    let mut bytes = Vec::new();
    let period = scaled(1_000_000_000, 1, rate.hertz().into());
    for value in [0, 0, period, 60, 0, 0, 0, u64::from(count32(loops.len())), 0] {
        word(&mut bytes, value);
    }
    for (id, l) in (0..).zip(loops) {
        let kind = match l.direction {
            Direction::Forward => 0,
            Direction::PingPong => 1,
            Direction::Backward => 2,
        };
        for value in [id, kind, l.range.start, l.range.end - 1, 0, l.plays.into()] {
            word(&mut bytes, value);
        }
    }
    bytes
}

/// A `cue ` chunk (RIFF 1.0, "Cue-Points Chunk").
pub fn cue(markers: &[Marker]) -> Vec<u8> {
    let mut bytes = Vec::new();
    word(&mut bytes, count32(markers.len()).into());
    for (id, marker) in (1..).zip(markers) {
        word(&mut bytes, id);
        word(&mut bytes, marker.frame);
        bytes.extend_from_slice(b"data");
        for value in [0, 0, marker.frame] {
            word(&mut bytes, value);
        }
    }
    bytes
}

/// The names of markers (RIFF 1.0, "Associated Data List"); `None` where none has one.
pub fn names(markers: &[Marker]) -> Option<Vec<u8>> {
    let mut bytes = b"adtl".to_vec();
    for (id, marker) in (1..).zip(markers) {
        if !marker.name.is_empty() {
            let mut label = Vec::new();
            word(&mut label, id);
            label.extend_from_slice(marker.name.as_bytes());
            text_chunk(&mut bytes, b"labl", label);
        }
    }
    (bytes.len() > 4).then_some(bytes)
}

/// Texts (RIFF 1.0, "INFO List Chunk"); those without a name there are left out.
pub fn info(tags: &[Tag]) -> Option<Vec<u8>> {
    let mut bytes = b"INFO".to_vec();
    for tag in tags {
        if let Some(id) = tag.info_id() {
            text_chunk(&mut bytes, &id, tag.value.clone().into_bytes());
        }
    }
    (bytes.len() > 4).then_some(bytes)
}

/// A chunk whose text ends with a zero.
fn text_chunk(bytes: &mut Vec<u8>, id: &[u8; 4], mut text: Vec<u8>) {
    text.push(0);
    bytes.extend_from_slice(id);
    word(bytes, count32(text.len()).into());
    if text.len() % 2 == 1 {
        text.push(0);
    }
    bytes.extend_from_slice(&text);
}
