//! What a resampling filter does to a seam that has other sound beside it than the loop's own.

use crate::block::{Block, Samples, collect};
use crate::error::Result;
use crate::num::{count, decibels, scaled, size};
use crate::observe::Observer;
use crate::read::Clip;
use crate::shape::resample::{Resampler, reach};
use crate::shape::windows::windows;
use crate::units::FrameRange;
use std::ops::Range;

/// The greatest error at the seam, in dBFS, where `from` frames become `to` and the loop's points stay:
/// the filter sees what lies behind the end, and before the start, where the loop itself is to be heard.
///
/// # Errors
/// Those of reading.
pub fn seam_error(
    clip: &Clip,
    used: FrameRange,
    range: FrameRange,
    (from, to): (u64, u64),
    observer: &dyn Observer,
) -> Result<f64> {
    let reach = reach(from, to);
    let length = size(reach);
    let behind = |place: u64| FrameRange { start: place, end: (place + reach).min(used.end) };
    let before =
        |place: u64| FrameRange { start: place.saturating_sub(reach).max(used.start), end: place };
    let parts = [behind(range.end), behind(range.start), before(range.start), before(range.end)];
    let blocks = windows(clip, &parts, observer)?;
    let apart = |a: &Block, b: &Block, at_end: bool| -> Vec<Vec<f64>> {
        let sample = |channel: &[f64], n: usize| {
            let index = match at_end {
                // Counted back from the place.
                true => channel.len().checked_sub(length - n),
                false => Some(n),
            };
            index.and_then(|n| channel.get(n)).copied().unwrap_or(0.0)
        };
        let pairs = a.channels().iter().zip(b.channels());
        pairs.map(|(a, b)| (0..length).map(|n| sample(a, n) - sample(b, n)).collect()).collect()
    };
    let behind = apart(&blocks[0], &blocks[1], false);
    let before = apart(&blocks[2], &blocks[3], true);
    let rate = clip.facts().format.rate;
    // Where frames of the output fall beside the point differs from loop to loop: several ways are tried.
    let mut most = 0.0f64;
    for shift in 0..SHIFTS {
        let silence = vec![0.0; length + shift];
        let place = count(silence.len());
        let late = behind.iter().map(|d| [&silence[..], d].concat()).collect();
        let early = before.iter().map(|d| [&silence[..shift], d, &silence].concat());
        let end = size(scaled(place, to, from));
        let out = collect(&mut Resampler::by(Samples::new(rate, late), from, to, rate))?;
        most = most.max(peak(&out, 0..end));
        let source = Samples::new(rate, early.collect());
        let out = collect(&mut Resampler::by(source, from, to, rate))?;
        most = most.max(peak(&out, end + 1..usize::MAX));
    }
    Ok(decibels(most).max(SMALLEST))
}

/// What is told at least, in dBFS: what 32-bit samples cannot hold is none.
const SMALLEST: f64 = -150.0;
/// How many places of a frame are tried.
const SHIFTS: usize = 12;

fn peak(channels: &[Vec<f64>], range: Range<usize>) -> f64 {
    let part = |c: &Vec<f64>| c[range.start.min(c.len())..range.end.min(c.len())].to_vec();
    let samples = channels.iter().flat_map(part);
    samples.fold(0.0, |most, sample| most.max(sample.abs()))
}
