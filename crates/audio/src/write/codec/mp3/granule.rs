//! A granule as it is sent, and the bits that its scale factors take (ISO/IEC 11172-3, 2.4.2.7; 13818-3, 2.4.3.2).

use super::filter::{GRANULE, Shape};
use super::huffman::Coding;
use super::spectrum::MOST_BANDS;
use super::tables::{LOW_GROUPS, SCALE_BITS};
use crate::num::count32;

/// How many factors there are in a group, and how many bits each takes.
type FactorBits = [(usize, u32); 4];

/// A granule as it is sent.
#[derive(Debug, Clone)]
pub struct Granule {
    /// The form of its window.
    pub shape: Shape,
    /// Magnitudes.
    pub values: [u16; GRANULE],
    /// How they are coded.
    pub coding: Coding,
    /// The gain of all.
    pub gain: i32,
    /// Gains of short windows, in steps of eight.
    pub window_gains: [u8; 3],
    /// How much finer each band is.
    pub factors: [u8; MOST_BANDS],
    /// Whether a factor counts twice.
    pub doubled: bool,
    /// Whether high bands are finer by a table.
    pub pretab: bool,
    /// The number that tells how many bits factors take, and the groups that have so many each.
    pub compress: u16,
    /// Bits of factors, by group.
    pub factor_bits: FactorBits,
    /// Which groups take their factors from the granule before (ISO/IEC 11172-3, `scfsi`).
    pub shared: [bool; 4],
    /// Bands that hold nothing: their factors do not matter.
    pub empty: [bool; MOST_BANDS],
}

impl Granule {
    /// One that holds nothing.
    pub fn empty(shape: Shape, gain: i32) -> Self {
        Self {
            shape,
            values: [0; GRANULE],
            coding: Coding::default(),
            gain,
            window_gains: [0; 3],
            factors: [0; MOST_BANDS],
            doubled: false,
            pretab: false,
            compress: 0,
            factor_bits: [(0, 0); 4],
            shared: [false; 4],
            empty: [true; MOST_BANDS],
        }
    }

    /// Bits of factors and values.
    pub fn bits(&self) -> u32 {
        self.coding.bits + self.factors_bits()
    }

    /// Bits of the factors alone.
    pub fn factors_bits(&self) -> u32 {
        if self.shared == [false; 4] {
            return self.factor_bits.iter().map(|(n, bits)| count32(*n) * bits).sum();
        }
        let groups = SHARED_GROUPS.iter().zip(self.shared).enumerate();
        let sent = groups.filter(|(_, (_, shared))| !shared);
        sent.map(|(group, ((from, to), _))| {
            count32(to - from) * self.factor_bits[usize::from(group > 1)].1
        })
        .sum()
    }
}

/// Groups of bands whose factors two granules may share (ISO/IEC 11172-3, 2.4.2.7).
pub const SHARED_GROUPS: [(usize, usize); 4] = [(0, 6), (6, 11), (11, 16), (16, 21)];

/// Lets the second granule take factors from the first where they are the same, or do not matter.
pub fn share(first: &Granule, second: &mut Granule) {
    let long = |granule: &Granule| granule.shape != Shape::Short;
    if !long(first) || !long(second) {
        return;
    }
    for (group, (from, to)) in SHARED_GROUPS.into_iter().enumerate() {
        let same = |band: usize| second.empty[band] || first.factors[band] == second.factors[band];
        second.shared[group] = (from..to).all(same);
    }
    if second.shared != [false; 4] {
        factor_bits(second);
    }
}

fn bits_of(factors: &[u8]) -> u32 {
    let top = factors.iter().max().copied().unwrap_or(0);
    u8::BITS - top.leading_zeros()
}

/// Chooses how many bits the factors take (ISO/IEC 11172-3, 2.4.2.7).
pub fn factor_bits(granule: &mut Granule) {
    let (split, end) = match granule.shape {
        Shape::Short => (18, 36),
        _ => (11, 21),
    };
    // Those that are shared are not sent.
    let mut sent = granule.factors;
    for (shared, (from, to)) in granule.shared.iter().zip(SHARED_GROUPS) {
        if *shared {
            sent[from..to].fill(0);
        }
    }
    let needed = (bits_of(&sent[..split]), bits_of(&sent[split..end]));
    let fits = |(_, low, high): &(u16, u32, u32)| *low >= needed.0 && *high >= needed.1;
    let cost =
        |(_, low, high): &(u16, u32, u32)| count32(split) * low + count32(end - split) * high;
    let all = (0..).zip(SCALE_BITS).map(|(number, (low, high))| (number, low, high));
    let best = all.filter(fits).min_by_key(cost);
    // The last holds whatever a factor can be.
    let (number, low, high) = best.unwrap_or((15, 4, 3));
    granule.compress = number;
    granule.factor_bits = [(split, low), (end - split, high), (0, 0), (0, 0)];
}

/// The same for the lower rates (ISO/IEC 13818-3, 2.4.3.2).
pub fn low_factor_bits(granule: &mut Granule) {
    let mut best: Option<(u32, u16, FactorBits)> = None;
    for (layout, (long, short)) in LOW_GROUPS.iter().enumerate() {
        let groups = if granule.shape == Shape::Short { short } else { long };
        let mut from = 0;
        let bits = groups.map(|n| {
            let bits = bits_of(&granule.factors[from..from + n]);
            from += n;
            bits
        });
        let fits = bits[0] <= 4 && bits[1] <= 4 && bits[2] <= 3 && bits[3] <= 3;
        if !fits || (layout == 1 && bits[3] > 0) {
            continue;
        }
        let all: u32 = groups.iter().zip(bits).map(|(n, bits)| count32(*n) * bits).sum();
        let number = match layout {
            0 => (bits[0] * 5 + bits[1]) << 4 | bits[2] << 2 | bits[3],
            _ => 400 + ((bits[0] * 5 + bits[1]) << 2 | bits[2]),
        };
        if best.is_none_or(|(least, ..)| all < least) {
            let parts = std::array::from_fn(|at| (groups[at], bits[at]));
            best = Some((all, u16::try_from(number).unwrap_or(0), parts));
        }
    }
    if let Some((_, number, parts)) = best {
        granule.compress = number;
        granule.factor_bits = parts;
    }
}
