//! Samples to FLAC frames (RFC 9639): prediction from up to four samples by fixed rules or from up to
//! ten by a fitted one, residuals as Rice codes in partitions.

use super::bits::Bits;
use super::plain_pcm;
use crate::block::Block;
use crate::crc::{FLAC_FRAME, FLAC_HEADER};
use crate::num::{count, count32, int32, real_signed, real_size, rounded_signed};
use crate::spec::{Codec, Format};
use md5::{Digest as _, Md5};

/// Frames of sound in a frame.
const BLOCK: usize = 4096;
/// Samples that a fitted prediction looks back to.
const ORDER: usize = 10;
/// Bits of its coefficients.
const PRECISION: u32 = 14;
/// Residuals are dealt out to two to the power of this many partitions at most.
const PARTITIONS: usize = 6;

/// Gathers samples until a frame is full, and what STREAMINFO tells of all.
pub struct Flac {
    codec: Codec,
    rate: u32,
    waiting: Vec<Vec<i32>>,
    bytes: Vec<u8>,
    sum: Md5,
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
            sum: Md5::new(),
            number: 0,
            sizes: (usize::MAX, 0),
            taken: 0,
        }
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
            waiting.extend(channel.iter().map(|s| int32(s * scale)));
        }
        // RFC 9639, 8.2: the check sum is that of the samples, little-endian and interleaved.
        self.bytes.clear();
        plain_pcm(plain, block, &mut self.bytes);
        self.sum.update(&self.bytes);
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
        let bytes = frame(&part, self.bits(), self.rate, self.number);
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
        bytes.extend_from_slice(&self.sum.clone().finalize());
        bytes
    }
}

/// One frame of sound, channel by channel; `number` counts from 0.
fn frame(channels: &[Vec<i32>], bits: u32, rate: u32, number: u64) -> Vec<u8> {
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
        subframe(&samples, bits + wider, &mut out);
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

/// RFC 9639, 9.1.3: stereo as left and right, or one of them and the difference, or mean and
/// difference, whichever a plain prediction leaves least of. The difference takes a bit more.
fn assign(channels: &[Vec<i32>]) -> (u8, Vec<(Vec<i32>, u32)>) {
    let alone = |samples: &Vec<i32>| (samples.clone(), 0);
    let [left, right] = channels else {
        let code = u8::try_from(channels.len() - 1).unwrap_or(0);
        return (code, channels.iter().map(alone).collect());
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
        8 => vec![alone(left), (side, 1)],
        9 => vec![(side, 1), alone(right)],
        10 => vec![(middle, 0), (side, 1)],
        _ => vec![alone(left), alone(right)],
    };
    (code, parts)
}

/// How a channel is predicted, and what that leaves.
struct Predicted {
    /// The type field of the subframe.
    kind: u32,
    order: usize,
    /// Coefficients and their shift, where they are fitted.
    fitted: Option<([i32; ORDER], u32)>,
    residuals: Vec<i32>,
    rice: Rice,
}

/// RFC 9639, 9.2.
fn subframe(samples: &[i32], bits: u32, out: &mut Bits) {
    let wasted = samples.iter().fold(0, |all, s| all | s).trailing_zeros().min(bits - 1);
    let (first, constant) = (samples[0], samples.iter().all(|s| *s == samples[0]));
    let head = |kind: u32, wasted: u32, out: &mut Bits| {
        out.put(kind << 1 | u32::from(wasted > 0), 8);
        if wasted > 0 {
            out.put(1, wasted);
        }
    };
    if constant {
        head(0, 0, out);
        out.put(first.cast_unsigned(), bits);
        return;
    }
    let (samples, bits): (Vec<i32>, u32) =
        (samples.iter().map(|s| s >> wasted).collect(), bits - wasted);
    let fitted =
        fit(&samples).and_then(|(coefficients, shift)| by_fit(&samples, coefficients, shift));
    let fixed = by_rules(&samples);
    let cost = |p: &Predicted| {
        let coefficients =
            p.fitted.as_ref().map_or(0, |(all, _)| 9 + count32(all.len()) * PRECISION);
        p.rice.cost + u64::from(coefficients) + count(p.order) * u64::from(bits)
    };
    let best = fixed.into_iter().chain(fitted).min_by_key(cost);
    match best.filter(|best| cost(best) < count(samples.len()) * u64::from(bits)) {
        Some(best) => {
            head(best.kind, wasted, out);
            best.write(&samples, bits, out);
        }
        None => {
            head(1, wasted, out);
            for sample in &samples {
                out.put(sample.cast_unsigned(), bits);
            }
        }
    }
}

/// What a residual is below: folded into an unsigned number it must still fit.
const LARGEST: u32 = 1 << 30;

/// Whether all residuals can be coded.
fn coded_all(residuals: &[i32]) -> bool {
    residuals.iter().fold(0, |most, r| r.unsigned_abs().max(most)) < LARGEST
}

/// RFC 9639, 9.2.5: the samples, their differences, the differences of those, and so on to the fourth.
fn by_rules(samples: &[i32]) -> Vec<Predicted> {
    let differences = |of: &Vec<i32>| {
        // Two numbers that can be coded differ by less than 32 bits hold.
        (of.len() > 1).then(|| of.windows(2).map(|pair| pair[1] - pair[0]).collect())
    };
    let coded = |residuals: &Vec<i32>| coded_all(residuals);
    let all = std::iter::successors(Some(samples.to_vec()).filter(coded), |residuals| {
        differences(residuals).filter(coded)
    });
    let predicted = |(order, residuals): (usize, Vec<i32>)| Predicted {
        kind: 8 + count32(order),
        order,
        fitted: None,
        rice: Rice::best(&residuals, order, samples.len()),
        residuals,
    };
    (0..=4).zip(all).map(predicted).collect()
}

/// RFC 9639, 9.2.6.
fn by_fit(samples: &[i32], coefficients: [i32; ORDER], shift: u32) -> Option<Predicted> {
    let residuals = residuals(samples, coefficients, shift)?;
    Some(Predicted {
        kind: 32 + count32(ORDER - 1),
        order: ORDER,
        fitted: Some((coefficients, shift)),
        rice: Rice::best(&residuals, ORDER, samples.len()),
        residuals,
    })
}

/// What prediction leaves; `None` where a residual is too large to be coded.
fn residuals(samples: &[i32], mut coefficients: [i32; ORDER], shift: u32) -> Option<Vec<i32>> {
    // The first coefficient is that of the sample before.
    coefficients.reverse();
    let coefficients = coefficients.map(i64::from);
    let residual = |window: &[i32]| {
        let (past, now) = (window.first_chunk::<ORDER>()?, window.last()?);
        let sum: i64 = past.iter().zip(&coefficients).map(|(s, c)| i64::from(*s) * c).sum();
        i32::try_from(i64::from(*now) - (sum >> shift)).ok()
    };
    let all: Option<Vec<i32>> = samples.windows(ORDER + 1).map(residual).collect();
    all.filter(|all| coded_all(all))
}

/// Fits coefficients by the autocorrelation of the windowed samples (Levinson and Durbin), and rounds
/// them; `None` for what is too short or silent.
fn fit(samples: &[i32]) -> Option<([i32; ORDER], u32)> {
    if samples.len() < 4 * ORDER {
        return None;
    }
    let middle = real_size(samples.len() - 1) / 2.0;
    // Welch's window: a parabola.
    let windowed: Vec<f64> = (0..)
        .zip(samples)
        .map(|(at, s)| {
            let off = (real_size(at) - middle) / (middle + 1.0);
            f64::from(*s) * (1.0 - off * off)
        })
        .collect();
    let correlation =
        |lag: usize| -> f64 { windowed[lag..].iter().zip(&windowed).map(|(a, b)| a * b).sum() };
    let r: Vec<f64> = (0..=ORDER).map(correlation).collect();
    let (mut error, mut a) = (r[0] * (1.0 + 1e-9), [0.0f64; ORDER]);
    if error <= 0.0 {
        return None;
    }
    for order in 0..ORDER {
        let sum: f64 = (0..order).map(|k| a[k] * r[order - k]).sum();
        let reflection = (r[order + 1] - sum) / error;
        let before = a;
        a[order] = reflection;
        for k in 0..order {
            a[k] = before[k] - reflection * before[order - 1 - k];
        }
        error *= 1.0 - reflection * reflection;
        if error <= 0.0 {
            break;
        }
    }
    let largest = a.iter().fold(0.0f64, |most, c| most.max(c.abs()));
    if !largest.is_normal() {
        return None;
    }
    let exponent = int32(largest.log2().floor()) + 1;
    let shift = (i32::try_from(PRECISION).unwrap_or(14) - 1 - exponent).clamp(0, 15);
    let most = real_signed((1 << (PRECISION - 1)) - 1);
    let mut carried = 0.0;
    let rounded = a.map(|c| {
        // What rounding takes from one is given to the next.
        let exact = c * 2f64.powi(shift) + carried;
        let whole = exact.round().clamp(-most, most);
        carried = exact - whole;
        i32::try_from(rounded_signed(whole)).unwrap_or(0)
    });
    Some((rounded, shift.cast_unsigned()))
}

impl Predicted {
    fn write(&self, samples: &[i32], bits: u32, out: &mut Bits) {
        for sample in &samples[..self.order] {
            out.put(sample.cast_unsigned(), bits);
        }
        if let Some((coefficients, shift)) = &self.fitted {
            out.put(PRECISION - 1, 4);
            out.put(*shift, 5);
            for coefficient in coefficients {
                out.put(coefficient.cast_unsigned(), PRECISION);
            }
        }
        self.rice.write(&self.residuals, self.order, samples.len(), out);
    }
}

/// How residuals are dealt out, and each part's parameter (RFC 9639, 9.2.7).
struct Rice {
    power: usize,
    parameters: Vec<u32>,
    cost: u64,
}

/// Small magnitudes become small numbers, whatever their sign.
fn folded(residual: i32) -> u32 {
    ((residual << 1) ^ (residual >> 31)).cast_unsigned()
}

impl Rice {
    /// The power and the parameters that cost least.
    fn best(residuals: &[i32], order: usize, frames: usize) -> Self {
        let most = (0..=PARTITIONS)
            .take_while(|power| frames.is_multiple_of(1 << power) && frames >> power > order)
            .last()
            .unwrap_or(0);
        // Sums of the smallest parts, then of pairs of them.
        let mut sums: Vec<(u64, u64)> = parts(residuals, order, frames, most)
            .map(|part| (count(part.len()), part.iter().map(|r| u64::from(folded(*r))).sum()))
            .collect();
        let mut best: Option<Self> = None;
        for power in (0..=most).rev() {
            let (parameters, costs): (Vec<u32>, Vec<u64>) =
                sums.iter().map(|(n, sum)| parameter(*n, *sum)).unzip();
            let wide = parameters.iter().any(|p| *p > 14);
            let heads = count(parameters.len()) * if wide { 5 } else { 4 };
            let cost = costs.iter().sum::<u64>() + heads + 6;
            if best.as_ref().is_none_or(|least| cost < least.cost) {
                best = Some(Self { power, parameters, cost });
            }
            sums = sums
                .chunks(2)
                .map(|pair| pair.iter().fold((0, 0), |a, b| (a.0 + b.0, a.1 + b.1)))
                .collect();
        }
        best.unwrap_or(Self { power: 0, parameters: vec![0], cost: u64::MAX / 2 })
    }

    fn write(&self, residuals: &[i32], order: usize, frames: usize, out: &mut Bits) {
        let wide = self.parameters.iter().any(|p| *p > 14);
        out.put(wide.into(), 2);
        out.put(count32(self.power), 4);
        for (part, parameter) in parts(residuals, order, frames, self.power).zip(&self.parameters) {
            out.put(*parameter, if wide { 5 } else { 4 });
            for residual in part {
                let value = folded(*residual);
                let mut zeros = value >> parameter;
                while zeros > 31 {
                    out.put(0, 31);
                    zeros -= 31;
                }
                out.put(1, zeros + 1);
                out.put(value, *parameter);
            }
        }
    }
}

/// The parts of residuals: the first lacks the samples that prediction begins with.
fn parts(
    residuals: &[i32],
    order: usize,
    frames: usize,
    power: usize,
) -> impl Iterator<Item = &[i32]> {
    let length = frames >> power;
    let mut rest = residuals;
    (0..1usize << power).map(move |turn| {
        let wanted = if turn == 0 { length - order.min(length) } else { length };
        let (part, more) = rest.split_at(wanted.min(rest.len()));
        rest = more;
        part
    })
}

/// The parameter that costs least for this many numbers of this sum, and that cost.
fn parameter(n: u64, sum: u64) -> (u32, u64) {
    if n == 0 {
        return (0, 0);
    }
    let mean = sum / n;
    let about = 63u32.saturating_sub(mean.leading_zeros()).min(30);
    let cost = |k: u32| n * u64::from(k + 1) + (sum >> k);
    let tried = about.saturating_sub(1)..=(about + 1).min(30);
    tried.map(|k| (k, cost(k))).min_by_key(|(_, cost)| *cost).unwrap_or((0, 0))
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
            let bytes = frame(&channels, bits, 48_000, 7);
            assert!(bytes.len() <= 2 * BLOCK * crate::num::size((bits / 8).into()) + 20);
        }
    }
}
