//! Samples to codes of G.726 (ITU-T G.726, 12/1990, 4.2.3).

use crate::block::Block;
use crate::num::sample16;
use crate::read::codec::g726::{Guess, Law, State};
use crate::spec::Codec;

/// The encoder, and the codes that make no whole byte yet.
#[derive(Debug)]
pub struct G726 {
    law: &'static Law,
    state: State,
    held: u32,
    have: u32,
}

impl G726 {
    /// For a codec of the four rates.
    pub fn new(codec: Codec) -> Self {
        let law = Law::of(codec);
        Self { law, state: State::new(law), held: 0, have: 0 }
    }

    /// Appends the bytes that are whole.
    pub fn encode(&mut self, block: &Block, bytes: &mut Vec<u8>) {
        for sample in &block.channels()[0] {
            let value = i32::from(sample16(*sample)) >> 2;
            let guess = self.state.guess();
            let code = self.code(value - guess.value, guess);
            self.state.take(guess, code);
            self.held |= u32::from(code) << self.have;
            self.have += self.law.bits;
            while self.have >= 8 {
                bytes.push(self.held.to_le_bytes()[0]);
                (self.held, self.have) = (self.held >> 8, self.have - 8);
            }
        }
    }

    /// The code of a difference (blocks LOG, SUBTB, QUAN): where zero has a code of its own, none is positive.
    fn code(&self, difference: i32, guess: Guess) -> u8 {
        let (bits, decisions) = (self.law.bits, self.law.decisions);
        let size = difference.abs();
        let exponent = 32 - (size >> 1).leading_zeros();
        let log = (exponent << 7).cast_signed() + ((size << 7) >> exponent & 0x7F);
        let scaled = log - (guess.step >> 2);
        let magnitude = decisions.iter().take_while(|edge| scaled >= **edge).count();
        let magnitude = u8::try_from(magnitude).unwrap_or(0);
        let ones = u8::MAX >> (8 - bits);
        match (difference < 0, magnitude) {
            (true, magnitude) => ones - magnitude,
            (false, 0) if bits > 2 => ones,
            (false, magnitude) => magnitude,
        }
    }
}
