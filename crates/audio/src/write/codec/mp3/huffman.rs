//! Which tables code a granule's values with the fewest bits, and the codes themselves (ISO/IEC 11172-3, 2.4.2.7 and
//! 2.4.3.4.6).

use super::codes::PAIRS;
use super::filter::GRANULE;
use crate::write::codec::bits::Bits;
use std::sync::LazyLock;

/// Lanes of [`PAIRS`], and one that is never used, so that they fill registers.
const LANES: usize = 16;
/// By lane: the number of the table. The last two stand for eight tables each.
const NUMBERS: [u8; 15] = [1, 2, 3, 5, 6, 7, 8, 9, 10, 11, 12, 13, 15, 16, 24];
/// By table from 16 on: bits of what is beyond 14 (table B.7).
const LARGE_BITS: [u32; 16] = [1, 2, 3, 4, 6, 8, 10, 13, 4, 5, 6, 7, 8, 9, 11, 13];
/// The largest value: 15 and thirteen more bits.
pub const LARGEST: u16 = 8191 + 15;

/// Codes of four values of 0 or 1, by table (table B.7): lengths, then codes.
const FOURS: [([u8; 16], [u16; 16]); 2] = [
    (
        [1, 4, 4, 5, 4, 6, 5, 6, 4, 5, 5, 6, 5, 6, 6, 6],
        [1, 5, 4, 5, 6, 5, 4, 4, 7, 3, 6, 0, 7, 2, 3, 1],
    ),
    ([4; 16], [15, 14, 13, 12, 11, 10, 9, 8, 7, 6, 5, 4, 3, 2, 1, 0]),
];

/// Bits of a pair in each lane, signs included.
static LENGTHS: LazyLock<Box<[[u16; LANES]; 256]>> = LazyLock::new(|| {
    let mut all = Box::new([[0; LANES]; 256]);
    for (lane, pairs) in PAIRS.iter().enumerate() {
        for x in 0..pairs.wide {
            for y in 0..pairs.wide {
                let signs = u16::from(x > 0) + u16::from(y > 0);
                all[16 * x + y][lane] = u16::from(pairs.lengths[pairs.wide * x + y]) + signs;
            }
        }
    }
    all
});

/// What some values take: bits in each lane, the largest of them, and how many are beyond 14.
#[derive(Debug, Clone, Copy, Default)]
struct Sum {
    lanes: [u16; LANES],
    beyond: u16,
}

/// How a granule's values are coded.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Coding {
    /// Pairs of values in the regions of pairs.
    pub pairs: usize,
    /// Fours of small values behind them.
    pub fours: usize,
    /// The table of each region.
    pub tables: [u8; 3],
    /// Bands in the first and second region, less one.
    pub regions: (u8, u8),
    /// Which table of fours.
    pub fours_table: u8,
    /// Bits of all values.
    pub bits: u32,
}

/// Works out the fewest bits. `edges` are where regions may end; `fixed` where the first of two must end.
pub fn best(values: &[u16; GRANULE], edges: &[u16], fixed: Option<usize>) -> Coding {
    let mut end = GRANULE;
    while end > 1 && values[end - 1] == 0 && values[end - 2] == 0 {
        end -= 2;
    }
    let mut coding = Coding::default();
    let used = end;
    while end > 3 && values[end - 4..end].iter().all(|value| *value <= 1) {
        end -= 4;
    }
    // Two values that are left over are a pair.
    coding.pairs = end.div_ceil(2);
    coding.fours = (used - end) / 4;
    let mut bits = [0, 0];
    for four in values[end..used].chunks_exact(4) {
        let at = four.iter().fold(0, |at, value| at << 1 | usize::from(*value));
        let signs: u16 = four.iter().sum();
        for (bits, (lengths, _)) in bits.iter_mut().zip(&FOURS) {
            *bits += u32::from(lengths[at]) + u32::from(signs);
        }
    }
    coding.fours_table = u8::from(bits[1] < bits[0]);
    coding.bits = bits[0].min(bits[1]);
    regions(values, edges, fixed, &mut coding);
    coding
}

/// Divides the pairs into regions, each with the table that takes the fewest bits.
fn regions(values: &[u16; GRANULE], edges: &[u16], fixed: Option<usize>, coding: &mut Coding) {
    let end = 2 * coding.pairs;
    // Sums up to each edge, and the largest value of each band.
    let mut sums = [Sum::default(); 24];
    let mut largest = [0u16; 24];
    let mut count = 0;
    let mut sum = Sum::default();
    for (band, ends) in edges.windows(2).enumerate() {
        let from = usize::from(ends[0]);
        if from >= end {
            break;
        }
        for pair in values[from..usize::from(ends[1]).min(end)].chunks_exact(2) {
            let (x, y) = (pair[0], pair[1]);
            let lengths = &LENGTHS[usize::from(16 * x.min(15) + y.min(15))];
            for (lane, length) in sum.lanes.iter_mut().zip(lengths) {
                *lane += length;
            }
            sum.beyond += u16::from(x > 14) + u16::from(y > 14);
            largest[band] = largest[band].max(x).max(y);
        }
        count = band + 1;
        sums[count] = sum;
    }
    let cost = |from: usize, to: usize| {
        let (from, to) = (from.min(count), to.min(count));
        let top = largest[from..to].iter().fold(0, |top, value| top.max(*value));
        table(&sums[from], &sums[to], top)
    };
    let mut best = (u32::MAX, [0; 3], (0, 0));
    let mut tried = |(first, second), parts: [(u32, u8); 3]| {
        let bits = parts.iter().map(|(bits, _)| bits).sum();
        if bits < best.0 {
            best = (bits, parts.map(|(_, table)| table), (first, second));
        }
    };
    match fixed {
        Some(first) => {
            tried((first, usize::MAX), [cost(0, first), cost(first, usize::MAX), (0, 0)]);
        }
        None => {
            // What comes last is the same for all that end before it.
            let lasts: [_; 26] = std::array::from_fn(|second| cost(second, count));
            for first in 1..=16.min(count.max(1)) {
                let head = cost(0, first);
                let most = (first + 8).min(count.max(first + 1));
                for (second, last) in lasts.iter().enumerate().take(most + 1).skip(first + 1) {
                    tried((first, second), [head, cost(first, second), *last]);
                }
            }
        }
    }
    coding.bits += best.0;
    coding.tables = best.1;
    let (first, second) = best.2;
    if fixed.is_none() {
        let less_one = |n: usize| u8::try_from(n - 1).unwrap_or(0);
        coding.regions = (less_one(first), less_one(second - first));
    }
}

/// The fewest bits for what lies between two sums, and the table.
fn table(from: &Sum, to: &Sum, top: u16) -> (u32, u8) {
    if top == 0 {
        return (0, 0);
    }
    let lane = |lane: usize| u32::from(to.lanes[lane] - from.lanes[lane]);
    // Values up to 15 are without more bits in lanes 11 and 12.
    let lanes = match top {
        1 => 0..3,
        2 => 1..5,
        3 => 3..8,
        4 | 5 => 5..11,
        6 | 7 => 8..13,
        8..=15 => 11..13,
        _ => 13..15,
    };
    let mut best = (u32::MAX, 0);
    for at in lanes {
        let (bits, number) = match at {
            13 | 14 => {
                let beyond = u32::from(to.beyond - from.beyond);
                let group = 8 * (at - 13);
                let needed = u16::BITS - (top - 15).leading_zeros();
                let fits = LARGE_BITS[group..group + 8].iter().position(|bits| *bits >= needed);
                let wide = group + fits.unwrap_or(7);
                let number = u8::try_from(16 + wide).unwrap_or(31);
                (lane(at) + beyond * LARGE_BITS[wide], number)
            }
            _ => (lane(at), NUMBERS[at]),
        };
        if bits < best.0 {
            best = (bits, number);
        }
    }
    best
}

/// Writes the values. `ends` are where the regions of pairs end.
pub fn put(
    values: &[u16; GRANULE],
    negative: impl Fn(usize) -> bool,
    coding: &Coding,
    ends: [usize; 3],
    bits: &mut Bits,
) {
    let sign = |at: usize, bits: &mut Bits| {
        if values[at] > 0 {
            bits.put(u32::from(negative(at)), 1);
        }
    };
    let mut from = 0;
    for (number, end) in coding.tables.iter().zip(ends) {
        let lane = NUMBERS.iter().rposition(|own| own <= number);
        for at in (from..end).step_by(2) {
            let Some(lane) = lane.filter(|_| *number > 0) else { break };
            let (x, y) = (values[at], values[at + 1]);
            let (low_x, low_y) = (usize::from(x.min(15)), usize::from(y.min(15)));
            let pairs = &PAIRS[lane];
            let place = pairs.wide * low_x + low_y;
            bits.put(pairs.codes[place].into(), pairs.lengths[place].into());
            let more = usize::from(*number).checked_sub(16).map(|at| LARGE_BITS[at]);
            for (value, place) in [(x, at), (y, at + 1)] {
                if let Some(more) = more.filter(|_| value > 14) {
                    bits.put(u32::from(value - 15), more);
                }
                sign(place, bits);
            }
        }
        from = from.max(end);
    }
    let (lengths, codes) = &FOURS[usize::from(coding.fours_table)];
    let start = 2 * coding.pairs;
    for at in (start..start + 4 * coding.fours).step_by(4) {
        let four = values[at..at + 4].iter().fold(0, |sum, value| sum << 1 | usize::from(*value));
        bits.put(codes[four].into(), lengths[four].into());
        (at..at + 4).for_each(|place| sign(place, bits));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Every table is complete: each bit pattern begins with one code, and no code begins another.
    #[test]
    fn tables_are_complete() {
        let pairs = PAIRS.iter().map(|pairs| (pairs.lengths, pairs.codes));
        let fours = FOURS.iter().map(|(lengths, codes)| (&lengths[..], &codes[..]));
        for (lengths, codes) in pairs.chain(fours) {
            assert_eq!(lengths.len(), codes.len());
            let mut all: Vec<(u32, u32)> = lengths
                .iter()
                .zip(codes)
                .map(|(length, code)| (u32::from(*code) << (32 - length), u32::from(*length)))
                .collect();
            all.sort_unstable();
            let mut next = 0u64;
            for (code, length) in all {
                assert_eq!(u64::from(code), next);
                next += 1 << (32 - length);
            }
            assert_eq!(next, 1 << 32);
        }
    }

    /// The bits that are reckoned are those that are written, whatever the values.
    #[test]
    fn bits_are_reckoned_as_they_are_written() {
        let edges: Vec<u16> = (0..=22).map(|band| band * 576 / 22 / 2 * 2).collect();
        let edges: Vec<u16> = edges.into_iter().take(22).chain([576]).collect();
        for largest in [0, 1, 2, 3, 5, 7, 15, 16, 40, 300, 8_206u16] {
            let values: [u16; GRANULE] = std::array::from_fn(|at| {
                let high = if at > 400 { 0 } else { largest };
                u16::try_from((at * at * 31 + 7 * at) % 997).unwrap_or(0) % (high + 1)
            });
            let coding = best(&values, &edges, None);
            let first = usize::from(coding.regions.0) + 1;
            let second = first + usize::from(coding.regions.1) + 1;
            let all = 2 * coding.pairs;
            let end = |edge: usize| usize::from(edges[edge.min(22)]).min(all);
            let mut bits = Bits::default();
            put(&values, |at| at % 3 == 0, &coding, [end(first), end(second), all], &mut bits);
            assert_eq!(bits.length(), crate::num::size(coding.bits.into()), "{largest}");
        }
    }
}
