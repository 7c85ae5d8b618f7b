//! Enough of a signal to tell whether a lossy file still holds it: its length, the level of each channel, and some
//! windows of it, to see that nothing has moved and every channel is in its place.

use crate::block::Block;
use crate::dot::dot;
use crate::num::{count, real, size};
use crate::spec::{Codec, Format};

/// How many windows are kept.
const WINDOWS: u64 = 8;
/// Frames of a window.
const WINDOW: u64 = 2048;
/// A shift of up to this many frames is looked for.
const REACH: usize = 64;
/// Power below which a signal has no level to measure: −80 dB.
const SILENT: f64 = 1e-8;
/// What a codec may add to all, and take away from the low band, in dB. High tones may go altogether:
/// codecs leave out what lies above their band.
const MOST_ADDED: f64 = 3.0;
const MOST_TAKEN: f64 = -12.0;
/// What a codec may add to clips shorter than a window, of which it may make more of a frame.
const MOST_ADDED_SHORT: f64 = 6.0;
/// The low band ends at this part of the rate.
const LOW: f64 = 1.0 / 12.0;
/// Silence is this loud to the low pass: what dies away in it would end among the numbers that are too small to be
/// normal, with which processors are a hundred times slower.
const FLOOR: f64 = 1e-30;
/// A low band of less than this part of the power says nothing.
const NOTABLE: f64 = 0.01;
/// Peaks so far above the mean are single clicks, which some codecs cannot follow: 40 dB.
const CLICKS: f64 = 1e4;
/// What must come back of the windows before their place can be told.
const TELLING: f64 = 0.1;
/// How much better another place may fit before the signal counts as moved.
const BETTER: f64 = 1.03;
/// How well something must fit elsewhere before it counts as moved.
const CERTAIN: f64 = 0.5;
/// The same where a codec turns phases, or smears what is a few spikes: peaks so far above the mean, 30 dB.
const MORE_CERTAIN: f64 = 0.85;
const SPIKY: f64 = 1e3;
/// How like itself a tone is half a period later, at most.
const OPPOSITE: f64 = -0.7;
/// The same of clips shorter than a window, whose ends count for much.
const BETTER_SHORT: f64 = 1.25;

/// What was seen of a signal.
#[derive(Debug, Clone, PartialEq)]
pub struct Likeness {
    frames: u64,
    planned: u64,
    power: f64,
    low: f64,
    peak: f64,
    channels: Vec<Channel>,
    /// The channel of low frequencies alone, which encoders filter: nothing but its length is told of it.
    lows: Option<usize>,
    /// What the codec itself may do to the place of a sound.
    moves: Option<Moves>,
}

/// What a codec may do to the place of a sound, and to the levels of its channels.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Moves {
    /// Frames by which it comes earlier or later.
    slack: usize,
    /// How much a pole keeps of what lies below the frequencies whose phase it leaves alone.
    keep: f64,
    /// What it may add to one channel, in dB.
    most_added: f64,
}

impl Moves {
    fn of(format: Format) -> Option<Self> {
        // Opus' layers for speech and for music come late by parts of a frame that differ, speech is rid of lows by a
        // filter that turns their phase, and two channels share their level at low rates (RFC 6716, 4.2.7 to 4.3.4).
        let turned = -std::f64::consts::TAU * 1000.0 / f64::from(format.rate.hertz());
        let moves = Self { slack: 2, keep: turned.exp(), most_added: MOST_ADDED_SHORT };
        (format.encoding.codec == Codec::Opus).then_some(moves)
    }
}

/// One or two channels through their low passes: the power that comes of it, and the highest peak. Two go side by side, since
/// each sample waits for the one before.
fn passed(samples: &[Vec<f64>], channels: &mut [Channel]) -> (f64, f64) {
    let keep = (-std::f64::consts::TAU * LOW).exp();
    let share = 1.0 - keep;
    let second = samples.len() - 1;
    let mut poles = [channels[0].poles, channels[second].poles];
    let (mut low, mut peak) = ([0.0; 2], [0.0f64; 2]);
    for (first, other) in samples[0].iter().zip(&samples[second]) {
        for (lane, sample) in [*first, *other].into_iter().enumerate() {
            let [a, b, c] = &mut poles[lane];
            *a = keep * *a + share * (sample + FLOOR);
            *b = keep * *b + share * *a;
            *c = keep * *c + share * *b;
            low[lane] += *c * *c;
            peak[lane] = peak[lane].max(sample.abs());
        }
    }
    for (channel, poles) in channels.iter_mut().zip(poles) {
        channel.poles = poles;
    }
    (low[..=second].iter().sum(), peak[0].max(peak[1]))
}

/// What was seen of one channel.
#[derive(Debug, Clone, Default, PartialEq)]
struct Channel {
    power: f64,
    /// Three poles in a row.
    poles: [f64; 3],
    /// Two poles that take the lows out of what is kept in windows.
    lows: [f64; 2],
    windows: Vec<Vec<f64>>,
}

impl Likeness {
    /// Nothing seen yet of a signal of `planned` frames.
    pub fn new(planned: u64, format: Format) -> Self {
        let channels = Vec::new();
        let lows = format.channels.low_frequency_channel();
        let moves = Moves::of(format);
        Self { frames: 0, planned, power: 0.0, low: 0.0, peak: 0.0, channels, lows, moves }
    }

    /// Where the windows begin.
    fn starts(&self) -> impl Iterator<Item = u64> {
        let planned = self.planned;
        (0..WINDOWS).map(move |turn| turn * planned / WINDOWS)
    }

    /// Takes in a block; how the samples are dealt out to blocks makes no difference.
    pub fn update(&mut self, block: &Block) {
        let frames = count(block.frames());
        let (from, to) = (self.frames, self.frames + frames);
        let starts: Vec<u64> = self.starts().collect();
        self.channels.resize(block.channels().len(), Channel::default());
        let pairs = block.channels().chunks(2).zip(self.channels.chunks_mut(2));
        for (at, (samples, channels)) in pairs.enumerate() {
            // The one of lows is the second of a pair.
            let (samples, channels) = match self.lows == Some(2 * at + 1) {
                true => (&samples[..1], &mut channels[..1]),
                false => (samples, channels),
            };
            let (low, peak) = passed(samples, channels);
            self.low += low;
            self.peak = self.peak.max(peak);
        }
        let mut heard = Vec::new();
        for (samples, channel) in block.channels().iter().zip(&mut self.channels) {
            channel.power += dot(samples, samples);
            let samples = match self.moves {
                Some(moves) => channel.above(samples, moves.keep, &mut heard),
                None => samples,
            };
            channel.windows.resize(starts.len(), Vec::new());
            for (start, window) in starts.iter().zip(&mut channel.windows) {
                let (begin, end) = ((*start).max(from), (start + WINDOW).min(to));
                if begin < end {
                    window.extend(&samples[size(begin - from)..size(end - from)]);
                }
            }
        }
        self.power = self.full_band().map(|(_, channel)| channel.power).sum();
        self.frames = to;
    }

    /// What differs in what came back, in words.
    ///
    /// # Errors
    /// Length, level or place, with the figures.
    pub fn compare(&self, found: &Self) -> Result<(), String> {
        if self.frames != found.frames {
            return Err(format!("{} frames became {}", self.frames, found.frames));
        }
        let mean = self.power / real(self.frames.max(1));
        // Of a few frames nothing can be told but how many they are.
        if mean < SILENT || self.frames <= count(REACH) {
            return Ok(());
        }
        let decibels = |now: f64, before: f64| 10.0 * (now / before).log10();
        let (all, low) = (decibels(found.power, self.power), decibels(found.low, self.low));
        let clicks = self.peak * self.peak > CLICKS * mean;
        let told = self.low > NOTABLE * self.power && !clicks;
        let most = self.most_added();
        if all > most || (told && low < MOST_TAKEN) {
            let change = if all > most { all } else { low };
            return Err(format!("its level changed by {change:.1} dB"));
        }
        self.compare_channels(found)?;
        let own: f64 = self.full_band().map(|(_, channel)| channel.seen()).sum();
        let lags = -REACH.cast_signed()..=REACH.cast_signed();
        let better = if self.frames < WINDOW { BETTER_SHORT } else { BETTER };
        let here = self.fit(found, 0).likeness();
        let fits = lags.map(|lag| (self.fit(found, lag), lag));
        let told = fits.filter(|(fit, _)| fit.both > TELLING * own);
        let best = told.max_by(|(a, _), (b, _)| a.likeness().total_cmp(&b.likeness()));
        match best {
            Some((fit, lag))
                if lag.unsigned_abs() > self.moves.map_or(0, |moves| moves.slack)
                    && own > TELLING * self.telling_power()
                    && fit.likeness() > better * here =>
            {
                // What is nearly the same there by itself tells of no move, and what fits nowhere of none either.
                let alike = self.fit(self, lag).likeness();
                let spiky = self.peak * self.peak > SPIKY * mean;
                let certain = if spiky || self.moves.is_some() { MORE_CERTAIN } else { CERTAIN };
                let told = !self.is_a_tone() && fit.likeness() > certain;
                match told && is_told(alike, here, fit.likeness()) {
                    true => Err(format!("it came back {lag} frames later")),
                    false => Ok(()),
                }
            }
            _ => Ok(()),
        }
    }

    /// Whether it is a tone, which is its own opposite half a period later, of a codec that turns the phase of tones:
    /// then no place can be told.
    fn is_a_tone(&self) -> bool {
        self.moves.is_some_and(|moves| {
            let mut lags = (moves.slack + 1..=REACH).map(usize::cast_signed);
            lags.any(|lag| self.fit(self, lag).likeness() < OPPOSITE)
        })
    }

    /// What the windows must hold before they tell of a place: a part of all power in as many frames, where what a codec
    /// turns was left out of them.
    fn telling_power(&self) -> f64 {
        let windows: usize =
            self.channels.first().map_or(0, |channel| channel.windows.iter().map(Vec::len).sum());
        match self.moves {
            Some(_) => self.power * real(count(windows)) / real(self.frames.max(1)),
            None => 0.0,
        }
    }

    /// All channels but the one of lows, with their places.
    fn full_band(&self) -> impl Iterator<Item = (usize, &Channel)> {
        let lows = self.lows;
        self.channels.iter().enumerate().filter(move |(at, _)| Some(*at) != lows)
    }

    fn most_added(&self) -> f64 {
        let usual = if self.frames < WINDOW { MOST_ADDED_SHORT } else { MOST_ADDED };
        self.moves.map_or(usual, |moves| moves.most_added.max(usual))
    }

    /// Levels of channels, and whether each is most like itself.
    fn compare_channels(&self, found: &Self) -> Result<(), String> {
        if self.channels.len() != found.channels.len() {
            return Err(format!(
                "{} channels became {}",
                self.channels.len(),
                found.channels.len()
            ));
        }
        for (at, own) in self.full_band() {
            let back = &found.channels[at];
            // A codec may put a little of a loud channel into a faint one.
            if own.power < NOTABLE * self.power {
                continue;
            }
            let change = 10.0 * (back.power / own.power).log10();
            let most = self.most_added();
            if change > most {
                return Err(format!("the level of channel {} changed by {change:.1} dB", at + 1));
            }
            let here = own.likeness(back);
            let told = TELLING * own.seen().sqrt();
            let likest = |(place, other): &(usize, &Channel)| {
                let there = own.likeness(other);
                // Channels that are nearly the same by themselves are not told apart.
                let alike = own.fit(&self.channels[*place], 0).likeness().abs();
                *place != at && there > (BETTER * here).max(told) && is_told(alike, here, there)
            };
            if let Some((other, _)) = found.full_band().find(likest) {
                return Err(format!("channel {} came back as channel {}", at + 1, other + 1));
            }
        }
        Ok(())
    }

    /// How well the windows fit where they lie `lag` frames later in what came back.
    fn fit(&self, found: &Self, lag: isize) -> Fit {
        let pairs = self.full_band().filter_map(|(at, own)| Some((own, found.channels.get(at)?)));
        pairs.map(|(own, back)| own.fit(back, lag)).fold(Fit::default(), Fit::and)
    }
}

/// Whether something was moved rather than made a little different, where it fits `here` in its own place and `there`
/// in another one: had it been moved, `here` would be only as much of `there` as both places are `alike` by themselves.
/// Where they are all but the same, nothing tells.
fn is_told(alike: f64, here: f64, there: f64) -> bool {
    alike * BETTER < 1.0 && here < there * f64::midpoint(1.0, alike)
}

/// Sums of products of what lies over each other.
#[derive(Debug, Clone, Copy, Default)]
struct Fit {
    both: f64,
    own: f64,
    back: f64,
}

impl Fit {
    fn and(self, other: Self) -> Self {
        Self {
            both: self.both + other.both,
            own: self.own + other.own,
            back: self.back + other.back,
        }
    }

    /// From -1 to 1, whatever the levels are and however much lies over each other.
    fn likeness(self) -> f64 {
        let powers = (self.own * self.back).sqrt();
        if powers > 0.0 { self.both / powers } else { 0.0 }
    }
}

impl Channel {
    /// What lies above the lows of samples.
    fn above<'h>(&mut self, samples: &[f64], keep: f64, heard: &'h mut Vec<f64>) -> &'h Vec<f64> {
        let [a, b] = &mut self.lows;
        heard.clear();
        heard.extend(samples.iter().map(|sample| {
            *a = keep * *a + (1.0 - keep) * (sample + FLOOR);
            let once = sample - *a;
            *b = keep * *b + (1.0 - keep) * (once + FLOOR);
            once - *b
        }));
        heard
    }

    /// The power of its windows.
    fn seen(&self) -> f64 {
        self.windows.iter().flatten().map(|s| s * s).sum()
    }

    /// How well it fits a channel that came back, whatever the level of that is.
    fn likeness(&self, back: &Self) -> f64 {
        match back.seen() {
            0.0 => 0.0,
            seen => self.fit(back, 0).both / seen.sqrt(),
        }
    }

    fn fit(&self, back: &Self, lag: isize) -> Fit {
        let mut fit = Fit::default();
        for (a, b) in self.windows.iter().zip(&back.windows) {
            let inner = REACH..a.len().saturating_sub(REACH);
            // Short clips have no inside; then all that overlaps counts.
            let range = if inner.is_empty() { 0..a.len() } else { inner };
            let moved = |at: usize| at.checked_add_signed(lag).unwrap_or(0).min(b.len());
            // As far as both reach.
            let from = range.start.max(lag.min(0).unsigned_abs());
            let (first, last) = (moved(from), moved(range.end));
            let (Some(a), Some(b)) =
                (a.get(from..from + last.saturating_sub(first)), b.get(first..last))
            else {
                continue;
            };
            fit = fit.and(Fit { both: dot(a, b), own: dot(a, a), back: dot(b, b) });
        }
        fit
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(samples: &[f64]) -> Likeness {
        let mut likeness =
            Likeness::new(count(samples.len()), "ogg vorbis 44100 mono".parse().unwrap());
        for piece in samples.chunks(1000) {
            likeness.update(&Block::from_channels(vec![piece.to_vec()]));
        }
        likeness
    }

    #[test]
    fn what_moved_or_changed_is_told() {
        let wave = |n: u32| (f64::from(n) * 0.05).sin() * (f64::from(n) * 0.0007).cos();
        let samples: Vec<f64> = (0..40_000).map(wave).collect();
        let moved: Vec<f64> = (0..40_000).map(|n| if n < 7 { 0.0 } else { wave(n - 7) }).collect();
        let noisy: Vec<f64> =
            samples.iter().zip(0..).map(|(s, n)| s + f64::from(n % 7 - 3) * 0.01).collect();
        let quiet: Vec<f64> = samples.iter().map(|s| s * 0.2).collect();
        let base = of(&samples);
        assert_eq!(base.compare(&of(&noisy)), Ok(()));
        assert!(base.compare(&of(&moved)).unwrap_err().contains("7 frames later"));
        assert!(base.compare(&of(&quiet)).unwrap_err().contains("-14.0 dB"));
        assert!(base.compare(&of(&samples[1..])).is_err());
        assert_eq!(of(&[0.0; 100]).compare(&of(&[0.0; 100])), Ok(()));
        // What lies above a codec's band, and single clicks, may go; lows may not.
        let high: Vec<f64> = (0..40_000).map(|n: u32| (f64::from(n) * 2.2).sin() * 0.5).collect();
        let silence = of(&vec![0.0; 40_000]);
        assert_eq!(of(&high).compare(&silence), Ok(()));
        let mut click = vec![0.0; 40_000];
        click[20_000] = 0.9;
        assert_eq!(of(&click).compare(&silence), Ok(()));
        assert!(base.compare(&silence).is_err());
    }
}
