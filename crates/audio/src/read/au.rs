//! AU: a header of six big-endian words, then samples (the manual page audio(4), Sun, 1991).

use super::bytes::{Bytes, be32, four};
use super::plain::Plain;
use super::{Opened, ReadSeek};
use crate::clip::{Extra, Note};
use crate::error::Result;
use crate::spec::Facts;
use crate::spec::{ByteOrder, Channels, Codec, Container, Encoding, Format};
use crate::units::SampleRate;
use std::path::Path;

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
];

/// Reads the header.
pub(super) fn open(file: &mut dyn ReadSeek, path: &Path) -> Result<Opened> {
    let mut bytes = Bytes::new(file, path, "AU")?;
    let head = bytes.at(0, 28)?;
    let word =
        |at: usize| be32(&head, at).ok_or_else(|| bytes.malformed("it ends within its header", 0));
    let (offset, stated) = (word(4)?, word(8)?);
    let (number, hertz, count) = (word(12)?, word(16)?, word(20)?);
    if offset < 24 {
        return Err(bytes.malformed("its samples begin within its header", 4));
    }
    let Some(&(_, codec)) = ENCODINGS.iter().find(|row| row.0 == number) else {
        return Err(bytes.unsupported(format!("AU with encoding number {number}")));
    };
    let rate = SampleRate::new(hertz)
        .ok_or_else(|| bytes.malformed("its sample rate is 0 or beyond 1.536 MHz", 16))?;
    let channels = u16::try_from(count).ok().and_then(Channels::new);
    let channels = channels.ok_or_else(|| match count {
        0 => bytes.malformed("it has 0 channels", 20),
        n => bytes.unsupported(format!("{n} channels (32 are the most)")),
    })?;
    let format =
        Format { container: Container::Au, encoding: Encoding::plain(codec), rate, channels };
    let offset = u64::from(offset);
    let in_file = bytes.length().saturating_sub(offset);
    let mut plain = Plain::samples(offset, 0, format, ByteOrder::Big);
    let mut notes = Vec::new();
    let promised = match stated {
        u32::MAX => {
            notes.push(Note::LengthLeftOpen);
            in_file
        }
        stated => stated.into(),
    };
    let frames = in_file.min(promised) / plain.unit_bytes;
    if in_file < promised {
        notes.push(Note::Truncated { promised: promised / plain.unit_bytes, held: frames });
    }
    plain.bytes = frames * plain.unit_bytes;
    // Four zeros are the empty text that the format asks for at least.
    let text = four(&head, 24).filter(|first| offset > 28 || (offset == 28 && *first != [0; 4]));
    let extras =
        text.map(|_| Extra { id: "annotation".to_owned(), offset: 24, bytes: offset - 24 });
    let facts = Facts {
        frames,
        audio_bytes: plain.bytes,
        extras: extras.into_iter().collect(),
        notes,
        ..Facts::new(format, bytes.length())
    };
    Ok(Opened::new(facts, plain))
}
