//! Silence at both ends, and the sounds that lie between silences.

use crate::block::Block;
use crate::num::{count, real, real_size, rounded, single, size};
use crate::units::{FrameRange, SampleRate};
use schemars::JsonSchema;
use serde::Serialize;

/// What counts as silence: windows whose RMS in every channel is below this.
pub const SILENCE_DBFS: f64 = -60.0;
/// The window, in seconds: short enough to place an edge, long enough not to mind single samples.
const WINDOW: f64 = 0.005;
/// Two sounds are one where less silence than this lies between them, in seconds.
const SHORTEST_GAP: f64 = 0.3;

/// What was found, in frames.
#[derive(Debug, Clone, Default, PartialEq, JsonSchema, Serialize)]
pub struct Silence {
    /// Silent frames at the start; all of them where nothing sounds.
    pub head: u64,
    /// Silent frames at the end.
    pub tail: u64,
    /// The sounds, in order.
    pub sounds: Vec<FrameRange>,
    /// What counted as silence, in dBFS.
    pub below: f64,
    /// The noise of the recording, in dBFS, where silence was told by it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub noise: Option<f64>,
}

/// What counts as silence: windows of 5 ms whose RMS in every channel lies below it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum SilenceLevel {
    /// In dBFS.
    Below(f64),
    /// Just above the recording's own noise.
    Auto,
}

/// Measures windows as they come.
#[derive(Debug)]
pub struct SilenceFinder {
    window: u64,
    gap: u64,
    level: SilenceLevel,
    energies: Vec<f64>,
    filled: u64,
    at: u64,
    sounds: Vec<FrameRange>,
    /// The power of each window, where noise is told by all of them.
    powers: Vec<f32>,
}

impl SilenceFinder {
    pub fn new(rate: SampleRate, channels: usize) -> Self {
        Self::at(rate, channels, SilenceLevel::Below(SILENCE_DBFS))
    }

    /// With another idea of silence.
    pub fn at(rate: SampleRate, channels: usize, level: SilenceLevel) -> Self {
        Self {
            window: rate.frames(WINDOW).max(1),
            gap: rate.frames(SHORTEST_GAP),
            level,
            energies: vec![0.0; channels],
            filled: 0,
            at: 0,
            sounds: Vec::new(),
            powers: Vec::new(),
        }
    }

    pub fn feed(&mut self, block: &Block) {
        let mut from = 0;
        while from < block.frames() {
            let take = size(self.window - self.filled).min(block.frames() - from);
            for (energy, samples) in self.energies.iter_mut().zip(block.channels()) {
                *energy += energy_of(&samples[from..from + take]);
            }
            from += take;
            self.filled += count(take);
            if self.filled == self.window {
                self.close_window();
            }
        }
    }

    fn close_window(&mut self) {
        let frames = real(self.filled.max(1));
        let loudest = self.energies.iter().fold(0.0, |a: f64, &b| a.max(b)) / frames;
        let (start, end) = (self.at, self.at + self.filled);
        match self.level {
            SilenceLevel::Below(level) if loudest >= power(level) => {
                self.sounds_at(FrameRange { start, end });
            }
            SilenceLevel::Below(_) => {}
            SilenceLevel::Auto => self.powers.push(single(loudest)),
        }
        self.at = end;
        self.filled = 0;
        self.energies.fill(0.0);
    }

    fn sounds_at(&mut self, range: FrameRange) {
        match self.sounds.last_mut() {
            Some(last) if range.start.saturating_sub(last.end) < self.gap => {
                last.end = last.end.max(range.end);
            }
            _ => self.sounds.push(range),
        }
    }

    pub fn finish(mut self) -> Silence {
        if self.filled > 0 {
            self.close_window();
        }
        let (below, noise) = match self.level {
            SilenceLevel::Below(level) => (level, None),
            SilenceLevel::Auto => {
                let noise = Noise::of(&self.powers);
                let level = noise.as_ref().map_or(SILENCE_DBFS, |noise| noise.below);
                let floor = noise.as_ref().map(|noise| noise.floor);
                for range in sounds_in(&std::mem::take(&mut self.powers), level, floor) {
                    let [start, end] = range.map(|index| (count(index) * self.window).min(self.at));
                    self.sounds_at(FrameRange { start, end });
                }
                (level, floor)
            }
        };
        Silence {
            head: self.sounds.first().map_or(self.at, |first| first.start),
            tail: self.sounds.last().map_or(self.at, |last| self.at - last.end),
            sounds: self.sounds,
            below,
            noise,
        }
    }
}

fn power(level: f64) -> f64 {
    10f64.powf(level / 10.0)
}

fn level(power: f64) -> f64 {
    10.0 * power.log10()
}

/// What a recording holds where nothing sounds.
struct Noise {
    /// In dBFS.
    floor: f64,
    /// Silence lies below this, in dBFS.
    below: f64,
}

impl Noise {
    /// Told by the quietest 100 ms that are not digital silence; `None` where nothing is that much louder that it
    /// would be a sound in a pause.
    fn of(powers: &[f32]) -> Option<Self> {
        /// Windows of 5 ms in 100 ms: long enough for hum and rumble to be one level.
        const STRETCH: usize = 20;
        /// Below what 16 bits hold, in dBFS: no room and no microphone is that quiet.
        const DIGITAL: f64 = -96.0;
        /// What is less above the noise is not told from it, in dB.
        const APART: f64 = 12.0;
        let stretch = STRETCH.min(powers.len()).max(1);
        let digital = |power: &f32| level((*power).into()) <= DIGITAL;
        let stretches = powers.windows(stretch).filter(|some| !some.iter().any(digital));
        let sounding = stretches.map(|some| {
            level(some.iter().map(|power| f64::from(*power)).sum::<f64>() / real_size(stretch))
        });
        let (floor, loudest) = sounding
            .fold((f64::INFINITY, f64::NEG_INFINITY), |(a, b), level| (a.min(level), b.max(level)));
        let range = loudest - floor;
        // A quarter of the way up, since sounds fade into the noise; but above what the noise itself does.
        (range >= APART).then(|| Self { floor, below: floor + (range / 4.0).clamp(6.0, 12.0) })
    }
}

/// The windows of sounds: what is louder than `below`, with what leads into it and dies away after it above the
/// noise. A click far below the loudest is none.
fn sounds_in(powers: &[f32], below: f64, floor: Option<f64>) -> Vec<[usize; 2]> {
    /// No longer than this many windows, …
    const CLICK: usize = 3;
    /// … and this far below the loudest, in dB.
    const FAINT: f64 = 12.0;
    /// A decay counts as sound while this many windows together …
    const BLUR: usize = 4;
    /// … stand this many dB above the noise, …
    const ABOVE: f64 = 3.0;
    /// … for this many windows at most.
    const LONGEST: usize = 100;
    let loud = |index: usize| f64::from(powers[index]) >= power(below);
    let loudest = powers.iter().fold(0.0f32, |a, b| a.max(*b));
    let mut found: Vec<[usize; 2]> = Vec::new();
    for index in (0..powers.len()).filter(|index| loud(*index)) {
        match found.last_mut() {
            Some(last) if last[1] == index => last[1] += 1,
            _ => found.push([index, index + 1]),
        }
    }
    // Two runs are one sound where less than a pause lies between them.
    let pause = size(rounded(SHORTEST_GAP / WINDOW));
    let alone = |index: usize| {
        let before = index.checked_sub(1).is_none_or(|i| found[i][1] + pause <= found[index][0]);
        let after = found.get(index + 1).is_none_or(|next| found[index][1] + pause <= next[0]);
        before && after
    };
    let is_click = |index: usize| {
        let [start, end] = found[index];
        let peak = powers[start..end].iter().fold(0.0f32, |a, b| a.max(*b));
        let faint = level(peak.into()) < level(loudest.into()) - FAINT;
        end - start <= CLICK && faint && alone(index)
    };
    let kept: Vec<_> = (0..found.len()).filter(|i| !is_click(*i)).map(|i| found[i]).collect();
    let Some(floor) = floor.map(|floor| power(floor + ABOVE)) else {
        return kept;
    };
    let above = |some: &[f32]| {
        some.iter().map(|power| f64::from(*power)).sum::<f64>() / real_size(some.len()) > floor
    };
    let widened = |[start, end]: [usize; 2]| {
        let before = (1..=LONGEST.min(start)).take_while(|back| {
            let from = start - back;
            above(&powers[from..(from + BLUR).min(start)])
        });
        let after = (0..LONGEST.min(powers.len() - end)).take_while(|on| {
            let to = end + on + 1;
            above(&powers[to.saturating_sub(BLUR).max(end)..to])
        });
        [start - before.count(), end + after.count()]
    };
    kept.into_iter().map(widened).collect()
}

fn energy_of(samples: &[f64]) -> f64 {
    const LANES: usize = 4;
    let mut sums = [0.0; LANES];
    let chunks = samples.chunks_exact(LANES);
    let rest: f64 = chunks.remainder().iter().map(|s| s * s).sum();
    for chunk in chunks {
        for lane in 0..LANES {
            sums[lane] += chunk[lane] * chunk[lane];
        }
    }
    rest + sums.iter().sum::<f64>()
}
