//! The only place where numbers change type: every conversion says what it does at the edges.
#![allow(clippy::as_conversions)]

/// A count as a real number; exact below 2^53.
pub const fn real(n: u64) -> f64 {
    n as f64
}

/// A signed count as a real number; exact within ±2^53.
pub const fn real_signed(n: i64) -> f64 {
    n as f64
}

/// A size or an index as a real number; exact below 2^53.
pub const fn real_size(n: usize) -> f64 {
    n as f64
}

/// A count as an index into memory; saturates where memory is smaller.
pub fn size(n: u64) -> usize {
    usize::try_from(n).unwrap_or(usize::MAX)
}

/// A size in memory as a count.
pub const fn count(n: usize) -> u64 {
    n as u64
}

/// A size in memory as a 32-bit count; saturates.
pub fn count32(n: usize) -> u32 {
    u32::try_from(n).unwrap_or(u32::MAX)
}

/// The nearest whole count, half away from zero; negative and NaN give 0, too large saturates.
pub const fn rounded(x: f64) -> u64 {
    x.round() as u64
}

/// The nearest signed whole number, half away from zero; saturates, NaN gives 0.
pub const fn rounded_signed(x: f64) -> i64 {
    x.round() as i64
}

/// The nearest 32-bit integer of an already whole number; saturates, NaN gives 0.
pub const fn int32(x: f64) -> i32 {
    x as i32
}

/// Added to a number within ±2^51 and taken away again it leaves the nearest whole one, since the last bit of the sum is
/// worth 1. It costs far less than a call where the processor has no instruction for it.
const ROUNDER: f64 = 6_755_399_441_055_744.0;

/// The nearest whole number of one within ±2^51, ties to even.
pub const fn nearest(x: f64) -> f64 {
    (x + ROUNDER) - ROUNDER
}

/// The nearest 32-bit integer of a number within ±2^31, ties to even; of others anything.
pub const fn nearest32(x: f64) -> i32 {
    (x + ROUNDER).to_bits() as i32
}

/// A sample as 16 bits, held at full scale; it must be within ±65,536.
pub fn sample16(sample: f64) -> i16 {
    saturated16(nearest32(sample * 32_768.0))
}

/// The nearest 32-bit float.
pub const fn single(x: f64) -> f32 {
    x as f32
}

/// A 32-bit integer as a 32-bit float; exact within ±2^24.
pub const fn single_signed(x: i32) -> f32 {
    x as f32
}

/// An integer held within 16 bits.
pub fn saturated16(x: i32) -> i16 {
    low_half(x.clamp(-32_768, 32_767))
}

/// The nearest 16-bit integer of an already whole number; saturates, NaN gives 0.
pub const fn int16(x: f64) -> i16 {
    x as i16
}

/// The whole part of what is not negative, held within 16 bits; NaN gives 0.
pub const fn whole16(x: f32) -> u16 {
    x as u16
}

/// The low byte of each 32-bit integer is what PCM of 8 bits stores.
pub const fn low_byte(x: i32) -> u8 {
    x as u8
}

/// The low 16 bits of a 32-bit integer.
pub const fn low_half(x: i32) -> i16 {
    x as i16
}

/// `round(a * b / c)` without overflow, half up.
///
/// # Panics
/// Never: `c` of 0 gives 0.
pub fn scaled(a: u64, b: u64, c: u64) -> u64 {
    if c == 0 {
        return 0;
    }
    let (a, b, c) = (u128::from(a), u128::from(b), u128::from(c));
    u64::try_from((2 * a * b + c) / (2 * c)).unwrap_or(u64::MAX)
}

/// The greatest common divisor; that of 0 and n is n.
pub const fn common_divisor(mut a: u64, mut b: u64) -> u64 {
    while b != 0 {
        (a, b) = (b, a % b);
    }
    a
}

/// An amplitude of 0 to 1 in decibels of full scale; silence is negative infinity.
pub fn decibels(amplitude: f64) -> f64 {
    20.0 * amplitude.log10()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn scaling_rounds_half_up_and_never_overflows() {
        for (a, b, c, want) in [
            (1, 1, 2, 1),
            (30_001, 48_000, 44_100, 32_654),
            (u64::MAX, 2, 1, u64::MAX),
            (u64::MAX, 3, 3, u64::MAX),
            (5, 5, 0, 0),
        ] {
            assert_eq!(scaled(a, b, c), want, "{a}*{b}/{c}");
        }
    }
}
