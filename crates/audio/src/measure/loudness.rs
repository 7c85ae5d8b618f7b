//! Loudness and true peak (ITU-R BS.1770-4, EBU Tech 3341).

use super::Ask;
use crate::block::Block;
use crate::num::{count, decibels, size};
use crate::units::SampleRate;
use ebur128::{EbuR128, Mode};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Clips shorter than this, in seconds, are measured at their loudest moment.
const SHORT: f64 = 3.0;
/// One momentary measurement, in seconds.
const MOMENT: f64 = 0.4;
/// How often moments are measured, in seconds.
const STEP: f64 = 0.1;

/// How a loudness was measured.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Measure {
    /// Gated, over the whole clip.
    Integrated,
    /// The greatest of 400 ms, since the clip is shorter than 3 s.
    Momentary,
    /// As momentary, with silence added to make 400 ms.
    Padded,
    /// Not asked for.
    None,
}

/// A loudness, in LUFS.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize)]
pub struct Loudness {
    /// Negative infinity for silence.
    pub lufs: f64,
    /// How it was measured.
    pub measure: Measure,
}

/// Feeds the meter and watches the moments of short clips.
pub struct LoudnessMeter {
    meter: Option<EbuR128>,
    ask: Ask,
    rate: SampleRate,
    frames: u64,
    loudest_moment: f64,
}

impl LoudnessMeter {
    pub fn new(rate: SampleRate, channels: usize, ask: Ask) -> Self {
        let mut mode = Mode::empty();
        if ask.loudness {
            mode |= Mode::I;
        }
        if ask.true_peak {
            mode |= Mode::TRUE_PEAK;
        }
        let channels = u32::try_from(channels).unwrap_or(u32::MAX);
        let wanted = ask.loudness || ask.true_peak;
        Self {
            meter: wanted.then(|| EbuR128::new(channels, rate.hertz(), mode).ok()).flatten(),
            ask,
            rate,
            frames: 0,
            loudest_moment: f64::NEG_INFINITY,
        }
    }

    pub fn feed(&mut self, block: &Block) {
        let mut from = 0;
        while self.meter.is_some() && from < block.frames() {
            let end = self.frames_to_next_moment(block.frames() - from) + from;
            let slices: Vec<&[f64]> = block.channels().iter().map(|c| &c[from..end]).collect();
            self.add(&slices);
            from = end;
        }
    }

    /// While the clip may still turn out short, the meter is fed from one moment to the next.
    fn frames_to_next_moment(&self, left: usize) -> usize {
        if self.frames >= self.rate.frames(SHORT) {
            return left;
        }
        let step = self.rate.frames(STEP).max(1);
        size(step - self.frames % step).min(left)
    }

    fn add(&mut self, channels: &[&[f64]]) {
        let Some(meter) = &mut self.meter else {
            return;
        };
        if meter.add_frames_planar_f64(channels).is_err() {
            self.meter = None;
            return;
        }
        self.frames += count(channels.first().map_or(0, |c| c.len()));
        let full = self.frames >= self.rate.frames(MOMENT);
        if self.ask.loudness && full && self.frames <= self.rate.frames(SHORT) {
            let moment = meter.loudness_momentary().unwrap_or(f64::NEG_INFINITY);
            self.loudest_moment = self.loudest_moment.max(moment);
        }
    }

    /// The loudness, and the true peak in dBTP.
    pub fn finish(mut self) -> (Loudness, f64) {
        let channels = self.meter.as_ref().map_or(0, EbuR128::channels);
        let peak = |meter: &EbuR128| {
            (0..channels).filter_map(|channel| meter.true_peak(channel).ok()).fold(0.0, f64::max)
        };
        let true_peak = match &self.meter {
            Some(meter) if self.ask.true_peak => decibels(peak(meter)),
            _ => f64::NEG_INFINITY,
        };
        let measure = match self.frames {
            _ if !self.ask.loudness => Measure::None,
            n if n >= self.rate.frames(SHORT) => Measure::Integrated,
            n if n >= self.rate.frames(MOMENT) => Measure::Momentary,
            _ => Measure::Padded,
        };
        if measure == Measure::Padded {
            let missing = self.rate.frames(MOMENT).saturating_sub(self.frames);
            let silence = vec![0.0; size(missing)];
            let slices = vec![silence.as_slice(); size(channels.into())];
            self.add(&slices);
        }
        let lufs = match (&self.meter, measure) {
            (Some(meter), Measure::Integrated) => {
                meter.loudness_global().unwrap_or(f64::NEG_INFINITY)
            }
            (Some(_), Measure::Momentary | Measure::Padded) => self.loudest_moment,
            _ => f64::NEG_INFINITY,
        };
        (Loudness { lufs, measure }, true_peak)
    }
}
