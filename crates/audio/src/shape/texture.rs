//! A loop without an end out of pieces of a clip, each of which fades into the next and the last one into the first:
//! for what goes on and never repeats, as rain, engines and crowds do.

use super::crossfade::{BANDS, blend};
use super::windows::whole_windows;
use crate::block::{Block, Source};
use crate::clip::Loop;
use crate::error::Result;
use crate::num::size;
use crate::observe::Observer;
use crate::read::Clip;
use crate::spec::Facts;
use crate::units::{FrameRange, SampleRate};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::ops::Range;

/// The pieces, in the order in which they are heard.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct Texture {
    /// Each is longer by a fade than what it adds to the loop, and at least two fades long.
    pub pieces: Vec<Piece>,
    /// Frames over which one fades into the next.
    pub fade: u64,
}

/// One of them.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct Piece {
    /// Frames of the clip; it fades in over the first of them, and out over the last.
    pub range: FrameRange,
    /// How alike its start is to the end of the piece before, in the low, the middle and the high band.
    pub likeness: [f64; BANDS],
}

impl Texture {
    /// Frames of the loop.
    pub fn frames(&self) -> u64 {
        self.pieces.iter().map(|piece| piece.range.len().saturating_sub(self.fade)).sum()
    }

    /// What is known of it as a clip: it loops as a whole.
    fn facts(&self, clip: &Facts) -> Facts {
        let frames = self.frames();
        let whole = FrameRange { start: 0, end: frames };
        let loops = vec![Loop::endless(whole)];
        Facts { frames, loops, markers: Vec::new(), ..clip.clone() }
    }

    /// The pieces of this clip as a clip.
    ///
    /// # Errors
    /// Those of reading, and of the private file that it is kept in.
    pub fn of(&self, clip: &Clip, observer: &dyn Observer) -> Result<Clip> {
        let ranges: Vec<FrameRange> = self.pieces.iter().map(|piece| piece.range).collect();
        let rate = clip.facts().format.rate;
        let pieces = whole_windows(clip, &ranges, observer)?;
        let mut joined = Joined { texture: self, pieces, rate, at: 0, joins: false };
        clip.remade(self.facts(clip.facts()), &mut joined)
    }
}

/// One after another, each with what comes of its end and the start of the next.
struct Joined<'a> {
    texture: &'a Texture,
    pieces: Vec<Block>,
    rate: SampleRate,
    at: usize,
    joins: bool,
}

impl Joined<'_> {
    fn part(&self, piece: usize, frames: Range<usize>) -> Block {
        let cut = |channel: &Vec<f64>| channel[frames.clone()].to_vec();
        Block::from_channels(self.pieces[piece].channels().iter().map(cut).collect())
    }
}

impl Source for Joined<'_> {
    fn rate(&self) -> SampleRate {
        self.rate
    }

    fn channels(&self) -> usize {
        self.pieces.first().map_or(0, |piece| piece.channels().len())
    }

    fn next(&mut self, block: &mut Block) -> Result<()> {
        block.clear();
        if self.at == self.pieces.len() {
            return Ok(());
        }
        let (frames, fade) = (self.pieces[self.at].frames(), size(self.texture.fade));
        let end = frames - fade;
        // What is between both fades, if anything is.
        if !self.joins && end > fade {
            self.joins = true;
            *block = self.part(self.at, fade..end);
            return Ok(());
        }
        let next = (self.at + 1) % self.pieces.len();
        let likeness = self.texture.pieces[next].likeness;
        let (own, coming) = (self.part(self.at, end..frames), self.part(next, 0..fade));
        *block = blend(&own, &coming, likeness, self.rate);
        (self.at, self.joins) = (self.at + 1, false);
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::block::collect;

    /// Two pieces of ones and twos: what lies between fades is as it was, and every join is between both.
    #[test]
    fn pieces_follow_one_another_and_the_last_goes_into_the_first() {
        let rate = SampleRate::new(8_000).unwrap();
        let piece = |start, end| Piece { range: FrameRange { start, end }, likeness: [1.0; BANDS] };
        let texture = Texture { pieces: vec![piece(0, 100), piece(500, 570)], fade: 20 };
        assert_eq!(texture.frames(), 130);
        let pieces = [(100, 1.0), (70, 2.0)].map(|(n, v)| Block::from_channels(vec![vec![v; n]]));
        let mut joined =
            Joined { texture: &texture, pieces: pieces.to_vec(), rate, at: 0, joins: false };
        let all = collect(&mut joined).unwrap().swap_remove(0);
        assert_eq!(all.len(), 130);
        assert!(all[..60].iter().all(|s| *s == 1.0) && all[80..110].iter().all(|s| *s == 2.0));
        let rises = |part: &[f64]| part.windows(2).all(|pair| pair[0] < pair[1]);
        assert!(rises(&all[60..80]) && all[60] > 1.0 && all[79] < 2.0, "{:?}", &all[60..80]);
        let back: Vec<f64> = all[110..].iter().rev().copied().collect();
        assert!(rises(&back) && back[0] > 1.0 && back[19] < 2.0);
    }
}
