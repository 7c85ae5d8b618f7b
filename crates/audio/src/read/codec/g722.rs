//! G.722 at 64 kbit/s: two bands of 4 kHz, differences of 6 and 2 bits, a byte for every two samples.
//!
//! Source: ITU-T G.722 (09/2012), 3 to 6, with tables 6 to 24; the names in brackets are its blocks.

use crate::block::Block;
use crate::num::saturated16;

/// Half of the mirrored filter that parts the bands (table 11), scaled by 4,096.
pub const FILTER: [i32; 12] = [3, -11, 12, 32, -210, 951, 3876, -805, 362, -156, 53, -11];
/// Bits of the codes of the lower band (tables 14, 17, 18): levels of six and four bits.
const LOWER_OF_64: [i32; 32] = [
    -136, -136, -136, -136, -24_808, -21_904, -19_008, -16_704, -14_984, -13_512, -12_280, -11_192,
    -10_232, -9360, -8576, -7856, -7192, -6576, -6000, -5456, -4944, -4464, -4008, -3576, -3168,
    -2776, -2400, -2032, -1688, -1360, -1040, -728,
];
const LOWER_OF_16: [i32; 16] = [
    0, -20_456, -12_896, -8968, -6288, -4240, -2584, -1200, 20_456, 12_896, 8968, 6288, 4240, 2584,
    1200, 0,
];
const UPPER: [i32; 4] = [-7408, -1616, 7408, 1616];
/// How the steps move (tables 19, 20 and 24).
const LOWER_MOVES: [i32; 16] =
    [-60, 3042, 1198, 538, 334, 172, 58, -30, 3042, 1198, 538, 334, 172, 58, -30, -60];
const UPPER_MOVES: [i32; 4] = [798, -214, 798, -214];
/// Steps within a doubling (table 21).
const STEPS: [i32; 32] = [
    2048, 2093, 2139, 2186, 2233, 2282, 2332, 2383, 2435, 2489, 2543, 2599, 2656, 2714, 2774, 2834,
    2896, 2960, 3025, 3091, 3158, 3228, 3298, 3371, 3444, 3520, 3597, 3676, 3756, 3838, 3922, 4008,
];

fn saturated(value: i32) -> i32 {
    saturated16(value).into()
}

/// What a code of the lower band stands for, in 32,768ths of the step: all six bits of it.
fn lower_of_64(code: u8) -> i32 {
    // The codes of above and below zero mirror each other, but for the four nearest to it.
    match usize::from(code & 63) {
        61 => 136,
        62 => -432,
        63 => -136,
        60 => 432,
        code @ 32.. => -LOWER_OF_64[code - 28],
        code => LOWER_OF_64[code],
    }
}

/// One band: its predictor and its step.
#[derive(Debug, Clone)]
pub struct Band {
    /// What the next sample is taken for.
    pub guess: i32,
    /// The step.
    pub step: i32,
    zeros_part: i32,
    log_step: i32,
    poles: [i32; 2],
    zeros: [i32; 6],
    differences: [i32; 6],
    values: [i32; 2],
    partials: [i32; 2],
}

impl Band {
    fn new(step: i32) -> Self {
        Self {
            guess: 0,
            step,
            zeros_part: 0,
            log_step: 0,
            poles: [0; 2],
            zeros: [0; 6],
            differences: [0; 6],
            values: [0; 2],
            partials: [0; 2],
        }
    }

    /// Takes in a difference (blocks RECONS to PREDIC).
    fn adapt(&mut self, difference: i32) {
        let value = saturated(self.guess + difference);
        let partial = saturated(self.zeros_part + difference);
        let same = |other: i32| (partial < 0) == (other < 0);
        let [first, second] = self.poles;
        // UPPOL2
        let towards =
            if same(self.partials[0]) { -saturated(first * 4) } else { saturated(first * 4) };
        let pull = if same(self.partials[1]) { 128 } else { -128 };
        let next_second = (towards.min(32_767) >> 7) + pull + ((second * 32_512) >> 15);
        let next_second = next_second.clamp(-12_288, 12_288);
        // UPPOL1
        let pull = if same(self.partials[0]) { 192 } else { -192 };
        let most = saturated(15_360 - next_second);
        let next_first = saturated(pull + ((first * 32_640) >> 15)).clamp(-most, most);
        // UPZERO
        let pull = if difference == 0 { 0 } else { 128 };
        for (zero, old) in self.zeros.iter_mut().zip(self.differences) {
            let pull = if (difference < 0) == (old < 0) { pull } else { -pull };
            *zero = saturated(pull + ((*zero * 32_640) >> 15));
        }
        // DELAYA
        self.differences.rotate_right(1);
        self.differences[0] = difference;
        self.values = [value, self.values[0]];
        self.partials = [partial, self.partials[0]];
        self.poles = [next_first, next_second];
        // FILTEP, FILTEZ, PREDIC
        let doubled = |value: i32| saturated(2 * value);
        let poles =
            self.poles.iter().zip(&self.values).map(|(a, value)| (a * doubled(*value)) >> 15);
        let zeros = self.zeros.iter().zip(&self.differences);
        let zeros = zeros.map(|(b, difference)| (b * doubled(*difference)) >> 15);
        self.zeros_part = saturated(zeros.sum());
        self.guess = saturated(saturated(poles.sum()) + self.zeros_part);
    }

    /// Moves the step (blocks LOGSCL or LOGSCH, SCALEL or SCALEH).
    fn pace(&mut self, moved: i32, most: i32, shift: i32) {
        self.log_step = (((self.log_step * 127) >> 7) + moved).clamp(0, most);
        let within = STEPS[usize::try_from(self.log_step >> 6 & 31).unwrap_or(0)];
        let down = shift - (self.log_step >> 11);
        self.step = if down < 0 { within << -down } else { within >> down } << 2;
    }
}

/// Both bands.
#[derive(Debug, Clone)]
pub struct Bands {
    /// Up to 4 kHz.
    pub lower: Band,
    /// From there on.
    pub upper: Band,
}

impl Default for Bands {
    fn default() -> Self {
        Self { lower: Band::new(32), upper: Band::new(8) }
    }
}

impl Bands {
    /// Moves on by a code; both sides do the same.
    pub fn take(&mut self, code: u8) {
        let (low, high) = (usize::from(code >> 2 & 15), usize::from(code >> 6));
        let difference = (self.lower.step * LOWER_OF_16[low]) >> 15;
        self.lower.pace(LOWER_MOVES[low], 18_432, 8);
        self.lower.adapt(difference);
        let difference = (self.upper.step * UPPER[high]) >> 15;
        self.upper.pace(UPPER_MOVES[high], 22_528, 10);
        self.upper.adapt(difference);
    }

    /// What a code stands for, of the lower and of the upper band.
    pub fn values(&self, code: u8) -> [i32; 2] {
        let low = self.lower.guess + ((self.lower.step * lower_of_64(code)) >> 15);
        let high = self.upper.guess + ((self.upper.step * UPPER[usize::from(code >> 6)]) >> 15);
        [low, high].map(|value| value.clamp(-16_384, 16_383))
    }
}

/// The decoder.
#[derive(Debug, Clone, Default)]
pub struct G722 {
    bands: Bands,
    /// Sums and differences of the bands, the last first.
    mirrored: [[i32; 2]; 12],
}

impl G722 {
    /// Appends the two samples of every byte.
    pub fn decode(&mut self, bytes: &[u8], block: &mut Block) {
        let samples = &mut block.channels_mut()[0];
        for code in bytes {
            let [low, high] = self.bands.values(*code);
            self.bands.take(*code);
            self.mirrored.rotate_right(1);
            self.mirrored[0] = [low + high, low - high];
            let (mut first, mut second) = (0, 0);
            for (at, [sum, difference]) in self.mirrored.iter().enumerate() {
                second += sum * FILTER[11 - at];
                first += difference * FILTER[at];
            }
            let two = [first, second].map(|sum| f64::from(saturated16(sum >> 11)) / 32_768.0);
            samples.extend(two);
        }
    }
}
