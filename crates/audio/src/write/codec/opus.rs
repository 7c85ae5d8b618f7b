//! Samples to Opus packets, by the ropus crate; always at 48,000 Hz (RFC 6716; RFC 7845, 5.1).

use crate::block::Block;
use crate::num::{sample16, size};
use crate::spec::{Format, Quality, vorbis_order};
use crate::units::SampleRate;
use ropus::{OPUS_APPLICATION_AUDIO, OpusMSEncoder};
use std::collections::VecDeque;

/// Frames of a packet: 20 ms.
pub const FRAMES: u64 = 960;
/// Frames that decoders give before the first that was put in: 2.5 ms of overlap and 4 ms by which the encoder looks
/// ahead. The crate tells the latter alone.
pub const DELAY: u64 = 120 + 192;
/// A packet takes no more bytes for each stream (RFC 6716, 3.4), with their lengths.
const MOST_BYTES: usize = 1277;

/// Encodes packet after packet.
pub struct Opus {
    encoder: OpusMSEncoder,
    /// The identification header (RFC 7845, 5.1), but for the frames to leave out.
    head: Vec<u8>,
    /// For each channel that goes in, the place that it has within a frame.
    order: Vec<usize>,
    waiting: Vec<i16>,
    packets: VecDeque<Vec<u8>>,
    packet: Vec<u8>,
}

/// Bits a second: as asked, or by a scale from 24 to 160 kbit/s a channel.
fn bit_rate(format: Format) -> i32 {
    let channels = i32::from(format.channels.count());
    match format.encoding.quality {
        Some(Quality::BitRate(kilobits) | Quality::Average(kilobits)) => 1000 * i32::from(kilobits),
        Some(Quality::Scale(tenths)) => channels * (24_000 + 1_360 * i32::from(tenths)),
        None => channels * 64_000,
    }
}

impl Opus {
    /// Prepares the encoder: one or two channels as one stream, more with the places of Vorbis, or without any where
    /// none are stated. `original` is the rate of what is encoded, which the header tells.
    ///
    /// # Errors
    /// What it refuses, in words.
    pub fn new(format: Format, original: SampleRate) -> Result<Self, String> {
        let count = format.channels.count();
        let family: u8 = match (count, format.channels.layout()) {
            (1 | 2, _) => 0,
            (_, Some(_)) => 1,
            (_, None) => 255,
        };
        let refused = |code: i32| format!("the encoder refuses it with code {code}");
        let hertz = format.rate.hertz().cast_signed();
        let (mut encoder, streams, coupled, mapping) =
            OpusMSEncoder::new_surround(hertz, count.into(), family.into(), OPUS_APPLICATION_AUDIO)
                .map_err(refused)?;
        let constant = matches!(format.encoding.quality, Some(Quality::BitRate(_)));
        for code in [
            encoder.set_bitrate(bit_rate(format)),
            encoder.set_vbr(i32::from(!constant)),
            encoder.set_complexity(10),
        ] {
            if code != 0 {
                return Err(refused(code));
            }
        }
        let byte = |n: i32| u8::try_from(n).unwrap_or(0);
        let mut head = b"OpusHead\x01".to_vec();
        head.push(u8::try_from(count).unwrap_or(0));
        head.extend_from_slice(&[0; 2]);
        head.extend_from_slice(&original.hertz().to_le_bytes());
        head.extend_from_slice(&[0, 0, family]);
        if family > 0 {
            head.extend_from_slice(&[byte(streams), byte(coupled)]);
            head.extend_from_slice(&mapping);
        }
        let channels = usize::from(count);
        let order = match family {
            1 => vorbis_order(channels).to_vec(),
            _ => (0..channels).collect(),
        };
        Ok(Self {
            packet: vec![0; MOST_BYTES * size(u64::from(streams.unsigned_abs())) + 64],
            encoder,
            head,
            order,
            waiting: Vec::new(),
            packets: VecDeque::new(),
        })
    }

    /// The identification header.
    pub fn head(&self) -> Vec<u8> {
        self.head.clone()
    }

    /// Takes frames in, channels in the order of WAV.
    ///
    /// # Errors
    /// What the encoder refuses, in words.
    pub fn encode(&mut self, block: &Block) -> Result<(), String> {
        let channels = self.order.len();
        let from = self.waiting.len();
        self.waiting.resize(from + channels * block.frames(), 0);
        for (channel, place) in block.channels().iter().zip(&self.order) {
            let places = self.waiting[from + place..].iter_mut().step_by(channels);
            for (waiting, sample) in places.zip(channel) {
                *waiting = sample16(*sample);
            }
        }
        let whole = channels * size(FRAMES);
        let mut used = 0;
        while self.waiting.len() >= used + whole {
            let most = i32::try_from(self.packet.len()).unwrap_or(0);
            let length = self
                .encoder
                .encode(&self.waiting[used..used + whole], 960, &mut self.packet, most)
                .map_err(|code| format!("the encoder stopped with code {code}"))?;
            let length = usize::try_from(length).unwrap_or(0);
            self.packets.push_back(self.packet[..length].to_vec());
            used += whole;
        }
        self.waiting.drain(..used);
        Ok(())
    }

    /// The next packet that is ready.
    pub fn next_packet(&mut self) -> Option<Vec<u8>> {
        self.packets.pop_front()
    }
}
