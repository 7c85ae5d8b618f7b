//! What a picture of a clip needs: its outline in columns, and its mean spectrum.

use super::clipping::{SHORTEST_RUN, full_scale};
use crate::block::{Block, each_block};
use crate::error::Result;
use crate::num::{count, real_size, size};
use crate::observe::Observer;
use crate::read::Clip;
use crate::shape::blocks::BlockStep;
use crate::shape::finite::make_finite;
use crate::spec::Facts;
use realfft::{RealFftPlanner, RealToComplex};
use std::f64::consts::TAU;
use std::sync::{Arc, LazyLock};

/// One column of an outline, over all channels; full scale is ±1.
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
    /// Equal parts of the clip, in order.
    pub columns: Vec<Column>,
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
                columns: Vec::new(),
                current: Column::default(),
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
        Picture { columns: self.outline.columns, samples: self.samples, spectrum }
    }
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
    columns: Vec<Column>,
    /// Its `rms` is a sum of squares until it is closed.
    current: Column,
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
            let share = 1.0 / real_size(block.channels().len());
            for (samples, run) in block.channels().iter().zip(&mut self.runs) {
                for &sample in &samples[from..from + left] {
                    self.current.least = self.current.least.min(sample);
                    self.current.greatest = self.current.greatest.max(sample);
                    self.current.rms += sample * sample * share;
                    *run = if sample.abs() >= self.full_scale { *run + 1 } else { 0 };
                    self.current.clipped |= *run >= SHORTEST_RUN;
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
            self.current.rms = (self.current.rms / crate::num::real(self.filled)).sqrt();
            self.columns.push(self.current);
            self.current = Column::default();
            self.filled = 0;
        }
    }
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
}

impl Spectrum {
    fn new() -> Self {
        Self { waiting: Vec::new(), power: vec![0.0; WINDOW / 2], windows: 0 }
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
            let mut windowed: Vec<f64> = waiting.iter().zip(window).map(|(s, w)| s * w).collect();
            let mut bins = fft.make_output_vec();
            // Lengths are those of the plan: it cannot refuse them.
            let _ = fft.process(&mut windowed, &mut bins);
            for (power, bin) in self.power.iter_mut().zip(&bins) {
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
            columns: Vec::new(),
            current: Column::default(),
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
        let clipped: Vec<bool> = outline.columns.iter().map(|column| column.clipped).collect();
        assert_eq!(clipped, [false, true, false, true, false]);
        let first = outline.columns[0];
        assert_eq!((first.least, first.greatest), (0.0, 1.0));
    }
}
