//! Sounds from nothing: bells, voices, kettles. All deterministic.

use deft_needle_audio::num::{real_size, rounded, size};
use std::f64::consts::TAU;

/// A mono signal at a rate.
pub struct Sound {
    /// Frames a second.
    pub rate: f64,
    /// The samples.
    pub samples: Vec<f64>,
}

/// Noise between −1 and 1 (a linear congruential generator; it only has to sound like noise).
pub struct Noise(u32);

impl Noise {
    /// The generator of this seed.
    pub fn new(seed: u32) -> Self {
        Self(seed)
    }

    /// The next value.
    pub fn next(&mut self) -> f64 {
        self.0 = self.0.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        f64::from(self.0) / f64::from(u32::MAX) * 2.0 - 1.0
    }
}

impl Sound {
    /// Silence of this many seconds.
    pub fn silence(rate: f64, seconds: f64) -> Self {
        Self { rate, samples: vec![0.0; size(rounded(rate * seconds))] }
    }

    /// Adds `wave(seconds since start)` from `start` on, for `seconds`, as far as there is room.
    pub fn add(&mut self, start: f64, seconds: f64, mut wave: impl FnMut(f64) -> f64) {
        let first = size(rounded(start * self.rate));
        let count = size(rounded(seconds * self.rate));
        let rate = self.rate;
        for (index, sample) in self.samples.iter_mut().skip(first).take(count).enumerate() {
            *sample += wave(real_size(index) / rate);
        }
    }

    /// Scales to a peak.
    #[must_use]
    pub fn at_peak(mut self, peak: f64) -> Self {
        let loudest = self.samples.iter().fold(0.0f64, |a, s| a.max(s.abs()));
        if loudest > 0.0 {
            self.samples.iter_mut().for_each(|s| *s *= peak / loudest);
        }
        self
    }

    /// A struck bell: partials that are no harmonics, the higher the sooner gone.
    pub fn bell(&mut self, start: f64, hertz: f64, seconds: f64) {
        for (ratio, level, decay) in
            [(1.0, 1.0, 3.0), (2.76, 0.6, 5.0), (5.40, 0.35, 9.0), (8.93, 0.2, 14.0)]
        {
            self.add(start, seconds, |t| {
                level * (-decay * t / seconds.max(0.2)).exp() * (TAU * hertz * ratio * t).sin()
            });
        }
    }

    /// A wooden pipe: a few odd harmonics and some breath.
    pub fn pipe(&mut self, start: f64, hertz: f64, seconds: f64) {
        let mut noise = Noise::new(17);
        self.add(start, seconds, |t| {
            let swell = (t / 0.03).min(1.0) * ((seconds - t) / 0.06).clamp(0.0, 1.0);
            let tone: f64 = [(1.0, 1.0), (3.0, 0.22), (5.0, 0.06)]
                .iter()
                .map(|(n, level)| level * (TAU * hertz * n * t).sin())
                .sum();
            swell * (tone + 0.04 * noise.next())
        });
    }

    /// A plucked string for tunes.
    pub fn pluck(&mut self, start: f64, hertz: f64, seconds: f64) {
        self.add(start, seconds, |t| {
            let fade = ((seconds - t) / 0.02).clamp(0.0, 1.0);
            (1..=6u32)
                .map(f64::from)
                .map(|n| (-2.5 * n * t).exp() / n * (TAU * hertz * n * t).sin())
                .sum::<f64>()
                * fade
        });
    }

    /// Something like speech: a buzz that falls in pitch, through three resonances that wander from
    /// vowel to vowel, with hisses between.
    pub fn voice(&mut self, start: f64, seconds: f64, pitch: f64) {
        const VOWELS: [[f64; 3]; 5] = [
            [730.0, 1090.0, 2440.0],
            [530.0, 1840.0, 2480.0],
            [390.0, 1990.0, 2550.0],
            [570.0, 840.0, 2410.0],
            [440.0, 1020.0, 2240.0],
        ];
        const SYLLABLE: f64 = 0.19;
        let rate = self.rate;
        let mut noise = Noise::new(4);
        let mut resonances = [Resonance::default(); 3];
        let mut phase = 0.0;
        self.add(start, seconds, |t| {
            let syllable = size(rounded((t / SYLLABLE).floor()));
            let within = t / SYLLABLE - real_size(syllable);
            phase += pitch * (1.2 - 0.4 * t / seconds) / rate;
            let buzz = if phase >= 1.0 {
                phase -= 1.0;
                1.0
            } else {
                0.0
            };
            let hiss = if within < 0.18 { 0.05 * noise.next() } else { 0.0 };
            let open = (TAU / 2.0 * within).sin().max(0.0);
            let vowel = VOWELS[(syllable * 3 + 1) % VOWELS.len()];
            let voiced: f64 = resonances
                .iter_mut()
                .zip(vowel)
                .map(|(resonance, hertz)| resonance.next(buzz, hertz, rate))
                .sum();
            open * voiced + hiss
        });
    }
}

/// A two-pole resonance of 90 Hz width.
#[derive(Clone, Copy, Default)]
struct Resonance {
    last: f64,
    before: f64,
}

impl Resonance {
    fn next(&mut self, input: f64, hertz: f64, rate: f64) -> f64 {
        let radius = (-TAU / 2.0 * 90.0 / rate).exp();
        let value = input + 2.0 * radius * (TAU * hertz / rate).cos() * self.last
            - radius * radius * self.before;
        self.before = self.last;
        self.last = value;
        value
    }
}
