//! Samples to IMA ADPCM blocks ("Recommended Practices … 3.00", IMA, 1992; "Multimedia Data Standards
//! Update", Microsoft, 1994).

use crate::block::Block;
use crate::num::{count, low_byte, sample16, saturated16, size};
use crate::read::codec::adpcm::{STEPS, ima_frames};

/// How the step index moves.
const MOVES: [i32; 8] = [-1, -1, -1, -1, 2, 4, 6, 8];

/// Bytes of a block where nothing is asked: 256 a channel up to 11,025 Hz, doubled with the rate
/// (Microsoft 1994, "block alignment").
pub fn usual_block(rate: u32, channels: u16) -> u32 {
    let doublings = match rate {
        ..22_050 => 0,
        22_050..44_100 => 1,
        44_100..88_200 => 2,
        _ => 3,
    };
    (256 << doublings) * u32::from(channels)
}

/// One channel's running state.
#[derive(Debug, Clone, Copy, Default)]
struct State {
    value: i32,
    index: i32,
}

impl State {
    /// The code whose decoded value comes nearest, the next state, and the error.
    fn best(self, sample: i16) -> (u8, Self, i64) {
        let step = STEPS[usize::try_from(self.index).unwrap_or(0)];
        let wanted = i32::from(sample) - self.value;
        let sign: u8 = if wanted < 0 { 8 } else { 0 };
        let guess = (wanted.abs() * 4 / step).min(7);
        let tried = [guess - 1, guess, guess + 1].into_iter().filter(|code| (0..=7).contains(code));
        let outcomes = tried.map(|code| {
            let code = low_byte(code) | sign;
            let next = self.after(code, step);
            let off = i64::from(next.value - i32::from(sample));
            (code, next, off * off)
        });
        outcomes.min_by_key(|outcome| outcome.2).unwrap_or((sign, self, 0))
    }

    fn after(self, code: u8, step: i32) -> Self {
        let mut change = step >> 3;
        for (bit, part) in [(4, step), (2, step >> 1), (1, step >> 2)] {
            if code & bit != 0 {
                change += part;
            }
        }
        let change = if code & 8 == 0 { change } else { -change };
        Self {
            value: saturated16(self.value + change).into(),
            index: (self.index + MOVES[usize::from(code & 7)]).clamp(0, 88),
        }
    }
}

/// Gathers frames until a block is full.
#[derive(Debug)]
pub struct Ima {
    frames: usize,
    waiting: Vec<Vec<i16>>,
    states: Vec<State>,
    begun: bool,
}

impl Ima {
    /// For blocks of this many bytes.
    pub fn new(block_bytes: u32, channels: usize) -> Self {
        Self {
            frames: size(ima_frames(block_bytes.into(), count(channels))),
            waiting: vec![Vec::new(); channels],
            states: vec![State::default(); channels],
            begun: false,
        }
    }

    /// Appends all blocks that are full.
    pub fn encode(&mut self, block: &Block, bytes: &mut Vec<u8>) {
        for (waiting, channel) in self.waiting.iter_mut().zip(block.channels()) {
            waiting.extend(channel.iter().map(|s| sample16(*s)));
        }
        let full = self.waiting[0].len() / self.frames;
        for turn in 0..full {
            self.block(turn * self.frames, bytes);
        }
        for waiting in &mut self.waiting {
            waiting.drain(..full * self.frames);
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
        self.block(0, bytes);
        self.waiting.iter_mut().for_each(Vec::clear);
    }

    fn block(&mut self, from: usize, bytes: &mut Vec<u8>) {
        let channels = self.waiting.len();
        let start = bytes.len();
        bytes.resize(start + 4 * channels + (self.frames - 1) / 2 * channels, 0);
        let (heads, codes) = bytes[start..].split_at_mut(4 * channels);
        for (index, (waiting, state)) in self.waiting.iter().zip(&mut self.states).enumerate() {
            let samples = &waiting[from..from + self.frames];
            if !self.begun {
                state.index = first_index(samples);
            }
            state.value = samples[0].into();
            let [low, high] = samples[0].to_le_bytes();
            let step_index = low_byte(state.index);
            heads[4 * index..4 * index + 4].copy_from_slice(&[low, high, step_index, 0]);
            for (turn, sample) in samples[1..].iter().enumerate() {
                let (code, next, _) = state.best(*sample);
                *state = next;
                // Eight codes of a channel in four bytes, then those of the next channel.
                let at = turn / 8 * 4 * channels + 4 * index + turn % 8 / 2;
                codes[at] |= if turn % 2 == 0 { code } else { code << 4 };
            }
        }
        self.begun = true;
    }
}

/// Frames of a packet outside of WAV.
const PACKET: usize = 64;

/// Gathers frames until a packet of every channel is full ("QuickTime File Format", "IMA 4:1").
#[derive(Debug)]
pub struct Ima4 {
    waiting: Vec<Vec<i16>>,
    /// Nothing before the first packet.
    states: Vec<Option<State>>,
}

impl Ima4 {
    /// For so many channels.
    pub fn new(channels: usize) -> Self {
        Self { waiting: vec![Vec::new(); channels], states: vec![None; channels] }
    }

    /// Appends all packets that are full.
    pub fn encode(&mut self, block: &Block, bytes: &mut Vec<u8>) {
        for (waiting, channel) in self.waiting.iter_mut().zip(block.channels()) {
            waiting.extend(channel.iter().map(|s| sample16(*s)));
        }
        let full = self.waiting[0].len() / PACKET;
        for turn in 0..full {
            for (waiting, state) in self.waiting.iter().zip(&mut self.states) {
                packet(&waiting[turn * PACKET..][..PACKET], state, bytes);
            }
        }
        self.waiting.iter_mut().for_each(|waiting| drop(waiting.drain(..full * PACKET)));
    }

    /// Appends the last packet of each channel, filled up with its last frame.
    pub fn finish(&mut self, bytes: &mut Vec<u8>) {
        if self.waiting[0].is_empty() {
            return;
        }
        for (waiting, state) in self.waiting.iter_mut().zip(&mut self.states) {
            waiting.resize(PACKET, waiting.last().copied().unwrap_or(0));
            packet(waiting, state, bytes);
            waiting.clear();
        }
    }
}

/// One channel's packet. Its head has room for nine bits of the value that went before, so that every decoder begins
/// there anew.
fn packet(samples: &[i16], state: &mut Option<State>, bytes: &mut Vec<u8>) {
    let first = || State { value: samples[0].into(), index: first_index(samples) };
    let mut now = state.unwrap_or_else(first);
    now.value &= !0x7F;
    let head = saturated16(now.value | now.index);
    bytes.extend_from_slice(&head.to_be_bytes());
    let mut codes = [0; PACKET / 2];
    for (turn, sample) in samples.iter().enumerate() {
        let (code, next, _) = now.best(*sample);
        codes[turn / 2] |= if turn % 2 == 0 { code } else { code << 4 };
        now = next;
    }
    bytes.extend_from_slice(&codes);
    *state = Some(now);
}

/// The step to begin with: the one that does the first block best.
fn first_index(samples: &[i16]) -> i32 {
    let error = |index: &i32| {
        let begin = State { value: samples[0].into(), index: *index };
        let (_, sum) = samples[1..].iter().take(256).fold((begin, 0i64), |(state, sum), sample| {
            let (_, next, off) = state.best(*sample);
            (next, sum + off)
        });
        sum
    };
    (0..=88).min_by_key(error).unwrap_or(0)
}
