//! QOA files ("QOA Specification" 1.0, 2023): a head of eight bytes, then frames of 5,120 samples.

use super::Opened;
use super::bytes::{be16, be32};
use super::codec::qoa::{FRAME, SLICE, frame_bytes};
use super::plain::{Coding, Plain};
use super::reading::Reading;

use crate::error::Result;
use crate::num::count;
use crate::spec::Facts;
use crate::spec::{Channels, Codec, Container, Encoding, Format};

/// Reads the file's head and that of its first frame.
pub(super) fn open(mut file: Reading<'_>) -> Result<Opened> {
    let head = file.at(0, 16)?;
    let (Some(stated), Some(first)) = (be32(&head, 4), be32(&head, 8)) else {
        return Err(file.malformed("it ends within its first frame's header", 0));
    };
    let [count_byte, rate @ ..] = first.to_be_bytes();
    let channels = Channels::new(count_byte.into()).filter(|c| c.count() <= 8);
    let channels =
        channels.ok_or_else(|| file.malformed("it has no channels, or more than 8", 8))?;
    let hertz = u32::from_be_bytes([0, rate[0], rate[1], rate[2]]);
    let rate = file.rate(hertz, 9)?;
    let format =
        Format { container: Container::Qoa, encoding: Encoding::plain(Codec::Qoa), rate, channels };
    let unit = frame_bytes(256, channels.count().into());
    let in_file = file.length().saturating_sub(8);
    let whole = in_file / unit;
    let last = file.at(8 + whole * unit, 8)?;
    let rest = in_file % unit;
    // What a cut last frame still holds: whole slices of every channel.
    let slices = rest.saturating_sub(frame_bytes(0, channels.count().into()));
    let slices = slices / (8 * u64::from(channels.count()));
    let held_last = u64::from(be16(&last, 2).unwrap_or_default()).min(slices * count(SLICE));
    let held = whole * FRAME + held_last;
    // "A file with a total sample count of 0 is a stream" (1.0, file header).
    let promised = file.promised(Some(stated).filter(|n| *n > 0).map(u64::from), held);
    file.compare(promised, held);
    let frames = held.min(promised);
    let facts = Facts { frames, audio_bytes: in_file, ..Facts::new(format, file.length()) };
    let plain = Plain {
        offset: 8,
        bytes: in_file,
        unit_bytes: unit,
        unit_frames: FRAME,
        coding: Coding::Qoa,
    };
    Ok(file.opened(facts, plain))
}
