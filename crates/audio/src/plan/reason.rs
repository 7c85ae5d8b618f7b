//! Why something is decided of a clip, as values.

use crate::edit::LevelGoal;
use crate::measure::Measure;
use crate::seam::Verdict;
use crate::spec::Facts;
use crate::units::FrameRange;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A stretch of the clip, in its own time.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct Stretch {
    /// Its start in seconds.
    pub start: f64,
    /// Its end in seconds.
    pub end: f64,
}

impl Stretch {
    /// Of these frames as they are played.
    pub fn of(range: FrameRange, facts: &Facts) -> Self {
        let (range, rate) = (facts.own(range), facts.format.rate);
        Self { start: rate.seconds(range.start), end: rate.seconds(range.end) }
    }
}

/// A seam as it was found.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct FoundSeam {
    /// How it sounds.
    pub verdict: Verdict,
}

/// Why a part of the clip is used.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
#[serde(tag = "why", rename_all = "kebab-case")]
pub enum CutReason {
    /// The range was requested.
    Requested,
    /// The Nth sound was requested.
    Piece {
        /// Which, from 1.
        number: u32,
    },
    /// It loops best as a whole.
    Seam(FoundSeam),
    /// It is the loudest of the longest that is allowed.
    Loudest {
        /// That, in seconds.
        longest: f64,
    },
}

/// Why a level is reached.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct Levelling {
    /// The level now, in the goal's unit.
    pub now: f64,
    /// The level then.
    pub goal: LevelGoal,
    /// How a loudness was measured.
    pub measure: Measure,
    /// The gain by the loudness of all of it, where that was not taken, in dB.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub integrated: Option<f64>,
    /// Whether one of two files is short, and both were measured as a short one is.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub of_both: bool,
    /// Whether it is that of the stock.
    pub of_stock: bool,
}

/// Why an encoding, or a bit depth, is another.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum DepthReason {
    /// The spec requires it.
    Required,
    /// A lossy encoder takes 16 bits.
    SixteenBitInput,
    /// Bits are lost.
    BitsLost,
    /// Bits are lost, down to 8.
    EightBits,
    /// No bits are lost.
    NothingLost,
    /// Floating point needs no dither.
    Float,
}

/// Why a WAV header is of its kind.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum HeaderReason {
    /// The target's files have it.
    Required,
    /// The clip has it.
    Kept,
    /// Every loader knows it.
    Plainest,
    /// More than two channels or 16 bits need it.
    Needed,
}

/// Why a loop lies where it does.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
#[serde(tag = "why", rename_all = "kebab-case")]
pub enum LoopReason {
    /// It was requested.
    Requested,
    /// It was found.
    Found(FoundSeam),
    /// A crossfade needs what would be its first sound.
    Crossfade,
}

/// Why something of the clip is left out.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(tag = "why", rename_all = "kebab-case")]
pub enum LeftOut {
    /// The target does not take it.
    Forbidden,
    /// The container has no place for it.
    NoPlace {
        /// The container.
        container: String,
    },
    /// Nothing but the samples is wanted.
    OnlySamples,
    /// Nothing but loop points is wanted.
    OnlyLoops,
    /// It lies in a part that is not used.
    NotUsed,
    /// It belongs to another container.
    Foreign {
        /// The container.
        container: String,
    },
    /// It is padding, written new or too large to come along.
    Filler,
    /// The sound is stretched, and no seam stays exact then.
    Stretched,
    /// It describes the clip as it was.
    Outdated {
        /// Whether it would come along if tags were kept.
        keeps: bool,
    },
}
