//! AU: a header of six big-endian words, then samples (the manual page audio(4), Sun, 1991).

use super::Opened;
use super::bytes::{be32, four};
use super::plain::Plain;
use super::reading::Reading;
use crate::clip::Extra;
use crate::error::Result;
use crate::spec::Facts;
use crate::spec::{ByteOrder, Codec, Container, Encoding, Format};

/// The encodings that are decoded here, by their number.
const ENCODINGS: &[(u32, Codec)] = &[
    (1, Codec::MuLaw),
    (2, Codec::Pcm8),
    (3, Codec::Pcm16),
    (4, Codec::Pcm24),
    (5, Codec::Pcm32),
    (6, Codec::F32),
    (7, Codec::F64),
    (27, Codec::ALaw),
    (23, Codec::G726At32),
    (24, Codec::G722),
    (25, Codec::G726At24),
    (26, Codec::G726At40),
];

/// Reads the header.
pub(super) fn open(mut file: Reading<'_>) -> Result<Opened> {
    let head = file.at(0, 28)?;
    let word =
        |at: usize| be32(&head, at).ok_or_else(|| file.malformed("it ends within its header", 0));
    let (offset, stated) = (word(4)?, word(8)?);
    let (number, hertz, count) = (word(12)?, word(16)?, word(20)?);
    if offset < 24 {
        return Err(file.malformed("its samples begin within its header", 4));
    }
    let Some(&(_, codec)) = ENCODINGS.iter().find(|row| row.0 == number) else {
        return Err(file.unsupported(format!("AU with encoding number {number}")));
    };
    let format = Format {
        container: Container::Au,
        encoding: Encoding::plain(codec),
        rate: file.rate(hertz, 16)?,
        channels: file.channels(count, 20)?,
    };
    let one_only =
        matches!(codec, Codec::G722 | Codec::G726At24 | Codec::G726At32 | Codec::G726At40);
    if one_only && format.channels.count() != 1 {
        return Err(file.unsupported(format!(
            "{} in {} channels",
            format.encoding,
            format.channels.count()
        )));
    }
    let offset = u64::from(offset);
    let in_file = file.length().saturating_sub(offset);
    let mut plain = Plain::samples(offset, 0, format, ByteOrder::Big);
    let stated = Some(stated).filter(|bytes| *bytes != u32::MAX).map(u64::from);
    let promised = file.promised(stated, in_file);
    let units = in_file.min(promised) / plain.unit_bytes;
    let frames = units * plain.unit_frames;
    file.compare(promised / plain.unit_bytes * plain.unit_frames, frames);
    plain.bytes = units * plain.unit_bytes;
    // Four zeros are the empty text that the format asks for at least.
    let text = four(&head, 24).filter(|first| offset > 28 || (offset == 28 && *first != [0; 4]));
    let extras =
        text.map(|_| Extra { id: "annotation".to_owned(), offset: 24, bytes: offset - 24 });
    let facts = Facts {
        frames,
        audio_bytes: plain.bytes,
        extras: extras.into_iter().collect(),
        ..Facts::new(format, file.length())
    };
    Ok(file.opened(facts, plain))
}
