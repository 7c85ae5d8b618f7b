//! M4A: the description first, then the packets of one sound track.

mod boxes;
mod describe;

use super::packets::{Packed, Track, Wrap};
use super::{Along, Out, Writer};
use crate::error::Result;
use crate::num::count;
use crate::spec::{Format, Kind, Output};
use boxes::{Movie, ftyp};

/// About a second of packets.
fn in_chunk(rate: u32, packet_frames: u32) -> u32 {
    (rate / packet_frames.max(1)).max(1)
}

/// Around the packets.
struct Mp4 {
    /// The `udta` box that comes along instead of texts.
    user: Option<Vec<u8>>,
}

impl Mp4 {
    fn moov(&self, track: &Track<'_>, first: u64) -> Vec<u8> {
        let format = track.output.format;
        let movie = Movie {
            rate: format.rate.hertz(),
            frames: track.output.frames,
            delay: track.delay,
            packet_frames: track.packet_frames,
            coded_frames: track.coded_frames,
            sizes: &track.sizes,
            in_chunk: in_chunk(format.rate.hertz(), track.packet_frames),
            description: &track.description,
            tags: &track.output.tags,
            user: self.user.as_deref(),
            gapless: format.encoding.codec.kind() == Kind::Lossy,
        };
        movie.moov(first)
    }
}

impl Wrap for Mp4 {
    fn head(&self, track: &Track<'_>, data: u64) -> Vec<u8> {
        let mut head = ftyp();
        let first = count(head.len()) + count(self.moov(track, 0).len()) + 8;
        head.extend_from_slice(&self.moov(track, first));
        let length = u32::try_from(data + 8).unwrap_or(u32::MAX);
        head.extend_from_slice(&length.to_be_bytes());
        head.extend_from_slice(b"mdat");
        head
    }

    fn tail(&self, _: &Track<'_>) -> Vec<u8> {
        Vec::new()
    }

    fn describe(&self, format: Format, packed: &Packed) -> Vec<u8> {
        match packed {
            Packed::Alac { bits, config } => describe::alac(format, *bits, config),
            #[cfg(feature = "aac")]
            Packed::Aac(stream) => describe::aac(format, stream),
        }
    }

    fn most_bytes(&self) -> u64 {
        u64::from(u32::MAX) - 8
    }
}

/// A writer for AAC, ALAC, or packets that are copied.
///
/// # Errors
/// [`crate::Error::Write`]; [`crate::Error::CannotMeet`] where the encoder refuses the format.
pub fn writer<'a>(
    out: &'a mut dyn Out,
    output: &'a Output,
    along: Along,
) -> Result<Box<dyn Writer + 'a>> {
    let user = along.chunks.into_iter().find(|(id, _)| id == "udta").map(|(_, bytes)| bytes);
    super::packets::writer(out, output, along.stream, Box::new(Mp4 { user }))
}
