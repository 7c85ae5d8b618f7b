//! Files whose packets lie behind a description that is complete only once all have come: MP4 and CAF around ALAC, AAC
//! and what is copied.

use super::codec::alac;
use super::{Out, Writer, all_came, refused};
use crate::block::Block;
use crate::error::{Error, Result};
use crate::num::{count, count32, int32, size};
use crate::read::Stream;
use crate::spec::Output;
use crate::spec::{Codec, Format, Kind};
use std::io::SeekFrom;

/// What encoders tell of their packets.
pub enum Packed {
    /// ALAC.
    Alac {
        /// Bits of a sample.
        bits: u32,
        /// Its configuration, the largest packet in bytes and the mean bit rate in it.
        config: Vec<u8>,
    },
    /// AAC: its description of the stream (14496-1, 7.2.6), the largest and the mean bit rate in it.
    #[cfg(feature = "aac")]
    Aac(Vec<u8>),
}

/// What lies around the packets.
pub trait Wrap {
    /// Everything before `data` bytes of packets; always of one length.
    fn head(&self, track: &Track<'_>, data: u64) -> Vec<u8>;

    /// Everything behind them.
    fn tail(&self, track: &Track<'_>) -> Vec<u8>;

    /// What this container says of an encoder's packets.
    fn describe(&self, format: Format, packed: &Packed) -> Vec<u8>;

    /// The most bytes that it can count.
    fn most_bytes(&self) -> u64 {
        u64::MAX
    }
}

/// Writes packets behind a place that is kept for their description.
pub struct Track<'a> {
    out: &'a mut dyn Out,
    /// What the file will be.
    pub output: &'a Output,
    /// What decoders must know before the first packet, as the container has it.
    pub description: Vec<u8>,
    /// Frames that decoders give before the first that counts.
    pub delay: u64,
    /// Frames of a packet, and of the last one.
    pub packet_frames: u32,
    /// The frames of all packets.
    pub coded_frames: u64,
    /// How many packets were planned.
    pub expected: u64,
    /// Bytes of each packet.
    pub sizes: Vec<u32>,
    head: usize,
}

/// A track within what lies around it.
struct Wrapped<'a> {
    track: Track<'a>,
    wrap: Box<dyn Wrap>,
}

impl<'a> Wrapped<'a> {
    /// Keeps the place.
    fn new(
        out: &'a mut dyn Out,
        output: &'a Output,
        wrap: Box<dyn Wrap>,
        parts: Parts,
    ) -> Result<Self> {
        let mut track = Track {
            out,
            output,
            description: parts.description,
            delay: parts.delay,
            packet_frames: parts.packet_frames,
            coded_frames: parts.coded_frames,
            expected: parts.packets,
            sizes: vec![0; size(parts.packets)],
            head: 0,
        };
        track.head = wrap.head(&track, 0).len();
        let place = vec![0; track.head];
        track.out.write_all(&place).map_err(Error::write)?;
        track.sizes.clear();
        Ok(Self { track, wrap })
    }

    fn packet(&mut self, packet: &[u8]) -> Result<()> {
        self.track.packet(packet)
    }

    /// Goes back and fills the place.
    fn finish(&mut self) -> Result<()> {
        let Self { track, wrap } = self;
        if count(track.sizes.len()) != track.expected {
            let came = track.sizes.len();
            return Err(Error::Verify {
                what: format!("{} packets were planned, {came} came", track.expected),
            });
        }
        let data = track.bytes();
        if data > wrap.most_bytes() {
            return Err(refused(track.output, "its packets take more than 4 GiB"));
        }
        let (head, tail) = (wrap.head(track, data), wrap.tail(track));
        debug_assert_eq!(head.len(), track.head);
        track.out.write_all(&tail).map_err(Error::write)?;
        track.out.seek(SeekFrom::Start(0)).map_err(Error::write)?;
        track.out.write_all(&head).map_err(Error::write)?;
        track.out.seek(SeekFrom::End(0)).map_err(Error::write)?;
        Ok(())
    }

    /// The largest packet in bytes and the mean bit rate over `frames`.
    fn rates(&self, frames: u64) -> [u32; 2] {
        let largest = self.track.sizes.iter().max().copied().unwrap_or(0);
        let rate = u64::from(self.track.output.format.rate.hertz());
        let mean = crate::num::scaled(8 * self.track.bytes(), rate, frames.max(1));
        [largest, u32::try_from(mean).unwrap_or(u32::MAX)]
    }
}

impl Track<'_> {
    fn packet(&mut self, packet: &[u8]) -> Result<()> {
        self.sizes.push(count32(packet.len()));
        self.out.write_all(packet).map_err(Error::write)
    }

    /// Bytes of all packets.
    fn bytes(&self) -> u64 {
        self.sizes.iter().map(|bytes| u64::from(*bytes)).sum()
    }
}

/// What must be known before the first packet.
struct Parts {
    description: Vec<u8>,
    delay: u64,
    packet_frames: u32,
    coded_frames: u64,
    packets: u64,
}

/// A writer for AAC, ALAC, or packets that are copied.
///
/// # Errors
/// [`Error::Write`]; [`Error::CannotMeet`] where the encoder refuses the format.
pub fn writer<'a>(
    out: &'a mut dyn Out,
    output: &'a Output,
    stream: Option<Stream>,
    wrap: Box<dyn Wrap>,
) -> Result<Box<dyn Writer + 'a>> {
    if let Some(stream) = stream {
        let lossy = output.format.encoding.codec.kind() == Kind::Lossy;
        let parts = Parts {
            description: stream.headers.into_iter().next().unwrap_or_default(),
            delay: stream.delay,
            packet_frames: stream.packet_frames,
            coded_frames: match lossy {
                true => stream.packets * u64::from(stream.packet_frames),
                false => output.frames,
            },
            packets: stream.packets,
        };
        return Ok(Box::new(Copied(Wrapped::new(out, output, wrap, parts)?)));
    }
    match output.format.encoding.codec {
        #[cfg(feature = "aac")]
        Codec::Aac => Ok(Box::new(aac::AacWriter::new(out, output, wrap)?)),
        _ => Ok(Box::new(AlacWriter::new(out, output, wrap)?)),
    }
}

/// Packets as they are.
struct Copied<'a>(Wrapped<'a>);

impl Writer for Copied<'_> {
    fn write(&mut self, _: &Block) -> Result<()> {
        Err(refused(self.0.track.output, "its packets are copied"))
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
    track: Wrapped<'a>,
    encoder: alac::Alac,
    waiting: Vec<Vec<i32>>,
    bits: u32,
    frames: u64,
}

impl<'a> AlacWriter<'a> {
    fn new(out: &'a mut dyn Out, output: &'a Output, wrap: Box<dyn Wrap>) -> Result<Self> {
        let bits = if output.format.encoding.codec == Codec::Alac16 { 16 } else { 24 };
        let channels = output.format.channels.count();
        let parts = Parts {
            description: wrap.describe(output.format, &alac_of(output.format, bits, [0, 0])),
            delay: 0,
            packet_frames: alac::FRAMES,
            coded_frames: output.frames,
            packets: output.frames.div_ceil(alac::FRAMES.into()),
        };
        Ok(Self {
            track: Wrapped::new(out, output, wrap, parts)?,
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

/// Its configuration; `rates` are the largest packet in bytes and the mean bit rate.
fn alac_of(format: Format, bits: u32, [largest, mean]: [u32; 2]) -> Packed {
    let narrow = |n: u32| u8::try_from(n).unwrap_or(u8::MAX);
    let channels = narrow(format.channels.count().into());
    let config = alac::config(narrow(bits), channels, format.rate.hertz(), largest, mean);
    Packed::Alac { bits, config }
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
        let output = self.track.track.output;
        all_came(output, self.frames)?;
        let rest = self.waiting[0].len();
        if rest > 0 {
            self.encode(rest)?;
        }
        // Now the largest packet and the mean bit rate are known; the length stays.
        let rates = self.track.rates(self.frames);
        let packed = alac_of(output.format, self.bits, rates);
        self.track.track.description = self.track.wrap.describe(output.format, &packed);
        self.track.finish()
    }
}

#[cfg(feature = "aac")]
mod aac {
    use super::super::codec::aac::{Aac, FRAMES};
    use super::{
        Block, Out, Output, Packed, Parts, Result, Wrap, Wrapped, Writer, all_came, count, refused,
        size,
    };

    /// AAC, packet by packet.
    pub struct AacWriter<'a> {
        track: Wrapped<'a>,
        encoder: Aac,
        frames: u64,
    }

    impl<'a> AacWriter<'a> {
        pub fn new(out: &'a mut dyn Out, output: &'a Output, wrap: Box<dyn Wrap>) -> Result<Self> {
            let encoder = Aac::new(output.format).map_err(|what| refused(output, &what))?;
            let delay = u64::from(encoder.delay) + output.before;
            let packets = (output.frames + delay).div_ceil(FRAMES.into());
            let packed = Packed::Aac(encoder.stream([0, 0]));
            let parts = Parts {
                description: wrap.describe(output.format, &packed),
                delay,
                packet_frames: FRAMES,
                coded_frames: packets * u64::from(FRAMES),
                packets,
            };
            Ok(Self { track: Wrapped::new(out, output, wrap, parts)?, encoder, frames: 0 })
        }

        fn encode(&mut self, block: &Block) -> Result<()> {
            let Self { track: Wrapped { track, .. }, encoder, .. } = self;
            let mut written: Result<()> = Ok(());
            let encoded = encoder.encode(block, |packet| {
                if written.is_ok() && track.expected > count(track.sizes.len()) {
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
            let output = self.track.track.output;
            all_came(output, self.frames)?;
            // Silence behind the end pushes out what the encoder holds back.
            let mut silence = Block::default();
            silence.shape(output.format.channels.count().into(), size(FRAMES.into()));
            let expected = self.track.track.expected;
            for _ in 0..expected + 8 {
                if count(self.track.track.sizes.len()) >= expected {
                    break;
                }
                self.encode(&silence)?;
            }
            let [largest, mean] = self.track.rates(self.track.track.coded_frames);
            let rate = u64::from(output.format.rate.hertz());
            let peak = 8 * u64::from(largest) * rate / u64::from(FRAMES);
            let peak = u32::try_from(peak).unwrap_or(u32::MAX);
            let packed = Packed::Aac(self.encoder.stream([peak, mean]));
            self.track.track.description = self.track.wrap.describe(output.format, &packed);
            self.track.finish()
        }
    }
}
