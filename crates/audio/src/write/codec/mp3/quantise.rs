//! The two loops: each band's step is as coarse as its noise allows (the inner one), and the noise that is allowed rises
//! until all fits (the outer one, in [`super::rate`]).

use super::filter::{GRANULE, Shape};
use super::granule::{Granule, factor_bits, low_factor_bits};
use super::huffman::{self, LARGEST};
use super::spectrum::{Layout, MOST_BANDS, Spectrum};
use super::tables::PRETAB;
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

    /// Gains of long blocks.
    fn long(&self, wanted: &[Option<i32>; MOST_BANDS]) -> Granule {
        let gain = self.common(wanted, 0, 1).unwrap_or(UNITY);
        let mut granule = Granule::empty(self.spectrum.shape, gain);
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

    /// The largest factor that there are bits for: four of them in the lower bands, three in the upper ones.
    fn most_factor(&self, band: usize) -> i32 {
        let lower = if self.spectrum.shape == Shape::Short { 18 } else { 11 };
        if band < lower { 15 } else { 7 }
    }

    /// Gains of short blocks: first of whole windows, then of bands.
    fn short(&self, wanted: &[Option<i32>; MOST_BANDS]) -> Granule {
        let gains = [0, 1, 2].map(|window| self.common(wanted, window, 3));
        let gain = gains.iter().flatten().max().copied().unwrap_or(UNITY);
        let mut granule = Granule::empty(self.spectrum.shape, gain);
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
