//! Samples to blocks of Microsoft's ADPCM ("Multimedia Data Standards Update", Microsoft, 1994).

use crate::block::Block;
use crate::num::{count, low_byte, sample16, saturated16, size};
use crate::read::codec::adpcm::{MS_COEFFICIENTS, MS_MOVES, ms_frames};

/// One channel's running state.
#[derive(Debug, Clone, Copy)]
struct State {
    coefficients: (i32, i32),
    step: i32,
    last: [i32; 2],
}

impl State {
    /// The code whose decoded value comes nearest, the next state, and the error.
    fn best(self, sample: i16) -> (u8, Self, i64) {
        let (a, b) = self.coefficients;
        let guess = (self.last[0] * a + self.last[1] * b) >> 8;
        let wanted = i32::from(sample) - guess;
        let near = (2 * wanted.abs() + self.step) / (2 * self.step) * wanted.signum();
        let tried = [near - 1, near, near + 1].map(|code| code.clamp(-8, 7));
        let outcomes = tried.map(|code| {
            let value = i32::from(saturated16(guess + code * self.step));
            let off = i64::from(value - i32::from(sample));
            (code, value, off * off)
        });
        let least = outcomes.into_iter().min_by_key(|outcome| outcome.2);
        let (code, value, error) = least.unwrap_or((0, guess, 0));
        let code = low_byte(code & 15);
        let step = ((MS_MOVES[usize::from(code)] * self.step) >> 8).clamp(16, 1 << 24);
        (code, Self { step, last: [value, self.last[0]], ..self }, error)
    }
}

/// Gathers frames until a block is full.
#[derive(Debug)]
pub struct Ms {
    frames: usize,
    waiting: Vec<Vec<i16>>,
}

impl Ms {
    /// For blocks of this many bytes.
    pub fn new(block_bytes: u32, channels: usize) -> Self {
        Self {
            frames: size(ms_frames(block_bytes.into(), count(channels))),
            waiting: vec![Vec::new(); channels],
        }
    }

    /// Appends all blocks that are full.
    pub fn encode(&mut self, block: &Block, bytes: &mut Vec<u8>) {
        for (waiting, channel) in self.waiting.iter_mut().zip(block.channels()) {
            waiting.extend(channel.iter().map(|s| sample16(*s)));
        }
        while self.waiting[0].len() >= self.frames {
            self.block(bytes);
        }
    }

    /// Appends the last block, filled up with its last frame: old loaders know whole blocks only.
    pub fn finish(&mut self, bytes: &mut Vec<u8>) {
        if self.waiting[0].is_empty() {
            return;
        }
        for waiting in &mut self.waiting {
            let last = waiting.last().copied().unwrap_or(0);
            waiting.resize(self.frames, last);
        }
        self.block(bytes);
    }

    /// One block: the number of the pair of coefficients, the first step and two samples of each channel, then
    /// codes, the channels in turn.
    fn block(&mut self, bytes: &mut Vec<u8>) {
        let frames = self.frames;
        let coded: Vec<(u8, State, Vec<u8>)> =
            self.waiting.iter().map(|samples| coded(&samples[..frames])).collect();
        bytes.extend(coded.iter().map(|(pair, ..)| *pair));
        let words = |of: fn(&State) -> i32| coded.iter().map(move |(_, state, _)| of(state));
        let heads = words(|s| s.step).chain(words(|s| s.last[0])).chain(words(|s| s.last[1]));
        bytes.extend(heads.flat_map(|word| saturated16(word).to_le_bytes()));
        let codes = (0..frames - 2).flat_map(|at| coded.iter().map(move |(.., codes)| codes[at]));
        let codes: Vec<u8> = codes.collect();
        bytes.extend(codes.chunks(2).map(|pair| pair[0] << 4 | pair.get(1).unwrap_or(&0)));
        self.waiting.iter_mut().for_each(|waiting| drop(waiting.drain(..frames)));
    }
}

/// The pair of coefficients and the first step that do a channel's block best, where it begins, and its codes.
fn coded(samples: &[i16]) -> (u8, State, Vec<u8>) {
    // Nothing where it becomes worse than what is known.
    let run = |begin: State, most: i64| {
        let mut codes = Vec::with_capacity(samples.len() - 2);
        let (mut state, mut sum) = (begin, 0i64);
        for sample in &samples[2..] {
            let (code, next, error) = state.best(*sample);
            state = next;
            sum = sum.saturating_add(error);
            if sum >= most {
                return None;
            }
            codes.push(code);
        }
        Some((sum, codes))
    };
    let mut pairs: Vec<(u8, (i32, i32))> = (0..).zip(MS_COEFFICIENTS.map(wide)).collect();
    // What predicts best is most likely to code best, and ends the others soon.
    pairs.sort_by_cached_key(|(_, coefficients)| {
        guesses(samples, *coefficients)
            .map(|off| off.saturating_mul(off))
            .fold(0, i64::saturating_add)
    });
    let mut best: Option<(i64, u8, State, Vec<u8>)> = None;
    for (pair, coefficients) in pairs {
        let last = [samples[1].into(), samples[0].into()];
        for step in first_steps(samples, coefficients) {
            let begin = State { coefficients, step, last };
            let most = best.as_ref().map_or(i64::MAX, |(least, ..)| *least);
            if let Some((sum, codes)) = run(begin, most) {
                best = Some((sum, pair, begin, codes));
            }
        }
    }
    let nothing = State { coefficients: (256, 0), step: 16, last: [0, 0] };
    best.map_or((0, nothing, Vec::new()), |(_, pair, begin, codes)| (pair, begin, codes))
}

fn wide((a, b): (i16, i16)) -> (i32, i32) {
    (a.into(), b.into())
}

/// How far the predictions are off where the samples before are exact.
fn guesses(samples: &[i16], (a, b): (i32, i32)) -> impl Iterator<Item = i64> {
    samples.windows(3).map(move |s| {
        let guess = (i32::from(s[1]) * a + i32::from(s[0]) * b) >> 8;
        i64::from((i32::from(s[2]) - guess).abs())
    })
}

/// Steps to begin with: a third of what the first predictions are off by, half of it and twice.
fn first_steps(samples: &[i16], coefficients: (i32, i32)) -> [i32; 3] {
    let all: Vec<i64> = guesses(samples, coefficients).take(8).collect();
    let mean = all.iter().sum::<i64>() / i64::try_from(all.len().max(1)).unwrap_or(1);
    let step = i32::try_from(mean / 3).unwrap_or(16);
    [step / 2, step, step * 2].map(|step| step.clamp(16, 32_767))
}
