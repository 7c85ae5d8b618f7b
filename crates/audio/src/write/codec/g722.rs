//! Samples to G.722 at 64 kbit/s (ITU-T G.722, 09/2012, 3 to 5).

use crate::block::Block;
use crate::num::{low_byte, sample16};
use crate::read::codec::g722::{Band, Bands, FILTER};

/// Where the codes of the lower band part, in 4,096ths of the step (table 14).
const LOWER: [i32; 29] = [
    35, 72, 110, 150, 190, 233, 276, 323, 370, 422, 473, 530, 587, 650, 714, 786, 858, 940, 1023,
    1121, 1219, 1339, 1458, 1612, 1765, 1980, 2195, 2557, 2919,
];
/// The same of the upper band (table 15).
const UPPER: i32 = 564;
/// Frames that both filters together come late.
const DELAY: usize = 22;

/// The encoder. It looks as far ahead as the filters come late, so that every decoder gives each sample in its
/// place; the first of them, for want of what came before, fade in within 1.4 ms.
#[derive(Debug, Default)]
pub struct G722 {
    bands: Bands,
    waiting: Vec<i32>,
}

impl G722 {
    /// Appends a byte for every two samples that can be seen far enough ahead.
    pub fn encode(&mut self, block: &Block, bytes: &mut Vec<u8>) {
        let samples = block.channels()[0].iter();
        self.waiting.extend(samples.map(|s| i32::from(sample16(*s))));
        self.all(bytes);
    }

    /// Appends the rest.
    pub fn finish(&mut self, bytes: &mut Vec<u8>) {
        self.waiting.resize(self.waiting.len() + DELAY, 0);
        self.all(bytes);
    }

    fn all(&mut self, bytes: &mut Vec<u8>) {
        let mut done = 0;
        while self.waiting.len() >= done + 2 * FILTER.len() {
            let (mut odd, mut even) = (0, 0);
            for (at, pair) in self.waiting[done..done + 24].chunks_exact(2).enumerate() {
                odd += pair[0] * FILTER[at];
                even += pair[1] * FILTER[11 - at];
            }
            bytes.push(self.code((even + odd) >> 14, (even - odd) >> 14));
            done += 2;
        }
        self.waiting.drain(..done);
    }

    /// The code of a sample of each band (blocks SUBTRA, QUANTL, SUBTRB, QUANTH).
    fn code(&mut self, low: i32, high: i32) -> u8 {
        let (size, negative) = difference(&self.bands.lower, low);
        let edges = LOWER.iter().take_while(|edge| size >= (**edge * self.bands.lower.step) >> 12);
        let level = u8::try_from(edges.count()).unwrap_or(0);
        let low = match (negative, level) {
            (true, 0..=1) => 63 - level,
            (true, level) => 33 - level,
            (false, level) => 61 - level,
        };
        let (size, negative) = difference(&self.bands.upper, high);
        let far = size >= (UPPER * self.bands.upper.step) >> 12;
        let high = low_byte(if negative { i32::from(!far) } else { 2 + i32::from(!far) });
        let code = high << 6 | low;
        self.bands.take(code);
        code
    }
}

/// How far a sample is from its prediction, and which way; as for blocks QUANTL and QUANTH, one less below zero.
fn difference(band: &Band, value: i32) -> (i32, bool) {
    let apart = (value - band.guess).clamp(-32_768, 32_767);
    if apart < 0 { (-(apart + 1), true) } else { (apart, false) }
}
