//! Clips one after another as one plain WAV, to listen to.

use crate::block::{BLOCK_FRAMES, Block, Source};
use crate::clip::Direction;
use crate::error::Result;
use crate::num::{count, size};
use crate::observe::Observer;
use crate::plan::{Plan, Work, plan_of_any_size, refuse_too_large};
use crate::read::Clip;
use crate::render::{Outcome, render_source};
use crate::shape::Step;
use crate::shape::fade::Curve;
use crate::shape::quantise::Dither;
use crate::shape::stretches::Stretches;
use crate::spec::Output;
use crate::spec::{Channels, Choice, Codec, Container, Encoding, Format, Kind, Spec};
use crate::units::{FrameRange, SampleRate};
use crate::write::Out;

/// The gap between two clips, in seconds.
const GAP: f64 = 0.5;

/// The fades where a stretch begins and ends in the middle of sound, in seconds.
const ENDS: f64 = 0.02;

/// What is heard, and when.
#[derive(Debug, Clone, PartialEq)]
pub struct Programme {
    /// The plan of the whole: what the file will be.
    pub plan: Plan,
    parts: Vec<Part>,
}

/// A stretch of a clip, in its own frames.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Pass {
    range: FrameRange,
    /// Whether it is played from its end to its start.
    backward: bool,
}

impl Pass {
    fn forward(range: FrameRange) -> Self {
        Self { range, backward: false }
    }
}

/// One clip's turn.
#[derive(Debug, Clone, PartialEq)]
pub struct Part {
    /// Which of the clips.
    pub clip: usize,
    /// Where it begins, in frames of the output.
    pub start: u64,
    /// Stretches of the clip, in order.
    passes: Vec<Pass>,
    plan: Plan,
}

impl Programme {
    /// Plans to play `turns`, indices into `clips`, one after another; each repeats its loops the way they play, or
    /// the whole of it, `rounds` times. The rate is that of the first, the channels mono where all are.
    ///
    /// # Errors
    /// [`crate::Error::CannotMeet`] where a rate or a set of channels cannot be converted.
    pub fn new(clips: &[Clip], turns: &[usize], rounds: u32) -> Result<Self> {
        let turn = |turn: &usize| (*turn, passes(&clips[*turn], rounds));
        Self::of(clips, turns.iter().map(turn).collect(), 0)
    }

    /// Plans to play what lies around the seam of a loop: up to `seconds` before its end and behind its
    /// start, `rounds` times.
    ///
    /// # Errors
    /// As [`Programme::new`].
    pub fn across(clip: &Clip, range: FrameRange, seconds: f64, rounds: u32) -> Result<Self> {
        let rate = clip.facts().format.rate;
        let side = rate.frames(seconds).min(range.len());
        let once = vec![
            Pass::forward(FrameRange { start: range.end - side, end: range.end }),
            Pass::forward(FrameRange { start: range.start, end: range.start + side }),
        ];
        let turns = vec![(0, once); size(rounds.into())];
        Self::of(std::slice::from_ref(clip), turns, rate.frames(ENDS))
    }

    /// Stretches of clips, one after another; `fade` frames at the ends of each fade.
    fn of(clips: &[Clip], turns: Vec<(usize, Vec<Pass>)>, fade: u64) -> Result<Self> {
        let mono = clips.iter().all(|c| c.facts().format.channels.count() == 1);
        let channels = if mono { Channels::MONO } else { Channels::STEREO };
        let first = clips[turns[0].0].facts().format.rate;
        let format = Format {
            container: Container::Wav,
            encoding: Encoding::plain(Codec::Pcm16),
            rate: first,
            channels,
        };
        let mut spec = Spec::exactly(format);
        // Anything but 16 bits, so that every part comes as it is and the whole is rounded once.
        spec.encoding = Choice::OneOf(vec![Encoding::plain(Codec::F64)]);
        let gap = first.frames(GAP);
        let (mut parts, mut at) = (Vec::new(), 0);
        for (turn, passes) in turns {
            let clip = &clips[turn];
            let mut facts = clip.facts().clone();
            facts.frames = passes.iter().map(|pass| pass.range.len()).sum();
            facts.loops.clear();
            facts.extras.clear();
            facts.markers.clear();
            facts.tags.clear();
            let mut plan = plan_of_any_size(&facts, &spec.clone().into())?;
            if let (Work::Render(steps), true) = (&mut plan.work, fade > 0) {
                steps.push(Step::Fade {
                    frames: plan.to.frames,
                    head: fade,
                    tail: fade,
                    curve: Curve::Linear,
                });
            }
            let start = if parts.is_empty() { 0 } else { at + gap };
            at = start + plan.to.frames;
            parts.push(Part { clip: turn, start, passes, plan });
        }
        let to = Output::plain(format, at);
        refuse_too_large(&to)?;
        let plan = Plan {
            from: format,
            from_frames: at,
            to,
            work: Work::Render(Vec::new()),
            decisions: Vec::new(),
        };
        Ok(Self { plan, parts })
    }

    /// The turns, in order.
    pub fn parts(&self) -> &[Part] {
        &self.parts
    }

    /// Writes the file.
    ///
    /// # Errors
    /// Those of reading and writing.
    pub fn write(
        &self,
        clips: &[Clip],
        out: &mut dyn Out,
        observer: &dyn Observer,
    ) -> Result<Outcome> {
        let turned: Vec<Option<Clip>> =
            self.parts.iter().map(|part| part.turned(clips)).collect::<Result<_>>()?;
        let join = Join {
            clips,
            turned: &turned,
            parts: &self.parts,
            format: self.plan.to.format,
            next: 0,
            at: 0,
            current: None,
        };
        let exact = self.parts.iter().all(|part| part.keeps_bits(&clips[part.clip]));
        let dither = if exact { Dither::None } else { Dither::Triangular };
        render_source(join, &self.plan.to, dither, out, observer)
    }
}

impl Part {
    /// Its clip the other way round, where that is heard.
    fn turned(&self, clips: &[Clip]) -> Result<Option<Clip>> {
        let turns = self.passes.iter().any(|pass| pass.backward);
        turns.then(|| clips[self.clip].reversed()).transpose()
    }

    /// Whether 16 bits hold every sample of this part as it is.
    fn keeps_bits(&self, clip: &Clip) -> bool {
        let few = matches!(clip.facts().format.encoding.codec.kind(), Kind::Integer(..=16));
        let picks = |step: &Step| match step {
            Step::Finite | Step::Quantise { .. } => true,
            Step::Route { route } => route.only_picks(),
            _ => false,
        };
        match &self.plan.work {
            Work::Render(steps) => few && steps.iter().all(picks),
            Work::Nothing | Work::Rewrap => few,
        }
    }
}

/// The whole clip `rounds` times, or up to the end of each loop, that loop so often in all, and what follows it.
fn passes(clip: &Clip, rounds: u32) -> Vec<Pass> {
    let end = clip.facts().frames;
    let again = size(rounds.max(1).into());
    let whole = Pass::forward(FrameRange { start: 0, end });
    if again == 1 || clip.facts().loops.is_empty() {
        return vec![whole; again];
    }
    let mut loops = clip.facts().loops.clone();
    loops.sort_by_key(|l| l.range.end);
    let (mut all, mut at) = (Vec::new(), 0);
    for l in loops {
        let (forward, backward) = (Pass::forward(l.range), Pass { range: l.range, backward: true });
        if l.range.end <= at {
            continue;
        }
        all.push(Pass::forward(FrameRange { start: at, end: l.range.end }));
        at = l.range.end;
        for _ in 1..again {
            match l.direction {
                Direction::Forward => all.push(forward),
                Direction::PingPong => all.extend([backward, forward]),
                Direction::Backward => all.push(backward),
            }
        }
    }
    all.push(Pass::forward(FrameRange { start: at, end }));
    all
}

/// Passes of one clip, one after another.
struct Passes<'a> {
    clip: &'a Clip,
    turned: Option<&'a Clip>,
    left: &'a [Pass],
    current: Option<Stretches<'a>>,
}

impl Source for Passes<'_> {
    fn rate(&self) -> SampleRate {
        self.clip.facts().format.rate
    }

    fn channels(&self) -> usize {
        self.clip.facts().format.channels.count().into()
    }

    fn next(&mut self, block: &mut Block) -> Result<()> {
        loop {
            if let Some(current) = &mut self.current {
                current.next(block)?;
                if !block.is_empty() {
                    return Ok(());
                }
                self.current = None;
            }
            block.clear();
            let Some(first) = self.left.first() else {
                return Ok(());
            };
            // As many as go the same way are read as one.
            let alike = self.left.iter().take_while(|pass| pass.backward == first.backward);
            let (run, left) = self.left.split_at(alike.count());
            self.left = left;
            let frames = self.clip.facts().frames;
            let clip = self.turned.filter(|_| first.backward);
            let range = |pass: &Pass| match pass.backward {
                true => pass.range.reversed(frames),
                false => pass.range,
            };
            let ranges: Vec<FrameRange> = run.iter().map(range).collect();
            self.current = Some(Stretches::new(clip.unwrap_or(self.clip), &ranges, None)?);
        }
    }
}

/// The parts and the gaps between them as one source.
struct Join<'a> {
    clips: &'a [Clip],
    /// The clip of each part the other way round, where that is heard.
    turned: &'a [Option<Clip>],
    parts: &'a [Part],
    format: Format,
    next: usize,
    at: u64,
    current: Option<Box<dyn Source + 'a>>,
}

impl Source for Join<'_> {
    fn rate(&self) -> SampleRate {
        self.format.rate
    }

    fn channels(&self) -> usize {
        self.format.channels.count().into()
    }

    fn next(&mut self, block: &mut Block) -> Result<()> {
        loop {
            if let Some(current) = &mut self.current {
                current.next(block)?;
                if !block.is_empty() {
                    self.at += count(block.frames());
                    return Ok(());
                }
                self.current = None;
            }
            block.clear();
            let Some(part) = self.parts.get(self.next) else {
                return Ok(());
            };
            let silence = size(part.start - self.at).min(BLOCK_FRAMES);
            if silence > 0 {
                block.shape(self.channels(), 0);
                block.shape(self.channels(), silence);
                self.at += count(silence);
                return Ok(());
            }
            let passes = Passes {
                clip: &self.clips[part.clip],
                turned: self.turned[self.next].as_ref(),
                left: &part.passes,
                current: None,
            };
            self.current = Some(crate::shape::chain(
                Box::new(passes),
                part.plan.steps(),
                &crate::shape::Counts::default(),
            ));
            self.next += 1;
        }
    }
}
