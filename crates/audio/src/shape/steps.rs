//! The steps of shaping as data, and as a chain of sources that pull from one another.

use super::blocks::BlockStep;
use super::crossfade::Crossfade;
use super::cut::Cut;
use super::dc::WithoutDc;
use super::fade::{Curve, Faded};
use super::finite::Finite;
use super::gain::Amplified;
use super::lengthen::Lengthened;
use super::limit::{Limited, Limiter};
use super::pad::Padded;
use super::quantise::{Dither, Quantiser};
use super::resample::Resampler;
use super::route::{Phase, Route, Router};
use super::separate::{Keep, Separated};
use super::stretches::{Fold, Stretches};
use super::texture::Texture;
use super::tone::ToneCut;
use super::voicing::{Voiced, Voicing};
use crate::block::Source;
use crate::error::Result;
use crate::read::Clip;
use crate::spec::{Codec, Encoding};
use crate::units::{FrameRange, SampleRate};
use schemars::JsonSchema;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use std::sync::atomic::AtomicU64;
use std::sync::{Arc, Mutex};

/// One step of rendering.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
#[serde(tag = "step", rename_all = "kebab-case")]
pub enum Step {
    /// Samples that are not numbers become silence.
    Finite,
    /// A constant is taken out of each channel.
    Dc {
        /// Each channel's; full scale is 1.
        offsets: Vec<f64>,
    },
    /// Only these frames are used.
    Cut {
        /// Of what comes in.
        range: FrameRange,
    },
    /// Stretches of the clip, one after another: a loop that is written out more than once.
    Stretches {
        /// Frames of the clip.
        ranges: Vec<FrameRange>,
        /// What is done at the loop's end.
        crossfade: Option<Crossfade>,
        /// What follows the loop, over the start of its next round.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        fold: Option<Fold>,
    },
    /// The clip comes from its last frame to its first.
    Reverse,
    /// Pieces of the clip take its place, each fading into the next.
    Texture(Texture),
    /// Short linear fades where a cut goes through sound.
    EdgeFade {
        /// How many frames come in.
        frames: u64,
        /// Frames at the start.
        head: u64,
        /// Frames at the end.
        tail: u64,
    },
    /// Fades at both ends.
    Fade {
        /// How many frames come in.
        frames: u64,
        /// Frames at the start.
        head: u64,
        /// Frames at the end.
        tail: u64,
        /// Their form.
        curve: Curve,
    },
    /// Louder or quieter.
    Gain {
        /// By so much.
        decibels: f64,
    },
    /// True peaks are held.
    Limit {
        /// In dBTP.
        ceiling: f64,
    },
    /// Silence is added.
    Pad {
        /// Frames before.
        head: u64,
        /// Frames after.
        tail: u64,
    },
    /// What two channels share, or do not, is kept.
    Separate {
        /// Which part.
        keep: Keep,
    },
    /// Low and high frequencies are taken away.
    CutTone {
        /// What lies below, in hertz.
        low: Option<f64>,
        /// What lies above.
        high: Option<f64>,
    },
    /// It lasts longer or shorter, at its pitch.
    Lengthen {
        /// This many frames …
        from: u64,
        /// … become this many.
        to: u64,
    },
    /// It gets the colour of a loudspeaker.
    Voice {
        /// Which.
        voicing: Voicing,
    },
    /// Channels are routed.
    Route {
        /// The gains.
        route: Route,
    },
    /// The sample rate is converted, or the speed changed, or both.
    Resample {
        /// This many frames in …
        from: u64,
        /// … give this many out …
        to: u64,
        /// … at this rate.
        rate: SampleRate,
        /// This many frames in come before the first that counts.
        lead: u64,
    },
    /// Samples are rounded to what the encoding holds.
    Quantise {
        /// The encoding.
        #[serde(serialize_with = "codec_word", deserialize_with = "codec_of")]
        #[schemars(with = "String")]
        codec: Codec,
        /// The dither.
        dither: Dither,
    },
}

fn codec_word<S: Serializer>(codec: &Codec, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.serialize_str(codec.facts().word)
}

fn codec_of<'de, D: Deserializer<'de>>(from: D) -> Result<Codec, D::Error> {
    let word = String::deserialize(from)?;
    let unknown = || serde::de::Error::custom(format!("there is not an encoding {word}"));
    Encoding::from_word(&word).map(|encoding| encoding.codec).ok_or_else(unknown)
}

/// Counts that the steps add to while they run.
#[derive(Debug, Clone, Default)]
pub(crate) struct Counts {
    pub(crate) overs: Arc<AtomicU64>,
    pub(crate) not_numbers: Arc<AtomicU64>,
    pub(crate) limited: Arc<Mutex<Limited>>,
    pub(crate) phase: Arc<Mutex<Phase>>,
}

/// The clip with some steps behind it, for measuring.
pub(crate) fn shaped<'a>(clip: &'a Clip, steps: &[Step]) -> Result<Box<dyn Source + 'a>> {
    Ok(chain(begin(clip, steps)?, steps, &Counts::default()))
}

/// The clip's frames, or its stretches where the steps ask for them.
///
/// # Errors
/// Those of reading.
pub(crate) fn begin<'a>(clip: &'a Clip, steps: &[Step]) -> Result<Box<dyn Source + 'a>> {
    let stretches = steps.iter().find_map(|step| match step {
        Step::Stretches { ranges, crossfade, fold } => Some((ranges, *crossfade, *fold)),
        _ => None,
    });
    Ok(match stretches {
        Some((ranges, crossfade, fold)) => {
            Box::new(Stretches::new(clip, ranges, crossfade)?.with_fold(fold)?)
        }
        None => clip.frames()?,
    })
}

/// The steps, each pulling from the one before.
pub(crate) fn chain<'a>(
    source: Box<dyn Source + 'a>,
    steps: &[Step],
    counts: &Counts,
) -> Box<dyn Source + 'a> {
    steps.iter().fold(source, |source, step| -> Box<dyn Source + 'a> {
        match step {
            Step::Finite => Box::new(Finite::new(Arc::clone(&counts.not_numbers)).on(source)),
            Step::Route { route } => {
                Box::new(Router::new(source, route.clone(), Arc::clone(&counts.phase)))
            }
            Step::Resample { from, to, rate, lead } => {
                Box::new(Resampler::by(source, *from, *to, *rate).with_lead(*lead))
            }
            // The source itself gives them.
            Step::Stretches { .. } | Step::Reverse | Step::Texture(_) => source,
            Step::Dc { offsets } => Box::new(WithoutDc::new(offsets.clone()).on(source)),
            Step::Separate { keep } => Box::new(Separated::new(source, *keep)),
            Step::CutTone { low, high } => Box::new(ToneCut::new(*low, *high).on(source)),
            Step::Lengthen { from, to } => Box::new(Lengthened::new(source, *from, *to)),
            Step::Voice { voicing } => Box::new(Voiced::new(*voicing).on(source)),
            Step::Cut { range } => Box::new(Cut::new(source, *range)),
            Step::EdgeFade { frames, head, tail } => {
                Box::new(Faded::new(*frames, *head, *tail, Curve::Linear).on(source))
            }
            Step::Fade { frames, head, tail, curve } => {
                Box::new(Faded::new(*frames, *head, *tail, *curve).on(source))
            }
            Step::Gain { decibels } => Box::new(Amplified::new(*decibels).on(source)),
            Step::Limit { ceiling } => {
                Box::new(Limiter::new(source, *ceiling, Arc::clone(&counts.limited)))
            }
            Step::Pad { head, tail } => Box::new(Padded::new(source, *head, *tail)),
            Step::Quantise { codec, dither } => {
                let overs = Arc::clone(&counts.overs);
                Box::new(Quantiser::new(codec.grid(), *dither, overs).on(source))
            }
        }
    })
}
