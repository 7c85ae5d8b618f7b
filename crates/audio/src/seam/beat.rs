//! The beat of music: how long it lasts to a ten-thousandth, and how many make a bar.

use super::listen::{Heard, dot};
use super::repeats::Run;
use crate::num::{count, real, real_size, rounded, single, size};
use realfft::RealFftPlanner;

/// Beats a minute that are sought.
const TEMPI: [f64; 2] = [60.0, 200.0];
/// From one tempo to the next, as a factor; and how closely the best is looked for.
const STEP: f64 = 3e-5;
const CLOSE: f64 = 1e-5;
/// How far around the best that is.
const AROUND: f64 = 1.5e-3;
/// How sure a beat must be: what part of the strength of all beginnings goes with it.
const SURE: f64 = 0.045;
/// A slow change of strength is none of the beat: what is slower than this, in seconds, is taken off.
const SLOW: f64 = 1.0;
/// Beginnings that are looked at, at most; the spectrum is eight times as fine where there are few.
const MOST: usize = 1 << 18;

/// A steady beat.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Beat {
    /// Frames from one to the next.
    pub period: f64,
    /// For each number of beats that a bar may have how well it goes with the music, from −0.3 to 0.3.
    pub bars: [(u64, f64); 2],
}

impl Beat {
    /// The beat, where it is steady and sure.
    pub fn find(heard: &Heard) -> Option<Self> {
        let period = period(heard)?;
        let alike = |beats: u64| likeness(heard, real(beats) * period / real(heard.hop));
        // Harmony changes with the bars: they are more alike a bar apart, two, and four.
        let [three, four] =
            [3, 4].map(|beats| (alike(beats) + alike(2 * beats) + alike(4 * beats)) / 3.0);
        let better = (2.0 * (four - three)).clamp(-0.3, 0.3);
        Some(Self { period, bars: [(4, better), (3, -better)] })
    }
}

/// How long a beat lasts, in frames.
fn period(heard: &Heard) -> Option<f64> {
    let step = real(heard.onset_hop);
    let onsets = &heard.onsets[..heard.onsets.len().min(MOST)];
    if onsets.len() < 64 {
        return None;
    }
    let raised = raised(onsets);
    let energy: f64 = raised.iter().map(|r| f64::from(*r).powi(2)).sum();
    let length = (8 * raised.len()).next_power_of_two().min(8 * MOST);
    let fft = RealFftPlanner::new().plan_fft_forward(length);
    let mut input = fft.make_input_vec();
    input[..raised.len()].copy_from_slice(&raised);
    let mut spectrum = fft.make_output_vec();
    fft.process(&mut input, &mut spectrum).ok()?;
    let power = |bin: f64| {
        let low = size(rounded(bin.floor()));
        let part = bin - bin.floor();
        let at = |bin: usize| spectrum.get(bin).map_or(0.0, |z| f64::from(z.norm_sqr()));
        (1.0 - part) * at(low) + part * at(low + 1)
    };
    // In bins, for periods in steps.
    let bin = |period: f64| real_size(length) / period;
    // How strongly a beat goes through all of it, with its halves and quarters.
    let comb = |period: f64| {
        let at = bin(period);
        (power(at) + power(2.0 * at) + 0.7 * power(4.0 * at)) * 2.0
            / (energy * real_size(raised.len()))
    };
    let [longest, shortest] = TEMPI.map(|tempo| 60.0 * heard.rate.real() / tempo / step);
    let best = best_of(shortest, longest, STEP, comb)?;
    if comb(best).is_nan() || comb(best) < SURE {
        return None;
    }
    // Its fine parts tell its length the more closely.
    let fine = |period: f64| (1..9u32).map(|part| power(f64::from(part) * bin(period))).sum();
    let best = best_of(best * (1.0 - AROUND), best * (1.0 + AROUND), CLOSE, fine)?;
    Some(best * step)
}

/// Of the values between two, each greater than the last by a factor, that with the most.
fn best_of(from: f64, to: f64, step: f64, worth: impl Fn(f64) -> f64) -> Option<f64> {
    let values = std::iter::successors(Some(from), |value| Some(value * (1.0 + step)));
    values
        .take_while(|value| *value <= to)
        .map(|value| (value, worth(value)))
        .max_by(|a, b| a.1.total_cmp(&b.1))
        .map(|best| best.0)
}

/// After how many frames a run comes again, told by all of its notes: exact to about a millisecond.
pub fn fine_lag(heard: &Heard, run: &Run) -> u64 {
    let coarse = count(run.lag) * heard.hop;
    let step = heard.onset_hop;
    let at = |stretch: usize| size(count(stretch) * heard.hop / step);
    let (from, to) = (at(run.stretches.start), at(run.stretches.end).min(heard.onsets.len()));
    let raised = raised(&heard.onsets);
    let lag = size(coarse / step);
    let reach = size(3 * heard.hop / (2 * step));
    let product = |lag: usize| -> f64 {
        let later = raised.get(from + lag..).unwrap_or_default();
        let pairs = raised[from.min(to)..to].iter().zip(later);
        pairs.map(|(a, b)| f64::from(a * b)).sum()
    };
    let products: Vec<f64> =
        (lag.saturating_sub(reach + 1)..=lag + reach + 1).map(product).collect();
    // What a person plays is early here and late there: the peak is wide.
    let wide: Vec<f64> = products.windows(3).map(|w| w[0] + 2.0 * w[1] + w[2]).collect();
    let Some((best, top)) = wide.iter().enumerate().max_by(|a, b| a.1.total_cmp(b.1)) else {
        return coarse;
    };
    if *top <= 0.0 {
        return coarse;
    }
    let beside = |at: Option<usize>| at.and_then(|at| wide.get(at)).copied().unwrap_or(*top);
    let (left, right) = (beside(best.checked_sub(1)), beside(Some(best + 1)));
    let curve = left - 2.0 * top + right;
    let part = if curve < 0.0 { 0.5 * (left - right) / curve } else { 0.0 };
    let first = real_size(lag.saturating_sub(reach + 1) + 1);
    rounded((first + real_size(best) + part) * real(step))
}

/// How strongly notes begin beside what is usual around them.
fn raised(onsets: &[f32]) -> Vec<f32> {
    let reach = size(rounded(SLOW / super::listen::ONSET_STEP / 2.0));
    let mut sums = vec![0.0f64];
    for onset in onsets {
        sums.push(sums[sums.len() - 1] + f64::from(*onset));
    }
    let usual = |at: usize| {
        let (from, to) = (at.saturating_sub(reach), (at + reach).min(onsets.len()));
        single((sums[to] - sums[from]) / real_size(2 * reach))
    };
    let above = |(at, onset): (usize, &f32)| (onset - usual(at)).max(0.0);
    let mut raised: Vec<f32> = onsets.iter().enumerate().map(above).collect();
    let mean = raised.iter().sum::<f32>() / single(real_size(raised.len().max(1)));
    raised.iter_mut().for_each(|r| *r -= mean);
    raised
}

/// How alike the clip is to itself at a lag in stretches, which may lie between two.
fn likeness(heard: &Heard, lag: f64) -> f64 {
    let whole = size(rounded(lag.floor()));
    let part = single(lag - lag.floor());
    let shapes = &heard.shapes;
    let Some(length) = shapes.len().checked_sub(whole + 1).filter(|left| *left >= 8) else {
        return 0.0;
    };
    let sum: f32 = (0..length)
        .map(|at| {
            let (near, far) = (&shapes[at + whole], &shapes[at + whole + 1]);
            (1.0 - part) * dot(&shapes[at], near) + part * dot(&shapes[at], far)
        })
        .sum();
    f64::from(sum) / real_size(length)
}
