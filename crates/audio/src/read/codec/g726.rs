//! G.726: adaptive prediction with two poles and six zeros, differences of 2 to 5 bits.
//!
//! Source: ITU-T G.726 (12/1990), 4.2 with tables 1 to 13; the names in brackets are its blocks. Samples count in
//! 14 bits, which is what its way through uniform PCM (Annex A) leaves. Codes are packed with the first
//! in the least significant bits, as AU files and RFC 3551, 4.5.4 have it.

use crate::block::Block;
use crate::num::saturated16;
use crate::spec::Codec;

/// What differs between the rates: tables by the magnitude of a code, the least first.
#[derive(Debug, Clone, Copy)]
pub struct Law {
    /// Bits of a code.
    pub bits: u32,
    /// Where the codes part, in 128ths of a doubling (tables 1 to 4).
    pub decisions: &'static [i32],
    /// What each code stands for, by the same measure; the sign comes apart.
    levels: &'static [i32],
    /// How the step moves (W, block FUNCTW).
    moves: &'static [i32],
    /// How fast it may move (F, block FUNCTF).
    speeds: &'static [i32],
}

const LAWS: [Law; 4] = [
    Law {
        bits: 2,
        decisions: &[261],
        levels: &[116, 365],
        moves: &[-704, 14_048],
        speeds: &[0, 0xE00],
    },
    Law {
        bits: 3,
        decisions: &[8, 218, 331],
        levels: &[-2048, 135, 273, 373],
        moves: &[-128, 960, 4384, 18_624],
        speeds: &[0, 0x200, 0x400, 0xE00],
    },
    Law {
        bits: 4,
        decisions: &[-124, 80, 178, 246, 300, 349, 400],
        levels: &[-2048, 4, 135, 213, 273, 323, 373, 425],
        moves: &[-384, 576, 1312, 2048, 3584, 6336, 11_360, 35_904],
        speeds: &[0, 0, 0, 0x200, 0x200, 0x200, 0x600, 0xE00],
    },
    Law {
        bits: 5,
        decisions: &[-122, -16, 68, 139, 198, 250, 298, 339, 378, 413, 445, 475, 502, 528, 553],
        levels: &[-2048, -66, 28, 104, 169, 224, 274, 318, 358, 395, 429, 459, 488, 514, 539, 566],
        moves: &[
            448, 448, 768, 1248, 1280, 1312, 1856, 3200, 4512, 5728, 7008, 8960, 11_456, 14_080,
            16_928, 22_272,
        ],
        speeds: &[
            0, 0, 0, 0, 0, 0x200, 0x200, 0x200, 0x200, 0x200, 0x400, 0x600, 0x800, 0xA00, 0xC00,
            0xC00,
        ],
    },
];

impl Law {
    /// That of a codec; of 32 kbit/s where it is another.
    pub fn of(codec: Codec) -> &'static Self {
        let bits = codec.g726_bits().unwrap_or(4);
        LAWS.iter().find(|law| law.bits == bits).unwrap_or(&LAWS[2])
    }

    /// The sign of a code and its magnitude: negative codes count down from all ones.
    fn parts(&self, code: u8) -> (bool, usize) {
        let code = usize::from(code) & ((1 << self.bits) - 1);
        let negative = code >> (self.bits - 1) != 0;
        (negative, if negative { (1 << self.bits) - 1 - code } else { code })
    }
}

/// Bits up to the highest that is set.
fn length(value: i32) -> i32 {
    (32 - value.leading_zeros()).cast_signed()
}

/// A number with a sign, four bits of exponent and six of fraction (blocks FLOATA and FLOATB).
#[derive(Debug, Clone, Copy)]
struct Small {
    negative: bool,
    exponent: i32,
    fraction: i32,
}

impl Small {
    const ZERO: Self = Self { negative: false, exponent: 0, fraction: 32 };

    fn new(negative: bool, magnitude: i32) -> Self {
        if magnitude == 0 {
            return Self { negative, ..Self::ZERO };
        }
        let exponent = length(magnitude);
        Self { negative, exponent, fraction: (magnitude << 6) >> exponent }
    }

    /// Its product with a coefficient (block FMULT).
    fn times(self, coefficient: i32) -> i32 {
        let magnitude = if coefficient > 0 { coefficient } else { -coefficient & 0x1FFF };
        let exponent = length(magnitude) - 6;
        let fraction = match magnitude {
            0 => 32,
            _ if exponent >= 0 => magnitude >> exponent,
            _ => magnitude << -exponent,
        };
        let place = exponent + self.exponent - 13;
        let product = (fraction * self.fraction + 0x30) >> 4;
        let product =
            if place >= 0 { product << place & 0x7FFF } else { product >> -place.max(-31) };
        if (coefficient < 0) == self.negative { product } else { -product }
    }
}

/// What encoder and decoder know alike.
#[derive(Debug, Clone)]
pub struct State {
    law: &'static Law,
    slow: i32,
    fast: i32,
    mean_short: i32,
    mean_long: i32,
    mix: i32,
    poles: [i32; 2],
    zeros: [i32; 6],
    signs: [bool; 2],
    differences: [Small; 6],
    values: [Small; 2],
    tone: bool,
}

/// What comes before the next code.
#[derive(Debug, Clone, Copy)]
pub struct Guess {
    /// What the next sample is taken for.
    pub value: i32,
    zeros: i32,
    /// The step, in 512ths of a doubling.
    pub step: i32,
}

impl State {
    /// As after a reset.
    pub fn new(law: &'static Law) -> Self {
        Self {
            law,
            slow: 34_816,
            fast: 544,
            mean_short: 0,
            mean_long: 0,
            mix: 0,
            poles: [0; 2],
            zeros: [0; 6],
            signs: [false; 2],
            differences: [Small::ZERO; 6],
            values: [Small::ZERO; 2],
            tone: false,
        }
    }

    /// The prediction and the step (blocks ACCUM, MIX).
    pub fn guess(&self) -> Guess {
        let pairs = self.zeros.iter().zip(&self.differences);
        let zeros: i32 = pairs.map(|(b, difference)| difference.times(b >> 2)).sum();
        let pairs = self.poles.iter().zip(&self.values);
        let poles: i32 = pairs.map(|(a, value)| value.times(a >> 2)).sum();
        let slow = self.slow >> 6;
        let apart = self.fast - slow;
        let step = match self.mix >> 2 {
            64.. => self.fast,
            part if apart > 0 => slow + ((apart * part) >> 6),
            part => slow + ((apart * part + 0x3F) >> 6),
        };
        Guess { value: (zeros + poles) >> 1, zeros: zeros >> 1, step }
    }

    /// The sample that a code stands for, in 14 bits; everything moves on (block descriptions of 4.2.4 to 4.2.7).
    pub fn take(&mut self, guess: Guess, code: u8) -> i32 {
        let (negative, magnitude) = self.law.parts(code);
        let pick = |table: &[i32]| table.get(magnitude).copied().unwrap_or(0);
        let log = pick(self.law.levels) + (guess.step >> 2);
        let size = match log {
            ..0 => 0,
            _ => (128 + (log & 127)) << 7 >> (14 - (log >> 7 & 15)),
        };
        let difference = if negative { -size } else { size };
        let value = guess.value + difference;
        let partial = difference + guess.zeros;
        let leaps = self.leaps(size);
        self.adapt((negative, size), value, partial, leaps);
        self.pace(guess.step, pick(self.law.moves), pick(self.law.speeds), leaps);
        value
    }

    /// Whether the difference leaps after a tone (block TRANS).
    fn leaps(&self, size: i32) -> bool {
        let (whole, part) = (self.slow >> 15, self.slow >> 10 & 31);
        let threshold = if whole > 9 { 31 << 10 } else { (32 + part) << whole };
        self.tone && size > (threshold + (threshold >> 1)) >> 1
    }

    /// Moves the predictor (blocks UPA1, UPA2, LIMC, LIMD, UPB, TONE).
    fn adapt(&mut self, (negative, size): (bool, i32), value: i32, partial: i32, leaps: bool) {
        let sign = partial < 0;
        let [last, before] = self.signs;
        let mut second = 0;
        if leaps {
            (self.poles, self.zeros) = ([0; 2], [0; 6]);
        } else {
            let [first, old] = self.poles;
            second = old - (old >> 7);
            if partial != 0 {
                let towards = if sign == last { -first } else { first };
                second += match towards {
                    ..-8191 => -0x100,
                    8192.. => 0xFF,
                    _ => towards >> 5,
                };
                second += if sign == before { 0x80 } else { -0x80 };
                second = second.clamp(-12_288, 12_288);
            }
            let mut moved = first - (first >> 8);
            if partial != 0 {
                moved += if sign == last { 192 } else { -192 };
            }
            let most = 15_360 - second;
            self.poles = [moved.clamp(-most, most), second];
            let leak = if self.law.bits == 5 { 9 } else { 8 };
            for (zero, old) in self.zeros.iter_mut().zip(&self.differences) {
                *zero -= *zero >> leak;
                if size != 0 {
                    *zero += if negative == old.negative { 128 } else { -128 };
                }
            }
        }
        self.differences.rotate_right(1);
        self.differences[0] = Small::new(negative, size);
        self.values = [Small::new(value < 0, value.abs().min(0x7FFF)), self.values[0]];
        self.signs = [sign, last];
        self.tone = !leaps && second < -11_776;
    }

    /// Moves the step (blocks FILTA to FILTE, LIMB, SUBTC, FILTC, TRIGA).
    fn pace(&mut self, step: i32, target: i32, speed: i32, leaps: bool) {
        self.fast = (step + ((target - step) >> 5)).clamp(544, 5120);
        self.slow += self.fast + (-self.slow >> 6);
        self.mean_short += (speed - self.mean_short) >> 5;
        self.mean_long += ((speed << 2) - self.mean_long) >> 7;
        let apart = ((self.mean_short << 2) - self.mean_long).abs();
        let uneven = step < 1536 || self.tone || apart >= self.mean_long >> 3;
        self.mix = match (leaps, uneven) {
            (true, _) => 256,
            (false, true) => self.mix + ((0x200 - self.mix) >> 4),
            (false, false) => self.mix + (-self.mix >> 4),
        };
    }
}

/// Appends the samples of whole bytes of codes.
pub fn decode(state: &mut State, bytes: &[u8], block: &mut Block) {
    let bits = state.law.bits;
    let (mut held, mut have) = (0u32, 0);
    for byte in bytes {
        held |= u32::from(*byte) << have;
        have += 8;
        while have >= bits {
            let code = (held & ((1 << bits) - 1)).to_le_bytes()[0];
            (held, have) = (held >> bits, have - bits);
            let guess = state.guess();
            let value = state.take(guess, code);
            block.channels_mut()[0].push(f64::from(saturated16(value << 2)) / 32_768.0);
        }
    }
}
