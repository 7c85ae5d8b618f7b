//! MP3: texts, a frame that tells how long the stream is and what of it is not to be played, then the frames ("Mp3 info
//! tag", revision 1).

use super::codec::mp3::{Aim, DECODER_DELAY, DELAY, Form, Mp3, frames_for};
use super::{Along, Out, Writer, all_came, id3, refused};
use crate::block::Block;
use crate::crc::MP3;
use crate::error::{Error, Result};
use crate::num::{count, count32, low_byte, size};
use crate::read::Stream;
use crate::spec::{Format, Output, Quality};
use crc::{Digest, Table};
use std::io::SeekFrom;

/// Players trust the delay and the padding only behind these four letters.
const TRUSTED: u32 = 0x4C41_4D45;
/// Bytes of the info, from its mark up to its check sum.
const INFO: usize = 156;
/// Places in the index.
const PLACES: u64 = 100;

/// What is asked of the encoder.
fn aim(format: Format) -> Aim {
    match format.encoding.quality {
        Some(Quality::BitRate(kilobits)) => Aim::Constant(kilobits),
        Some(Quality::Average(kilobits)) => Aim::Average(kilobits),
        // From 6 dB above what is masked to 14 below.
        Some(Quality::Scale(tenths)) => Aim::Noise(6.0 - 0.2 * f32::from(tenths)),
        None => Aim::Constant(usual_bit_rate(format)),
    }
}

/// Where nothing is asked: two bits a sample, rounded up to what there is.
fn usual_bit_rate(format: Format) -> u16 {
    let kilobits = 2 * format.rate.hertz() * u32::from(format.channels.count()) / 1000;
    let rates = crate::spec::mp3_bit_rates(format.rate.hertz());
    let enough = rates.iter().find(|rate| u32::from(**rate) >= kilobits);
    enough.or(rates.last()).copied().unwrap_or(128)
}

/// A writer for samples, or for frames that are copied.
///
/// # Errors
/// [`Error::Write`]; [`Error::CannotMeet`] where the encoder refuses the format.
pub fn writer<'a>(
    out: &'a mut dyn Out,
    output: &'a Output,
    along: Along,
) -> Result<Box<dyn Writer + 'a>> {
    let (hertz, channels) =
        (output.format.rate.hertz(), usize::from(output.format.channels.count()));
    let form = Form::new(hertz, channels);
    let form = form.ok_or_else(|| refused(output, "it has no such rate"))?;
    let tag = id3::tag(output, &along);
    out.write_all(&tag).map_err(Error::write)?;
    let frames = output.before + output.frames;
    let (encoder, stream) = match along.stream {
        Some(stream) => (None, Some(stream)),
        None => {
            let encoder = Mp3::new(hertz, channels, aim(output.format));
            (Some(encoder.map_err(|what| refused(output, &what))?), None)
        }
    };
    let constant = match &stream {
        Some(stream) => only_bit_rate(form, stream),
        None => match aim(output.format) {
            Aim::Constant(kilobits) => Some(kilobits),
            _ => None,
        },
    };
    let expected = stream.as_ref().map_or(frames_for(form, frames), |stream| stream.packets);
    // What was not written with such a frame has nothing that it could tell.
    let delay = match &stream {
        Some(stream) => stream.delay.checked_sub(DECODER_DELAY),
        None => Some(DELAY - DECODER_DELAY + output.before),
    };
    let writer = Mp3Writer {
        out,
        output,
        form,
        encoder,
        constant,
        info: delay.map(|delay| Info { delay, place: count(tag.len()) }),
        expected,
        frames: 0,
        taken: 0,
        bytes: 0,
        sizes: Vec::new(),
        sum: MP3.digest(),
    };
    let place = vec![0; writer.info_frame().len()];
    writer.out.write_all(&place).map_err(Error::write)?;
    Ok(Box::new(writer))
}

/// The bit rate of frames that are copied, where their mean length is that of one, or has a byte more now and then.
fn only_bit_rate(form: Form, stream: &Stream) -> Option<u16> {
    let is_it = |kilobits: &u16| {
        let least = count(form.frame_bytes(*kilobits)) * stream.packets;
        (least..least + stream.packets).contains(&stream.bytes)
    };
    form.bit_rates().iter().copied().find(is_it)
}

/// The frame that tells of the others.
struct Info {
    delay: u64,
    place: u64,
}

struct Mp3Writer<'a> {
    out: &'a mut dyn Out,
    output: &'a Output,
    form: Form,
    encoder: Option<Mp3>,
    /// The bit rate of all frames, where they have one.
    constant: Option<u16>,
    info: Option<Info>,
    /// Frames of Layer III that will come, and have come.
    expected: u64,
    frames: u64,
    /// Samples that were taken in.
    taken: u64,
    bytes: u64,
    sizes: Vec<u16>,
    sum: Digest<'static, u16, Table<16>>,
}

impl Mp3Writer<'_> {
    fn frame(&mut self, bytes: &[u8]) -> Result<()> {
        // What comes after the last frame that holds the clip only pushed it out.
        if self.frames == self.expected {
            return Ok(());
        }
        self.frames += 1;
        self.bytes += count(bytes.len());
        self.sizes.push(u16::try_from(bytes.len()).unwrap_or(u16::MAX));
        self.sum.update(bytes);
        self.out.write_all(bytes).map_err(Error::write)
    }

    fn drain(&mut self) -> Result<()> {
        while let Some(frame) = self.encoder.as_mut().and_then(Mp3::next_frame) {
            self.frame(&frame)?;
        }
        Ok(())
    }

    /// The smallest frame that holds the info, of the stream's own bit rate where that is enough; nothing
    /// where there is none to write.
    fn info_frame(&self) -> Vec<u8> {
        let Some(Info { delay, .. }) = self.info else {
            return Vec::new();
        };
        let form = self.form;
        let needed = 4 + form.side_bytes() + INFO;
        let rates = form.bit_rates();
        let holds = |kilobits: &u16| form.frame_bytes(*kilobits) >= needed;
        let kilobits = self
            .constant
            .filter(holds)
            .or_else(|| rates.iter().copied().find(holds))
            .unwrap_or(rates[13]);
        let index = rates.iter().position(|rate| *rate == kilobits).unwrap_or(13);
        let stereo = form.channels == 2;
        let mut bytes = form.header(count32(index) + 1, false, stereo, false).to_vec();
        let length = form.frame_bytes(kilobits);
        bytes.resize(4 + form.side_bytes(), 0);
        let samples = self.expected * count(576 * form.granules());
        let padding = samples.saturating_sub(delay + self.output.frames).min(4095);
        bytes.extend_from_slice(if self.constant.is_some() { b"Info" } else { b"Xing" });
        // Frames, bytes and the index are told.
        bytes.extend_from_slice(&7u32.to_be_bytes());
        bytes.extend_from_slice(&u32::try_from(self.expected).unwrap_or(u32::MAX).to_be_bytes());
        let all = self.bytes + count(length);
        bytes.extend_from_slice(&u32::try_from(all).unwrap_or(u32::MAX).to_be_bytes());
        bytes.extend(self.places(count(length)));
        bytes.extend_from_slice(&TRUSTED.to_be_bytes());
        bytes.extend_from_slice(b"     ");
        // The first revision; constant, or varying in whatever way.
        bytes.push(if self.constant.is_some() { 1 } else { 3 });
        // The filter, levels, and what the encoder was told are left open.
        bytes.extend_from_slice(&[0; 10]);
        bytes.push(u8::try_from(kilobits).unwrap_or(u8::MAX));
        let both = (delay.min(4095) << 12 | padding).to_be_bytes();
        bytes.extend_from_slice(&both[5..]);
        bytes.extend_from_slice(&[0; 4]);
        bytes.extend_from_slice(&u32::try_from(all).unwrap_or(u32::MAX).to_be_bytes());
        bytes.extend_from_slice(&self.sum.clone().finalize().to_be_bytes());
        let sum = MP3.checksum(&bytes);
        bytes.extend_from_slice(&sum.to_be_bytes());
        bytes.resize(length, 0);
        bytes
    }

    /// For each hundredth of the time, where it lies, in 256ths of the bytes.
    fn places(&self, before: u64) -> Vec<u8> {
        let all = before + self.bytes;
        let frames = count(self.sizes.len());
        let (mut at, mut bytes) = (0, before);
        let place = |hundredth: u64| {
            let wanted = size(frames * hundredth / PLACES);
            while at < wanted {
                bytes += u64::from(self.sizes[at]);
                at += 1;
            }
            let part = crate::num::scaled(256, bytes, all.max(1)).min(255);
            low_byte(i32::try_from(part).unwrap_or(255))
        };
        (0..PLACES).map(place).collect()
    }
}

impl Writer for Mp3Writer<'_> {
    fn write(&mut self, block: &Block) -> Result<()> {
        self.taken += count(block.frames());
        if let Some(encoder) = &mut self.encoder {
            encoder.encode(block);
        }
        self.drain()
    }

    fn copy(&mut self, packet: &[u8]) -> Result<()> {
        self.frame(packet)
    }

    fn finish(&mut self) -> Result<()> {
        if let Some(encoder) = &mut self.encoder {
            encoder.finish();
            all_came(self.output, self.taken)?;
        }
        self.drain()?;
        if self.frames != self.expected {
            return Err(Error::Verify {
                what: format!("{} frames were planned, {} came", self.expected, self.frames),
            });
        }
        let Some(Info { place, .. }) = self.info else {
            return Ok(());
        };
        let info = self.info_frame();
        self.out.seek(SeekFrom::Start(place)).map_err(Error::write)?;
        self.out.write_all(&info).map_err(Error::write)?;
        self.out.seek(SeekFrom::End(0)).map_err(Error::write)?;
        Ok(())
    }
}
