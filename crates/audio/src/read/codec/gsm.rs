//! GSM 06.10 at full rate: 160 samples in 260 bits, 33 bytes or half of 65.
//!
//! Source: ETSI EN 300 961 (GSM 06.10), 4 and 5, with tables 1.1, 4.1 to 4.6 and 5.1; "Multimedia Data Standards
//! Update" (Microsoft, 1994), GSM 6.10, for the pairs of 65 bytes.

use crate::block::Block;
use crate::num::saturated16;

/// Samples of a frame, and of each of its four parts.
pub const FRAME: usize = 160;
/// Samples of a part.
pub const PART: usize = 40;
/// Samples that a part may look back.
pub const PAST: usize = 120;
/// Bits of the eight filter coefficients (table 1.1).
pub const COEFFICIENT_BITS: [u32; 8] = [6, 6, 5, 5, 4, 4, 3, 3];
/// The least of each (table 4.1).
pub const LEAST: [i32; 8] = [-32, -32, -16, -16, -8, -8, -4, -4];
/// Offsets of the coefficients, and the inverse of their factors (tables 4.1 and 4.2).
pub const OFFSETS: [i32; 8] = [0, 0, 2048, -2560, 94, -1792, -341, -1144];
const INVERSE: [i32; 8] = [13_107, 13_107, 13_107, 13_107, 19_223, 17_476, 31_454, 29_708];
/// What the four codes of the gain stand for (table 4.3b).
const GAINS: [i32; 4] = [3277, 11_469, 21_299, 32_767];
/// Mantissas of the size of pulses (table 4.6).
const SIZES: [i32; 8] = [18_431, 20_479, 22_527, 24_575, 26_623, 28_671, 30_719, 32_767];

/// A sum that holds at 16 bits.
pub fn add(a: i32, b: i32) -> i32 {
    saturated16(a + b).into()
}

/// A product of fractions, rounded.
pub fn times(a: i32, b: i32) -> i32 {
    saturated16((a * b + 16_384) >> 15).into()
}

/// One part of a frame: how far back it looks and how much counts, and its pulses.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Part {
    /// How many samples back.
    pub lag: u8,
    /// The code of the gain.
    pub gain: u8,
    /// Which of the four grids.
    pub grid: u8,
    /// The code of the largest pulse.
    pub size: u8,
    /// The pulses.
    pub pulses: [u8; 13],
}

/// The 76 numbers of a frame.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Frame {
    /// The codes of the filter's coefficients.
    pub coefficients: [u8; 8],
    /// Its four parts.
    pub parts: [Part; 4],
}

impl Frame {
    /// Every number with its bits, in the order of table 1.1.
    pub fn each(&mut self, mut visit: impl FnMut(&mut u8, u32)) {
        for (code, bits) in self.coefficients.iter_mut().zip(COEFFICIENT_BITS) {
            visit(code, bits);
        }
        for part in &mut self.parts {
            visit(&mut part.lag, 7);
            visit(&mut part.gain, 2);
            visit(&mut part.grid, 2);
            visit(&mut part.size, 6);
            part.pulses.iter_mut().for_each(|pulse| visit(pulse, 3));
        }
    }
}

/// Exponent and mantissa of the largest pulse (5.2.15, 5.2.16).
pub fn size_of_pulses(code: u8) -> (i32, usize) {
    let code = i32::from(code);
    let mut exponent = if code > 15 { (code >> 3) - 1 } else { 0 };
    let mut mantissa = code - (exponent << 3);
    if mantissa == 0 {
        return (-4, 7);
    }
    while mantissa <= 7 {
        mantissa = mantissa << 1 | 1;
        exponent -= 1;
    }
    (exponent, usize::try_from(mantissa - 8).unwrap_or(0))
}

impl Part {
    /// The pulses in their places (5.2.16, 5.2.17).
    pub fn excitation(&self) -> [i32; PART] {
        let (exponent, mantissa) = size_of_pulses(self.size);
        let shift = 6 - exponent;
        let half = if shift > 0 { 1 << (shift - 1) } else { 0 };
        let mut samples = [0; PART];
        for (at, pulse) in self.pulses.iter().enumerate() {
            let value = ((i32::from(*pulse) << 1) - 7) << 12;
            let place = usize::from(self.grid) + 3 * at;
            samples[place] = add(times(SIZES[mantissa], value), half) >> shift;
        }
        samples
    }

    /// What the gain's code stands for.
    pub fn gain(&self) -> i32 {
        GAINS[usize::from(self.gain & 3)]
    }
}

/// Logarithmic area ratios that codes stand for (5.2.8).
pub fn ratios(codes: &[u8; 8]) -> [i32; 8] {
    std::array::from_fn(|at| {
        let value = add(i32::from(codes[at]), LEAST[at]) << 10;
        let value = times(INVERSE[at], add(value, -(OFFSETS[at] << 1)));
        add(value, value)
    })
}

/// Reflection coefficients over a frame: those of the last frame become those of this one in steps (5.2.9).
pub fn stretches(last: &[i32; 8], now: &[i32; 8]) -> [(usize, [i32; 8]); 4] {
    let mix = |of: fn(i32, i32) -> i32| std::array::from_fn(|at| reflection(of(last[at], now[at])));
    [
        (13, mix(|a, b| add(add(a >> 2, b >> 2), a >> 1))),
        (14, mix(|a, b| add(a >> 1, b >> 1))),
        (13, mix(|a, b| add(add(a >> 2, b >> 2), b >> 1))),
        (120, mix(|_, b| b)),
    ]
}

fn reflection(ratio: i32) -> i32 {
    let size = ratio.abs().min(32_767);
    let size = match size {
        ..11_059 => size << 1,
        11_059..20_070 => size + 11_059,
        _ => add(size >> 2, 26_112),
    };
    if ratio < 0 { -size } else { size }
}

/// The decoder.
#[derive(Debug, Clone)]
pub struct Gsm {
    paired: bool,
    past: [i32; PAST],
    lag: usize,
    ratios: [i32; 8],
    lattice: [i32; 9],
    emphasis: i32,
}

impl Gsm {
    /// For single frames of 33 bytes, or pairs in 65.
    pub const fn new(paired: bool) -> Self {
        Self { paired, past: [0; PAST], lag: 40, ratios: [0; 8], lattice: [0; 9], emphasis: 0 }
    }

    /// The samples of one frame (5.3).
    fn frame(&mut self, frame: &Frame) -> [i32; FRAME] {
        let mut residual = [0; FRAME];
        for (part, samples) in frame.parts.iter().zip(residual.chunks_exact_mut(PART)) {
            let lag = usize::from(part.lag);
            // What no encoder sends leaves the last one standing.
            if (PART..=PAST).contains(&lag) {
                self.lag = lag;
            }
            let pulses = part.excitation();
            for (at, sample) in samples.iter_mut().enumerate() {
                let back = times(part.gain(), self.past[PAST - self.lag + at]);
                *sample = add(pulses[at], back);
            }
            self.past.rotate_left(PART);
            self.past[PAST - PART..].copy_from_slice(samples);
        }
        let now = ratios(&frame.coefficients);
        let mut at = 0;
        for (length, reflections) in stretches(&self.ratios, &now) {
            for sample in &mut residual[at..at + length] {
                *sample = self.voice(*sample, &reflections);
            }
            at += length;
        }
        self.ratios = now;
        residual
    }

    /// Short-term synthesis of one sample, de-emphasis, and 13 bits of it (5.3.4 to 5.3.7).
    fn voice(&mut self, sample: i32, reflections: &[i32; 8]) -> i32 {
        let mut value = sample;
        for at in (0..8).rev() {
            value = add(value, -times(reflections[at], self.lattice[at]));
            self.lattice[at + 1] = add(self.lattice[at], times(reflections[at], value));
        }
        self.lattice[0] = value;
        self.emphasis = add(value, times(self.emphasis, 28_180));
        add(self.emphasis, self.emphasis) & !7
    }

    fn push(&mut self, frame: &Frame, block: &mut Block) {
        let samples = self.frame(frame);
        let samples = samples.iter().map(|sample| f64::from(*sample) / 32_768.0);
        block.channels_mut()[0].extend(samples);
    }

    /// Appends the samples of a frame of 33 bytes: four bits that mark it, then every number from its highest bit;
    /// or of two frames in 65, every number from its lowest.
    pub fn decode(&mut self, unit: &[u8], block: &mut Block) {
        let bit =
            |at: usize, from: u32| u32::from(unit.get(at / 8).copied().unwrap_or(0) >> from & 1);
        let paired = self.paired;
        let mut at = if paired { 0 } else { 4 };
        for _ in 0..if paired { 2 } else { 1 } {
            let mut frame = Frame::default();
            frame.each(|number, bits| {
                for turn in 0..bits {
                    let inner = u32::try_from(at % 8).unwrap_or(0);
                    let (place, from) =
                        if paired { (turn, inner) } else { (bits - 1 - turn, 7 - inner) };
                    *number |= (bit(at, from) << place).to_le_bytes()[0];
                    at += 1;
                }
            });
            self.push(&frame, block);
        }
    }
}
