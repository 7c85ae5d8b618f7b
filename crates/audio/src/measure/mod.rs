//! Measuring a signal, block by block: only what is asked for.

mod clipping;
mod contour;
mod loudness;
pub mod picture;
mod silence;
mod true_peak;

pub use clipping::Clipped;
pub use contour::Contour;
pub use loudness::{Loudness, Measure};
pub use silence::{SILENCE_DBFS, Silence, SilenceLevel};

use crate::block::{Block, Source, each_block};
use crate::error::Result;
use crate::num::{count, decibels, real, size};
use crate::observe::Observer;
use crate::read::Clip;
use crate::shape::blocks::BlockStep;
use crate::shape::finite::make_finite;
use crate::spec::Kind;
use clipping::ClipFinder;
use loudness::LoudnessMeter;
use schemars::JsonSchema;
use serde::Serialize;
pub(crate) use silence::SilenceFinder;

/// What a survey found. Levels that do not exist (silence) are negative infinity, `null` in JSON.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
pub struct Survey {
    /// How many frames were measured.
    pub frames: u64,
    /// The largest sample of any channel, in dBFS.
    pub peak_dbfs: f64,
    /// The largest value between samples too, in dBTP (ITU-R BS.1770-4, annex 2).
    pub true_peak_dbtp: f64,
    /// Loudness (ITU-R BS.1770-4, annex 1).
    pub loudness: Loudness,
    /// The mean of each channel; full scale is 1.
    pub dc: Vec<f64>,
    /// Places that hit full scale.
    pub clipped: Clipped,
    /// Silence at both ends, and the sounds between silences.
    pub silence: Silence,
    /// Samples that are not numbers (in floating point files).
    pub not_numbers: u64,
    /// The greatest sample of each of up to 72 equal parts, for drawing.
    pub outline: Vec<f64>,
    /// The energies of every 400 ms, of which loudness is made.
    #[serde(skip)]
    moments: Vec<f64>,
}

/// Whether there is nothing to hear in a clip.
///
/// # Errors
/// Those of reading it.
pub fn is_silent(clip: &Clip, observer: &dyn Observer) -> Result<bool> {
    let mut silent = true;
    let mut frames = clip.frames()?;
    each_block(&mut *frames, observer, |block| {
        silent &= block.channels().iter().all(|samples| samples.iter().all(|s| *s == 0.0));
    })?;
    Ok(silent)
}

/// What two levels of the same signal may differ by and still count as the same, in dB.
const ALIKE: f64 = 0.02;

impl Survey {
    /// Takes true peak and loudness from what this signal became by a gain in dB and by rounding, with `steps` steps to
    /// full scale: they differ by the gain alone. Whether they do: beside coarse steps they may not, and then nothing is
    /// taken.
    pub(crate) fn take_levels(&mut self, after: &Self, gain: f64, steps: f64) -> bool {
        // Dither and rounding move a sample by one and a half steps at most, and what lies between samples by twice that.
        let moved = 1.0 + 3.0 / (steps * 10f64.powf(after.peak_dbfs / 20.0));
        let alike = decibels(moved) <= ALIKE && after.loudness.measure != Measure::None;
        if alike {
            self.true_peak_dbtp = after.true_peak_dbtp - gain;
            self.loudness = Loudness::of(after.loudness.measure, &after.moments, -gain);
            self.moments.clear();
        }
        alike
    }
}

/// How many parts an outline has.
const OUTLINE: u64 = 72;

/// What to measure beside peaks, DC and clipping, which cost next to nothing.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Ask {
    /// True peak; the costliest.
    pub true_peak: bool,
    /// Loudness.
    pub loudness: bool,
}

impl Ask {
    /// Everything.
    pub const ALL: Self = Self { true_peak: true, loudness: true };
    /// Loudness alone.
    pub const LOUDNESS: Self = Self { true_peak: false, loudness: true };
}

/// Takes in blocks and keeps sums.
pub struct Surveyor {
    frames: u64,
    peak: f64,
    sums: Vec<f64>,
    not_numbers: u64,
    clipping: ClipFinder,
    silence: SilenceFinder,
    loudness: LoudnessMeter,
    clean: Block,
    outline: Vec<f64>,
    part: u64,
}

impl Surveyor {
    /// Ready to measure a source of this form. `kind` says where full scale lies.
    pub fn new(source: &dyn Source, kind: Kind, ask: Ask) -> Self {
        let channels = source.channels();
        Self {
            frames: 0,
            peak: 0.0,
            sums: vec![0.0; channels],
            not_numbers: 0,
            clipping: ClipFinder::new(channels, kind),
            silence: SilenceFinder::new(source.rate(), channels),
            loudness: LoudnessMeter::new(source.rate(), channels, ask),
            clean: Block::new(channels),
            outline: Vec::new(),
            part: u64::MAX,
        }
    }

    /// Draws an outline of a clip of this many frames, too.
    #[must_use]
    pub fn with_outline(mut self, frames: u64) -> Self {
        self.part = frames.div_ceil(OUTLINE).max(1);
        self
    }

    /// Measures one more block.
    pub fn feed(&mut self, block: &Block) {
        let (mut from, mut drawn) = (0, Vec::new());
        let mut found = vec![(0.0f64, 0.0f64); self.sums.len()];
        // In the parts of the outline, so that its peaks need no look of their own.
        while from < block.frames() {
            let at = self.frames + count(from);
            let left = size(self.part - at % self.part).min(block.frames() - from);
            let mut highest = 0.0f64;
            for ((peak, sum), samples) in found.iter_mut().zip(block.channels()) {
                let (most, total) = peak_and_sum(&samples[from..from + left]);
                (*peak, *sum) = (peak.max(most), *sum + total);
                highest = highest.max(most);
            }
            drawn.push((size(at / self.part), highest));
            from += left;
        }
        // A sum that is not a number shows that a sample is not.
        if found.iter().any(|(_, sum)| !sum.is_finite()) {
            return self.feed_unclean(block);
        }
        for (all, (peak, sum)) in self.sums.iter_mut().zip(&found) {
            self.peak = self.peak.max(*peak);
            *all += sum;
        }
        for (part, peak) in drawn.into_iter().filter(|_| self.part < u64::MAX) {
            self.outline.resize(self.outline.len().max(part + 1), 0.0);
            self.outline[part] = self.outline[part].max(peak);
        }
        let peaks: Vec<f64> = found.into_iter().map(|(peak, _)| peak).collect();
        self.clipping.feed(block, &peaks);
        self.silence.feed(block);
        self.loudness.feed(block, &peaks);
        self.frames += count(block.frames());
    }

    /// Measures a block with its samples that are not numbers taken for silence.
    fn feed_unclean(&mut self, block: &Block) {
        let mut clean = std::mem::take(&mut self.clean);
        clean.clone_from(block);
        self.not_numbers += make_finite(&mut clean);
        self.feed(&clean);
        self.clean = clean;
    }

    /// What was found.
    pub fn finish(self) -> Survey {
        let (measure, moments, true_peak_dbtp) = self.loudness.finish();
        let frames = real(self.frames.max(1));
        Survey {
            frames: self.frames,
            peak_dbfs: decibels(self.peak),
            true_peak_dbtp,
            loudness: Loudness::of(measure, &moments, 0.0),
            dc: self.sums.iter().map(|sum| sum / frames).collect(),
            clipped: self.clipping.finish(),
            silence: self.silence.finish(),
            not_numbers: self.not_numbers,
            outline: self.outline,
            moments,
        }
    }
}

/// Measures what passes.
impl BlockStep for &mut Surveyor {
    fn work(&mut self, block: &mut Block) {
        self.feed(block);
    }
}

/// Several sums side by side let the processor work on more than one sample at once.
fn peak_and_sum(samples: &[f64]) -> (f64, f64) {
    const LANES: usize = 8;
    let (mut peaks, mut sums) = ([0.0f64; LANES], [0.0f64; LANES]);
    let chunks = samples.chunks_exact(LANES);
    let rest = chunks.remainder();
    for chunk in chunks {
        for lane in 0..LANES {
            // One instruction, which `max` is not; the sums tell of samples that are no numbers.
            let sample = chunk[lane].abs();
            peaks[lane] = if sample > peaks[lane] { sample } else { peaks[lane] };
            sums[lane] += chunk[lane];
        }
    }
    for (lane, sample) in rest.iter().enumerate() {
        peaks[lane] = peaks[lane].max(sample.abs());
        sums[lane] += sample;
    }
    (peaks.into_iter().fold(0.0, f64::max), sums.iter().sum())
}

/// Measures a whole clip.
///
/// # Errors
/// Those of reading it; [`crate::Error::Stopped`] where the observer says so.
pub fn survey(clip: &Clip, ask: Ask, observer: &dyn Observer) -> Result<Survey> {
    let kind = clip.facts().format.encoding.codec.kind();
    let mut source = clip.frames()?;
    let surveyor = Surveyor::new(&*source, kind, ask).with_outline(clip.facts().frames);
    run(&mut *source, surveyor, observer)
}

/// Measures a source to its end.
///
/// # Errors
/// As [`survey`].
pub fn survey_source(
    source: &mut dyn Source,
    kind: Kind,
    ask: Ask,
    observer: &dyn Observer,
) -> Result<Survey> {
    let surveyor = Surveyor::new(source, kind, ask);
    run(source, surveyor, observer)
}

fn run(source: &mut dyn Source, mut surveyor: Surveyor, observer: &dyn Observer) -> Result<Survey> {
    each_block(source, observer, |block| {
        surveyor.feed(block);
        observer.advance(count(block.frames()));
    })?;
    Ok(surveyor.finish())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::block::Samples;
    use crate::observe::Unobserved;
    use crate::shape::quantise::{Dither, Quantiser};
    use crate::units::SampleRate;
    use std::f64::consts::TAU;
    use std::sync::Arc;

    const RATE: u32 = 48_000;

    fn measure(channels: Vec<Vec<f64>>) -> Survey {
        let mut source = Samples::new(SampleRate::new(RATE).unwrap(), channels);
        survey_source(&mut source, Kind::Integer(16), Ask::ALL, &Unobserved).unwrap()
    }

    fn sine(hertz: f64, amplitude: f64, seconds: f64) -> Vec<f64> {
        let rate = f64::from(RATE);
        (0..(seconds * rate) as usize)
            .map(|i| amplitude * (TAU * hertz * i as f64 / rate).sin())
            .collect()
    }

    /// EBU Tech 3341, minimum requirements test signals 1 and 2: a stereo sine of 1 kHz at
    /// −23 dBFS is −23 LUFS, at −33 dBFS it is −33 LUFS.
    #[test]
    fn a_stereo_sine_is_as_loud_as_its_level() {
        for level in [-23.0, -33.0] {
            let tone = sine(1000.0, 10f64.powf(level / 20.0), 20.0);
            let found = measure(vec![tone.clone(), tone]).loudness;
            assert_eq!(found.measure, Measure::Integrated);
            assert!((found.lufs - level).abs() < 0.1, "{found:?}");
        }
    }

    /// EBU Tech 3341, minimum requirements test signals 3 and 4: quiet parts are gated out.
    #[test]
    fn quiet_parts_do_not_count() {
        let at = |level: f64, seconds| sine(1000.0, 10f64.powf(level / 20.0), seconds);
        let third = [at(-36.0, 10.0), at(-23.0, 60.0), at(-36.0, 10.0)].concat();
        let fourth = [at(-72.0, 10.0), third.clone(), at(-72.0, 10.0)].concat();
        for clip in [third, fourth] {
            let found = measure(vec![clip.clone(), clip]).loudness;
            assert!((found.lufs + 23.0).abs() < 0.1, "{found:?}");
        }
    }

    #[test]
    fn short_clips_are_measured_at_their_loudest_moment() {
        for (seconds, measure_name) in [(0.2, Measure::Padded), (1.0, Measure::Momentary)] {
            let tone = sine(1000.0, 10f64.powf(-20.0 / 20.0), seconds);
            let found = measure(vec![tone.clone(), tone]).loudness;
            assert_eq!(found.measure, measure_name);
            let want = -20.0 + if seconds < 0.4 { 10.0 * f64::log10(0.5) } else { 0.0 };
            assert!((found.lufs - want).abs() < 0.3, "{seconds} s: {found:?}");
        }
    }

    /// With parts on both sides of the absolute gate, which a gain moves over it.
    #[test]
    fn a_gain_tells_the_levels_before_it_where_rounding_does_not_show() {
        let at = |level: f64| sine(997.0, 10f64.powf(level / 20.0), 4.0);
        let clip = [at(-20.0), at(-69.0), at(-72.0), at(-31.0)].concat();
        for (gain, bits, told) in [
            (-3.0, 16, true),
            (-6.0, 24, true),
            (12.0, 16, true),
            (-30.0, 16, false),
            (0.0, 8, false),
        ] {
            let apart = measure(vec![clip.clone(), clip.clone()]);
            let louder: Vec<f64> = clip.iter().map(|s| s * 10f64.powf(gain / 20.0)).collect();
            let mut source = Samples::new(SampleRate::new(RATE).unwrap(), vec![louder; 2]);
            let rounding = Quantiser::new(Kind::Integer(bits), Dither::Triangular, Arc::default());
            let mut written = rounding.on(&mut source);
            let after = survey_source(&mut written, Kind::Integer(bits), Ask::ALL, &Unobserved);
            let mut before = Survey { true_peak_dbtp: f64::NAN, ..apart.clone() };
            before.loudness.lufs = f64::NAN;
            let steps = 2f64.powi(bits as i32 - 1);
            assert_eq!(before.take_levels(&after.unwrap(), gain, steps), told, "{gain} {bits}");
            if told {
                let off = [
                    before.true_peak_dbtp - apart.true_peak_dbtp,
                    2.0 * (before.loudness.lufs - apart.loudness.lufs),
                ];
                assert!(off.iter().all(|off| off.abs() < 0.02), "{gain} {bits}: {off:?}");
            }
        }
    }

    /// A sine at a quarter of the rate, 45° off, has samples of only −3 dB of its peak.
    #[test]
    fn true_peak_sees_between_samples() {
        let rate = f64::from(RATE);
        let tone: Vec<f64> =
            (0..RATE).map(|i| (TAU * rate / 4.0 * f64::from(i) / rate + TAU / 8.0).sin()).collect();
        let found = measure(vec![tone]);
        assert!((found.peak_dbfs + 3.01).abs() < 0.01, "{}", found.peak_dbfs);
        assert!(found.true_peak_dbtp.abs() < 0.4, "{}", found.true_peak_dbtp);
    }

    #[test]
    fn sounds_lie_between_silences() {
        let gap = vec![0.0; 24_000];
        let tone = sine(440.0, 0.5, 0.5);
        let clip = [gap.clone(), tone.clone(), gap.clone(), tone, gap.clone(), gap].concat();
        let found = measure(vec![clip]).silence;
        assert_eq!((found.head, found.tail), (24_000, 48_000));
        let ranges: Vec<_> = found.sounds.iter().map(|s| (s.start, s.end)).collect();
        assert_eq!(ranges, [(24_000, 48_000), (72_000, 96_000)]);
    }

    #[test]
    fn dc_clipping_and_strange_samples() {
        let mut clip = vec![0.25; 4_800];
        clip[100..105].fill(1.0);
        clip[200] = 1.0;
        clip[300] = f64::NAN;
        let found = measure(vec![clip]);
        assert!((found.dc[0] - 0.25).abs() < 1e-3);
        assert_eq!((found.clipped.runs, found.clipped.samples), (1, 5));
        assert_eq!((found.clipped.first[0].start, found.clipped.first[0].end), (100, 105));
        assert_eq!(found.not_numbers, 1);
        let second = measure(vec![vec![0.25; 100], vec![f64::INFINITY; 100]]);
        assert_eq!((second.dc, second.not_numbers), (vec![0.25, 0.0], 100));
    }

    #[test]
    fn silence_has_no_level() {
        let found = measure(vec![vec![0.0; 48_000]]);
        for level in [found.peak_dbfs, found.true_peak_dbtp, found.loudness.lufs] {
            assert_eq!(level, f64::NEG_INFINITY);
        }
        assert!(found.silence.sounds.is_empty());
        assert_eq!(found.silence.head, 48_000);
    }
}
