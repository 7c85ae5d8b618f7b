//! Where, to the frame, a loop of a known length is heard the least.

use super::around::Stretch;
use crate::block::Block;
use crate::num::{count, real_size, size};
use crate::units::FrameRange;
use std::ops::Range;

/// How many places of a length are listened to.
const PLACES: usize = 4;
/// From one to the next of the places that both ends may move back to, in frames.
const STEP: usize = 8;

/// Both ends moved back by `most` frames at most, to where the waves on both sides differ least over `window` frames.
pub fn moved_back(
    range: FrameRange,
    most: u64,
    [early, late]: [Stretch<'_>; 2],
    window: usize,
) -> FrameRange {
    let cost = |back: u64| {
        let (mut apart, mut power) = (0.0, 1e-9);
        for (a, b) in early.block.channels().iter().zip(late.block.channels()) {
            for step in 0..window {
                let at = |own: FrameRange, place: u64| {
                    (place + count(step)).checked_sub(back + count(window / 2) + own.start)
                };
                let at = at(early.range, range.start).zip(at(late.range, range.end));
                let Some((a, b)) = at.and_then(|(i, j)| a.get(size(i)).zip(b.get(size(j)))) else {
                    continue;
                };
                apart += (a - b).powi(2);
                power += a * a + b * b;
            }
        }
        // Of places that are alike the quieter.
        apart + 0.1 * power
    };
    let best = (0..=most).step_by(STEP).map(|back| (back, cost(back)));
    let back = best.min_by(|a, b| a.1.total_cmp(&b.1)).map_or(0, |best| best.0);
    FrameRange { start: range.start - back, end: range.end - back }
}

/// The frames at which both waves are most alike, beside what sounds there, the best first and none within `side` of
/// another; of equal ones the nearest to `middle`. Frames nearer to an end than `side` are left out where there are
/// others.
pub fn places(
    a: &Block,
    b: &Block,
    window: usize,
    side: usize,
    middle: usize,
    allowed: impl Fn(usize) -> bool,
) -> Vec<usize> {
    let frames = a.frames();
    let (mut apart, mut power) = (vec![0.0; frames + 1], vec![0.0; frames + 1]);
    for index in 0..frames {
        let pairs = a.channels().iter().zip(b.channels());
        let (mut d, mut p) = (0.0, 0.0);
        for (a, b) in pairs {
            d += (a[index] - b[index]).powi(2);
            p += a[index].powi(2) + b[index].powi(2);
        }
        apart[index + 1] = apart[index] + d;
        power[index + 1] = power[index] + p;
    }
    let mean = power[frames] / real_size(frames.max(1));
    // What is 40 dB below the rest is not heard beside it.
    let floor = (1e-4 * mean + 1e-12) * real_size(window);
    let cost = |at: usize| {
        let around = |reach: usize| (at.saturating_sub(reach), (at + reach).min(frames));
        let (from, to) = around(window / 2);
        let here = power[to] - power[from];
        // Of places that are alike the one in the quieter surroundings: a codec's noise is small there, too, and no
        // note begins right behind it.
        let (first, last) = around(4 * window);
        let loud = (power[last] - power[first]) / real_size((last - first).max(1));
        let loud = loud / (loud + mean + 1e-12);
        let far = real_size(at.abs_diff(middle)) / real_size(frames);
        (apart[to] - apart[from]) / (here + floor) + 1e-4 * loud + 1e-7 * far
    };
    let costs = |range: Range<usize>| -> Vec<(usize, f64)> {
        range.filter(|at| allowed(*at)).map(|at| (at, cost(at))).collect()
    };
    let mut left = costs(side..frames.saturating_sub(side));
    if left.is_empty() {
        left = costs(0..frames + 1);
    }
    let mut best = Vec::new();
    while let Some((at, _)) = left.iter().min_by(|a, b| a.1.total_cmp(&b.1)).copied() {
        best.push(at);
        if best.len() == PLACES {
            break;
        }
        left.retain(|other| other.0.abs_diff(at) > side);
    }
    best
}
