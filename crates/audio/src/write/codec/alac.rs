//! Samples to ALAC packets.
//!
//! Source: the format's reference code as its maker published it under the Apache licence ("ALAC",
//! 2011): `ALACEncoder`, `dp_enc` (prediction), `ag_enc` (adaptive Golomb codes), `matrix_enc`.

use super::bits::Bits;
use crate::num::{count32, low_half};

/// Frames of a packet.
pub const FRAMES: u32 = 4096;
/// The configuration's constants: rice history multiplier, initial history, limit of the code.
const PB: u32 = 40;
const MB: u32 = 10;
const KB: u32 = 14;
/// Fractional bits of coefficients.
const SHIFT: u32 = 9;
/// Weights of left and right are in quarters.
const MIX_BITS: u32 = 2;

/// The 24 bytes that decoders must know ("ALAC magic cookie", ALACSpecificConfig).
pub fn config(bits: u8, channels: u8, rate: u32, largest: u32, average: u32) -> Vec<u8> {
    let mut bytes = Vec::with_capacity(24);
    bytes.extend_from_slice(&FRAMES.to_be_bytes());
    bytes.extend_from_slice(&[0, bits, 40, 10, 14, channels, 0, 255]);
    bytes.extend_from_slice(&largest.to_be_bytes());
    bytes.extend_from_slice(&average.to_be_bytes());
    bytes.extend_from_slice(&rate.to_be_bytes());
    bytes
}

/// Elements of one channel, of two, and of low frequencies.
const SINGLE: u32 = 0;
const PAIR: u32 = 1;
const LOW: u32 = 3;

/// The elements of one to eight channels ("ALACAudioTypes", channel layout tags).
const ELEMENTS: [&[u32]; 8] = [
    &[SINGLE],
    &[PAIR],
    &[SINGLE, PAIR],
    &[SINGLE, PAIR, SINGLE],
    &[SINGLE, PAIR, PAIR],
    &[SINGLE, PAIR, PAIR, LOW],
    &[SINGLE, PAIR, PAIR, SINGLE, LOW],
    &[SINGLE, PAIR, PAIR, PAIR, LOW],
];

/// Which channel of WAV's order each of theirs is: the centre first, low frequencies last.
const ORDERS: [&[usize]; 8] = [
    &[0],
    &[0, 1],
    &[2, 0, 1],
    &[2, 0, 1, 3],
    &[2, 0, 1, 3, 4],
    &[2, 0, 1, 4, 5, 3],
    &[2, 0, 1, 5, 6, 4, 3],
    &[2, 4, 5, 0, 1, 6, 7, 3],
];

/// Encodes packet after packet.
#[derive(Debug)]
pub struct Alac {
    bits: u32,
    /// Coefficients of four and of eight taps, for each channel; they learn from packet to packet.
    learnt: Vec<[[i16; 8]; 2]>,
}

/// How one channel is predicted.
struct Predicted {
    first: [i16; 8],
    taps: usize,
    residuals: Vec<i32>,
}

impl Alac {
    /// For 16 or 24 bits, and one to eight channels.
    pub fn new(bits: u32, channels: usize) -> Self {
        let begin = |taps: usize| {
            let mut all = [0; 8];
            for (to, from) in all.iter_mut().zip([38i16, -29, -2]).take(taps) {
                *to = (from << SHIFT) >> 4;
            }
            all
        };
        Self { bits, learnt: vec![[begin(4), begin(8)]; channels] }
    }

    /// One packet of up to [`FRAMES`] frames, channel by channel in the order of WAV.
    pub fn packet(&mut self, channels: &[Vec<i32>]) -> Vec<u8> {
        let mut out = Bits::default();
        let order = ORDERS[channels.len().clamp(1, 8) - 1];
        let mut at = 0;
        let mut instances = [0; 4];
        for element in ELEMENTS[channels.len().clamp(1, 8) - 1] {
            let pair = if *element == PAIR { 2 } else { 1 };
            let places = &order[at..at + pair];
            at += pair;
            let part: Vec<&[i32]> =
                places.iter().map(|place| channels[*place].as_slice()).collect();
            let kind = crate::num::size((*element).into());
            out.append(&self.element((*element, instances[kind]), places, &part));
            instances[kind] += 1;
        }
        out.put(7, 3);
        out.finish()
    }

    /// One or two channels, packed or as they are, whichever is less.
    fn element(
        &mut self,
        (kind, instance): (u32, u32),
        places: &[usize],
        channels: &[&[i32]],
    ) -> Bits {
        let frames = channels[0].len();
        let escape = self.escape((kind, instance), channels);
        // The lowest eight of 24 bits go as they are: the predictor counts in 32 bits.
        let low = if self.bits > 16 { 8 } else { 0 };
        let upper: Vec<Vec<i32>> =
            channels.iter().map(|c| c.iter().map(|s| s >> low).collect()).collect();
        let width = self.bits - low + if channels.len() == 2 { 1 } else { 0 };
        let (mix, mixed) = mix(upper);
        let mut out = Bits::default();
        head(&mut out, (kind, instance), frames, low / 8, false);
        out.put(if mix == 0 { 0 } else { MIX_BITS }, 8);
        out.put(mix, 8);
        let mut predicted = Vec::new();
        for (samples, place) in mixed.iter().zip(places) {
            predicted.push(predict(samples, &mut self.learnt[*place], width));
        }
        for Predicted { first, taps, .. } in &predicted {
            out.put(SHIFT, 8);
            out.put(4 << 5 | count32(*taps), 8);
            for coefficient in &first[..*taps] {
                out.put(u32::from(coefficient.cast_unsigned()), 16);
            }
        }
        if low > 0 {
            for frame in 0..frames {
                for channel in channels {
                    out.put(channel[frame].cast_unsigned(), low);
                }
            }
        }
        for one in &predicted {
            golomb(&one.residuals, width, &mut out);
            if out.length() > escape.length() {
                return escape;
            }
        }
        out
    }

    /// Samples as they are; noise becomes larger otherwise.
    fn escape(&self, element: (u32, u32), channels: &[&[i32]]) -> Bits {
        let frames = channels[0].len();
        let mut out = Bits::default();
        head(&mut out, element, frames, 0, true);
        for frame in 0..frames {
            for channel in channels {
                out.put(channel[frame].cast_unsigned(), self.bits);
            }
        }
        out
    }
}

/// Which element and which of its kind, twelve unused bits, whether the length is stated, bytes that go as they are,
/// whether all goes as it is.
fn head(out: &mut Bits, (kind, instance): (u32, u32), frames: usize, low: u32, escape: bool) {
    let partial = count32(frames) != FRAMES;
    out.put(kind, 3);
    out.put(instance, 4);
    out.put(0, 12);
    out.put(partial.into(), 1);
    out.put(low, 2);
    out.put(escape.into(), 1);
    if partial {
        out.put(count32(frames), 32);
    }
}

/// Left and right as a weighted sum and the difference, by the weight that leaves the least; 0 leaves
/// them as they are.
fn mix(channels: Vec<Vec<i32>>) -> (u32, Vec<Vec<i32>>) {
    let [left, right] = channels.as_slice() else {
        return (0, channels);
    };
    let mixed = |weight: i32| -> (Vec<i32>, Vec<i32>) {
        let pairs = left.iter().zip(right);
        pairs
            .map(|(&l, &r)| match weight {
                0 => (l, r),
                _ => (r + ((weight * (l - r)) >> MIX_BITS), l - r),
            })
            .unzip()
    };
    // What is left after a plain prediction from two samples tells enough.
    let rough = |samples: &[i32]| -> u64 {
        let slopes = samples.windows(3).map(|w| (w[2] - 2 * w[1] + w[0]).unsigned_abs());
        slopes.map(u64::from).sum()
    };
    let cost = |weight: &i32| {
        let (u, v) = mixed(*weight);
        rough(&u) + rough(&v)
    };
    let weight = (0..=4).min_by_key(cost).unwrap_or(0);
    let (u, v) = mixed(weight);
    (weight.cast_unsigned(), vec![u, v])
}

/// The better of four and eight taps.
fn predict(samples: &[i32], learnt: &mut [[i16; 8]; 2], width: u32) -> Predicted {
    let mut best: Option<(u64, Predicted)> = None;
    for (taps, coefficients) in [4, 8].into_iter().zip(learnt) {
        let first = *coefficients;
        let residuals = residuals(samples, &mut coefficients[..taps], width);
        let cost = residuals.iter().map(|r| u64::from(r.unsigned_abs())).sum();
        if best.as_ref().is_none_or(|(least, _)| cost < *least) {
            best = Some((cost, Predicted { first, taps, residuals }));
        }
    }
    best.map_or_else(
        || Predicted { first: [0; 8], taps: 4, residuals: Vec::new() },
        |(_, predicted)| predicted,
    )
}

/// `pc_block`: what prediction leaves, the coefficients learning by the signs of what it missed.
fn residuals(samples: &[i32], coefficients: &mut [i16], width: u32) -> Vec<i32> {
    let taps = coefficients.len();
    let cut = |value: i32| value << (32 - width) >> (32 - width);
    let mut all = Vec::with_capacity(samples.len());
    for (at, &sample) in samples.iter().enumerate() {
        if at == 0 {
            all.push(sample);
            continue;
        }
        if at <= taps {
            all.push(cut(sample.wrapping_sub(samples[at - 1])));
            continue;
        }
        let top = samples[at - taps - 1];
        let past = &samples[at - taps..at];
        let sum = past.iter().rev().zip(&*coefficients).fold(0i32, |sum, (s, c)| {
            sum.wrapping_add(i32::from(*c).wrapping_mul(s.wrapping_sub(top)))
        });
        let guess = top.wrapping_add(sum.wrapping_add(1 << (SHIFT - 1)) >> SHIFT);
        let residual = cut(sample.wrapping_sub(guess));
        all.push(residual);
        let sign = residual.signum();
        let mut left = residual;
        // From the oldest sample on, until what was missed is made up for.
        for (tap, coefficient) in coefficients.iter_mut().enumerate().rev() {
            if sign == 0 || left.signum() != sign {
                break;
            }
            let difference = top.wrapping_sub(past[taps - 1 - tap]);
            let direction = difference.signum() * sign;
            *coefficient = low_half(i32::from(*coefficient) - direction);
            let weight = i32::try_from(taps - tap).unwrap_or(0);
            left = left.wrapping_sub(weight.wrapping_mul((direction * difference) >> SHIFT));
        }
    }
    all
}

/// `dyn_comp`: codes whose width follows the mean, and runs of zeros where it is small.
fn golomb(residuals: &[i32], width: u32, out: &mut Bits) {
    let (mut mean, mut zero_mode, mut at) = (MB, 0u32, 0);
    while at < residuals.len() {
        let residual = residuals[at];
        let bits = (31 - ((mean >> SHIFT) + 3).leading_zeros()).min(KB);
        let n = 2 * residual.unsigned_abs() - u32::from(residual < 0) - zero_mode;
        code(n, bits, width, out);
        at += 1;
        let pushed = PB.wrapping_mul(n + zero_mode).wrapping_add(mean);
        mean = pushed.wrapping_sub((PB * mean) >> SHIFT);
        if n > 0xFFFF {
            mean = 0xFFFF;
        }
        zero_mode = 0;
        if mean << 2 < 1 << SHIFT && at < residuals.len() {
            let zeros = residuals[at..].iter().take(65_535).take_while(|r| **r == 0).count();
            at += zeros;
            zero_mode = u32::from(zeros < 65_535);
            let bits = mean.leading_zeros() - 24 + ((mean + 16) >> 6);
            code(count32(zeros), bits, 16, out);
            mean = 0;
        }
    }
}

/// `dyn_code`: a number by `2^bits - 1`: quotient in ones, rest in `bits` bits, one less where it is 0; a
/// quotient from 9 on escapes to `width` bits.
fn code(n: u32, bits: u32, width: u32, out: &mut Bits) {
    let divisor = (1u32 << bits) - 1;
    let (quotient, rest) = (n / divisor, n % divisor);
    let short = u32::from(rest == 0);
    let length = quotient + bits + 1 - short;
    if quotient < 9 && length <= 25 {
        let ones = (1u32 << quotient) - 1;
        out.put((ones << (length - quotient)) + rest + 1 - short, length);
    } else {
        out.put(0x1FF, 9);
        out.put(n, width);
    }
}
