//! The end of a loop that fades into what lies before its start, each band by how alike both are in it: what is deep
//! goes on in step where what is high does not, or the other way round.

use crate::block::Block;
use crate::num::{real_size, size};
use crate::units::{FrameRange, SampleRate};
use rustfft::FftPlanner;
use rustfft::num_complex::Complex;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::f64::consts::{FRAC_PI_2, PI};

/// Low, middle, high.
pub const BANDS: usize = 3;
/// From one band into the next, in hertz: what is deep ends, what is high begins.
const BETWEEN: [[f64; 2]; BANDS - 1] = [[180.0, 350.0], [1800.0, 3500.0]];
/// Silence behind what is split, in seconds, so that its end does not reach its start.
const APART: f64 = 0.05;

/// The last frames of a loop become those that lie before its start.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct Crossfade {
    /// The loop, in frames of the clip.
    #[serde(rename = "loop")]
    pub range: FrameRange,
    /// Over how many frames; this many lie before the loop's start.
    pub frames: u64,
    /// How alike both are in the low, the middle and the high band: 1 is equal, 0 is unrelated.
    pub likeness: [f64; BANDS],
}

impl Crossfade {
    /// The gains of the loop's own end, and of what comes in, at `x` of the way, for sides that are so alike.
    ///
    /// Their sum keeps its power whatever the likeness ρ: a² + b² + 2ρab = 1. That is equal gain
    /// for ρ = 1 and equal power for ρ = 0.
    pub fn gains(likeness: f64, x: f64) -> [f64; 2] {
        let rise = (x * FRAC_PI_2).sin().powi(2);
        let (a, b) = (1.0 - rise, rise);
        let power = (a * a + b * b + 2.0 * likeness.clamp(0.0, 1.0) * a * b).sqrt();
        [a / power, b / power]
    }

    /// Where it fades.
    pub fn place(&self) -> FrameRange {
        FrameRange { start: self.range.end - self.frames, end: self.range.end }
    }

    /// What lies before the loop's start, over as many frames.
    pub fn before(&self) -> FrameRange {
        FrameRange { start: self.range.start - self.frames, end: self.range.start }
    }

    /// The loop's own end, faded into what lies before its start; both of as many frames as it lasts.
    pub fn blended(&self, own: &Block, before: &Block, rate: SampleRate) -> Block {
        blend(own, before, self.likeness, rate)
    }
}

/// One stretch faded into another of as many frames, each band as alike as it is said.
pub fn blend(own: &Block, coming: &Block, likeness: [f64; BANDS], rate: SampleRate) -> Block {
    let frames = own.frames();
    let mut out = Block::new(own.channels().len());
    out.shape(own.channels().len(), frames);
    let bands = bands(own, rate).into_iter().zip(bands(coming, rate));
    for ((own, coming), likeness) in bands.zip(likeness) {
        let sides = own.channels().iter().zip(coming.channels());
        for (out, (own, coming)) in out.channels_mut().iter_mut().zip(sides) {
            for (index, (out, (own, coming))) in
                out.iter_mut().zip(own.iter().zip(coming)).enumerate()
            {
                let x = real_size(index + 1) / real_size(frames + 1);
                let [a, b] = Crossfade::gains(likeness, x);
                *out += a * own + b * coming;
            }
        }
    }
    out
}

/// How alike two sides are in each band.
pub fn likeness_by_band(a: &Block, b: &Block, rate: SampleRate) -> [f64; BANDS] {
    let (a, b) = (bands(a, rate), bands(b, rate));
    std::array::from_fn(|band| likeness(&a[band], &b[band]))
}

/// The correlation of two stretches over all channels, from −1 to 1.
pub fn likeness(a: &Block, b: &Block) -> f64 {
    let (mut product, mut power_a, mut power_b) = (0.0, 0.0, 0.0);
    for (a, b) in a.channels().iter().zip(b.channels()) {
        for (a, b) in a.iter().zip(b) {
            product += a * b;
            power_a += a * a;
            power_b += b * b;
        }
    }
    match power_a * power_b > 0.0 {
        true => product / (power_a * power_b).sqrt(),
        false => 0.0,
    }
}

/// How much of each band lies at a frequency; 1 in all.
fn shares(hertz: f64) -> [f64; BANDS] {
    let above = BETWEEN.map(|[from, to]| {
        let way = ((hertz / from).ln() / (to / from).ln()).clamp(0.0, 1.0);
        0.5 - 0.5 * (PI * way).cos()
    });
    [1.0 - above[0], above[0] - above[1], above[1]]
}

/// A stretch in bands, without any shift in time; their sum is the stretch.
fn bands(block: &Block, rate: SampleRate) -> [Block; BANDS] {
    let frames = block.frames();
    let length = (frames + size(rate.frames(APART))).next_power_of_two();
    let mut planner = FftPlanner::new();
    let (forward, back) = (planner.plan_fft_forward(length), planner.plan_fft_inverse(length));
    let mut out: [Vec<Vec<f64>>; BANDS] = Default::default();
    // Two channels go through one transform: what all bands do to one frequency is a real number.
    for pair in block.channels().chunks(2) {
        let second = |index: usize| pair.get(1).map_or(0.0, |channel| channel[index]);
        let mut spectrum: Vec<Complex<f64>> = pair[0]
            .iter()
            .enumerate()
            .map(|(index, first)| Complex::new(*first, second(index)))
            .collect();
        spectrum.resize(length, Complex::default());
        forward.process(&mut spectrum);
        for (band, out) in out.iter_mut().enumerate() {
            let share = |bin: usize| {
                let hertz = rate.real() * real_size(bin.min(length - bin)) / real_size(length);
                shares(hertz)[band] / real_size(length)
            };
            let mut part: Vec<Complex<f64>> =
                spectrum.iter().enumerate().map(|(bin, value)| value * share(bin)).collect();
            back.process(&mut part);
            let sides: [fn(&Complex<f64>) -> f64; 2] = [|value| value.re, |value| value.im];
            out.extend(
                sides[..pair.len()].iter().map(|side| part[..frames].iter().map(side).collect()),
            );
        }
    }
    out.map(Block::from_channels)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::f64::consts::TAU;

    const RATE: u32 = 48_000;

    fn tone(hertz: f64, phase: f64) -> Vec<f64> {
        let at = |i: u32| (TAU * hertz * f64::from(i) / f64::from(RATE) + phase).sin();
        (0..9_600).map(at).collect()
    }

    fn mixed(tones: &[(f64, f64)]) -> Vec<f64> {
        let tones: Vec<_> = tones.iter().map(|(hertz, phase)| tone(*hertz, *phase)).collect();
        (0..9_600).map(|i| tones.iter().map(|tone| tone[i]).sum()).collect()
    }

    fn power(samples: &[f64]) -> f64 {
        samples.iter().map(|s| s * s).sum::<f64>() / samples.len() as f64
    }

    #[test]
    fn bands_add_up_to_what_they_were() {
        let rate = SampleRate::new(RATE).unwrap();
        let channels = vec![
            mixed(&[(60.0, 0.0), (900.0, 1.0), (7_000.0, 2.0)]),
            tone(300.0, 0.5),
            tone(2_500.0, 0.0),
        ];
        let block = Block::from_channels(channels.clone());
        let bands = bands(&block, rate);
        for (channel, samples) in channels.iter().enumerate() {
            for (i, sample) in samples.iter().enumerate() {
                let sum: f64 = bands.iter().map(|band| band.channels()[channel][i]).sum();
                assert!((sum - sample).abs() < 1e-12);
            }
        }
        // Away from their ends each holds its own tone, and nothing of the others.
        for (band, hertz, phase) in [(0, 60.0, 0.0), (1, 900.0, 1.0), (2, 7_000.0, 2.0)] {
            let own = tone(hertz, phase);
            let found = &bands[band].channels()[0];
            let worst = (2_400..7_200).fold(0.0f64, |a, i| a.max((found[i] - own[i]).abs()));
            assert!(worst < 2e-3, "{hertz} Hz: {worst}");
        }
    }

    /// Bass that goes on in step below a noise that does not: one law for both would let one of them swell or sag.
    #[test]
    fn each_band_keeps_its_power_through_the_fade() {
        let rate = SampleRate::new(RATE).unwrap();
        let high = |seed: u64| {
            let mut state = seed;
            let mut next = || {
                state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
                (state >> 33) as f64 / f64::from(1u32 << 30) - 1.0
            };
            let noise: Vec<f64> = (0..9_600).map(|_| next()).collect();
            bands(&Block::from_channels(vec![noise]), rate)[2].channels()[0].clone()
        };
        let side = |seed: u64| {
            let (deep, high) = (tone(60.0, 0.0), high(seed));
            Block::from_channels(vec![deep.iter().zip(high).map(|(a, b)| a + b).collect()])
        };
        let (own, before) = (side(1), side(2));
        let likeness = likeness_by_band(&own, &before, rate);
        assert!(likeness[0] > 0.99 && likeness[2].abs() < 0.05, "{likeness:?}");
        let range = FrameRange { start: 9_600, end: 48_000 };
        let levels = |likeness: [f64; BANDS]| {
            let fade = Crossfade { range, frames: 9_600, likeness };
            let out = fade.blended(&own, &before, rate);
            let middle = |block: &Block, band: usize| {
                power(&bands(block, rate)[band].channels()[0][3_200..6_400])
            };
            [0, 2].map(|band| 10.0 * (middle(&out, band) / middle(&own, band)).log10())
        };
        let by_band = levels(likeness);
        assert!(by_band.iter().all(|db| db.abs() < 0.2), "{by_band:?}");
        let [deep, _] = levels([0.0; BANDS]);
        let [_, high] = levels([1.0; BANDS]);
        assert!(deep > 2.5 && high < -2.0, "one law for all: {deep} dB, {high} dB");
    }

    #[test]
    fn it_begins_as_the_end_and_ends_as_what_lies_before_the_start() {
        let rate = SampleRate::new(RATE).unwrap();
        let sides = [tone(440.0, 0.0), tone(440.0, 1.3)].map(|s| Block::from_channels(vec![s]));
        let range = FrameRange { start: 9_600, end: 48_000 };
        let fade = Crossfade { range, frames: 9_600, likeness: [0.3, 0.0, 1.0] };
        let out = fade.blended(&sides[0], &sides[1], rate);
        let [own, before] = sides.each_ref().map(|side| &side.channels()[0]);
        let out = &out.channels()[0];
        assert!((out[0] - own[0]).abs() < 1e-6 && (out[9_599] - before[9_599]).abs() < 1e-6);
    }
}
