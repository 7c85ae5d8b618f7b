//! Stretches of a clip, one after another: a loop unrolled, with a crossfade at its seam if need be.

use crate::block::{Block, Source, collect};
use crate::error::Result;
use crate::num::{count, real, size};
use crate::read::Clip;
use crate::shape::crossfade::Crossfade;
use crate::shape::cut::Cut;
use crate::units::{FrameRange, SampleRate};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What follows a loop is heard over the start of its next round.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct Fold {
    /// What follows it, in frames of the clip.
    pub tail: FrameRange,
    /// Where the loop starts; as many frames from there on are heard with it.
    pub head: u64,
    /// Whether both sound where the tail lies; else they do where the loop starts.
    pub onto_tail: bool,
}

impl Fold {
    /// Frames over which the tail's end fades, whatever is left of it there.
    fn fade(self) -> u64 {
        const LONGEST: u64 = 1024;
        LONGEST.min(self.tail.len())
    }

    /// Where the frames lie that others are added to.
    fn place(self) -> FrameRange {
        let start = if self.onto_tail { self.tail.start } else { self.head };
        FrameRange { start, end: start + self.tail.len() }
    }

    /// The frames that are added.
    fn added(self) -> FrameRange {
        let start = if self.onto_tail { self.head } else { self.tail.start };
        FrameRange { start, end: start + self.tail.len() }
    }

    /// The gain of the tail at one of its frames.
    fn gain(self, frame: u64) -> f64 {
        let left = self.tail.len() - frame.min(self.tail.len());
        (real(left) / real(self.fade() + 1)).min(1.0)
    }
}

/// A last stretch of up to this many frames is kept in memory when it goes by the first time, so that
/// the clip need not be read again.
const KEPT: u64 = 1 << 17;

/// Reads them.
pub struct Stretches<'a> {
    clip: &'a Clip,
    ranges: Vec<FrameRange>,
    next: usize,
    source: Option<Box<dyn Source + 'a>>,
    /// The next frame of the clip.
    at: u64,
    kept: Kept,
    fade: Option<(Crossfade, Block)>,
    fold: Option<(Fold, Block)>,
}

/// The start of the last stretch, as far as it went by.
struct Kept {
    range: FrameRange,
    frames: Block,
}

impl<'a> Stretches<'a> {
    /// The ranges must lie in the clip; empty ones are left out.
    ///
    /// # Errors
    /// Those of reading what a crossfade needs.
    pub fn new(
        clip: &'a Clip,
        ranges: &[FrameRange],
        crossfade: Option<Crossfade>,
    ) -> Result<Self> {
        let channels = clip.facts().format.channels.count().into();
        let ranges: Vec<FrameRange> = ranges.iter().copied().filter(|r| !r.is_empty()).collect();
        let last = ranges.last().copied();
        let again = last.filter(|last| last.len() <= KEPT && ranges.len() > 1);
        let fade = match crossfade.filter(|fade| fade.frames > 0) {
            None => None,
            Some(fade) => {
                let side =
                    |range| collect(&mut Cut::new(clip.frames()?, range)).map(Block::from_channels);
                let (own, before) = (side(fade.place())?, side(fade.before())?);
                Some((fade, fade.blended(&own, &before, clip.facts().format.rate)))
            }
        };
        Ok(Self {
            clip,
            ranges,
            next: 0,
            source: None,
            at: 0,
            kept: Kept {
                range: again.unwrap_or(FrameRange { start: 0, end: 0 }),
                frames: Block::new(channels),
            },
            fade,
            fold: None,
        })
    }

    /// With what follows the loop over its start.
    ///
    /// # Errors
    /// Those of reading what is added.
    pub fn with_fold(self, fold: Option<Fold>) -> Result<Self> {
        let Some(fold) = fold else { return Ok(self) };
        let added = collect(&mut Cut::new(self.clip.frames()?, fold.added()))?;
        Ok(Self { fold: Some((fold, Block::from_channels(added))), ..self })
    }

    /// Opens the next stretch; `false` where there is none.
    fn open(&mut self) -> Result<bool> {
        let Some(range) = self.ranges.get(self.next).copied() else {
            return Ok(false);
        };
        self.next += 1;
        self.at = range.start;
        let whole = count(self.kept.frames.frames()) == range.len();
        self.source = Some(if whole && range == self.kept.range {
            let frames = std::mem::take(&mut self.kept.frames);
            Box::new(Once(self.clip.facts().format.rate, frames))
        } else {
            Box::new(Cut::new(self.clip.frames()?, range))
        });
        Ok(true)
    }

    /// Adds what follows the loop to the start of its next round.
    fn wrap(&self, block: &mut Block) {
        let Some((fold, added)) = &self.fold else {
            return;
        };
        let place = fold.place();
        for (samples, added) in block.channels_mut().iter_mut().zip(added.channels()) {
            for (frame, sample) in (self.at..).zip(samples) {
                if frame >= place.start && frame < place.end {
                    let at = frame - place.start;
                    let (added, gain) = (added[size(at)], fold.gain(at));
                    *sample = match fold.onto_tail {
                        true => *sample * gain + added,
                        false => *sample + added * gain,
                    };
                }
            }
        }
    }

    /// The end of the loop, faded into what lies before its start.
    fn blend(&self, block: &mut Block) {
        let Some((fade, blended)) = &self.fade else {
            return;
        };
        let place = fade.place();
        let end = self.at + count(block.frames());
        for frame in self.at.max(place.start)..end.min(place.end) {
            let index = frame - place.start;
            let (to, from) = (size(frame - self.at), size(index));
            for (channel, blended) in block.channels_mut().iter_mut().zip(blended.channels()) {
                channel[to] = blended[from];
            }
        }
    }
}

impl Kept {
    /// Takes what belongs to the range and follows what is there already.
    fn take(&mut self, at: u64, block: &Block) {
        let next = self.range.start + count(self.frames.frames());
        let end = (at + count(block.frames())).min(self.range.end);
        if at <= next && next < end {
            let (from, to) = (size(next - at), size(end - at));
            for (own, channel) in self.frames.channels_mut().iter_mut().zip(block.channels()) {
                own.extend_from_slice(&channel[from..to]);
            }
        }
    }
}

impl Source for Stretches<'_> {
    fn rate(&self) -> SampleRate {
        self.clip.facts().format.rate
    }

    fn channels(&self) -> usize {
        self.clip.facts().format.channels.count().into()
    }

    fn next(&mut self, block: &mut Block) -> Result<()> {
        loop {
            if let Some(source) = &mut self.source {
                source.next(block)?;
                if !block.is_empty() {
                    self.kept.take(self.at, block);
                    self.blend(block);
                    self.wrap(block);
                    self.at += count(block.frames());
                    return Ok(());
                }
                self.source = None;
            }
            if !self.open()? {
                block.clear();
                return Ok(());
            }
        }
    }
}

/// One block.
struct Once(SampleRate, Block);

impl Source for Once {
    fn rate(&self) -> SampleRate {
        self.0
    }
    fn channels(&self) -> usize {
        self.1.channels().len()
    }
    fn next(&mut self, block: &mut Block) -> Result<()> {
        std::mem::swap(block, &mut self.1);
        self.1.clear();
        Ok(())
    }
}
