//! What is decided of a clip, and why, as values: whoever shows a plan words them.

use super::reason::{
    CutReason, DepthReason, HeaderReason, LeftOut, Levelling, LoopReason, Stretch,
};
use crate::clip::Direction;
use crate::shape::quantise::Dither;
use crate::shape::route::Law;
use crate::shape::separate::Keep;
use crate::shape::voicing::Voicing;
use crate::spec::Header;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What a decision is about, in the order in which a clip meets them.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, JsonSchema, Serialize, Deserialize,
)]
#[serde(rename_all = "kebab-case")]
#[expect(missing_docs, reason = "the names say it")]
pub enum Subject {
    File,
    Samples,
    Dc,
    Cut,
    Silence,
    Length,
    Separate,
    Channels,
    Tone,
    Voicing,
    Speed,
    SampleRate,
    Level,
    Fades,
    BitDepth,
    Encoding,
    Header,
    Loop,
    Chunks,
}

/// One decision, with its reason.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Decision {
    /// The file meets the spec already: the same bytes.
    KeptWhole,
    /// Encoding, rate and channels are right: encoded samples are copied.
    SamplesCopied,
    /// The clip is cut short; this many frames are there.
    FramesHeld {
        /// How many.
        frames: u64,
    },
    /// A DC offset is removed.
    OffsetRemoved {
        /// Of full scale, in percent.
        percent: f64,
    },
    /// A part of the clip is used.
    Cut {
        /// Which.
        part: Stretch,
        /// Why.
        reason: CutReason,
    },
    /// The ends of the cut move to zero crossings.
    EndsSnapped {
        /// By this many frames each.
        frames: [u64; 2],
    },
    /// Silence is trimmed.
    SilenceTrimmed {
        /// Seconds off the start and the end.
        seconds: [f64; 2],
        /// What counts as silence, in dBFS.
        below: f64,
        /// The recording's own noise, in dBFS, where silence was told by it.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        noise: Option<f64>,
    },
    /// The clip is played from its end to its start.
    Reversed,
    /// Low or high frequencies are taken away.
    ToneCut {
        /// What lies below this, in hertz.
        low: Option<f64>,
        /// What lies above this.
        high: Option<f64>,
    },
    /// The sound lasts longer or shorter, at its pitch.
    Stretched {
        /// Seconds before …
        from: f64,
        /// … and after.
        to: f64,
    },
    /// What follows the loop is heard over the start of its next round.
    TailWrapped {
        /// Its length in seconds.
        seconds: f64,
        /// Whether both loop points move later by that, so that the first pass is dry.
        later: bool,
    },
    /// The end is cut off.
    Shortened {
        /// From this many seconds …
        from: f64,
        /// … to this many.
        to: f64,
    },
    /// What two channels share, or do not, is kept.
    Separated {
        /// Which part.
        keep: Keep,
    },
    /// Channels are routed.
    Routed {
        /// From these, as a spec line names them …
        from: String,
        /// … to these.
        to: String,
        /// How.
        law: Law,
    },
    /// A voice is coloured.
    Voiced {
        /// How.
        voicing: Voicing,
    },
    /// The speed changes, and the pitch with it.
    SpeedChanged {
        /// By this factor.
        factor: f64,
    },
    /// The sample rate is converted.
    Resampled {
        /// From this many hertz …
        from: u32,
        /// … to this many.
        to: u32,
        /// This many frames …
        frames: u64,
        /// … become this many.
        become_frames: u64,
    },
    /// The gain changes.
    Gained {
        /// By this many dB.
        gain: f64,
        /// To reach a level; nothing where the gain was requested.
        level: Option<Levelling>,
    },
    /// A limiter holds true peaks.
    PeaksLimited {
        /// At this level, in dBTP.
        ceiling: f64,
        /// They would reach this, in dB.
        peak: f64,
    },
    /// Peaks are clipped, as was allowed.
    PeaksClipped {
        /// They reach this, in dB.
        peak: f64,
    },
    /// The ends fade.
    Faded {
        /// Seconds in and out.
        seconds: [f64; 2],
    },
    /// Silence is added.
    Padded {
        /// Seconds before and after.
        seconds: [f64; 2],
    },
    /// Silence fills up the last unit of codes, since nothing in the file counts frames.
    FilledUp {
        /// This many frames of it.
        frames: u64,
        /// Frames of a unit.
        unit: u64,
    },
    /// Samples are encoded otherwise.
    Encoded {
        /// From this encoding, as a spec line names it …
        from: String,
        /// … to this one.
        to: String,
        /// Whether it loses more than bits.
        lossy: bool,
        /// The dither.
        dither: Dither,
        /// Why.
        reason: DepthReason,
    },
    /// The kind of WAV header.
    HeaderKind {
        /// Which.
        header: Header,
        /// Why.
        reason: HeaderReason,
    },
    /// Where the loop lies.
    LoopSet {
        /// In the clip.
        part: Stretch,
        /// Why.
        reason: LoopReason,
    },
    /// The loop's end moves to where the waveforms match.
    LoopEndMoved {
        /// By this many frames.
        frames: f64,
        /// In seconds.
        seconds: f64,
    },
    /// The sound after the loop goes.
    TailCut {
        /// This many seconds.
        seconds: f64,
        /// Whether that was requested; else it goes since the loop was set here.
        requested: bool,
    },
    /// The loop's end fades into what comes before its start.
    Crossfaded {
        /// Over this many seconds.
        seconds: f64,
        /// How alike both are, from −1 to 1.
        correlation: f64,
        /// The same below about 250 Hz, above that, and above about 2.5 kHz: each has its own law.
        bands: [f64; 3],
    },
    /// Pieces of the clip, each fading into the next, take its place and loop as a whole.
    Textured {
        /// How many.
        pieces: usize,
        /// Over how many seconds one fades into the next.
        fade: f64,
        /// Seconds of the loop.
        seconds: f64,
    },
    /// The loop is made a whole number of frames.
    LoopLength {
        /// How many.
        frames: u64,
        /// Of which they are a multiple.
        multiple: u64,
        /// How often the clip's own loop is in it.
        rounds: u64,
        /// The retuning, in cents.
        cents: f64,
        /// The retuning that one round would take.
        once: f64,
    },
    /// Both points of the loop lie later.
    LoopMoved {
        /// By this many frames.
        frames: u64,
        /// In seconds.
        seconds: f64,
        /// Since its start has to be a multiple of this many; with 1, since the filter has to see the loop alone.
        multiple: u64,
    },
    /// What conversion leaves at the seam, since the sound after the loop is kept.
    SeamError {
        /// In dBFS.
        decibels: f64,
    },
    /// The whole file loops without loop points, which its container has no place for.
    LoopsWhole {
        /// The container.
        container: String,
    },
    /// The clip's loop points are left out.
    LoopsLeftOut(LeftOut),
    /// A loop plays forward that did not.
    PlaysForward {
        /// How it played.
        direction: Direction,
        /// The container, which has no other way.
        container: String,
    },
    /// A loop for the release is one like the others.
    ReleaseUntold {
        /// The container, which does not tell them apart.
        container: String,
    },
    /// Of two loops the second is for the release.
    SecondForRelease {
        /// The container, which holds one of each.
        container: String,
    },
    /// Which way the loop plays.
    LoopPlays {
        /// That.
        direction: Direction,
    },
    /// Only the first loops are kept.
    FirstLoops {
        /// How many the container holds.
        most: usize,
        /// The container.
        container: String,
    },
    /// Loop points move to the nearest frames of the new rate.
    LoopsRounded {
        /// A loop is this many frames off its exact length.
        excess: f64,
    },
    /// The clip's markers are left out.
    MarkersLeftOut(LeftOut),
    /// Tags are left out.
    TagsLeftOut {
        /// Their names.
        names: Vec<String>,
        /// Why.
        reason: LeftOut,
    },
    /// Chunks are left out.
    ChunksLeftOut {
        /// Their identifiers.
        ids: Vec<String>,
        /// Why.
        reason: LeftOut,
    },
}

impl Decision {
    /// What it is about.
    pub fn subject(&self) -> Subject {
        match self {
            Self::KeptWhole => Subject::File,
            Self::SamplesCopied => Subject::Samples,
            Self::FramesHeld { .. } | Self::Shortened { .. } => Subject::Length,
            Self::OffsetRemoved { .. } => Subject::Dc,
            Self::Cut { .. } | Self::EndsSnapped { .. } | Self::Reversed => Subject::Cut,
            Self::ToneCut { .. } => Subject::Tone,
            Self::SilenceTrimmed { .. } | Self::Padded { .. } | Self::FilledUp { .. } => {
                Subject::Silence
            }
            Self::Separated { .. } => Subject::Separate,
            Self::Routed { .. } => Subject::Channels,
            Self::Voiced { .. } => Subject::Voicing,
            Self::SpeedChanged { .. } | Self::Stretched { .. } => Subject::Speed,
            Self::Resampled { .. } => Subject::SampleRate,
            Self::Gained { .. } | Self::PeaksLimited { .. } | Self::PeaksClipped { .. } => {
                Subject::Level
            }
            Self::Faded { .. } => Subject::Fades,
            Self::Encoded { lossy: true, .. } => Subject::Encoding,
            Self::Encoded { .. } => Subject::BitDepth,
            Self::HeaderKind { .. } => Subject::Header,
            Self::LoopSet { .. }
            | Self::LoopEndMoved { .. }
            | Self::TailCut { .. }
            | Self::TailWrapped { .. }
            | Self::Crossfaded { .. }
            | Self::Textured { .. }
            | Self::LoopLength { .. }
            | Self::LoopMoved { .. }
            | Self::SeamError { .. }
            | Self::LoopsWhole { .. }
            | Self::LoopsLeftOut(_)
            | Self::FirstLoops { .. }
            | Self::PlaysForward { .. }
            | Self::ReleaseUntold { .. }
            | Self::SecondForRelease { .. }
            | Self::LoopPlays { .. }
            | Self::LoopsRounded { .. } => Subject::Loop,
            Self::MarkersLeftOut(_) | Self::TagsLeftOut { .. } | Self::ChunksLeftOut { .. } => {
                Subject::Chunks
            }
        }
    }
}
