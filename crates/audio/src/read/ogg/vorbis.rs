//! Vorbis headers, read as far as the lengths of packets need ("Vorbis I specification", Xiph.Org).

use crate::num::{count, size};
use crate::spec::Channels;
use crate::units::SampleRate;

/// What tells how many frames a packet gives.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct VorbisHeaders {
    /// How many channels.
    pub channels: Channels,
    /// Frames a second.
    pub rate: SampleRate,
    /// The nominal bit rate; 0 where it is not stated.
    pub nominal: u32,
    /// Lengths of the short and the long block.
    blocks: [u64; 2],
    /// Which block each mode uses.
    modes: Vec<bool>,
}

/// Bits from the least significant on (section 2.1).
struct Bits<'a> {
    bytes: &'a [u8],
    at: usize,
}

impl Bits<'_> {
    fn take(&mut self, bits: usize) -> Option<u32> {
        let mut value = 0;
        for turn in 0..bits {
            let byte = self.bytes.get(self.at / 8)?;
            value |= u32::from(byte >> (self.at % 8) & 1) << turn;
            self.at += 1;
        }
        Some(value)
    }

    fn flag(&mut self) -> Option<bool> {
        self.take(1).map(|bit| bit == 1)
    }

    fn count(&mut self, bits: usize) -> Option<usize> {
        self.take(bits).map(|n| size(n.into()))
    }

    fn pass(&mut self, bits: usize) -> Option<()> {
        self.at = self.at.checked_add(bits)?;
        (self.at <= 8 * self.bytes.len()).then_some(())
    }
}

/// Bits of the largest number that is less (section 9.2.1).
fn ilog(n: usize) -> usize {
    size((usize::BITS - n.leading_zeros()).into())
}

impl VorbisHeaders {
    /// From the identification and the setup packet; the error says what is wrong.
    ///
    /// # Errors
    /// What is wrong with them, in words.
    pub fn parse(identification: &[u8], setup: &[u8]) -> Result<Self, String> {
        let mut headers = Self::identification(identification)
            .ok_or_else(|| "its identification header is not sound".to_owned())?;
        let mut bits = Bits { bytes: setup, at: 0 };
        let start = bits.take(8) == Some(5) && setup.get(1..7) == Some(b"vorbis");
        bits.at = 56;
        let modes =
            start.then(|| modes(&mut bits, usize::from(headers.channels.count()))).flatten();
        headers.modes = modes.ok_or_else(|| "its setup header is not sound".to_owned())?;
        Ok(headers)
    }

    /// Section 4.2.2.
    fn identification(bytes: &[u8]) -> Option<Self> {
        if !bytes.starts_with(b"\x01vorbis\0\0\0\0") {
            return None;
        }
        let exponents = *bytes.get(28)?;
        let (short, long) = (exponents & 15, exponents >> 4);
        let sound = (6..=13).contains(&short) && (short..=13).contains(&long);
        Some(Self {
            channels: Channels::new((*bytes.get(11)?).into())?,
            rate: SampleRate::new(super::super::bytes::le32(bytes, 12)?)?,
            nominal: super::super::bytes::le32(bytes, 20)?,
            blocks: [1 << short, 1 << long],
            modes: Vec::new(),
        })
        .filter(|_| sound)
    }

    /// The block length of an audio packet; `None` where it is none (section 4.3.1).
    pub fn block(&self, packet: &[u8]) -> Option<u64> {
        let mut bits = Bits { bytes: packet, at: 0 };
        if bits.flag()? {
            return None;
        }
        let mode = bits.count(ilog(self.modes.len() - 1))?;
        self.modes.get(mode).map(|&long| self.blocks[usize::from(long)])
    }
}

/// Adds up what packets give: the first nothing, each other a quarter of both blocks (section 4.3.8).
#[derive(Debug, Clone, Default)]
pub struct Lengths {
    before: Option<u64>,
}

impl Lengths {
    /// Frames that come out with this packet.
    pub fn of(&mut self, headers: &VorbisHeaders, packet: &[u8]) -> u64 {
        let Some(block) = headers.block(packet) else {
            return 0;
        };
        let frames = self.before.map_or(0, |before| (before + block) / 4);
        self.before = Some(block);
        frames
    }
}

/// Section 4.2.4, in its order; only the modes are kept.
fn modes(bits: &mut Bits<'_>, channels: usize) -> Option<Vec<bool>> {
    for _ in 0..bits.count(8)? + 1 {
        codebook(bits)?;
    }
    let times = bits.count(6)? + 1;
    bits.pass(16 * times)?;
    for _ in 0..bits.count(6)? + 1 {
        floor(bits)?;
    }
    for _ in 0..bits.count(6)? + 1 {
        residue(bits)?;
    }
    for _ in 0..bits.count(6)? + 1 {
        mapping(bits, channels)?;
    }
    let mut modes = Vec::new();
    for _ in 0..bits.count(6)? + 1 {
        modes.push(bits.flag()?);
        bits.pass(40)?;
    }
    bits.flag()?.then_some(modes)
}

/// Section 3.2.1.
fn codebook(bits: &mut Bits<'_>) -> Option<()> {
    if bits.take(24)? != 0x0056_4342 {
        return None;
    }
    let (dimensions, entries) = (bits.count(16)?, bits.count(24)?);
    if bits.flag()? {
        bits.pass(5)?;
        let mut at = 0;
        while at < entries {
            let run = bits.count(ilog(entries - at))?;
            at += run;
            if run == 0 && bits.at >= 8 * bits.bytes.len() {
                return None;
            }
        }
    } else if bits.flag()? {
        for _ in 0..entries {
            if bits.flag()? {
                bits.pass(5)?;
            }
        }
    } else {
        bits.pass(5 * entries)?;
    }
    let values = match bits.take(4)? {
        0 => return Some(()),
        1 => lookup_values(entries, dimensions),
        2 => entries.checked_mul(dimensions)?,
        _ => return None,
    };
    bits.pass(64)?;
    let width = bits.count(4)? + 1;
    bits.pass(1)?;
    bits.pass(values.checked_mul(width)?)
}

/// The largest number whose power of `dimensions` is no more than `entries` (section 9.2.3).
fn lookup_values(entries: usize, dimensions: usize) -> usize {
    if dimensions == 0 {
        return 0;
    }
    let power = u32::try_from(dimensions).unwrap_or(u32::MAX);
    let fits = |n: u64| n.checked_pow(power).is_some_and(|p| p <= count(entries));
    let (mut low, mut high) = (0u64, count(entries) + 1);
    while high - low > 1 {
        let middle = u64::midpoint(low, high);
        if fits(middle) { low = middle } else { high = middle }
    }
    size(low)
}

/// Sections 6.2.1 and 7.2.2.
fn floor(bits: &mut Bits<'_>) -> Option<()> {
    match bits.take(16)? {
        0 => {
            bits.pass(8 + 16 + 16 + 6 + 8)?;
            let books = bits.count(4)? + 1;
            bits.pass(8 * books)
        }
        1 => {
            let partitions = bits.count(5)?;
            let classes: Vec<usize> =
                (0..partitions).map(|_| bits.count(4)).collect::<Option<_>>()?;
            let most = classes.iter().max().map_or(0, |most| most + 1);
            let mut dimensions = Vec::new();
            for _ in 0..most {
                dimensions.push(bits.count(3)? + 1);
                let subclasses = bits.count(2)?;
                let master = usize::from(subclasses > 0);
                bits.pass(8 * (master + (1 << subclasses)))?;
            }
            bits.pass(2)?;
            let width = bits.count(4)?;
            let points: usize = classes.iter().map(|&class| dimensions[class]).sum();
            bits.pass(width * points)
        }
        _ => None,
    }
}

/// Section 8.6.1.
fn residue(bits: &mut Bits<'_>) -> Option<()> {
    if bits.take(16)? > 2 {
        return None;
    }
    bits.pass(72)?;
    let classes = bits.count(6)? + 1;
    bits.pass(8)?;
    let mut books = 0;
    for _ in 0..classes {
        let low = bits.take(3)?;
        let high = if bits.flag()? { bits.take(5)? } else { 0 };
        books += size((low.count_ones() + high.count_ones()).into());
    }
    bits.pass(8 * books)
}

/// Section 4.2.4, "Mappings".
fn mapping(bits: &mut Bits<'_>, channels: usize) -> Option<()> {
    if bits.take(16)? != 0 {
        return None;
    }
    let submaps = if bits.flag()? { bits.count(4)? + 1 } else { 1 };
    if bits.flag()? {
        let steps = bits.count(8)? + 1;
        bits.pass(2 * steps * ilog(channels - 1))?;
    }
    bits.pass(2)?;
    if submaps > 1 {
        bits.pass(4 * channels)?;
    }
    bits.pass(24 * submaps)
}
