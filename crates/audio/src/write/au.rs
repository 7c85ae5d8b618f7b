//! AU: a header of six big-endian words, then samples (the manual page audio(4), Sun, 1991).

use super::plain::{PlainWriter, sample_bytes};
use super::{Along, Out};
use crate::error::Result;
use crate::spec::{ByteOrder, Codec, Output};

/// The header, with the empty text of four zeros that the format asks for at least.
const HEAD: u32 = 28;

/// The number of an encoding.
const fn number(codec: Codec) -> u32 {
    match codec {
        Codec::MuLaw => 1,
        Codec::Pcm8 => 2,
        Codec::Pcm24 => 4,
        Codec::Pcm32 => 5,
        Codec::F32 => 6,
        Codec::F64 => 7,
        Codec::ALaw => 27,
        Codec::G726At32 => 23,
        Codec::G722 => 24,
        Codec::G726At24 => 25,
        Codec::G726At40 => 26,
        _ => 3,
    }
}

/// A writer for an AU.
///
/// # Errors
/// [`crate::Error::Write`].
pub fn writer<'a>(
    out: &'a mut dyn Out,
    output: &'a Output,
    along: &Along,
) -> Result<PlainWriter<'a>> {
    let format = output.format;
    let bytes = u32::try_from(sample_bytes(output, along)).unwrap_or(u32::MAX);
    let words = [
        HEAD,
        bytes,
        number(format.encoding.codec),
        format.rate.hertz(),
        format.channels.count().into(),
        0,
    ];
    let mut head = b".snd".to_vec();
    head.extend(words.iter().flat_map(|word| word.to_be_bytes()));
    PlainWriter::new(out, output, ByteOrder::Big, along, (head, Vec::new()))
}
