//! Subframes: a channel as what a prediction leaves of it (RFC 9639, 9.2).

use super::rice::Rice;
use super::{Bits, Effort};
use crate::dot::dot;
use crate::num::{
    count, count32, int32, nearest, nearest32, real_signed, real_size, rounded_signed,
};
use std::borrow::Cow;

/// Samples that a fitted prediction looks back to.
const ORDER: usize = 10;
/// Bits of its coefficients.
const PRECISION: u32 = 14;

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
pub fn subframe(samples: &[i32], bits: u32, effort: Effort, out: &mut Bits) {
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
    let (samples, bits): (Cow<'_, [i32]>, u32) = match wasted {
        0 => (samples.into(), bits),
        _ => (samples.iter().map(|s| s >> wasted).collect(), bits - wasted),
    };
    let fitted = match effort {
        Effort::Full => fit(&samples).and_then(|(all, shift)| by_fit(&samples, all, shift)),
        Effort::Quick => None,
    };
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
            for sample in samples.iter() {
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

/// Differences that a fixed prediction takes at most.
const FIXED: usize = 4;

/// RFC 9639, 9.2.5: the samples, their differences, the differences of those, and so on to the fourth: whichever has
/// the least magnitudes. `None` where they cannot be coded.
fn by_rules(samples: &[i32]) -> Option<Predicted> {
    let order = least_differences(samples);
    let mut residuals = samples.to_vec();
    for _ in 0..order {
        // Samples of 25 bits differ by less than 32 bits hold, four times over.
        let pairs = residuals.windows(2);
        residuals = pairs.map(|pair| pair[1] - pair[0]).collect();
    }
    coded_all(&residuals).then(|| Predicted {
        kind: 8 + count32(order),
        order,
        fitted: None,
        rice: Rice::best(&residuals, order, samples.len()),
        residuals,
    })
}

/// How many differences leave least, by one of four stretches of the samples.
fn least_differences(samples: &[i32]) -> usize {
    const STRETCH: usize = 64;
    let mut sums = [0u64; FIXED + 1];
    for stretch in samples.chunks(4 * STRETCH) {
        for part in stretch[..stretch.len().min(STRETCH)].windows(FIXED + 1) {
            let [e, d, c, b, a] = [part[0], part[1], part[2], part[3], part[4]];
            let left =
                [a, a - b, a - 2 * b + c, a - 3 * b + 3 * c - d, a - 4 * b + 6 * c - 4 * d + e];
            for (sum, left) in sums.iter_mut().zip(left) {
                *sum += u64::from(left.unsigned_abs());
            }
        }
    }
    let orders = sums.into_iter().enumerate().take(samples.len());
    orders.min_by_key(|(_, sum)| *sum).map_or(0, |(order, _)| order)
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
fn residuals(samples: &[i32], coefficients: [i32; ORDER], shift: u32) -> Option<Vec<i32>> {
    /// Sums of so many samples stay in the processor's registers.
    const LANES: usize = 8;
    // Ten products of 25 and 14 bits: whole numbers of a size that floating point holds exactly, several at once.
    let mut exact: Vec<f64> = samples.iter().map(|sample| f64::from(*sample)).collect();
    let wanted = samples.len().checked_sub(ORDER)?;
    exact.resize(ORDER + wanted.next_multiple_of(LANES), 0.0);
    // The first coefficient is that of the sample before.
    let mut coefficients = coefficients.map(f64::from);
    coefficients.reverse();
    let scale = 0.5f64.powi(shift.cast_signed());
    let (mut all, mut small) = (Vec::with_capacity(wanted + LANES), true);
    for from in (0..wanted).step_by(LANES) {
        let mut sums = [0.0; LANES];
        for (at, coefficient) in coefficients.iter().enumerate() {
            let before = exact[from + at..].first_chunk::<LANES>()?;
            for lane in 0..LANES {
                sums[lane] += coefficient * before[lane];
            }
        }
        let now = exact[from + ORDER..].first_chunk::<LANES>()?;
        let mut left = [0; LANES];
        for lane in 0..LANES {
            let residual = now[lane] - floor(sums[lane] * scale);
            small &= residual.abs() < f64::from(LARGEST) || from + lane >= wanted;
            left[lane] = nearest32(residual);
        }
        all.extend_from_slice(&left);
    }
    all.truncate(wanted);
    small.then_some(all)
}

/// The next whole number below, of what is smaller than 50 bits.
fn floor(value: f64) -> f64 {
    let nearest = nearest(value);
    if nearest > value { nearest - 1.0 } else { nearest }
}

/// Fits coefficients by the autocorrelation of the windowed samples (Levinson and Durbin), and rounds
/// them; `None` for what is too short or silent.
fn fit(samples: &[i32]) -> Option<([i32; ORDER], u32)> {
    if samples.len() < 4 * ORDER {
        return None;
    }
    let middle = real_size(samples.len() - 1) / 2.0;
    let scale = 1.0 / (middle + 1.0);
    // Welch's window: a parabola.
    let windowed: Vec<f64> = (0u16..)
        .zip(samples)
        .map(|(at, s)| {
            let off = (f64::from(at) - middle) * scale;
            f64::from(*s) * (1.0 - off * off)
        })
        .collect();
    let correlation = |lag: usize| dot(&windowed[lag..], &windowed);
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
