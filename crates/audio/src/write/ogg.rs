//! Ogg with Vorbis, Opus or FLAC: packets laced into pages, the position on each (RFC 3533; "Vorbis I
//! specification", appendix A; RFC 7845; RFC 9639, 10.1).

use super::codec::flac::Flac;
use super::codec::opus::{DELAY, FRAMES, Opus};
use super::codec::vorbis::Vorbis;
use super::{Along, Out, Writer, all_came, comments, refused};
use crate::block::Block;
use crate::crc::OGG;
use crate::error::{Error, Result};
use crate::num::{count, count32, low_byte};
use crate::read::Stream;
use crate::read::flac::frame_head;
use crate::read::ogg::opus::{frames as opus_frames, with_delay};
use crate::read::ogg::vorbis::{Lengths, VorbisHeaders};
use crate::spec::{Codec, Output};
use std::collections::VecDeque;
use std::io::SeekFrom;

/// Always the same stream number: one stream a file, and the same file for the same clip.
const SERIAL: u32 = 1;
/// Who wrote it, where the encoder has no name of its own.
const VENDOR: &str = "Deft Needle";
/// A page is closed once it holds this many bytes (RFC 3533, 6: "a size of 4 to 8 kB is usual").
const PAGE_BYTES: usize = 4096;

/// Gathers packets into pages.
struct Pager<'a> {
    out: &'a mut dyn Out,
    lacing: Vec<u8>,
    body: Vec<u8>,
    /// Position of the last packet that ends on this page.
    granule: Option<u64>,
    goes_on: bool,
    number: u32,
}

impl Pager<'_> {
    /// Adds a packet; a page that overflows within it goes out.
    fn packet(&mut self, packet: &[u8], granule: u64) -> Result<()> {
        let mut rest = packet;
        loop {
            if self.lacing.len() == 255 {
                self.page(false)?;
                self.goes_on = !std::ptr::eq(rest, packet);
            }
            let (segment, more) = rest.split_at(rest.len().min(255));
            self.lacing.push(low_byte(i32::try_from(segment.len()).unwrap_or(0)));
            self.body.extend_from_slice(segment);
            rest = more;
            if segment.len() < 255 {
                break;
            }
        }
        self.granule = Some(granule);
        Ok(())
    }

    fn page(&mut self, last: bool) -> Result<()> {
        let first = self.number == 0;
        let flags = u8::from(self.goes_on) | u8::from(first) << 1 | u8::from(last) << 2;
        let mut page = b"OggS\0".to_vec();
        page.push(flags);
        page.extend_from_slice(&self.granule.unwrap_or(u64::MAX).to_le_bytes());
        page.extend_from_slice(&SERIAL.to_le_bytes());
        page.extend_from_slice(&self.number.to_le_bytes());
        page.extend_from_slice(&[0; 4]);
        page.push(u8::try_from(self.lacing.len()).unwrap_or(255));
        page.extend_from_slice(&self.lacing);
        page.extend_from_slice(&self.body);
        let sum = OGG.checksum(&page);
        page[22..26].copy_from_slice(&sum.to_le_bytes());
        self.out.write_all(&page).map_err(Error::write)?;
        self.lacing.clear();
        self.body.clear();
        (self.granule, self.goes_on) = (None, false);
        self.number += 1;
        Ok(())
    }
}

/// What makes the packets.
enum Encoder {
    Vorbis(Vorbis),
    Opus(Opus),
    Flac(Box<Flac>, VecDeque<Vec<u8>>),
}

impl Encoder {
    fn encode(&mut self, block: &Block) -> Result<(), String> {
        match self {
            Self::Vorbis(vorbis) => vorbis.encode(block),
            Self::Opus(opus) => opus.encode(block),
            Self::Flac(flac, packets) => flac.encode(block, |frame| {
                packets.push_back(frame);
                Ok(())
            }),
        }
    }

    fn next_packet(&mut self) -> Option<Vec<u8>> {
        match self {
            Self::Vorbis(vorbis) => vorbis.next_packet().map(|packet| packet.bytes),
            Self::Opus(opus) => opus.next_packet(),
            Self::Flac(_, packets) => packets.pop_front(),
        }
    }
}

/// What tells how many frames a packet holds.
enum Clock {
    Vorbis(VorbisHeaders, Lengths),
    Opus,
    Flac,
}

impl Clock {
    fn frames(&mut self, packet: &[u8]) -> u64 {
        match self {
            Self::Vorbis(headers, lengths) => lengths.of(headers, packet),
            Self::Opus => opus_frames(packet),
            Self::Flac => frame_head(packet, 0).map_or(0, |head| head.1),
        }
    }
}

/// Writes one file.
pub struct OggWriter<'a> {
    pager: Pager<'a>,
    output: &'a Output,
    encoder: Option<Encoder>,
    clock: Clock,
    /// The packet that is held back: it may be the last.
    held: Option<Vec<u8>>,
    /// Frames up to the end of the packet held back.
    position: u64,
    /// Frames that decoders give before the first that counts.
    delay: u64,
    taken: u64,
    ended: bool,
}

/// What comes before the sound: header packets, each group on pages of its own.
struct Start {
    encoder: Option<Encoder>,
    clock: Clock,
    delay: u64,
    headers: [Vec<Vec<u8>>; 2],
}

/// Three headers: identification, texts, setup ("Vorbis I specification", 4.2).
fn vorbis(output: &Output, stream: Option<Stream>) -> Result<Start> {
    let mut vendor = VENDOR.to_owned();
    let (encoder, identification, setup, delay) = match stream {
        Some(stream) => match <[Vec<u8>; 2]>::try_from(stream.headers) {
            Ok([identification, setup]) => (None, identification, setup, stream.delay),
            Err(_) => return Err(refused(output, "its headers are not those of Vorbis")),
        },
        None => {
            let mut encoder = Vorbis::new(output.format).map_err(|what| refused(output, &what))?;
            let mut next = || encoder.next_packet().map(|packet| packet.bytes).unwrap_or_default();
            let [identification, texts, setup] = [next(), next(), next()];
            // Says which encoder it was, as players like to know.
            let name = texts.get(11..).unwrap_or_default();
            let length =
                texts.get(7..11).and_then(|b| b.try_into().ok()).map_or(0, u32::from_le_bytes);
            let name = name.get(..crate::num::size(length.into())).unwrap_or_default();
            vendor = String::from_utf8_lossy(name).into_owned();
            (Some(Encoder::Vorbis(encoder)), identification, setup, 0)
        }
    };
    let headers =
        VorbisHeaders::parse(&identification, &setup).map_err(|what| refused(output, &what))?;
    let mut texts = b"\x03vorbis".to_vec();
    texts.extend_from_slice(&comments::comments(&vendor, output));
    texts.push(1);
    Ok(Start {
        encoder,
        clock: Clock::Vorbis(headers, Lengths::default()),
        delay,
        headers: [vec![identification], vec![texts, setup]],
    })
}

/// Two headers: identification and texts (RFC 7845, 5).
fn opus(output: &Output, stream: Option<Stream>) -> Result<Start> {
    let (encoder, head, delay) = match stream {
        Some(stream) => match <[Vec<u8>; 1]>::try_from(stream.headers) {
            Ok([head]) => (None, head, stream.delay),
            Err(_) => return Err(refused(output, "its header is not that of Opus")),
        },
        None => {
            let encoder = Opus::new(output.format, output.original.unwrap_or(output.format.rate))
                .map_err(|what| refused(output, &what))?;
            let delay = DELAY + output.before;
            let head = encoder.head();
            (Some(Encoder::Opus(encoder)), head, delay)
        }
    };
    let head = with_delay(head, delay)
        .ok_or_else(|| refused(output, "too many frames come before the first"))?;
    let texts = [b"OpusTags".to_vec(), comments::comments(VENDOR, output)].concat();
    Ok(Start { encoder, clock: Clock::Opus, delay, headers: [vec![head], vec![texts]] })
}

impl<'a> OggWriter<'a> {
    /// Writes the headers, the first on a page of its own, and ends their last page.
    ///
    /// # Errors
    /// [`Error::Write`]; [`Error::CannotMeet`] where the encoder refuses the format.
    pub fn new(out: &'a mut dyn Out, output: &'a Output, along: Along) -> Result<Self> {
        let Start { encoder, clock, delay, headers } = match output.format.encoding.codec {
            Codec::Opus => opus(output, along.stream)?,
            Codec::Flac16 | Codec::Flac24 => flac(output, along.stream)?,
            _ => vorbis(output, along.stream)?,
        };
        let mut pager = Pager {
            out,
            lacing: Vec::new(),
            body: Vec::new(),
            granule: None,
            goes_on: false,
            number: 0,
        };
        for group in headers {
            for packet in group {
                pager.packet(&packet, 0)?;
            }
            pager.page(false)?;
        }
        Ok(Self {
            pager,
            output,
            encoder,
            clock,
            held: None,
            position: 0,
            delay,
            taken: 0,
            ended: false,
        })
    }

    /// Takes a packet in, and lets the one before it go.
    fn take(&mut self, packet: Vec<u8>) -> Result<()> {
        if self.ended {
            return Ok(());
        }
        self.release(false)?;
        self.position += self.clock.frames(&packet);
        self.held = Some(packet);
        // The stream ends in the packet that holds the last frame.
        self.ended = self.position >= self.output.frames + self.delay && self.position > 0;
        Ok(())
    }

    fn release(&mut self, last: bool) -> Result<()> {
        let Some(packet) = self.held.take() else {
            return Ok(());
        };
        // Opus counts what is not played, too (RFC 7845, 4.3).
        let position = match self.clock {
            Clock::Opus => self.position.min(self.output.frames + self.delay),
            Clock::Vorbis(..) | Clock::Flac => {
                self.position.saturating_sub(self.delay).min(self.output.frames)
            }
        };
        let full = self.pager.body.len() >= PAGE_BYTES;
        if full {
            self.pager.page(false)?;
        }
        self.pager.packet(&packet, position)?;
        if last {
            self.pager.page(true)?;
        }
        Ok(())
    }

    fn drain(&mut self) -> Result<()> {
        while let Some(packet) = self.encoder.as_mut().and_then(Encoder::next_packet) {
            self.take(packet)?;
        }
        Ok(())
    }

    fn encode(&mut self, block: &Block) -> Result<()> {
        if let Some(encoder) = &mut self.encoder {
            encoder.encode(block).map_err(|what| refused(self.output, &what))?;
        }
        self.drain()
    }

    /// What FLAC says of all its samples is known at the end, and stands on the first page.
    fn fill_in(&mut self) -> Result<()> {
        let Some(Encoder::Flac(flac, _)) = &self.encoder else {
            return Ok(());
        };
        let head = flac_head(&flac.stream_info(self.output.frames));
        self.pager.out.seek(SeekFrom::Start(0)).map_err(Error::write)?;
        self.pager.number = 0;
        self.pager.packet(&head, 0)?;
        self.pager.page(false)?;
        self.pager.out.seek(SeekFrom::End(0)).map_err(Error::write)?;
        Ok(())
    }

    /// Brings out what the encoder holds back.
    fn flush(&mut self) -> Result<()> {
        match &mut self.encoder {
            Some(Encoder::Vorbis(vorbis)) => {
                vorbis.finish().map_err(|what| refused(self.output, &what))?;
                self.drain()
            }
            Some(Encoder::Flac(flac, packets)) => {
                packets.extend(flac.finish());
                self.drain()
            }
            Some(Encoder::Opus(_)) => {
                let mut silence = Block::default();
                let channels = self.output.format.channels.count();
                silence.shape(channels.into(), crate::num::size(FRAMES));
                while !self.ended {
                    self.encode(&silence)?;
                }
                Ok(())
            }
            None => Ok(()),
        }
    }
}

impl Writer for OggWriter<'_> {
    fn write(&mut self, block: &Block) -> Result<()> {
        self.taken += count(block.frames());
        self.encode(block)
    }

    fn copy(&mut self, packet: &[u8]) -> Result<()> {
        self.take(packet.to_vec())
    }

    fn finish(&mut self) -> Result<()> {
        if self.encoder.is_some() {
            all_came(self.output, self.taken)?;
        }
        self.flush()?;
        if self.position < self.output.frames + self.delay {
            let came = self.position.saturating_sub(self.delay);
            return all_came(self.output, came);
        }
        self.release(true)?;
        self.fill_in()
    }
}

/// Two headers: STREAMINFO behind what tells that it is FLAC, and texts as the last block of metadata (RFC 9639, 10.1).
fn flac(output: &Output, stream: Option<Stream>) -> Result<Start> {
    let (encoder, info) = match stream {
        Some(stream) => match <[Vec<u8>; 1]>::try_from(stream.headers) {
            Ok([info]) => (None, info),
            Err(_) => return Err(refused(output, "its header is not that of FLAC")),
        },
        None => {
            let encoder = Flac::new(output.format);
            let info = encoder.stream_info(output.frames);
            (Some(Encoder::Flac(Box::new(encoder), VecDeque::new())), info)
        }
    };
    let texts = comments::comments(VENDOR, output);
    let length = count32(texts.len()).to_be_bytes();
    let texts = [&[0x84], &length[1..], &texts].concat();
    let headers = [vec![flac_head(&info)], vec![texts]];
    Ok(Start { encoder, clock: Clock::Flac, delay: 0, headers })
}

/// The first packet: a mark, version 1.0, one more header, then as a file of FLAC begins.
fn flac_head(info: &[u8]) -> Vec<u8> {
    [b"\x7FFLAC\x01\0\0\x01fLaC\0\0\0\x22", info].concat()
}
