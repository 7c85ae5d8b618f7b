//! Residuals as Rice codes in partitions (RFC 9639, 9.2.7).

use super::Bits;
use crate::num::{count, count32};

/// Residuals are dealt out to two to the power of this many partitions at most.
const PARTITIONS: usize = 6;

/// How residuals are dealt out, and each part's parameter (RFC 9639, 9.2.7).
pub struct Rice {
    power: usize,
    parameters: Vec<u32>,
    pub cost: u64,
}

/// Small magnitudes become small numbers, whatever their sign.
fn folded(residual: i32) -> u32 {
    ((residual << 1) ^ (residual >> 31)).cast_unsigned()
}

impl Rice {
    /// The power and the parameters that cost least.
    pub fn best(residuals: &[i32], order: usize, frames: usize) -> Self {
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

    pub fn write(&self, residuals: &[i32], order: usize, frames: usize, out: &mut Bits) {
        let wide = self.parameters.iter().any(|p| *p > 14);
        out.put(wide.into(), 2);
        out.put(count32(self.power), 4);
        for (part, parameter) in parts(residuals, order, frames, self.power).zip(&self.parameters) {
            out.put(*parameter, if wide { 5 } else { 4 });
            let longest = part.iter().fold(0, |all, r| folded(*r) | all) >> parameter;
            if longest + 1 + parameter <= 28 {
                let (stop, rest) = (1 << parameter, (1 << parameter) - 1);
                let code = |residual| {
                    let value = folded(residual);
                    (stop | value & rest, (value >> parameter) + 1 + parameter)
                };
                out.put_all(part, code);
                continue;
            }
            for residual in part {
                let value = folded(*residual);
                let mut zeros = value >> parameter;
                while zeros > 31 {
                    out.put(0, 31);
                    zeros -= 31;
                }
                match zeros + 1 + parameter {
                    bits @ ..=32 => out.put(1 << parameter | value & ((1 << parameter) - 1), bits),
                    _ => {
                        out.put(1, zeros + 1);
                        out.put(value, *parameter);
                    }
                }
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
