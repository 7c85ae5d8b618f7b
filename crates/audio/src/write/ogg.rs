//! Ogg with Vorbis: packets laced into pages, the position on each (RFC 3533; "Vorbis I specification",
//! appendix A).

use super::codec::vorbis::Vorbis;
use super::{Along, Out, Writer, all_came, comments, refused};
use crate::block::Block;
use crate::crc::OGG;
use crate::error::{Error, Result};
use crate::num::{count, low_byte};
use crate::read::ogg::vorbis::{Lengths, VorbisHeaders};
use crate::spec::Output;

/// Always the same stream number: one stream a file, and the same file for the same clip.
const SERIAL: u32 = 1;
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

/// Writes one file.
pub struct OggWriter<'a> {
    pager: Pager<'a>,
    output: &'a Output,
    encoder: Option<Vorbis>,
    headers: VorbisHeaders,
    lengths: Lengths,
    /// The packet that is held back: it may be the last.
    held: Option<Vec<u8>>,
    /// Frames up to the end of the packet held back.
    position: u64,
    /// Frames that decoders give before the first that counts.
    delay: u64,
    taken: u64,
    ended: bool,
}

impl<'a> OggWriter<'a> {
    /// Writes the three headers, the first on a page of its own, and ends their last page.
    ///
    /// # Errors
    /// [`Error::Write`]; [`Error::CannotMeet`] where the encoder refuses the format.
    pub fn new(out: &'a mut dyn Out, output: &'a Output, along: Along) -> Result<Self> {
        let mut vendor = "Deft Needle".to_owned();
        let (encoder, identification, setup, delay) = match along.stream {
            Some(stream) => match <[Vec<u8>; 2]>::try_from(stream.headers) {
                Ok([identification, setup]) => (None, identification, setup, stream.delay),
                Err(_) => return Err(refused(output, "its headers are not those of Vorbis")),
            },
            None => {
                let mut encoder =
                    Vorbis::new(output.format).map_err(|what| refused(output, &what))?;
                let mut next =
                    || encoder.next_packet().map(|packet| packet.bytes).unwrap_or_default();
                let [identification, texts, setup] = [next(), next(), next()];
                // Says which encoder it was, as players like to know.
                let name = texts.get(11..).unwrap_or_default();
                let length =
                    texts.get(7..11).and_then(|b| b.try_into().ok()).map_or(0, u32::from_le_bytes);
                let name = name.get(..crate::num::size(length.into())).unwrap_or_default();
                vendor = String::from_utf8_lossy(name).into_owned();
                (Some(encoder), identification, setup, 0)
            }
        };
        let headers =
            VorbisHeaders::parse(&identification, &setup).map_err(|what| refused(output, &what))?;
        let mut pager = Pager {
            out,
            lacing: Vec::new(),
            body: Vec::new(),
            granule: None,
            goes_on: false,
            number: 0,
        };
        let mut texts = b"\x03vorbis".to_vec();
        texts.extend_from_slice(&comments::comments(&vendor, output));
        texts.push(1);
        pager.packet(&identification, 0)?;
        pager.page(false)?;
        pager.packet(&texts, 0)?;
        pager.packet(&setup, 0)?;
        pager.page(false)?;
        Ok(Self {
            pager,
            output,
            encoder,
            headers,
            lengths: Lengths::default(),
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
        self.position += self.lengths.of(&self.headers, &packet);
        self.held = Some(packet);
        // The stream ends in the packet that holds the last frame.
        self.ended = self.position >= self.output.frames + self.delay && self.position > 0;
        Ok(())
    }

    fn release(&mut self, last: bool) -> Result<()> {
        let Some(packet) = self.held.take() else {
            return Ok(());
        };
        let position = self.position.saturating_sub(self.delay).min(self.output.frames);
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
        while let Some(packet) = self.encoder.as_mut().and_then(Vorbis::next_packet) {
            self.take(packet.bytes)?;
        }
        Ok(())
    }
}

impl Writer for OggWriter<'_> {
    fn write(&mut self, block: &Block) -> Result<()> {
        self.taken += count(block.frames());
        if let Some(encoder) = &mut self.encoder {
            encoder.encode(block).map_err(|what| refused(self.output, &what))?;
        }
        self.drain()
    }

    fn copy(&mut self, packet: &[u8]) -> Result<()> {
        self.take(packet.to_vec())
    }

    fn finish(&mut self) -> Result<()> {
        if let Some(encoder) = &mut self.encoder {
            encoder.finish().map_err(|what| refused(self.output, &what))?;
            all_came(self.output, self.taken)?;
        }
        self.drain()?;
        if self.position < self.output.frames + self.delay {
            let came = self.position.saturating_sub(self.delay);
            return all_came(self.output, came);
        }
        self.release(true)
    }
}
