//! Samples without a header, of a format that the user states. 8-bit PCM is unsigned.

use super::bytes::Bytes;
use super::plain::Plain;
use super::{Opened, ReadSeek};
use crate::clip::Note;
use crate::error::{Error, Result};
use crate::spec::Facts;
use crate::spec::{ByteOrder, Container, Encoding, Format};
use std::path::Path;

/// Takes the whole file for samples.
pub(super) fn open(file: &mut dyn ReadSeek, path: &Path, stated: Format) -> Result<Opened> {
    let bytes = Bytes::new(file, path, "samples without a header")?;
    let codec = stated.encoding.codec;
    let Some(width) = codec.sample_bytes() else {
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
    let (unit, length) = (plain.unit_bytes, bytes.length());
    let frames = length / unit;
    plain.bytes = frames * unit;
    let rest = length % unit;
    let facts = Facts {
        frames,
        audio_bytes: plain.bytes,
        notes: (rest != 0)
            .then(|| Note::Corrected { what: format!("the last {rest} bytes make no whole frame") })
            .into_iter()
            .collect(),
        ..Facts::new(format, length)
    };
    Ok(Opened::new(facts, plain))
}
