//! How far one stretch of sound lies behind another, to the frame: by cross-correlation of all channels.

use crate::block::Block;
use crate::num::{real_size, single};
use crate::units::SampleRate;
use rustfft::FftPlanner;
use rustfft::num_complex::Complex;
use std::ops::Range;

/// What is taken off each sample of the one before it, so that high tones count as well as low ones.
const EMPHASIS: f64 = 0.9;

/// From here on, waves that are alike are the same sound, and nothing else needs to be asked.
const SAME: f64 = 0.85;
/// What the onsets of notes count beside the wave.
const ONSETS: f64 = 1.5;
/// Sounds that rise within this many seconds are onsets.
const RISE: f64 = 0.004;

/// Where `a` lies in `b`, which is longer: the offset at which both are most alike, from `first` on up to
/// but not including `end`.
///
/// Where the wave itself does not repeat, as when notes are played again, their onsets decide with it.
pub fn align(
    planner: &mut FftPlanner<f32>,
    a: &Block,
    b: &Block,
    rate: SampleRate,
    first: usize,
    end: usize,
) -> Option<usize> {
    let length = a.frames();
    let end = end.min((b.frames() + 1).checked_sub(length)?);
    if first >= end || length == 0 {
        return None;
    }
    let size = b.frames().next_power_of_two();
    let mut alike = correlate(planner, [folded(a, size), folded(b, size)], length, first..end);
    if alike.iter().all(|alike| *alike < SAME) {
        let [a, b] = [a, b].map(|block| {
            let mut onsets = onsets(block, rate);
            onsets.resize(size, Complex::default());
            onsets
        });
        let onsets = correlate(planner, [a, b], length, first..end);
        for (wave, onset) in alike.iter_mut().zip(onsets) {
            *wave += ONSETS * onset;
        }
    }
    let pairs = alike.iter().enumerate();
    let best = pairs.max_by(|a, b| a.1.total_cmp(b.1).then(b.0.cmp(&a.0)));
    best.map(|best| first + best.0)
}

/// How alike both are for each offset, from −1 to 1. The real part of their product is the sum of the
/// products of the real and of the imaginary parts: two channels at once.
fn correlate(
    planner: &mut FftPlanner<f32>,
    [mut a, mut b]: [Vec<Complex<f32>>; 2],
    length: usize,
    offsets: Range<usize>,
) -> Vec<f64> {
    let size = b.len();
    let forward = planner.plan_fft_forward(size);
    let powers: Vec<f64> = b.iter().map(|z| f64::from(z.norm_sqr())).collect();
    let power: f64 = a.iter().map(|z| f64::from(z.norm_sqr())).sum();
    forward.process(&mut a);
    forward.process(&mut b);
    for (b, a) in b.iter_mut().zip(&a) {
        *b *= a.conj();
    }
    planner.plan_fft_inverse(size).process(&mut b);
    let mut under: f64 = powers[offsets.start..offsets.start + length].iter().sum();
    let floor = 1e-9 * real_size(length);
    offsets
        .map(|offset| {
            let product = f64::from(b[offset].re) / real_size(size);
            let alike = product / ((power + floor) * (under.max(0.0) + floor)).sqrt();
            under += powers.get(offset + length).unwrap_or(&0.0) - powers[offset];
            alike
        })
        .collect()
}

/// How fast the level rises, frame by frame, less its mean.
fn onsets(block: &Block, rate: SampleRate) -> Vec<Complex<f32>> {
    let raised = folded(block, block.frames());
    let step = crate::num::size(rate.frames(RISE)).max(2);
    let mut sum = 0.0;
    let mut sums = vec![0.0];
    for z in &raised {
        sum += f64::from(z.norm_sqr());
        sums.push(sum);
    }
    let floor = 1e-3 * sum / real_size(raised.len().max(1)) + 1e-12;
    let level = |at: usize| {
        let (from, to) = (at.saturating_sub(step / 2), (at + step / 2 + 1).min(raised.len()));
        ((sums[to] - sums[from]) / real_size(to - from) + floor).ln()
    };
    let levels: Vec<f64> = (0..raised.len()).map(level).collect();
    let rise = |at: usize| (levels[at] - levels[at.saturating_sub(step)]).max(0.0);
    let rises: Vec<f64> = (0..raised.len()).map(rise).collect();
    let mean = rises.iter().sum::<f64>() / real_size(rises.len().max(1));
    rises.into_iter().map(|rise| Complex::new(single(rise - mean), 0.0)).collect()
}

/// Even channels as the real part, odd ones as the imaginary part, high tones raised.
fn folded(block: &Block, size: usize) -> Vec<Complex<f32>> {
    let mut all = vec![Complex::default(); size];
    for (index, channel) in block.channels().iter().enumerate() {
        let mut last = channel.first().copied().unwrap_or(0.0);
        for (to, sample) in all.iter_mut().zip(channel) {
            let raised = single(sample - EMPHASIS * last);
            last = *sample;
            match index % 2 {
                0 => to.re += raised,
                _ => to.im += raised,
            }
        }
    }
    all
}

/// How much two stretches of the same length differ, in dB of their mean power: 0 where they are
/// unrelated, −99 where they are equal.
pub fn difference(a: &Block, b: &Block) -> f64 {
    let (mut apart, mut power) = (0.0, 0.0);
    for (a, b) in a.channels().iter().zip(b.channels()) {
        for (a, b) in a.iter().zip(b) {
            apart += (a - b) * (a - b);
            power += a * a + b * b;
        }
    }
    // Silence is unrelated to itself.
    let floor = 1e-12 * real_size(1 + a.frames());
    (10.0 * ((apart + floor) / (power + floor)).log10()).clamp(-99.0, 3.0)
}
