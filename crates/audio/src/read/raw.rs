//! Samples without a header, of a format that the user states. 8-bit PCM is unsigned.

use super::Opened;
use super::plain::Plain;
use super::reading::Reading;
use crate::error::{Error, Result};
use crate::spec::Facts;
use crate::spec::{ByteOrder, Container, Encoding, Format};

/// Takes the whole file for samples.
pub(super) fn open(mut file: Reading<'_>, stated: Format) -> Result<Opened> {
    let codec = stated.encoding.codec;
    let running = codec.running_unit().map(|_| 1);
    let Some(width) = codec.sample_bytes().or(running) else {
        return Err(Error::BadSpec {
            line: stated.to_string(),
            what: format!("{} has no form without a header", codec.facts().word),
        });
    };
    let order = stated.encoding.order.unwrap_or(ByteOrder::Little);
    let format = Format {
        container: Container::Raw,
        encoding: Encoding { order: (width > 1).then_some(order), ..Encoding::plain(codec) },
        ..stated
    };
    // Unsigned bytes are what little-endian stands for where a sample is one byte.
    let order = if width == 1 { ByteOrder::Little } else { order };
    let mut plain = Plain::samples(0, 0, format, order);
    let (unit, length) = (plain.unit_bytes, file.length());
    let units = length / unit;
    let frames = units * plain.unit_frames;
    plain.bytes = units * unit;
    let rest = length % unit;
    if rest != 0 {
        file.corrected(format!(
            "the last {rest} bytes make no whole {}",
            if running.is_some() { "unit of codes" } else { "frame" }
        ));
    }
    let facts = Facts { frames, audio_bytes: plain.bytes, ..Facts::new(format, length) };
    Ok(file.opened(facts, plain))
}
