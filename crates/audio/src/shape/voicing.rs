//! Colours for a voice: band limits, resonances, soft saturation, level.

use super::biquad::{Band, Biquad, Response};
use super::blocks::BlockStep;
use crate::block::Block;
use crate::invalid::Invalid;
use crate::units::SampleRate;
use std::fmt;
use std::str::FromStr;

/// One colour.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Voicing {
    /// Its name.
    pub name: &'static str,
    /// What it is like.
    pub about: &'static str,
    /// Before the saturation.
    pub before: &'static [Band],
    /// How far the signal is driven into saturation, in dB.
    pub drive: f64,
    /// After the saturation: what it has added beyond the band goes again.
    pub after: &'static [Band],
    /// So that a voice comes out about as loud as it went in, in dB.
    pub level: f64,
}

const fn band(response: Response, hertz: f64, q: f64) -> Band {
    Band { response, hertz, q }
}

const FLAT: f64 = 0.707;

/// All colours.
pub const VOICINGS: &[Voicing] = &[
    Voicing {
        name: "quayside",
        about: "a public-address horn across a harbour",
        before: &[
            band(Response::HighPass, 380.0, 0.9),
            band(Response::HighPass, 320.0, FLAT),
            band(Response::Peak(9.0), 1250.0, 1.8),
            band(Response::Peak(5.0), 2700.0, 2.5),
        ],
        drive: 8.0,
        after: &[band(Response::LowPass, 4300.0, 0.9), band(Response::LowPass, 5200.0, FLAT)],
        level: -7.0,
    },
    Voicing {
        name: "dispatch",
        about: "a two-way radio with a small microphone",
        before: &[
            band(Response::HighPass, 330.0, 0.8),
            band(Response::HighPass, 330.0, 1.1),
            band(Response::LowPass, 2900.0, 0.9),
            band(Response::Peak(4.0), 1900.0, 1.2),
        ],
        drive: 15.0,
        after: &[
            band(Response::HighPass, 250.0, FLAT),
            band(Response::LowPass, 2900.0, 1.0),
            band(Response::LowPass, 3400.0, FLAT),
        ],
        level: -7.0,
    },
    Voicing {
        name: "tin-bear",
        about: "the small loudspeaker in a toy",
        before: &[
            band(Response::HighPass, 620.0, 1.2),
            band(Response::HighPass, 520.0, FLAT),
            band(Response::Peak(11.0), 980.0, 4.0),
            band(Response::Peak(6.0), 3300.0, 3.0),
        ],
        drive: 6.0,
        after: &[band(Response::LowPass, 6500.0, 0.8)],
        level: -4.0,
    },
];

impl FromStr for Voicing {
    type Err = Invalid;

    fn from_str(name: &str) -> std::result::Result<Self, Invalid> {
        let found = VOICINGS.iter().find(|voicing| voicing.name == name);
        found.copied().ok_or_else(|| {
            let all: Vec<_> = VOICINGS.iter().map(|voicing| voicing.name).collect();
            Invalid::new("voicing", name, all.join(", "))
        })
    }
}

impl fmt::Display for Voicing {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name)
    }
}

crate::invalid::as_text!(Voicing);

impl Voicing {
    /// The gain of a faint sound, in dB, at a frequency and a rate, both in hertz.
    pub fn response(&self, hertz: f64, rate: f64) -> f64 {
        let bands = self.before.iter().chain(self.after);
        let gains = bands.filter_map(|band| Some(band.at(rate)?.gain(hertz / rate)));
        crate::num::decibels(gains.product()) + self.drive + self.level
    }
}

/// Gives a source its colour.
pub struct Voiced {
    voicing: Voicing,
    channels: Vec<[Vec<Biquad>; 2]>,
    drive: f64,
    level: f64,
}

impl Voiced {
    /// Of this voicing.
    pub fn new(voicing: Voicing) -> Self {
        Self {
            voicing,
            channels: Vec::new(),
            drive: 10f64.powf(voicing.drive / 20.0),
            level: 10f64.powf(voicing.level / 20.0),
        }
    }
}

/// Soft at first, never beyond ±1; its slope at 0 is 1.
fn saturated(x: f64) -> f64 {
    x / (1.0 + x * x).sqrt()
}

impl BlockStep for Voiced {
    /// Bands beyond what the rate can hold are left out.
    fn begin(&mut self, rate: SampleRate, channels: usize) {
        let bind = |bands: &[Band]| bands.iter().filter_map(|band| band.at(rate.real())).collect();
        self.channels = vec![[bind(self.voicing.before), bind(self.voicing.after)]; channels];
    }

    fn work(&mut self, block: &mut Block) {
        for (samples, [before, after]) in block.channels_mut().iter_mut().zip(&mut self.channels) {
            for sample in samples {
                let filtered = before.iter_mut().fold(*sample, |s, filter| filter.next(s));
                let driven = saturated(filtered * self.drive);
                *sample = self.level * after.iter_mut().fold(driven, |s, filter| filter.next(s));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::block::{Samples, collect};
    use std::f64::consts::TAU;

    fn level_of(voicing: &Voicing, hertz: f64, amplitude: f64) -> f64 {
        let rate = 48_000.0;
        let tone = (0..48_000).map(|i| amplitude * (TAU * hertz * f64::from(i) / rate).sin());
        let source = Samples::new(SampleRate::new(48_000).unwrap(), vec![tone.collect()]);
        let out = collect(&mut Voiced::new(*voicing).on(source)).unwrap().remove(0);
        assert!(out.iter().all(|s| s.abs() < 2.0));
        let power = out[24_000..].iter().map(|s| s * s).sum::<f64>() / 24_000.0;
        10.0 * (2.0 * power).log10()
    }

    /// Faint tones follow the drawn response; the band is limited at both ends; loud tones saturate.
    #[test]
    fn colours_are_what_their_responses_say() {
        for voicing in VOICINGS {
            for hertz in [100.0, 400.0, 1_000.0, 2_000.0, 5_000.0] {
                let found = level_of(voicing, hertz, 1e-4) + 80.0;
                let want = voicing.response(hertz, 48_000.0);
                assert!(
                    (found - want).abs() < 0.1,
                    "{} at {hertz}: {found} for {want}",
                    voicing.name
                );
            }
            let middle = voicing.response(1_200.0, 48_000.0);
            for outside in [60.0, 15_000.0] {
                assert!(middle - voicing.response(outside, 48_000.0) > 20.0, "{}", voicing.name);
            }
            let loud = level_of(voicing, 1_200.0, 1.0);
            assert!(loud < middle - 3.0 && loud < 1.0, "{}: {loud}", voicing.name);
            assert_eq!(voicing.name.parse::<Voicing>(), Ok(*voicing));
        }
        assert!("walkie".parse::<Voicing>().unwrap_err().expected.contains("quayside"));
    }
}
