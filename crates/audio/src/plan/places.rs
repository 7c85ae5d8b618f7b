//! Where places of the clip lie in the output.

use crate::num::{real, scaled};
use crate::units::FrameRange;

/// How frames of the clip become frames of the output: a part is cut out, its rate changes, silence
/// comes before it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Places {
    /// The part that is used.
    pub used: FrameRange,
    /// This many frames in …
    from: u64,
    /// … for every this many out.
    to: u64,
    /// Frames of silence before.
    head: u64,
    /// Frames of the part once it is stretched, at the clip's own rate.
    stretched: u64,
    /// Whether places are where they were, but for the sample rate.
    pub plain: bool,
}

impl Places {
    /// For a part of the clip of which every `from` frames give `to`, with `head` frames before them;
    /// `plain` says that nothing else changes.
    pub fn new(used: FrameRange, (from, to): (u64, u64), head: u64, plain: bool) -> Self {
        Self { used, from, to, head, stretched: used.len(), plain }
    }

    /// The same, where the part is stretched to this many frames of the clip first.
    pub fn stretched(self, frames: u64) -> Self {
        Self { stretched: frames, ..self }
    }

    /// This many frames in, for every this many out.
    pub fn ratio(&self) -> (u64, u64) {
        (self.from, self.to)
    }

    /// The frame of the output; `None` for what is not used.
    pub fn frame(&self, frame: u64) -> Option<u64> {
        let within = self.used.start <= frame && frame <= self.used.end;
        within.then(|| {
            let place = scaled(frame - self.used.start, self.stretched, self.used.len().max(1));
            self.head + scaled(place, self.to, self.from)
        })
    }

    /// The range in the output; `None` where part of it is not used, or nothing is left.
    pub fn range(&self, range: FrameRange) -> Option<FrameRange> {
        let (start, end) = (self.frame(range.start)?, self.frame(range.end)?);
        (start < end).then_some(FrameRange { start, end })
    }

    /// By how many frames of the output a range is longer than it should be.
    pub fn excess(&self, range: FrameRange) -> f64 {
        let exact = real(range.len()) * real(self.to) / real(self.from);
        self.range(range).map_or(0.0, |out| real(out.len()) - exact)
    }
}
