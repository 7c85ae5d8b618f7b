//! Samples to FLAC frames (RFC 9639): prediction from up to four samples by fixed rules or from up to
//! ten by a fitted one, residuals as Rice codes in partitions.

mod predict;
mod rice;

use super::bits::Bits;
use super::plain_pcm;
use crate::block::Block;
use crate::crc::{FLAC_FRAME, FLAC_HEADER};
use crate::num::{count, count32, nearest32};
use crate::spec::{Codec, Format};
use md5::{Digest as _, Md5};
use predict::subframe;
use std::borrow::Cow;

/// Frames of sound in a frame.
const BLOCK: usize = 4096;

/// How hard small frames are sought.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Effort {
    /// The best of a fixed and a fitted prediction.
    Full,
    /// Fixed predictions alone: twice as fast, and some percent larger.
    Quick,
}

/// Gathers samples until a frame is full, and what STREAMINFO tells of all.
pub struct Flac {
    codec: Codec,
    rate: u32,
    waiting: Vec<Vec<i32>>,
    bytes: Vec<u8>,
    /// None where nobody will ask for it.
    sum: Option<Md5>,
    effort: Effort,
    number: u64,
    sizes: (usize, usize),
    /// Frames of sound that were taken in.
    pub taken: u64,
}

impl Flac {
    /// For 16 or 24 bits.
    pub fn new(format: Format) -> Self {
        Self {
            codec: format.encoding.codec,
            rate: format.rate.hertz(),
            waiting: vec![Vec::new(); format.channels.count().into()],
            bytes: Vec::new(),
            sum: Some(Md5::new()),
            effort: Effort::Full,
            number: 0,
            sizes: (usize::MAX, 0),
            taken: 0,
        }
    }

    /// For what is played once: made quickly, and without a check sum of all samples.
    #[must_use]
    pub fn quick(self) -> Self {
        Self { sum: None, effort: Effort::Quick, ..self }
    }

    const fn bits(&self) -> u32 {
        if matches!(self.codec, Codec::Flac16) { 16 } else { 24 }
    }

    /// Takes samples in; hands over every frame that is full.
    pub fn encode<E>(
        &mut self,
        block: &Block,
        mut put: impl FnMut(Vec<u8>) -> Result<(), E>,
    ) -> Result<(), E> {
        let (scale, plain) = match self.bits() {
            16 => (32_768.0, Codec::Pcm16),
            _ => (8_388_608.0, Codec::Pcm24),
        };
        for (waiting, channel) in self.waiting.iter_mut().zip(block.channels()) {
            waiting
                .extend(channel.iter().map(|s| nearest32((s * scale).clamp(-scale, scale - 1.0))));
        }
        if let Some(sum) = &mut self.sum {
            // RFC 9639, 8.2: the check sum is that of the samples, little-endian and interleaved.
            self.bytes.clear();
            plain_pcm(plain, block, &mut self.bytes);
            sum.update(&self.bytes);
        }
        self.taken += count(block.frames());
        while self.waiting[0].len() >= BLOCK {
            put(self.frame(BLOCK))?;
        }
        Ok(())
    }

    /// The last frame, where samples are left.
    pub fn finish(&mut self) -> Option<Vec<u8>> {
        let rest = self.waiting[0].len();
        (rest > 0).then(|| self.frame(rest))
    }

    fn frame(&mut self, frames: usize) -> Vec<u8> {
        let part: Vec<Vec<i32>> =
            self.waiting.iter_mut().map(|w| w.drain(..frames).collect()).collect();
        let bytes = frame(&part, self.bits(), self.rate, self.number, self.effort);
        self.number += 1;
        self.sizes = (self.sizes.0.min(bytes.len()), self.sizes.1.max(bytes.len()));
        bytes
    }

    /// RFC 9639, 8.2; `frames` is the number of all frames of sound.
    pub fn stream_info(&self, frames: u64) -> Vec<u8> {
        let block = u16::try_from(BLOCK).unwrap_or(u16::MAX).to_be_bytes();
        let mut bytes = [block, block].concat();
        let (least, most) = if self.number == 0 { (0, 0) } else { self.sizes };
        for size in [least, most] {
            bytes.extend_from_slice(&count32(size).to_be_bytes()[1..]);
        }
        let packed = u64::from(self.rate) << 44
            | (count(self.waiting.len()) - 1) << 41
            | u64::from(self.bits() - 1) << 36
            | frames;
        bytes.extend_from_slice(&packed.to_be_bytes());
        // Zeros where it is not known.
        let sum = self.sum.clone().map_or([0; 16], |sum| sum.finalize().into());
        bytes.extend_from_slice(&sum);
        bytes
    }
}

/// One frame of sound, channel by channel; `number` counts from 0.
fn frame(channels: &[Vec<i32>], bits: u32, rate: u32, number: u64, effort: Effort) -> Vec<u8> {
    let frames = channels[0].len();
    let (assignment, parts) = assign(channels);
    let mut head = vec![0xFF, 0xF8];
    let (block_code, rate_code) = (block_code(frames), rate_code(rate));
    head.push(block_code << 4 | rate_code);
    head.push(assignment << 4 | if bits == 16 { 4 } else { 6 } << 1);
    head.extend_from_slice(&coded(number));
    if block_code == 7 {
        let less = u16::try_from(frames - 1).unwrap_or(u16::MAX);
        head.extend_from_slice(&less.to_be_bytes());
    }
    if rate_code == 13 {
        head.extend_from_slice(&u16::try_from(rate).unwrap_or(0).to_be_bytes());
    }
    head.push(FLAC_HEADER.checksum(&head));
    let mut out = Bits::default();
    for (samples, wider) in parts {
        subframe(&samples, bits + wider, effort, &mut out);
    }
    let mut bytes = head;
    bytes.extend_from_slice(&out.finish());
    let sum = FLAC_FRAME.checksum(&bytes);
    bytes.extend_from_slice(&sum.to_be_bytes());
    bytes
}

/// RFC 9639, 9.1.1: 4,096, or stated in 16 bits.
fn block_code(frames: usize) -> u8 {
    if frames == BLOCK { 12 } else { 7 }
}

/// RFC 9639, 9.1.2: the common rates, those below 65,536 Hz in 16 bits, else only in STREAMINFO.
fn rate_code(rate: u32) -> u8 {
    const COMMON: [u32; 11] =
        [88_200, 176_400, 192_000, 8_000, 16_000, 22_050, 24_000, 32_000, 44_100, 48_000, 96_000];
    match (1..).zip(COMMON).find(|(_, common)| *common == rate) {
        Some((code, _)) => code,
        None if rate < 1 << 16 => 13,
        None => 0,
    }
}

/// Samples, and by how many bits they are wider than those that came.
type Part<'a> = (Cow<'a, [i32]>, u32);

/// RFC 9639, 9.1.3: stereo as left and right, or one of them and the difference, or mean and
/// difference, whichever a plain prediction leaves least of. The difference takes a bit more.
fn assign(channels: &[Vec<i32>]) -> (u8, Vec<Part<'_>>) {
    fn alone(samples: &[i32]) -> Part<'_> {
        (samples.into(), 0)
    }
    let [left, right] = channels else {
        let code = u8::try_from(channels.len() - 1).unwrap_or(0);
        return (code, channels.iter().map(|samples| alone(samples)).collect());
    };
    let pairs = || left.iter().zip(right);
    let side: Vec<i32> = pairs().map(|(l, r)| l - r).collect();
    let middle: Vec<i32> = pairs().map(|(l, r)| (l + r) >> 1).collect();
    let rough = |samples: &[i32]| -> u64 {
        let bends = samples.windows(3).map(|w| (w[2] - 2 * w[1] + w[0]).unsigned_abs());
        bends.map(u64::from).sum()
    };
    let [l, r, s, m] = [left, right, &side, &middle].map(|samples| rough(samples));
    let costs = [(l + r, 1), (l + s, 8), (s + r, 9), (m + s, 10)];
    let (_, code) = costs.into_iter().min().unwrap_or((0, 1));
    let parts = match code {
        8 => vec![alone(left), (side.into(), 1)],
        9 => vec![(side.into(), 1), alone(right)],
        10 => vec![(middle.into(), 0), (side.into(), 1)],
        _ => vec![alone(left), alone(right)],
    };
    (code, parts)
}

/// A number in the manner of UTF-8 (RFC 9639, 9.1.5).
fn coded(number: u64) -> Vec<u8> {
    if number < 0x80 {
        return vec![number.to_le_bytes()[0]];
    }
    // Six bits a byte behind the first, which has what its leading ones leave.
    let behind = (1..6).find(|n| number < 1 << (5 * n + 6)).unwrap_or(6);
    let mut bytes: Vec<u8> =
        (0..behind).map(|n| 0x80 | (number >> (6 * n)).to_le_bytes()[0] & 0x3F).collect();
    let ones = 0xFF00u16 >> (behind + 1);
    bytes.push(ones.to_le_bytes()[0] | (number >> (6 * behind)).to_le_bytes()[0]);
    bytes.reverse();
    bytes
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_in_the_manner_of_utf_8() {
        for (number, want) in [
            (0x7F, vec![0x7F]),
            (0xA9, vec![0xC2, 0xA9]),
            (0x800, vec![0xE0, 0xA0, 0x80]),
            (0x7FF, vec![0xDF, 0xBF]),
            (0x1_0000, vec![0xF0, 0x90, 0x80, 0x80]),
        ] {
            assert_eq!(coded(number), want, "{number:X}");
        }
    }

    #[test]
    fn a_frame_is_never_larger_than_its_samples() {
        let mut state = 1u32;
        let mut noise = |bits: u32| {
            state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            state.cast_signed() >> (32 - bits)
        };
        for bits in [16, 24] {
            let channels: Vec<Vec<i32>> =
                (0..2).map(|_| (0..BLOCK).map(|_| noise(bits)).collect()).collect();
            for effort in [Effort::Full, Effort::Quick] {
                let bytes = frame(&channels, bits, 48_000, 7, effort);
                assert!(bytes.len() <= 2 * BLOCK * crate::num::size((bits / 8).into()) + 20);
            }
        }
    }
}
