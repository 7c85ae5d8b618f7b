//! The two loops: each band's step is as coarse as its noise allows (the inner one), and the noise that is allowed rises
//! until all fits (the outer one, in [`super::rate`]).

use super::filter::{GRANULE, Shape};
use super::huffman::{self, Coding, LARGEST};
use super::spectrum::{Layout, MOST_BANDS, Spectrum};
use super::tables::{LOW_GROUPS, PRETAB, SCALE_BITS};
use crate::num::{real_size, single};
use std::sync::LazyLock;

/// What is added before values are cut to whole numbers: less than a half, since small values are more
/// likely within each step (ISO/IEC 11172-3, C.1.5.4.4.1).
const ROUNDING: f32 = 0.4054;
/// The gain at which a step is 1.
const UNITY: i32 = 210;
/// No gain is greater.
const MOST_GAIN: i32 = 255;
/// How much coarser than its noise allows the band without a scale factor may be, in steps of the gain.
const SLACK: i32 = 6;

/// Values that are larger on average have noise that need not be counted out.
const LARGE: f32 = 40.0;
/// (4/3)² / 12.
const EVEN: f32 = 0.148_148_15;

/// Powers of 4/3 of all values.
static POWERS: LazyLock<Vec<f32>> = LazyLock::new(|| {
    (0..=usize::from(LARGEST)).map(|n| single(real_size(n).powf(4.0 / 3.0))).collect()
});
/// For each gain the step, and what roots are multiplied with.
static STEPS: LazyLock<Vec<(f32, f32)>> = LazyLock::new(|| {
    let power = |at: i32| 2f64.powf(f64::from(at - UNITY) / 4.0);
    (0..=MOST_GAIN).map(|at| (single(power(at)), single(power(at).powf(-0.75)))).collect()
});

fn step(gain: i32) -> (f32, f32) {
    let at = gain.clamp(0, MOST_GAIN);
    STEPS[usize::try_from(at).unwrap_or(0)]
}

fn whole(root: f32, factor: f32) -> u16 {
    crate::num::whole16(root * factor + ROUNDING)
}

/// A granule that is being quantised: what was worked out of its bands is kept.
pub struct Search<'a> {
    spectrum: &'a Spectrum,
    layout: &'a Layout,
    sizes: [f32; GRANULE],
    roots: [f32; GRANULE],
    energies: [f32; MOST_BANDS],
    /// The least gain at which the highest value can still be coded.
    finest: [i32; MOST_BANDS],
    /// For each band the sums of its roots, and of the square roots of its lines.
    sums: [(f32, f32); MOST_BANDS],
    /// Noise by band and gain; 0 where it was not asked.
    noise: Vec<f32>,
    /// Where the search begins.
    guess: [i32; MOST_BANDS],
    low: bool,
}

/// How many factors there are in a group, and how many bits each takes.
type FactorBits = [(usize, u32); 4];

/// A granule as it is sent.
#[derive(Debug, Clone)]
pub struct Granule {
    /// The form of its window.
    pub shape: Shape,
    /// Magnitudes.
    pub values: [u16; GRANULE],
    /// How they are coded.
    pub coding: Coding,
    /// The gain of all.
    pub gain: i32,
    /// Gains of short windows, in steps of eight.
    pub window_gains: [u8; 3],
    /// How much finer each band is.
    pub factors: [u8; MOST_BANDS],
    /// Whether a factor counts twice.
    pub doubled: bool,
    /// Whether high bands are finer by a table.
    pub pretab: bool,
    /// The number that tells how many bits factors take, and the groups that have so many each.
    pub compress: u16,
    /// Bits of factors, by group.
    pub factor_bits: FactorBits,
    /// Which groups take their factors from the granule before (ISO/IEC 11172-3, `scfsi`).
    pub shared: [bool; 4],
    /// Bands that hold nothing: their factors do not matter.
    pub empty: [bool; MOST_BANDS],
}

impl Granule {
    /// Bits of factors and values.
    pub fn bits(&self) -> u32 {
        self.coding.bits + self.factors_bits()
    }

    /// Bits of the factors alone.
    pub fn factors_bits(&self) -> u32 {
        let shared = |group: usize| self.shared[group];
        match self.shape {
            Shape::Short => self.factor_bits.iter().map(|(n, bits)| count32(*n) * bits).sum(),
            _ if self.shared == [false; 4] => {
                self.factor_bits.iter().map(|(n, bits)| count32(*n) * bits).sum()
            }
            _ => SHARED_GROUPS
                .iter()
                .enumerate()
                .filter(|(group, _)| !shared(*group))
                .map(|(group, ends)| {
                    count32(ends.1 - ends.0) * self.factor_bits[usize::from(group > 1)].1
                })
                .sum(),
        }
    }
}

/// Groups of bands whose factors two granules may share (ISO/IEC 11172-3, 2.4.2.7).
pub const SHARED_GROUPS: [(usize, usize); 4] = [(0, 6), (6, 11), (11, 16), (16, 21)];

fn count32(n: usize) -> u32 {
    crate::num::count32(n)
}

impl<'a> Search<'a> {
    /// Ready to quantise. `low` is set for the lower rates (ISO/IEC 13818-3).
    pub fn new(spectrum: &'a Spectrum, layout: &'a Layout, low: bool) -> Self {
        let sizes = spectrum.lines.map(f32::abs);
        let roots = sizes.map(|size| (size * size.sqrt()).sqrt());
        let mut energies = [0.0; MOST_BANDS];
        let mut highest = [0.0; MOST_BANDS];
        let mut sums = [(0.0, 0.0); MOST_BANDS];
        for band in 0..layout.bands() {
            let places = layout.places(band);
            energies[band] = sizes[places.clone()].iter().map(|size| size * size).sum();
            let square_roots = sizes[places.clone()].iter().map(|size| size.sqrt()).sum();
            sums[band] = (roots[places.clone()].iter().sum(), square_roots);
            highest[band] = roots[places].iter().fold(0.0, |top: f32, root| top.max(*root));
        }
        let finest = highest.map(|root| {
            let gain = f64::from(root / (f32::from(LARGEST) - 1.0)).log2() * 16.0 / 3.0;
            // Factors are rounded: two steps are kept in hand.
            crate::num::int32(
                (gain + f64::from(UNITY) + 2.0).ceil().clamp(0.0, f64::from(MOST_GAIN)),
            )
        });
        let known = usize::try_from(MOST_GAIN + 1).unwrap_or(256) * layout.bands();
        Self {
            spectrum,
            layout,
            sizes,
            roots,
            energies,
            finest,
            sums,
            noise: vec![0.0; known],
            guess: [i32::MIN; MOST_BANDS],
            low,
        }
    }

    /// The noise of a band at a gain.
    fn noise_at(&mut self, band: usize, gain: i32) -> f32 {
        let gain = gain.clamp(0, MOST_GAIN);
        let at = 256 * band + usize::try_from(gain).unwrap_or(0);
        let known = self.noise[at];
        if known > 0.0 {
            return known;
        }
        let (step, factor) = step(gain);
        let places = self.layout.places(band);
        // Of large values each step's error is as good as even: a twelfth of the step's square, and steps
        // grow with the third root of what is coded.
        let (roots, square_roots) = self.sums[band];
        if roots * factor > LARGE * single(real_size(places.len())) {
            return EVEN * step * step * factor.cbrt().powi(2) * square_roots;
        }
        let mut noise = 0.0;
        for (size, root) in self.sizes[places.clone()].iter().zip(&self.roots[places]) {
            let value = whole(*root, factor).min(LARGEST);
            let error = size - POWERS[usize::from(value)] * step;
            noise += error * error;
        }
        self.noise[at] = noise;
        noise
    }

    /// The greatest gain that keeps a band's noise within what is allowed; `None` where it may be left out.
    fn coarsest(&mut self, band: usize, allowed: f32) -> Option<i32> {
        if self.energies[band] <= allowed {
            return None;
        }
        let lines = self.layout.places(band).len();
        let mut gain = match self.guess[band] {
            i32::MIN => {
                // Uniform steps would have a twelfth of their square.
                let each = f64::from(allowed) / real_size(lines);
                let guess = 2.0 * (12.0 * each).log2() + f64::from(UNITY) - 4.0;
                crate::num::int32(guess.clamp(0.0, f64::from(MOST_GAIN)))
            }
            guess => guess,
        };
        let least = self.finest[band];
        gain = gain.max(least);
        while gain < MOST_GAIN && self.noise_at(band, gain) <= allowed {
            gain += 1;
        }
        while gain > least && self.noise_at(band, gain) > allowed {
            gain -= 1;
        }
        self.guess[band] = gain;
        Some(gain)
    }

    /// Quantises so that no band's noise is heard more than `level`, as far as factors allow.
    pub fn at(&mut self, level: f32) -> Granule {
        let mut wanted = [None; MOST_BANDS];
        for (band, wanted) in wanted.iter_mut().enumerate().take(self.layout.bands()) {
            let lines = single(real_size(self.layout.places(band).len()));
            let weight = self.spectrum.weights[band].max(f32::MIN_POSITIVE);
            *wanted = self.coarsest(band, level * lines / weight);
        }
        let mut granule = match self.spectrum.shape {
            Shape::Short => self.short(&wanted),
            _ => self.long(&wanted),
        };
        self.fill(&mut granule, &wanted);
        granule
    }

    /// The gain of all bands of a long block, or of one window: that of the coarsest, but not much coarser
    /// than the band without a factor wants; `None` where all are empty.
    fn common(&self, wanted: &[Option<i32>; MOST_BANDS], window: usize, by: usize) -> Option<i32> {
        let (scaled, all) = (self.layout.scaled, self.layout.bands());
        let of =
            |from: usize, to: usize| wanted[from..to].iter().skip(window).step_by(by).flatten();
        let most = of(0, scaled).max().copied();
        let bare = of(scaled, all).min().copied();
        let gain = match (most, bare) {
            (Some(most), Some(bare)) => most.min(bare + SLACK),
            (most, bare) => most.or(bare)?,
        };
        let least = self.finest[..all].iter().skip(window).step_by(by).max().copied();
        Some(gain.max(least.unwrap_or(0)))
    }

    fn empty_granule(&self, gain: i32) -> Granule {
        Granule {
            shape: self.spectrum.shape,
            values: [0; GRANULE],
            coding: Coding::default(),
            gain,
            window_gains: [0; 3],
            factors: [0; MOST_BANDS],
            doubled: false,
            pretab: false,
            compress: 0,
            factor_bits: [(0, 0); 4],
            shared: [false; 4],
            empty: [true; MOST_BANDS],
        }
    }

    /// Gains of long blocks.
    fn long(&self, wanted: &[Option<i32>; MOST_BANDS]) -> Granule {
        let gain = self.common(wanted, 0, 1).unwrap_or(UNITY);
        let mut granule = self.empty_granule(gain);
        let excess = |unit: i32| {
            let over = wanted[..21].iter().enumerate().filter_map(|(band, wanted)| {
                Some(rounded((gain - (*wanted)?).max(0), unit) - self.most_factor(band))
            });
            over.max().unwrap_or(0)
        };
        granule.doubled = excess(2) > 1;
        let unit = if granule.doubled { 4 } else { 2 };
        for (band, wanted) in wanted[..21].iter().enumerate() {
            if let Some(wanted) = wanted {
                let factor = rounded((gain - wanted).max(0), unit).min(self.most_factor(band));
                granule.factors[band] = u8::try_from(factor).unwrap_or(0);
                granule.empty[band] = false;
            }
        }
        if !self.low {
            let mut upper = (11..21).filter(|band| !granule.empty[*band]).peekable();
            if upper.peek().is_some() && upper.all(|band| granule.factors[band] >= PRETAB[band]) {
                granule.pretab = true;
                for (factor, table) in granule.factors.iter_mut().zip(PRETAB) {
                    *factor = factor.saturating_sub(table);
                }
            }
        }
        granule
    }

    /// The largest factor that there are bits for.
    fn most_factor(&self, band: usize) -> i32 {
        match (self.spectrum.shape, self.low) {
            (Shape::Short, _) => {
                if band < 18 {
                    15
                } else {
                    7
                }
            }
            (_, false) => {
                if band < 11 {
                    15
                } else {
                    7
                }
            }
            (_, true) => {
                if band < 11 {
                    15
                } else {
                    7
                }
            }
        }
    }

    /// Gains of short blocks: first of whole windows, then of bands.
    fn short(&self, wanted: &[Option<i32>; MOST_BANDS]) -> Granule {
        let gains = [0, 1, 2].map(|window| self.common(wanted, window, 3));
        let gain = gains.iter().flatten().max().copied().unwrap_or(UNITY);
        let mut granule = self.empty_granule(gain);
        let mut most = [gain; 3];
        for (window, own) in gains.into_iter().enumerate() {
            let steps = rounded(gain - own.unwrap_or(gain), 8).min(7);
            granule.window_gains[window] = u8::try_from(steps).unwrap_or(0);
            most[window] = gain - 8 * steps;
        }
        let finer = |band: usize| Some((most[band % 3] - wanted[band]?).max(0));
        let over =
            (0..36).filter_map(|band| Some(rounded(finer(band)?, 2) - self.most_factor(band)));
        granule.doubled = over.max().unwrap_or(0) > 1;
        let unit = if granule.doubled { 4 } else { 2 };
        for band in 0..36 {
            if let Some(finer) = finer(band) {
                let factor = rounded(finer, unit).min(self.most_factor(band));
                granule.factors[band] = u8::try_from(factor).unwrap_or(0);
                granule.empty[band] = false;
            }
        }
        granule
    }

    /// The gain of a band in the end.
    fn gain_of(granule: &Granule, band: usize, scaled: usize) -> i32 {
        let unit = if granule.doubled { 4 } else { 2 };
        let factor = match band < scaled {
            true => i32::from(granule.factors[band]),
            false => 0,
        };
        let table = match granule.pretab {
            true => i32::from(PRETAB[band]),
            false => 0,
        };
        let window = match granule.shape {
            Shape::Short => 8 * i32::from(granule.window_gains[band % 3]),
            _ => 0,
        };
        granule.gain - window - unit * (factor + table)
    }

    /// The values, and how they and the factors are coded.
    fn fill(&self, granule: &mut Granule, wanted: &[Option<i32>; MOST_BANDS]) {
        for (band, _) in wanted.iter().enumerate().filter(|(_, wanted)| wanted.is_some()) {
            // The gain of all may have come out too coarse for anything, or finer than the largest value allows.
            let gain = Self::gain_of(granule, band, self.layout.scaled);
            let (_, factor) = step(gain);
            let places = self.layout.places(band);
            for (value, root) in
                granule.values[places.clone()].iter_mut().zip(&self.roots[places.clone()])
            {
                *value = whole(*root, factor).min(LARGEST);
            }
            granule.empty[band] = granule.values[places].iter().all(|value| *value == 0);
        }
        for band in 0..self.layout.scaled {
            if granule.empty[band] {
                granule.factors[band] = 0;
            }
        }
        granule.coding = match granule.shape {
            Shape::Long => huffman::best(&granule.values, &self.layout.edges, None),
            Shape::Short => {
                huffman::best(&granule.values, &[0, self.layout.edges[9], 576], Some(1))
            }
            _ => huffman::best(&granule.values, &[0, self.layout.edges[8], 576], Some(1)),
        };
        match self.low {
            true => low_factor_bits(granule),
            false => factor_bits(granule),
        }
    }
}

fn rounded(steps: i32, unit: i32) -> i32 {
    (steps + unit / 2) / unit
}

fn bits_of(factors: &[u8]) -> u32 {
    let top = factors.iter().max().copied().unwrap_or(0);
    u8::BITS - top.leading_zeros()
}

/// Chooses how many bits the factors take (ISO/IEC 11172-3, 2.4.2.7).
pub fn factor_bits(granule: &mut Granule) {
    let (split, end) = match granule.shape {
        Shape::Short => (18, 36),
        _ => (11, 21),
    };
    // Those that are shared are not sent.
    let mut sent = granule.factors;
    for (shared, (from, to)) in granule.shared.iter().zip(SHARED_GROUPS) {
        if *shared {
            sent[from..to].fill(0);
        }
    }
    let needed = (bits_of(&sent[..split]), bits_of(&sent[split..end]));
    let fits = |(_, low, high): &(u16, u32, u32)| *low >= needed.0 && *high >= needed.1;
    let cost =
        |(_, low, high): &(u16, u32, u32)| count32(split) * low + count32(end - split) * high;
    let all = (0..).zip(SCALE_BITS).map(|(number, (low, high))| (number, low, high));
    let best = all.filter(fits).min_by_key(cost);
    // The last holds whatever a factor can be.
    let (number, low, high) = best.unwrap_or((15, 4, 3));
    granule.compress = number;
    granule.factor_bits = [(split, low), (end - split, high), (0, 0), (0, 0)];
}

/// The same for the lower rates (ISO/IEC 13818-3, 2.4.3.2).
fn low_factor_bits(granule: &mut Granule) {
    let mut best: Option<(u32, u16, FactorBits)> = None;
    for (layout, (long, short)) in LOW_GROUPS.iter().enumerate() {
        let groups = if granule.shape == Shape::Short { short } else { long };
        let mut from = 0;
        let bits = groups.map(|n| {
            let bits = bits_of(&granule.factors[from..from + n]);
            from += n;
            bits
        });
        let fits = bits[0] <= 4 && bits[1] <= 4 && bits[2] <= 3 && bits[3] <= 3;
        if !fits || (layout == 1 && bits[3] > 0) {
            continue;
        }
        let all: u32 = groups.iter().zip(bits).map(|(n, bits)| count32(*n) * bits).sum();
        let number = match layout {
            0 => (bits[0] * 5 + bits[1]) << 4 | bits[2] << 2 | bits[3],
            _ => 400 + ((bits[0] * 5 + bits[1]) << 2 | bits[2]),
        };
        if best.is_none_or(|(least, ..)| all < least) {
            let parts = std::array::from_fn(|at| (groups[at], bits[at]));
            best = Some((all, u16::try_from(number).unwrap_or(0), parts));
        }
    }
    if let Some((_, number, parts)) = best {
        granule.compress = number;
        granule.factor_bits = parts;
    }
}
