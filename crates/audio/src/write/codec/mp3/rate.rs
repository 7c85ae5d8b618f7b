//! How much noise each frame has: as little as its bits allow, and as far as the reservoir allows, the same at all times.

use super::filter::Shape;
use super::granule::{Granule, share};
use super::quantise::Search;
use super::spectrum::{Layout, Spectrum};
use super::stream::{Coded, Form, Stream};

/// What is asked of the stream.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Aim {
    /// Every frame of this many kbit/s.
    Constant(u16),
    /// So many on average.
    Average(u16),
    /// The noise this far below what is heard, in dB, whatever that takes.
    Noise(f32),
}

/// Bits that one granule may have (ISO/IEC 11172-3, `part2_3_length`).
const MOST_BITS: u32 = 4095;
/// How often a frame is tried.
const TRIES: usize = 8;
/// What a frame that is too large is aimed at, as a part of its room.
const CLOSE: f32 = 0.995;
/// From noise that is just heard until nothing is left, in dB, about.
const SPAN: f32 = 30.0;
/// Levels closer than this, in dB, are the same.
const NEAR: f32 = 0.25;
/// Less noise than this, in dB against what is heard, is of no use: room is left empty then.
const FINEST: f32 = -45.0;
/// How often a frame that leaves room is tried with less noise.
const MOST_EMPTY: u32 = 2;
/// How full the reservoir should be.
const FILL: f32 = 0.6;
/// How much coarser a frame is where the reservoir is empty, in dB.
const PULL: f32 = 6.0;
/// How fast the level follows what frames needed.
const FOLLOW: f32 = 0.05;
/// The same of the first frames, and how many they are.
const FOLLOW_START: f32 = 0.5;
const START: u32 = 8;
/// The same where a frame had too few bits.
const RISE: f32 = 0.2;
/// How much finer all is after a frame that left bits, in dB.
const SPARE: f32 = 0.25;
/// How much coarser all is after a frame that took twice its share, in dB, where an average is aimed at.
const DRIFT: f32 = 0.15;

/// Decides frame by frame.
pub struct Control {
    form: Form,
    aim: Aim,
    /// The level of noise that frames had lately, in dB.
    level: f32,
    /// Bits that were asked for beyond what was used, where an average is aimed at.
    saved: f64,
    /// Parts of a byte that frames were too short by.
    owed: u32,
    /// Frames so far.
    frames: u32,
}

/// A frame's searches, by granule, then channel.
type Searches<'a> = Vec<Vec<Search<'a>>>;
type Granules = Vec<Vec<Granule>>;

impl Control {
    pub fn new(form: Form, aim: Aim) -> Result<Self, String> {
        let rates = form.bit_rates();
        let kilobits = match aim {
            Aim::Constant(kilobits) if !rates.contains(&kilobits) => {
                return Err(format!("it has no bit rate of {kilobits} kbit/s"));
            }
            Aim::Constant(kilobits) | Aim::Average(kilobits) => Some(kilobits),
            Aim::Noise(_) => None,
        };
        let level = match (aim, kilobits) {
            (Aim::Noise(level), _) => level,
            (_, Some(kilobits)) => {
                // About what music needs at so many bits a sample; the first frames set it right.
                let samples = f32::from(u16::try_from(form.channels).unwrap_or(1))
                    * crate::num::single(f64::from(form.hertz))
                    / 1000.0;
                8.0 - 10.0 * f32::from(kilobits) / samples
            }
            _ => 0.0,
        };
        Ok(Self { form, aim, level, saved: 0.0, owed: 0, frames: 0 })
    }

    /// Codes a frame and adds it to the stream.
    pub fn frame(&mut self, frame: Vec<Vec<Spectrum>>, layouts: &[Layout; 2], stream: &mut Stream) {
        let (spectra, mixed) = self.joined(frame, layouts);
        let layout = |shape| &layouts[usize::from(shape == Shape::Short)];
        let mut searches: Searches<'_> = spectra
            .iter()
            .map(|granule| {
                granule.iter().map(|s| Search::new(s, layout(s.shape), self.form.low())).collect()
            })
            .collect();
        let (granules, index, padded) = self.fitting(&mut searches, stream.left());
        let granules = granules.into_iter().zip(&spectra);
        let coded = Coded {
            granules: granules
                .map(|(granules, spectra)| granules.into_iter().zip(spectra).collect())
                .collect(),
            layouts,
            mixed,
        };
        stream.frame(&coded, index, padded);
    }

    /// Sum and difference where they take fewer bits than left and right.
    fn joined(
        &self,
        frame: Vec<Vec<Spectrum>>,
        layouts: &[Layout; 2],
    ) -> (Vec<Vec<Spectrum>>, bool) {
        let noise = power(self.level);
        let demand = |pair: &[Spectrum]| -> f32 {
            let layout = |shape| &layouts[usize::from(shape == Shape::Short)];
            pair.iter().map(|spectrum| spectrum.demand(layout(spectrum.shape), noise)).sum()
        };
        if self.form.channels != 2 {
            return (frame, false);
        }
        let mixed: Vec<Vec<Spectrum>> = frame
            .iter()
            .map(|pair| Spectrum::sum_and_difference(&pair[0], &pair[1]).into())
            .collect();
        let cost = |frame: &[Vec<Spectrum>]| frame.iter().map(|pair| demand(pair)).sum::<f32>();
        match cost(&mixed) < cost(&frame) {
            true => (mixed, true),
            false => (frame, false),
        }
    }

    /// The granules, the place of the bit rate, and whether the frame has a byte more.
    fn fitting(&mut self, searches: &mut Searches<'_>, left: usize) -> (Granules, u32, bool) {
        match self.aim {
            Aim::Constant(kilobits) => {
                let padded = self.padded(kilobits);
                let index = self.index(kilobits);
                let (mut least, most, full) = self.room(kilobits, padded, left);
                // How much noise a sound may have is not known when it begins: each frame spends its own room.
                let starts = self.frames < START;
                if starts {
                    least = least.max(most - 8 * crate::num::count32(left));
                }
                self.frames = self.frames.saturating_add(1);
                let follow = if starts { FOLLOW_START } else { FOLLOW };
                let level = self.level + PULL * (FILL - full);
                let (granules, used) = within(searches, level, least, most);
                // Bits that are left over are a reason for less noise in what follows.
                self.level += match total(&granules) < least {
                    true => -SPARE,
                    false if used > level => RISE * (used - level),
                    false => follow * (used - self.level),
                };
                self.level = self.level.max(FINEST);
                (granules, index, padded)
            }
            Aim::Average(_) | Aim::Noise(_) => self.varying(searches, left),
        }
    }

    /// The smallest frame that holds what the level of noise asks for.
    fn varying(&mut self, searches: &mut Searches<'_>, left: usize) -> (Granules, u32, bool) {
        let rates = self.form.bit_rates();
        let top = rates[rates.len() - 1];
        let (_, most, _) = self.room(top, false, left);
        let (granules, used) = within(searches, self.level, 0, most);
        let bits = total(&granules);
        let fits = |kilobits: &u16| bits <= self.room(*kilobits, false, left).1;
        let kilobits = rates.iter().copied().find(|kilobits| fits(kilobits)).unwrap_or(top);
        if let Aim::Average(mean) = self.aim {
            let frame = f64::from(u32::try_from(self.form.frame_bytes(mean)).unwrap_or(0));
            let own = f64::from(u32::try_from(self.form.frame_bytes(kilobits)).unwrap_or(0));
            self.saved = (self.saved + frame - own).clamp(-40.0 * frame, 40.0 * frame);
            // Over half a minute what was saved is spent.
            let short = crate::num::single(-self.saved / (40.0 * frame));
            self.level =
                used + short.clamp(-1.0, 1.0) + DRIFT * crate::num::single((own - frame) / frame);
        }
        (granules, self.index(kilobits), false)
    }

    /// Whether the next frame has a byte more, so that all of them together are as long as the rate says.
    fn padded(&mut self, kilobits: u16) -> bool {
        let frames: u32 = if self.form.low() { 72_000 } else { 144_000 };
        self.owed += frames * u32::from(kilobits) % self.form.hertz;
        let padded = self.owed >= self.form.hertz;
        if padded {
            self.owed -= self.form.hertz;
        }
        padded
    }

    fn index(&self, kilobits: u16) -> u32 {
        let place = self.form.bit_rates().iter().position(|rate| *rate == kilobits);
        crate::num::count32(place.unwrap_or(0)) + 1
    }

    /// Bits that a frame must have lest any be lost, and may have; and how full the reservoir is.
    fn room(&self, kilobits: u16, padded: bool, left: usize) -> (u32, u32, f32) {
        let bytes = self.form.frame_bytes(kilobits) + usize::from(padded);
        let own = bytes - 4 - self.form.side_bytes();
        let reach = self.form.reservoir(bytes);
        let most = 8 * crate::num::count32(own + left);
        let least = 8 * crate::num::count32((own + left).saturating_sub(reach));
        let real = |n: usize| crate::num::single(crate::num::real_size(n));
        (least, most, real(left) / real(reach.max(1)))
    }
}

fn power(decibels: f32) -> f32 {
    10f32.powf(decibels / 10.0)
}

fn total(granules: &Granules) -> u32 {
    granules.iter().flatten().map(Granule::bits).sum()
}

/// All granules at a level of noise in dB, or as much coarser as one granule's bits ask.
fn at(searches: &mut Searches<'_>, level: f32) -> Granules {
    let held = |search: &mut Search<'_>| {
        let mut own = level;
        loop {
            let granule = search.at(power(own));
            if granule.bits() <= MOST_BITS {
                return granule;
            }
            own += (real(granule.bits() - MOST_BITS) * SPAN / real(2 * MOST_BITS)).max(0.2);
        }
    };
    let mut granules: Granules =
        searches.iter_mut().map(|granule| granule.iter_mut().map(held).collect()).collect();
    if let [first, second] = granules.as_mut_slice() {
        first.iter().zip(second).for_each(|(first, second)| share(first, second));
    }
    granules
}

/// The granules at the level, or at the nearest one where all bits fit and none are lost; and that level.
fn within(searches: &mut Searches<'_>, level: f32, least: u32, most: u32) -> (Granules, f32) {
    // The coarsest level that is too fine and its bits, and the finest that fits.
    let mut fine: Option<(f32, f32)> = None;
    let mut coarse: Option<(f32, f32, Granules)> = None;
    let mut tried = level;
    let mut emptier = 0;
    for _ in 0..TRIES {
        let granules = at(searches, tried);
        let bits = total(&granules);
        emptier += u32::from(bits < least);
        let enough = bits >= least || tried <= FINEST || emptier > MOST_EMPTY;
        let aim = if bits > most { CLOSE * real(most) } else { real(least) };
        let mut next = tried + (real(bits) - aim) * SPAN / real(bits.max(most));
        if bits > most {
            fine = Some((tried, real(bits)));
            next = next.max(tried + 0.3);
        } else {
            let near = fine.is_none_or(|(fine, _)| tried - fine < NEAR);
            let full = real(bits) >= CLOSE * CLOSE * real(most);
            coarse = Some((tried, real(bits), granules));
            if enough && (near || full) {
                break;
            }
            next = next.min(tried - if bits < least { 6.0 } else { 0.3 }).max(FINEST);
        }
        if let (Some((fine, many)), Some((coarse, few, _))) = (fine, &coarse) {
            let part = (many - CLOSE * real(most)) / (many - few).max(1.0);
            next = fine + (coarse - fine) * part.clamp(0.1, 0.9);
        }
        tried = next;
    }
    match coarse {
        Some((level, _, granules)) => (granules, level),
        None => coarsest(searches, tried, most),
    }
}

fn real(bits: u32) -> f32 {
    crate::num::single(f64::from(bits))
}

/// Goes on until it fits: in the end nothing is left.
fn coarsest(searches: &mut Searches<'_>, from: f32, most: u32) -> (Granules, f32) {
    let mut level = from;
    loop {
        level += 3.0;
        let granules = at(searches, level);
        if total(&granules) <= most {
            return (granules, level);
        }
    }
}
