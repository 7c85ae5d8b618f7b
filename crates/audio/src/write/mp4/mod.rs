//! M4A: the description first, then the packets of one sound track.

mod boxes;
mod describe;

use super::codec::alac;
use super::{Along, Out, Writer, all_came, refused};
use crate::block::Block;
use crate::error::{Error, Result};
use crate::num::{count, count32, int32, size};
use crate::spec::Output;
use crate::spec::{Codec, Kind};
use boxes::{Movie, ftyp};
use std::io::SeekFrom;

/// About a second of packets.
fn in_chunk(rate: u32, packet_frames: u32) -> u32 {
    (rate / packet_frames.max(1)).max(1)
}

/// Writes packets behind a place that is kept for their description.
struct Track<'a> {
    out: &'a mut dyn Out,
    output: &'a Output,
    /// The contents of `stsd`, where they are known from the start.
    description: Vec<u8>,
    user: Option<Vec<u8>>,
    delay: u64,
    packet_frames: u32,
    coded_frames: u64,
    gapless: bool,
    expected: u64,
    sizes: Vec<u32>,
    head: u64,
}

impl<'a> Track<'a> {
    /// Keeps the place.
    fn new(out: &'a mut dyn Out, output: &'a Output, parts: Parts) -> Result<Self> {
        let mut track = Self {
            out,
            output,
            description: parts.description,
            user: parts.user,
            delay: parts.delay,
            packet_frames: parts.packet_frames,
            coded_frames: parts.coded_frames,
            gapless: parts.gapless,
            expected: parts.packets,
            sizes: vec![0; size(parts.packets)],
            head: 0,
        };
        track.head = count(ftyp().len()) + count(track.moov(0).len()) + 8;
        let place = vec![0; size(track.head)];
        track.out.write_all(&place).map_err(Error::write)?;
        track.sizes.clear();
        Ok(track)
    }

    fn moov(&self, first: u64) -> Vec<u8> {
        let movie = Movie {
            rate: self.output.format.rate.hertz(),
            frames: self.output.frames,
            delay: self.delay,
            packet_frames: self.packet_frames,
            coded_frames: self.coded_frames,
            sizes: &self.sizes,
            in_chunk: in_chunk(self.output.format.rate.hertz(), self.packet_frames),
            description: &self.description,
            tags: &self.output.tags,
            user: self.user.as_deref(),
            gapless: self.gapless,
        };
        movie.moov(first)
    }

    fn packet(&mut self, packet: &[u8]) -> Result<()> {
        self.sizes.push(count32(packet.len()));
        self.out.write_all(packet).map_err(Error::write)
    }

    /// Goes back and fills the place.
    fn finish(&mut self) -> Result<()> {
        if count(self.sizes.len()) != self.expected {
            return Err(Error::Verify {
                what: format!("{} packets were planned, {} came", self.expected, self.sizes.len()),
            });
        }
        let data: u64 = self.sizes.iter().map(|bytes| u64::from(*bytes)).sum();
        let Ok(length) = u32::try_from(data + 8) else {
            return Err(refused(self.output, "its packets take more than 4 GiB"));
        };
        let mut head = ftyp();
        head.extend_from_slice(&self.moov(self.head));
        head.extend_from_slice(&length.to_be_bytes());
        head.extend_from_slice(b"mdat");
        debug_assert_eq!(count(head.len()), self.head);
        self.out.seek(SeekFrom::Start(0)).map_err(Error::write)?;
        self.out.write_all(&head).map_err(Error::write)?;
        self.out.seek(SeekFrom::End(0)).map_err(Error::write)?;
        Ok(())
    }
}

/// What must be known before the first packet.
struct Parts {
    description: Vec<u8>,
    user: Option<Vec<u8>>,
    delay: u64,
    packet_frames: u32,
    coded_frames: u64,
    packets: u64,
    gapless: bool,
}

/// A writer for AAC, ALAC, or packets that are copied.
///
/// # Errors
/// [`Error::Write`]; [`Error::CannotMeet`] where the encoder refuses the format.
pub fn writer<'a>(
    out: &'a mut dyn Out,
    output: &'a Output,
    along: Along,
) -> Result<Box<dyn Writer + 'a>> {
    let user = along.chunks.into_iter().find(|(id, _)| id == "udta").map(|(_, bytes)| bytes);
    if let Some(stream) = along.stream {
        let lossy = output.format.encoding.codec.kind() == Kind::Lossy;
        let parts = Parts {
            description: stream.headers.into_iter().next().unwrap_or_default(),
            gapless: lossy,
            user,
            delay: stream.delay,
            packet_frames: stream.packet_frames,
            coded_frames: match lossy {
                true => stream.packets * u64::from(stream.packet_frames),
                false => output.frames,
            },
            packets: stream.packets,
        };
        return Ok(Box::new(Copied(Track::new(out, output, parts)?)));
    }
    match output.format.encoding.codec {
        #[cfg(feature = "aac")]
        Codec::Aac => Ok(Box::new(aac::AacWriter::new(out, output, user)?)),
        _ => Ok(Box::new(AlacWriter::new(out, output, user)?)),
    }
}

/// Packets as they are.
struct Copied<'a>(Track<'a>);

impl Writer for Copied<'_> {
    fn write(&mut self, _: &Block) -> Result<()> {
        Err(refused(self.0.output, "its packets are copied"))
    }

    fn copy(&mut self, packet: &[u8]) -> Result<()> {
        self.0.packet(packet)
    }

    fn finish(&mut self) -> Result<()> {
        self.0.finish()
    }
}

/// ALAC, packet by packet.
struct AlacWriter<'a> {
    track: Track<'a>,
    encoder: alac::Alac,
    waiting: Vec<Vec<i32>>,
    bits: u32,
    frames: u64,
}

impl<'a> AlacWriter<'a> {
    fn new(out: &'a mut dyn Out, output: &'a Output, user: Option<Vec<u8>>) -> Result<Self> {
        let bits = if output.format.encoding.codec == Codec::Alac16 { 16 } else { 24 };
        let channels = output.format.channels.count();
        let parts = Parts {
            description: describe::alac(output.format, bits, [0, 0]),
            user,
            delay: 0,
            packet_frames: alac::FRAMES,
            coded_frames: output.frames,
            packets: output.frames.div_ceil(alac::FRAMES.into()),
            gapless: false,
        };
        Ok(Self {
            track: Track::new(out, output, parts)?,
            encoder: alac::Alac::new(bits, channels.into()),
            waiting: vec![Vec::new(); channels.into()],
            bits,
            frames: 0,
        })
    }

    fn encode(&mut self, frames: usize) -> Result<()> {
        let part: Vec<Vec<i32>> =
            self.waiting.iter_mut().map(|w| w.drain(..frames).collect()).collect();
        let packet = self.encoder.packet(&part);
        self.track.packet(&packet)
    }
}

impl Writer for AlacWriter<'_> {
    fn write(&mut self, block: &Block) -> Result<()> {
        let scale = if self.bits == 16 { 32_768.0 } else { 8_388_608.0 };
        for (waiting, channel) in self.waiting.iter_mut().zip(block.channels()) {
            waiting.extend(channel.iter().map(|s| int32(s * scale)));
        }
        self.frames += count(block.frames());
        let whole = size(alac::FRAMES.into());
        while self.waiting[0].len() >= whole {
            self.encode(whole)?;
        }
        Ok(())
    }

    fn copy(&mut self, packet: &[u8]) -> Result<()> {
        self.track.packet(packet)
    }

    fn finish(&mut self) -> Result<()> {
        all_came(self.track.output, self.frames)?;
        let rest = self.waiting[0].len();
        if rest > 0 {
            self.encode(rest)?;
        }
        // Now the largest packet and the mean bit rate are known; the length stays.
        let largest = self.track.sizes.iter().max().copied().unwrap_or(0);
        let bytes: u64 = self.track.sizes.iter().map(|b| u64::from(*b)).sum();
        let rate = u64::from(self.track.output.format.rate.hertz());
        let mean = crate::num::scaled(8 * bytes, rate, self.frames.max(1));
        let mean = u32::try_from(mean).unwrap_or(u32::MAX);
        self.track.description =
            describe::alac(self.track.output.format, self.bits, [largest, mean]);
        self.track.finish()
    }
}

#[cfg(feature = "aac")]
mod aac {
    use super::super::codec::aac::{Aac, FRAMES};
    use super::{
        Block, Out, Output, Parts, Result, Track, Writer, all_came, count, describe, refused, size,
    };

    /// AAC, packet by packet.
    pub struct AacWriter<'a> {
        track: Track<'a>,
        encoder: Aac,
        frames: u64,
    }

    impl<'a> AacWriter<'a> {
        pub fn new(
            out: &'a mut dyn Out,
            output: &'a Output,
            user: Option<Vec<u8>>,
        ) -> Result<Self> {
            let encoder = Aac::new(output.format).map_err(|what| refused(output, &what))?;
            let delay = u64::from(encoder.delay) + output.before;
            let packets = (output.frames + delay).div_ceil(FRAMES.into());
            let parts = Parts {
                description: describe::aac(output.format, &encoder.config, [0, 0]),
                gapless: true,
                user,
                delay,
                packet_frames: FRAMES,
                coded_frames: packets * u64::from(FRAMES),
                packets,
            };
            Ok(Self { track: Track::new(out, output, parts)?, encoder, frames: 0 })
        }

        fn encode(&mut self, block: &Block) -> Result<()> {
            let Self { track, encoder, .. } = self;
            let mut written: Result<()> = Ok(());
            let left = |track: &Track<'_>| track.expected > count(track.sizes.len());
            let encoded = encoder.encode(block, |packet| {
                if written.is_ok() && left(track) {
                    written = track.packet(packet);
                }
            });
            encoded.map_err(|what| refused(track.output, &what))?;
            written
        }
    }

    impl Writer for AacWriter<'_> {
        fn write(&mut self, block: &Block) -> Result<()> {
            self.frames += count(block.frames());
            self.encode(block)
        }

        fn copy(&mut self, packet: &[u8]) -> Result<()> {
            self.track.packet(packet)
        }

        fn finish(&mut self) -> Result<()> {
            all_came(self.track.output, self.frames)?;
            // Silence behind the end pushes out what the encoder holds back.
            let mut silence = Block::default();
            silence.shape(self.track.output.format.channels.count().into(), size(FRAMES.into()));
            let most = self.track.expected + 8;
            for _ in 0..most {
                if count(self.track.sizes.len()) >= self.track.expected {
                    break;
                }
                self.encode(&silence)?;
            }
            let largest = self.track.sizes.iter().max().copied().unwrap_or(0);
            let bytes: u64 = self.track.sizes.iter().map(|b| u64::from(*b)).sum();
            let rate = u64::from(self.track.output.format.rate.hertz());
            let coded = self.track.coded_frames.max(1);
            let mean =
                u32::try_from(crate::num::scaled(8 * bytes, rate, coded)).unwrap_or(u32::MAX);
            let peak = u32::try_from(8 * u64::from(largest) * rate / u64::from(FRAMES))
                .unwrap_or(u32::MAX);
            let config = self.encoder.config.clone();
            self.track.description = describe::aac(self.track.output.format, &config, [peak, mean]);
            self.track.finish()
        }
    }
}
