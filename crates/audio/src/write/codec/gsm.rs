//! Samples to GSM 06.10 at full rate (ETSI EN 300 961, 4.2 and 5.2).

use crate::block::Block;
use crate::num::{low_half, sample16};
use crate::read::codec::gsm::{
    COEFFICIENT_BITS, FRAME, Frame, LEAST, OFFSETS, PART, PAST, Part, add, ratios, size_of_pulses,
    stretches, times,
};

/// Factors of the coefficients (table 4.1).
const FACTORS: [i32; 8] = [20_480, 20_480, 20_480, 20_480, 13_964, 15_360, 8534, 9036];
/// Where the codes of the gain part (table 4.3a).
const GAIN_EDGES: [i32; 3] = [6554, 16_384, 26_214];
/// The filter that weighs before pulses are chosen (table 4.4).
const WEIGHTS: [i32; 11] = [-134, -374, 0, 2054, 5741, 8192, 5741, 2054, 0, -374, -134];
/// Inverse mantissas of the size of pulses (table 4.5).
const INVERSE_SIZES: [i32; 8] = [29_128, 26_215, 23_832, 21_846, 20_165, 18_725, 17_476, 16_384];

/// Bits that a number other than zero could be shifted to the left.
fn headroom(value: i32) -> u32 {
    value.abs().leading_zeros().saturating_sub(1)
}

/// A product of fractions, cut.
const fn cut_times(a: i32, b: i32) -> i32 {
    (a * b) >> 15
}

/// A quotient of 0 to 1 in 15 bits.
fn quotient(part: i32, whole: i32) -> i32 {
    (i64::from(part) << 15)
        .checked_div(whole.into())
        .map_or(0, |q| i32::try_from(q.min(32_767)).unwrap_or(0))
}

/// The encoder.
#[derive(Debug)]
pub struct Gsm {
    /// Whether two frames share 65 bytes.
    paired: bool,
    waiting: Vec<i32>,
    /// What the filters of the input remember (5.2.2, 5.2.3).
    offset: (i32, i32),
    emphasis: i32,
    ratios: [i32; 8],
    lattice: [i32; 8],
    past: [i32; PAST],
}

impl Gsm {
    /// For single frames of 33 bytes, or pairs in 65.
    pub const fn new(paired: bool) -> Self {
        Self {
            paired,
            waiting: Vec::new(),
            offset: (0, 0),
            emphasis: 0,
            ratios: [0; 8],
            lattice: [0; 8],
            past: [0; PAST],
        }
    }

    const fn unit_frames(&self) -> usize {
        if self.paired { 2 * FRAME } else { FRAME }
    }

    /// Appends all units that are full.
    pub fn encode(&mut self, block: &Block, bytes: &mut Vec<u8>) {
        let samples = block.channels()[0].iter();
        self.waiting.extend(samples.map(|s| i32::from(sample16(*s))));
        let unit = self.unit_frames();
        let whole = self.waiting.len() / unit * unit;
        let ready: Vec<i32> = self.waiting.drain(..whole).collect();
        ready.chunks_exact(unit).for_each(|unit| self.unit_of(unit, bytes));
    }

    /// Appends the last unit, filled up with silence.
    pub fn finish(&mut self, bytes: &mut Vec<u8>) {
        if self.waiting.is_empty() {
            return;
        }
        let mut unit = std::mem::take(&mut self.waiting);
        unit.resize(self.unit_frames(), 0);
        self.unit_of(&unit, bytes);
    }

    fn unit_of(&mut self, samples: &[i32], bytes: &mut Vec<u8>) {
        let mut unit = vec![0u8; if self.paired { 65 } else { 33 }];
        let mut at = 0;
        if !self.paired {
            (unit[0], at) = (0xD0, 4);
        }
        for frame in samples.chunks_exact(FRAME) {
            let mut frame = self.frame(frame);
            frame.each(|number, bits| {
                for turn in 0..bits {
                    let (from, to) =
                        if self.paired { (turn, at % 8) } else { (bits - 1 - turn, 7 - at % 8) };
                    unit[at / 8] |= (*number >> from & 1) << to;
                    at += 1;
                }
            });
        }
        bytes.extend(unit);
    }

    fn frame(&mut self, samples: &[i32]) -> Frame {
        let mut sound: [i32; FRAME] = std::array::from_fn(|at| self.prepare(samples[at]));
        let coefficients = codes(&reflections(&correlation(&mut sound)));
        let now = ratios(&coefficients);
        let mut at = 0;
        for (length, reflections) in stretches(&self.ratios, &now) {
            for sample in &mut sound[at..at + length] {
                *sample = self.flatten(*sample, &reflections);
            }
            at += length;
        }
        self.ratios = now;
        let mut parts = [Part::default(); 4];
        for (part, residual) in parts.iter_mut().zip(sound.chunks_exact(PART)) {
            *part = self.part(residual);
        }
        Frame { coefficients, parts }
    }

    /// Scales down to 13 bits, takes away a steady offset, lifts high tones (5.2.1 to 5.2.3).
    fn prepare(&mut self, sample: i32) -> i32 {
        let scaled = sample >> 3 << 2;
        let (last, sum) = self.offset;
        let (high, low) = (sum >> 15, sum & 0x7FFF);
        let rest = ((scaled - last) << 15) + times(low, 32_735);
        let sum = (high * 32_735).saturating_add(rest);
        self.offset = (scaled, sum);
        let lifted = add(sum.saturating_add(16_384) >> 15, times(self.emphasis, -28_180));
        self.emphasis = sum.saturating_add(16_384) >> 15;
        lifted
    }

    /// What the short-term filter leaves of a sample (5.2.10).
    fn flatten(&mut self, sample: i32, reflections: &[i32; 8]) -> i32 {
        let (mut forward, mut backward) = (sample, sample);
        for (held, reflection) in self.lattice.iter_mut().zip(reflections) {
            let old = std::mem::replace(held, backward);
            backward = add(old, times(*reflection, forward));
            forward = add(forward, times(*reflection, old));
        }
        forward
    }

    /// One part: what is like what came before, and pulses for the rest (5.2.11 to 5.2.18).
    fn part(&mut self, residual: &[i32]) -> Part {
        let (lag, gain) = self.likest(residual);
        let mut part = Part { lag, gain, ..Part::default() };
        let from = PAST - usize::from(lag);
        let back: [i32; PART] = std::array::from_fn(|at| times(part.gain(), self.past[from + at]));
        let rest: [i32; PART] = std::array::from_fn(|at| add(residual[at], -back[at]));
        choose_pulses(&rest, &mut part);
        let pulses = part.excitation();
        self.past.rotate_left(PART);
        for (at, sample) in self.past[PAST - PART..].iter_mut().enumerate() {
            *sample = add(pulses[at], back[at]);
        }
        part
    }

    /// How far back the likest samples lie, and the code of their gain (5.2.11).
    fn likest(&self, residual: &[i32]) -> (u8, u8) {
        let most = residual.iter().map(|s| s.abs().min(32_767)).max().unwrap_or(0);
        let scale = 6u32.saturating_sub(if most == 0 { 0 } else { headroom(most << 16) });
        let scaled: Vec<i32> = residual.iter().map(|s| s >> scale).collect();
        let (mut best, mut lag) = (0, PART);
        for tried in PART..=PAST {
            let there = &self.past[PAST - tried..][..PART];
            let product: i32 = scaled.iter().zip(there).map(|(a, b)| a * b).sum();
            if product > best {
                (best, lag) = (product, tried);
            }
        }
        let lag_code = u8::try_from(lag).unwrap_or(40);
        let best = (best << 1) >> (6 - scale);
        let there = &self.past[PAST - lag..][..PART];
        let power: i32 = there.iter().map(|s| (s >> 3) * (s >> 3)).sum::<i32>() << 1;
        let gain = if best <= 0 {
            0
        } else if best >= power {
            3
        } else {
            let shift = headroom(power);
            let (best, power) = ((best << shift) >> 16, (power << shift) >> 16);
            let edges = GAIN_EDGES.iter().take_while(|edge| best > cut_times(power, **edge));
            u8::try_from(edges.count()).unwrap_or(3)
        };
        (lag_code, gain)
    }
}

/// Nine values of autocorrelation of a frame, which loses the bits that they have no room for (5.2.4).
fn correlation(sound: &mut [i32; FRAME]) -> [i32; 9] {
    let most = sound.iter().map(|s| s.abs().min(32_767)).max().unwrap_or(0);
    let scale = if most == 0 { 0 } else { 4u32.saturating_sub(headroom(most << 16)) };
    if scale > 0 {
        sound.iter_mut().for_each(|s| *s = times(*s, 16_384 >> (scale - 1)));
    }
    let sums = std::array::from_fn(|lag| {
        sound[lag..].iter().zip(sound.iter()).map(|(a, b)| a * b).sum::<i32>() << 1
    });
    sound.iter_mut().for_each(|s| *s <<= scale);
    sums
}

/// Reflection coefficients by Schur's recursion (5.2.5).
fn reflections(correlation: &[i32; 9]) -> [i32; 8] {
    let mut found = [0; 8];
    if correlation[0] == 0 {
        return found;
    }
    let shift = headroom(correlation[0]);
    let mut p = correlation.map(|value| (value << shift) >> 16);
    let mut k = p;
    for (n, found) in found.iter_mut().enumerate() {
        let size = p[1].abs().min(32_767);
        if p[0] < size {
            break;
        }
        let reflection = quotient(size, p[0]);
        let reflection = if p[1] > 0 { -reflection } else { reflection };
        *found = reflection;
        p[0] = add(p[0], times(p[1], reflection));
        for m in 1..8 - n {
            let next = add(p[m + 1], times(k[m], reflection));
            k[m] = add(k[m], times(p[m + 1], reflection));
            p[m] = next;
        }
    }
    found
}

/// Codes of logarithmic area ratios (5.2.6, 5.2.7).
fn codes(reflections: &[i32; 8]) -> [u8; 8] {
    std::array::from_fn(|at| {
        let size = reflections[at].abs().min(32_767);
        let ratio = match size {
            ..22_118 => size >> 1,
            22_118..31_130 => size - 11_059,
            _ => (size - 26_112) << 2,
        };
        let ratio = if reflections[at] < 0 { -ratio } else { ratio };
        let value = add(add(cut_times(FACTORS[at], ratio), OFFSETS[at]), 256) >> 9;
        let most = (1 << COEFFICIENT_BITS[at]) - 1;
        u8::try_from((value - LEAST[at]).clamp(0, most)).unwrap_or(0)
    })
}

/// The grid of pulses that has most of the weighed rest, and their codes (5.2.13 to 5.2.15).
fn choose_pulses(rest: &[i32; PART], part: &mut Part) {
    let mut padded = [0; PART + 10];
    padded[5..5 + PART].copy_from_slice(rest);
    let weighed: [i32; PART] = std::array::from_fn(|at| {
        let sum: i32 = padded[at..at + 11].iter().zip(WEIGHTS).map(|(s, w)| s * w).sum();
        ((sum + 4096) >> 13).clamp(-32_768, 32_767)
    });
    let power = |grid: &usize| {
        let pulses = weighed[*grid..].iter().step_by(3).take(13);
        pulses.map(|s| (s >> 2) * (s >> 2)).sum::<i32>()
    };
    // The first of the greatest.
    let grid = (0..4).rev().max_by_key(power).unwrap_or(0);
    let pulses: Vec<i32> = weighed[grid..].iter().step_by(3).take(13).copied().collect();
    let most = pulses.iter().map(|s| s.abs().min(32_767)).max().unwrap_or(0);
    let exponent = (32 - (most >> 9).leading_zeros()).min(6).cast_signed();
    part.grid = u8::try_from(grid).unwrap_or(0);
    part.size = u8::try_from((most >> (exponent + 5)) + (exponent << 3)).unwrap_or(63);
    let (exponent, mantissa) = size_of_pulses(part.size);
    for (code, pulse) in part.pulses.iter_mut().zip(pulses) {
        let scaled =
            cut_times(i32::from(low_half(pulse << (6 - exponent))), INVERSE_SIZES[mantissa]);
        *code = u8::try_from((scaled >> 12) + 4).unwrap_or(0);
    }
}
