//! Samples to QOA frames ("QOA Specification" 1.0, 2023).

use crate::block::Block;
use crate::num::{count32, int16, sample16};

/// Samples of a slice.
const SLICE: usize = 20;
/// Samples of a frame, in each channel.
pub const FRAME: usize = 5120;

/// What a residual divided by its scale is rounded to, from −8 to 8.
const QUANTISED: [u8; 17] = [7, 7, 7, 5, 5, 3, 3, 1, 0, 0, 2, 2, 4, 4, 6, 6, 6];

/// One channel's predictor.
#[derive(Debug, Clone, Copy)]
struct Predictor {
    history: [i32; 4],
    weights: [i32; 4],
}

impl Predictor {
    fn guess(&self) -> i32 {
        let pairs = self.history.iter().zip(&self.weights);
        pairs.fold(0i32, |sum, (h, w)| sum.wrapping_add(h.wrapping_mul(*w))) >> 13
    }

    fn learn(&mut self, value: i32, residual: i32) {
        let delta = residual >> 4;
        for (weight, past) in self.weights.iter_mut().zip(&self.history) {
            *weight += if *past < 0 { -delta } else { delta };
        }
        self.history = [self.history[1], self.history[2], self.history[3], value];
    }

    /// How large the weights are; beyond a limit they run away.
    fn penalty(&self) -> i64 {
        let sum: i64 = self.weights.iter().map(|w| i64::from(*w) * i64::from(*w)).sum();
        let over = (sum >> 18) - 0x8FF;
        over.max(0)
    }
}

/// The scale of each of the sixteen codes: the power 2.75, rounded.
fn scale(code: usize) -> i32 {
    crate::num::int32(crate::num::real_size(code + 1).powf(2.75).round())
}

/// What the eight codes of a residual mean under a scale, rounded away from zero.
fn meanings(scale: i32) -> [i32; 8] {
    [0.75, -0.75, 2.5, -2.5, 4.5, -4.5, 7.0, -7.0]
        .map(|times: f64| crate::num::int32((times * f64::from(scale)).round()))
}

/// Gathers samples until a frame is full.
#[derive(Debug)]
pub struct Qoa {
    rate: u32,
    waiting: Vec<Vec<i16>>,
    predictors: Vec<Predictor>,
    last_scales: Vec<usize>,
    tables: Vec<(i32, [i32; 8])>,
}

impl Qoa {
    /// For this many channels at this rate.
    pub fn new(rate: u32, channels: usize) -> Self {
        let begin = Predictor { history: [0; 4], weights: [0, 0, -(1 << 13), 1 << 14] };
        Self {
            rate,
            waiting: vec![Vec::new(); channels],
            predictors: vec![begin; channels],
            last_scales: vec![0; channels],
            tables: (0..16).map(|code| (scale(code), meanings(scale(code)))).collect(),
        }
    }

    /// Appends all frames that are full.
    pub fn encode(&mut self, block: &Block, bytes: &mut Vec<u8>) {
        for (waiting, channel) in self.waiting.iter_mut().zip(block.channels()) {
            waiting.extend(channel.iter().map(|s| sample16(*s)));
        }
        while self.waiting[0].len() >= FRAME {
            self.frame(FRAME, bytes);
        }
    }

    /// Appends the last frame.
    pub fn finish(&mut self, bytes: &mut Vec<u8>) {
        let rest = self.waiting[0].len();
        if rest > 0 {
            self.frame(rest, bytes);
        }
    }

    fn frame(&mut self, samples: usize, bytes: &mut Vec<u8>) {
        let channels = self.waiting.len();
        let slices = samples.div_ceil(SLICE);
        let size = 8 + 16 * channels + 8 * slices * channels;
        let [_, a, b, c] = self.rate.to_be_bytes();
        let low = |n: usize| u16::try_from(count32(n)).unwrap_or(u16::MAX).to_be_bytes();
        bytes.extend_from_slice(&[low(channels)[1], a, b, c]);
        bytes.extend_from_slice(&low(samples));
        bytes.extend_from_slice(&low(size));
        for predictor in &mut self.predictors {
            // What is stored in 16 bits is what decoders go on from.
            predictor.weights = predictor.weights.map(|w| w.clamp(-32_768, 32_767));
            for value in predictor.history.iter().chain(&predictor.weights) {
                bytes.extend_from_slice(&int16(f64::from(*value)).to_be_bytes());
            }
        }
        for slice in 0..slices {
            let range = slice * SLICE..(slice * SLICE + SLICE).min(samples);
            for channel in 0..channels {
                let word = self.slice(channel, range.clone());
                bytes.extend_from_slice(&word.to_be_bytes());
            }
        }
        for waiting in &mut self.waiting {
            waiting.drain(..samples);
        }
    }

    /// Tries all scales, beginning with the last one's, and keeps what comes nearest.
    fn slice(&mut self, channel: usize, range: std::ops::Range<usize>) -> u64 {
        let samples = &self.waiting[channel][range];
        let mut best = (i64::MAX, 0, self.predictors[channel], 0);
        for turn in 0..16 {
            let code = (turn + self.last_scales[channel]) % 16;
            let (scale, meanings) = &self.tables[code];
            let mut predictor = self.predictors[channel];
            let mut word = u64::try_from(code).unwrap_or(0);
            let mut rank = 0i64;
            for sample in samples {
                let guess = predictor.guess();
                let residual = i32::from(*sample) - guess;
                let quantised = QUANTISED[divided(residual, *scale)];
                let meant = meanings[usize::from(quantised)];
                let value = (guess + meant).clamp(-32_768, 32_767);
                let off = i64::from(i32::from(*sample) - value);
                let penalty = predictor.penalty();
                rank += off * off + penalty * penalty;
                if rank > best.0 {
                    break;
                }
                predictor.learn(value, meant);
                word = word << 3 | u64::from(quantised);
            }
            if rank < best.0 {
                best = (rank, word, predictor, code);
            }
        }
        let (_, word, predictor, code) = best;
        self.predictors[channel] = predictor;
        self.last_scales[channel] = code;
        word << (3 * (SLICE - samples.len()))
    }
}

/// A residual by its scale, rounded away from zero and held within ±8; as an index from 0 to 16.
fn divided(residual: i32, scale: i32) -> usize {
    let twice = 2 * residual.unsigned_abs() + scale.unsigned_abs();
    let n = i32::try_from(twice / (2 * scale.unsigned_abs())).unwrap_or(8).min(8);
    // Nothing but zero itself is rounded to zero.
    let n = if n == 0 && residual != 0 { 1 } else { n };
    usize::try_from(8 + if residual < 0 { -n } else { n }).unwrap_or(8)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The table in the specification's text, a line of the middle and the last one.
    #[test]
    fn scales_as_printed() {
        let scales: Vec<i32> = (0..16).map(scale).collect();
        assert_eq!(
            scales,
            [1, 7, 21, 45, 84, 138, 211, 304, 421, 562, 731, 928, 1157, 1419, 1715, 2048]
        );
        assert_eq!(meanings(7), [5, -5, 18, -18, 32, -32, 49, -49]);
        assert_eq!(meanings(2048), [1536, -1536, 5120, -5120, 9216, -9216, 14336, -14336]);
    }
}
