//! What a picture of a clip needs: its outline in columns, and its mean spectrum.

use super::clipping::{SHORTEST_RUN, full_scale};
use crate::block::{Block, each_block};
use crate::dot::dot;
use crate::error::Result;
use crate::num::{count, real_size, size};
use crate::observe::Observer;
use crate::read::Clip;
use crate::shape::blocks::BlockStep;
use crate::shape::finite::make_finite;
use crate::spec::Facts;
use realfft::num_complex::Complex;
use realfft::{RealFftPlanner, RealToComplex};
use std::f64::consts::TAU;
use std::sync::{Arc, LazyLock};

/// One column of an outline; full scale is ±1.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Column {
    /// The least sample.
    pub least: f64,
    /// The greatest sample.
    pub greatest: f64,
    /// The root of the mean square.
    pub rms: f64,
    /// Whether it is clipped: several samples in a row at full scale.
    pub clipped: bool,
}

/// An outline and a spectrum.
#[derive(Debug, Clone, PartialEq)]
pub struct Picture {
    /// Equal parts of the clip, in order, over all channels.
    pub columns: Vec<Column>,
    /// The same of each channel.
    pub channels: Vec<Vec<Column>>,
    /// All samples of each channel, of clips so short that each has a column; else nothing.
    pub samples: Vec<Vec<f64>>,
    /// The mean spectrum: frequency in hertz, level of a full-scale sine in dB.
    pub spectrum: Vec<(f64, f64)>,
}

/// Frames of one transform.
const WINDOW: usize = 4096;

/// Draws a clip in `columns` columns.
///
/// # Errors
/// Those of reading; [`crate::Error::Stopped`].
pub fn picture(clip: &Clip, columns: usize, observer: &dyn Observer) -> Result<Picture> {
    let mut painter = Painter::new(clip.facts(), columns);
    each_block(&mut *clip.frames()?, observer, |block| {
        make_finite(block);
        painter.feed(block);
        observer.advance(count(block.frames()));
    })?;
    Ok(painter.finish())
}

/// Draws what it is shown, block by block.
pub struct Painter {
    rate: f64,
    outline: Outline,
    samples: Vec<Vec<f64>>,
    spectrum: Spectrum,
}

impl Painter {
    /// For a clip of which these are the facts.
    pub fn new(facts: &Facts, columns: usize) -> Self {
        let part = facts.frames.div_ceil(count(columns)).max(1);
        let channels = usize::from(facts.format.channels.count());
        Self {
            rate: facts.format.rate.real(),
            outline: Outline {
                part,
                channels: vec![Vec::new(); channels],
                current: vec![Column::default(); channels],
                filled: 0,
                full_scale: full_scale(facts.format.encoding.codec.kind()),
                runs: vec![0; channels],
            },
            samples: vec![Vec::new(); if part == 1 { channels } else { 0 }],
            spectrum: Spectrum::new(),
        }
    }

    /// Takes in a block whose samples are numbers.
    pub fn feed(&mut self, block: &Block) {
        self.outline.feed(block);
        self.spectrum.feed(block);
        for (all, new) in self.samples.iter_mut().zip(block.channels()) {
            all.extend_from_slice(new);
        }
    }

    /// The picture of all that came.
    pub fn finish(mut self) -> Picture {
        self.outline.close();
        let spectrum = self.spectrum.finish(self.rate);
        let channels = self.outline.channels;
        Picture { columns: together(&channels), channels, samples: self.samples, spectrum }
    }
}

/// The columns of all channels as one.
fn together(channels: &[Vec<Column>]) -> Vec<Column> {
    let parts = channels.first().map_or(0, Vec::len);
    let share = 1.0 / real_size(channels.len().max(1));
    let at = |index: usize| {
        let mut all = Column::default();
        for column in channels.iter().map(|channel| channel[index]) {
            all.least = all.least.min(column.least);
            all.greatest = all.greatest.max(column.greatest);
            all.rms += column.rms * column.rms * share;
            all.clipped |= column.clipped;
        }
        Column { rms: all.rms.sqrt(), ..all }
    };
    (0..parts).map(at).collect()
}

/// Draws what passes; what is no number becomes silence.
impl BlockStep for &mut Painter {
    fn work(&mut self, block: &mut Block) {
        make_finite(block);
        self.feed(block);
    }
}

struct Outline {
    part: u64,
    channels: Vec<Vec<Column>>,
    /// Of each channel; its `rms` is a sum of squares until it is closed.
    current: Vec<Column>,
    filled: u64,
    full_scale: f64,
    /// For each channel how many samples in a row were at full scale.
    runs: Vec<u64>,
}

impl Outline {
    fn feed(&mut self, block: &Block) {
        let mut from = 0;
        while from < block.frames() {
            let left = size(self.part - self.filled).min(block.frames() - from);
            let channels = block.channels().iter().zip(&mut self.runs).zip(&mut self.current);
            for ((samples, run), current) in channels {
                let samples = &samples[from..from + left];
                let [least, greatest] = extremes(samples);
                current.least = current.least.min(least);
                current.greatest = current.greatest.max(greatest);
                current.rms += dot(samples, samples);
                if greatest.max(-least) < self.full_scale {
                    *run = 0;
                    continue;
                }
                for sample in samples {
                    *run = if sample.abs() >= self.full_scale { *run + 1 } else { 0 };
                    current.clipped |= *run >= SHORTEST_RUN;
                }
            }
            from += left;
            self.filled += count(left);
            if self.filled == self.part {
                self.close();
            }
        }
    }

    fn close(&mut self) {
        if self.filled > 0 {
            for (columns, current) in self.channels.iter_mut().zip(&mut self.current) {
                let rms = (current.rms / crate::num::real(self.filled)).sqrt();
                columns.push(Column { rms, ..std::mem::take(current) });
            }
            self.filled = 0;
        }
    }
}

/// The least and the greatest of numbers, and of 0; several side by side.
fn extremes(samples: &[f64]) -> [f64; 2] {
    const LANES: usize = 8;
    let (mut least, mut greatest) = ([0.0f64; LANES], [0.0f64; LANES]);
    let chunks = samples.chunks_exact(LANES);
    let rest = chunks.remainder();
    let mut take = |lane: usize, sample: f64| {
        least[lane] = if sample < least[lane] { sample } else { least[lane] };
        greatest[lane] = if sample > greatest[lane] { sample } else { greatest[lane] };
    };
    rest.iter().enumerate().for_each(|(lane, sample)| take(lane, *sample));
    for chunk in chunks {
        chunk.iter().enumerate().for_each(|(lane, sample)| take(lane, *sample));
    }
    [least.into_iter().fold(0.0, f64::min), greatest.into_iter().fold(0.0, f64::max)]
}

/// The transform, and Hann's window: made once, since a page has thousands of pictures.
static TRANSFORM: LazyLock<(Arc<dyn RealToComplex<f64>>, Vec<f64>)> = LazyLock::new(|| {
    let hann = |i: usize| 1.0 - (TAU * (real_size(i) + 0.5) / real_size(WINDOW)).cos();
    (RealFftPlanner::new().plan_fft_forward(WINDOW), (0..WINDOW).map(hann).collect())
});

/// The mean of windowed power spectra (P. D. Welch, 1967), channels mixed by power.
struct Spectrum {
    waiting: Vec<Vec<f64>>,
    power: Vec<f64>,
    windows: usize,
    /// What a transform works in.
    windowed: Vec<f64>,
    bins: Vec<Complex<f64>>,
    scratch: Vec<Complex<f64>>,
}

impl Spectrum {
    fn new() -> Self {
        Self {
            waiting: Vec::new(),
            power: vec![0.0; WINDOW / 2],
            windows: 0,
            windowed: Vec::new(),
            bins: TRANSFORM.0.make_output_vec(),
            scratch: TRANSFORM.0.make_scratch_vec(),
        }
    }

    fn feed(&mut self, block: &Block) {
        self.waiting.resize(block.channels().len(), Vec::new());
        for (waiting, samples) in self.waiting.iter_mut().zip(block.channels()) {
            waiting.extend_from_slice(samples);
        }
        while self.waiting.first().is_some_and(|w| w.len() >= WINDOW) {
            self.step();
        }
    }

    fn step(&mut self) {
        let (fft, window) = &*TRANSFORM;
        for waiting in &mut self.waiting {
            waiting.resize(waiting.len().max(WINDOW), 0.0);
            self.windowed.clear();
            self.windowed.extend(waiting.iter().zip(window).map(|(s, w)| s * w));
            // Lengths are those of the plan: it cannot refuse them.
            let Self { windowed, bins, scratch, .. } = self;
            let _ = fft.process_with_scratch(windowed, bins, scratch);
            for (power, bin) in self.power.iter_mut().zip(&self.bins) {
                *power += bin.norm_sqr();
            }
            self.windows += 1;
            waiting.drain(..WINDOW);
        }
    }

    fn finish(mut self, rate: f64) -> Vec<(f64, f64)> {
        if self.windows == 0 && !self.waiting.is_empty() {
            self.step();
        }
        // A full-scale sine in a window whose mean is 1 has a line of half the window's length.
        let scale = 1.0 / (real_size(self.windows.max(1)) * (real_size(WINDOW) / 2.0).powi(2));
        let line = |(bin, power): (usize, &f64)| {
            let hertz = real_size(bin) * rate / real_size(WINDOW);
            (hertz, 10.0 * (power * scale).max(1e-20).log10())
        };
        self.power.iter().enumerate().skip(1).map(line).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::spec::Kind;

    /// Sixteen frames a column: runs of three count, wherever a column ends, and two do not.
    #[test]
    fn clipped_columns_are_those_with_a_run_at_full_scale() {
        let mut outline = Outline {
            part: 16,
            channels: vec![Vec::new(); 2],
            current: vec![Column::default(); 2],
            filled: 0,
            full_scale: full_scale(Kind::Integer(16)),
            runs: vec![0; 2],
        };
        let mut left = vec![0.5; 80];
        left[3..5].fill(1.0);
        left[20..23].fill(-1.0);
        let mut right = vec![0.0; 80];
        // From the end of the third column into the fourth, in which it becomes long enough.
        right[46..50].fill(32_767.0 / 32_768.0);
        for from in (0..80).step_by(10) {
            let part = |side: &[f64]| side[from..from + 10].to_vec();
            outline.feed(&Block::from_channels(vec![part(&left), part(&right)]));
        }
        outline.close();
        let clipped = |columns: &[Column]| columns.iter().map(|c| c.clipped).collect::<Vec<_>>();
        assert_eq!(clipped(&outline.channels[0]), [false, true, false, false, false]);
        assert_eq!(clipped(&outline.channels[1]), [false, false, false, true, false]);
        let all = together(&outline.channels);
        assert_eq!(clipped(&all), [false, true, false, true, false]);
        assert_eq!((all[0].least, all[0].greatest), (0.0, 1.0));
        let [a, b] = [outline.channels[0][1].rms, outline.channels[1][1].rms];
        assert!((all[1].rms.powi(2) - (a * a + b * b) / 2.0).abs() < 1e-12);
    }
}
