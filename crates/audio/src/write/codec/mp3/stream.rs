//! Frames: header, side information, and the reservoir of bits through which frames lend each other room (ISO/IEC
//! 11172-3, 2.4.1 and 2.4.2; 13818-3, 2.4.1).

use super::filter::Shape;
use super::granule::{Granule, SHARED_GROUPS};
use super::huffman;
use super::spectrum::{Layout, Spectrum};
use crate::write::codec::bits::Bits;
use std::collections::VecDeque;

/// No decoder must hold more than this many bytes of a frame and what it takes from those before.
const BUFFER: usize = 1440;

/// What all frames of a stream have in common.
#[derive(Debug, Clone, Copy)]
pub struct Form {
    /// Frames a second.
    pub hertz: u32,
    /// One or two.
    pub channels: usize,
    /// Bits of the version: 3 for 32 kHz and above, 2 down to 16 kHz, 0 below (the halved rates that decoders
    /// have taken up).
    pub version: u32,
    /// Place of the rate in its version.
    pub rate: u32,
}

impl Form {
    /// Nothing for a rate that no version has.
    pub fn new(hertz: u32, channels: usize) -> Option<Self> {
        let (version, base) = match hertz {
            32_000.. => (3, hertz),
            16_000..32_000 => (2, 2 * hertz),
            _ => (0, 4 * hertz),
        };
        let rate = [44_100, 48_000, 32_000].iter().position(|known| *known == base)?;
        Some(Self { hertz, channels, version, rate: u32::try_from(rate).unwrap_or(0) })
    }

    /// Whether its rates are the halved or quartered ones, of MPEG-2 and 2.5.
    pub fn low(self) -> bool {
        self.version < 3
    }

    /// Granules of a frame.
    pub fn granules(self) -> usize {
        if self.low() { 1 } else { 2 }
    }

    /// Bytes of the side information.
    pub fn side_bytes(self) -> usize {
        match (self.low(), self.channels) {
            (false, 2) => 32,
            (false, _) | (true, 2) => 17,
            (true, _) => 9,
        }
    }

    /// The bit rates in kbit/s that there are.
    pub fn bit_rates(self) -> &'static [u16; 14] {
        crate::spec::mp3_bit_rates(self.hertz)
    }

    /// Bytes of a frame, without the one that is added now and then.
    pub fn frame_bytes(self, kilobits: u16) -> usize {
        let frames: u32 = if self.low() { 72_000 } else { 144_000 };
        crate::num::size((frames * u32::from(kilobits) / self.hertz).into())
    }

    /// Four bytes: layer III without a checksum; `index` is the place of the bit rate, from 1 on.
    pub fn header(self, index: u32, padded: bool, joint: bool, mixed: bool) -> [u8; 4] {
        let mode: u32 = match (self.channels, joint) {
            (1, _) => 3,
            (_, true) => 1,
            (_, false) => 0,
        };
        let word = 0x7FF << 21
            | self.version << 19
            | 1 << 17
            | 1 << 16
            | index << 12
            | self.rate << 10
            | u32::from(padded) << 9
            | mode << 6
            | u32::from(mixed) << 5
            | 1 << 2;
        word.to_be_bytes()
    }

    /// How many bytes a frame of so many may take from those before it.
    pub fn reservoir(self, frame_bytes: usize) -> usize {
        let pointer = if self.low() { 255 } else { 511 };
        BUFFER.saturating_sub(frame_bytes).min(pointer)
    }
}

/// Room of a frame that is not yet filled.
struct Slot {
    bytes: Vec<u8>,
    room: usize,
}

/// Puts frames together.
pub struct Stream {
    form: Form,
    waiting: VecDeque<Slot>,
    data: Vec<u8>,
    done: VecDeque<Vec<u8>>,
}

/// A frame's granules, by granule, then channel, with what they were made of.
pub struct Coded<'a> {
    pub granules: Vec<Vec<(Granule, &'a Spectrum)>>,
    pub layouts: &'a [Layout; 2],
    /// Whether the channels are sum and difference.
    pub mixed: bool,
}

impl Stream {
    pub fn new(form: Form) -> Self {
        Self { form, waiting: VecDeque::new(), data: Vec::new(), done: VecDeque::new() }
    }

    /// Bytes that frames before have left over.
    pub fn left(&self) -> usize {
        self.waiting.iter().map(|slot| slot.room).sum::<usize>() - self.data.len()
    }

    /// Adds a frame. What its data take must fit into what is left and the frame's own room.
    pub fn frame(&mut self, coded: &Coded<'_>, index: u32, padded: bool) {
        let form = self.form;
        let kilobits = form.bit_rates()[crate::num::size(u64::from(index)) - 1];
        let frame_bytes = form.frame_bytes(kilobits) + usize::from(padded);
        let room = frame_bytes - 4 - form.side_bytes();
        let mut bytes = form.header(index, padded, form.channels == 2, coded.mixed).to_vec();
        let begin = self.left();
        let mut side = Bits::default();
        side_info(form, coded, begin, &mut side);
        bytes.extend(side.finish());
        let mut data = Bits::default();
        for granule in &coded.granules {
            for (granule, spectrum) in granule {
                main_data(granule, spectrum, coded.layouts, &mut data);
            }
        }
        self.data.extend(data.finish());
        self.waiting.push_back(Slot { bytes, room });
        // What later frames cannot reach is filled up.
        let reach = form.reservoir(frame_bytes);
        let over = self.left().saturating_sub(reach);
        self.data.resize(self.data.len() + over, 0);
        self.release();
    }

    /// Fills up what is left.
    pub fn finish(&mut self) {
        let left = self.left();
        self.data.resize(self.data.len() + left, 0);
        self.release();
    }

    /// The next frame that is ready.
    pub fn next_frame(&mut self) -> Option<Vec<u8>> {
        self.done.pop_front()
    }

    fn release(&mut self) {
        while self.waiting.front().is_some_and(|slot| slot.room <= self.data.len()) {
            if let Some(Slot { mut bytes, room }) = self.waiting.pop_front() {
                bytes.extend(self.data.drain(..room));
                self.done.push_back(bytes);
            }
        }
    }
}

fn count32(n: usize) -> u32 {
    crate::num::count32(n)
}

fn side_info(form: Form, coded: &Coded<'_>, begin: usize, bits: &mut Bits) {
    let (low, mono) = (form.low(), form.channels == 1);
    bits.put(count32(begin), if low { 8 } else { 9 });
    let private = match (low, mono) {
        (false, true) => 5,
        (false, false) => 3,
        (true, true) => 1,
        (true, false) => 2,
    };
    bits.put(0, private);
    if !low {
        for (granule, _) in &coded.granules[1] {
            granule.shared.iter().for_each(|shared| bits.put(u32::from(*shared), 1));
        }
    }
    for (granule, _) in coded.granules.iter().flatten() {
        let coding = &granule.coding;
        bits.put(granule.bits(), 12);
        bits.put(count32(coding.pairs), 9);
        bits.put(granule.gain.clamp(0, 255).cast_unsigned(), 8);
        bits.put(granule.compress.into(), if low { 9 } else { 4 });
        let switched = granule.shape != Shape::Long;
        bits.put(u32::from(switched), 1);
        if switched {
            let kind = match granule.shape {
                Shape::Start => 1,
                Shape::Short => 2,
                _ => 3,
            };
            bits.put(kind, 2);
            bits.put(0, 1);
            coding.tables[..2].iter().for_each(|table| bits.put((*table).into(), 5));
            granule.window_gains.iter().for_each(|gain| bits.put((*gain).into(), 3));
        } else {
            coding.tables.iter().for_each(|table| bits.put((*table).into(), 5));
            bits.put(coding.regions.0.into(), 4);
            bits.put(coding.regions.1.into(), 3);
        }
        if !low {
            bits.put(u32::from(granule.pretab), 1);
        }
        bits.put(u32::from(granule.doubled), 1);
        bits.put(coding.fours_table.into(), 1);
    }
}

/// The scale factors, then the values.
fn main_data(granule: &Granule, spectrum: &Spectrum, layouts: &[Layout; 2], bits: &mut Bits) {
    let mut at = 0;
    for (number, width) in granule.factor_bits {
        for factor in &granule.factors[at..at + number] {
            let group = SHARED_GROUPS.iter().position(|(from, to)| (*from..*to).contains(&at));
            let shared =
                granule.shape != Shape::Short && group.is_some_and(|group| granule.shared[group]);
            if !shared {
                bits.put((*factor).into(), width);
            }
            at += 1;
        }
    }
    let coding = &granule.coding;
    let all = 2 * coding.pairs;
    let end = |edge: usize, layout: &Layout| {
        usize::from(layout.edges[edge.min(layout.edges.len() - 1)]).min(all)
    };
    let (first, second) = match granule.shape {
        Shape::Long => {
            let first = usize::from(coding.regions.0) + 1;
            let second = first + usize::from(coding.regions.1) + 1;
            (end(first, &layouts[0]), end(second, &layouts[0]))
        }
        Shape::Short => (end(9, &layouts[1]), all),
        _ => (end(8, &layouts[0]), all),
    };
    let negative = |at: usize| spectrum.lines[at] < 0.0;
    huffman::put(&granule.values, negative, coding, [first, second, all], bits);
}
