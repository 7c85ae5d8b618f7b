//! What a clip cannot be made into, with the figures. Whoever shows it words it, and says what to do.

use crate::units::FrameRange;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;

/// A request that this clip cannot meet. Times are seconds, rates hertz, levels dBFS.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
#[serde(tag = "unmet", rename_all = "kebab-case")]
#[non_exhaustive]
#[expect(missing_docs, reason = "the names of the fields say it")]
pub enum Unmet {
    /// A range ends before it starts.
    RangeBackwards { range: String },
    /// A range lies outside the clip.
    RangeOutside { range: String, seconds: f64, frames: u64 },
    /// A place lies outside the clip.
    PlaceOutside { place: String, seconds: f64 },
    /// There are fewer sounds between silences.
    NoSuchPiece { piece: u32, sounds: usize },
    /// Nothing of the clip is left.
    NothingLeft,
    /// All of the clip counts as silence.
    AllSilent { below: f64 },
    /// The result would be too long.
    TooLong { seconds: f64, longest: f64 },
    /// A sound that would have to be stretched further than it can be.
    StretchTooFar { from: f64, to: f64, least: f64, most: f64 },
    /// Two options that both tell how long the sound is to last.
    TwoLengths,
    /// A loop of a sound that is stretched.
    LoopStretched,
    /// Nothing lies between what is taken away below and above.
    NothingBetween { low: f64, high: f64 },
    /// Nothing of a clip lies above a low cut: both in hertz.
    NothingAbove { low: f64, highest: f64 },
    /// A loop that ends the clip: nothing follows that could go on over its start.
    NoTailToWrap,
    /// What follows the loop is longer than the loop, or than is kept in memory.
    TailTooLong { tail: f64, most: f64 },
    /// Only stereo has parts that are shared or not.
    NotStereo { channels: String },
    /// No usual way leads from these channels to those.
    NoUsualRoute { from: String, to: String },
    /// A route uses a channel that the clip has not.
    RouteBeyondClip { channel: usize, channels: usize },
    /// A route of no channels, or of more than can be.
    RouteTooLong { most: u16 },
    /// A route that makes another number of channels.
    RouteMismatch { makes: String, wants: String },
    /// A sample rate beyond those that are converted.
    RateNotConvertible { hertz: u32 },
    /// A clip that has no level.
    SilentClip,
    /// A reference that has no level.
    SilentReference {
        #[serde(serialize_with = "crate::path_text::lossy")]
        path: PathBuf,
    },
    /// No stock is known whose level could be matched.
    NoStock,
    /// No loop was found.
    NoLoopFound { seconds: f64 },
    /// A loop that lies outside the clip, or is shorter than a loop can be.
    NoSuchLoop { range: FrameRange, frames: u64, least: f64 },
    /// Nothing sounds around the seam.
    NoSoundAtSeam,
    /// A loop that turns back at its ends, and so has no seam.
    TurnsBack { direction: String },
    /// There is no loop that could play that way.
    NoLoopToPlay { direction: String },
    /// There is no loop over whose start a tail could go on.
    NoLoopToWrap,
    /// There is no loop whose seam could be changed.
    NoLoopToSmooth,
    /// The loop does not lie in the part that is used.
    LoopOutside { looped: [f64; 2], used: [f64; 2] },
    /// The loop lies in a part that is not used.
    LoopNotUsed,
    /// A crossfade, and a tail that is kept.
    CrossfadeWithTail,
    /// A crossfade of more than half of the loop, or than is kept in memory.
    CrossfadeTooLong { crossfade: f64, looped: f64, most: f64 },
    /// A texture of that length, in seconds, where the part gives one of the least to the most.
    NoTexture { texture: f64, least: f64, most: f64 },
    /// A texture is a loop of its own: an option that asks for another one, or changes it.
    TextureLoops { option: &'static str },
    /// No loop can be as long as one bound asks and as short as the other, in seconds.
    NoSuchLength { shortest: f64, longest: f64 },
    /// A fade that is longer than what it fades, in seconds.
    FadeTooLong { fade: f64, used: f64 },
    /// Nothing sounds around the loop that its end could be matched with.
    NothingToMatch,
    /// A format that is read here, and not written.
    NotWritten {
        /// The word of the spec line.
        what: String,
    },
    /// The target requires a loop, and there is none.
    LoopRequired,
    /// The target takes no loop; or its container has no place for one.
    LoopRefused { container: Option<String> },
    /// A tail that is kept, and loop points that would have to move.
    LoopPinned { multiple: u64 },
    /// No number of rounds makes the loop a multiple within the retuning that is allowed.
    NoMultiple { multiple: u64, most: f64, once: f64 },
    /// A loop that is no multiple, where nothing else has to be converted.
    NotMultiple {
        frames: u64,
        multiple: u64,
        rounds: u64,
        cents: f64,
        usual: f64,
        exact: Option<u64>,
    },
    /// An extensible header has no place for the blocks of IMA ADPCM.
    BlocksNeedPlainHeader,
    /// Blocks that the encoding cannot have.
    BlockSize { bytes: u32, channels: u16, group: u32 },
    /// A file beyond what its container counts.
    FileTooLarge { format: String, gib: f64, container: String, longest: f64 },
    /// A tag that the container has no place for.
    TagRefused { container: String, name: String, holds: Vec<String> },
    /// An encoding that gives each of that many channels its place, where none is wanted.
    NoPlainChannels { codec: String, channels: u16 },
    /// More channels than the encoding carries.
    TooManyChannels { codec: String, most: u16, channels: u16 },
    /// A rate that the encoding does not have.
    RateUnknown { codec: String, hertz: u32, nearest: u32 },
    /// A rate beyond those of the encoding.
    RateTooHigh { codec: String, hertz: u32, most: u32 },
    /// A quality outside the codec's scale.
    QualityOutside { encoding: String, least: i32, most: i32 },
    /// A bit rate that the codec does not have.
    BitRateOutside { codec: String, hertz: u32, channels: u16, kilobits: u16, nearest: Option<u16> },
    /// What the codec itself does not take.
    CodecRefuses { format: String, reason: String },
    /// A rule of the target that the result would break.
    Rule { what: String, expected: String, found: String },
    /// A finished file that does not begin as its closed format does.
    Begins { found: String, asked: Vec<String> },
    /// A closed format without an encoder.
    Closed,
    /// All slots together would take more than there is.
    OverBudget { takes: u64, budget: u64 },
}
