//! Plans: what will be done to a clip, decided before any of it is done.
//!
//! A plan is a pure function of the clip's facts and what is demanded. It prints as text and
//! serialises; nothing is decided later.

mod around;
mod beside;
mod carry;
mod decide;
mod depth;
mod form;
mod level;
mod make;
mod places;
mod rate;
mod rounds;
mod routing;
mod shape;
mod steps;
mod target;

pub use carry::{Carried, Patch};
pub(crate) use form::refuse_too_large;
pub use level::Reference;
pub(crate) use make::plan_of_any_size;
pub use make::{plan, plan_clip};

use crate::clip::{Loop, Marker, Tag};
use crate::shape::fade::Curve;
use crate::shape::quantise::Dither;
use crate::shape::route::Route;
use crate::shape::separate::Keep;
use crate::shape::stretches::Crossfade;
use crate::shape::voicing::Voicing;
use crate::spec::{Codec, Format, Header, LoopTags, Quality, usual_header};
use crate::units::{Duration, FrameRange, SampleRate};
use serde::{Serialize, Serializer};
use std::fmt;

/// All that will be done to one clip.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Plan {
    /// What comes in.
    pub from: Format,
    /// How many frames come in.
    pub from_frames: u64,
    /// What goes out.
    pub to: Output,
    /// What has to be done.
    pub work: Work,
    /// Every decision, with its reason.
    pub decisions: Vec<Decision>,
}

/// What a file will be.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Output {
    /// Its spec line.
    pub format: Format,
    /// Its WAV header; `None` in other containers.
    pub header: Option<Header>,
    /// How many frames it will hold.
    pub frames: u64,
    /// Frames before the first that a lossy encoder is shown, and that the file hides: the end of its
    /// loop.
    pub before: u64,
    /// Frames behind the last that a lossy encoder is shown, and that the file does not hold: the
    /// beginning of its loop.
    pub beyond: u64,
    /// Bytes of a block, where the encoding leaves that open (ADPCM).
    pub block_bytes: Option<u32>,
    /// Loop points that it will have.
    pub loops: Vec<Loop>,
    /// Markers that it will have.
    pub markers: Vec<Marker>,
    /// Texts that it will have.
    pub tags: Vec<Tag>,
    /// Under which names a loop is written among texts.
    pub loop_tags: LoopTags,
    /// Chunks that come along from the clip.
    pub carried: Vec<Carried>,
}

/// Headers of most files.
const HEADERS: u64 = 64;

/// Bits that a sample takes, about.
fn usual_bits(codec: Codec) -> f64 {
    match codec {
        Codec::Vorbis => 1.8,
        Codec::Aac => 1.5,
        Codec::Qoa => 3.2,
        Codec::ImaAdpcm => 4.1,
        Codec::Flac16 | Codec::Alac16 => 10.0,
        Codec::Flac24 | Codec::Alac24 => 17.0,
        codec => codec.sample_bytes().map_or(16.0, |bytes| 8.0 * f64::from(bytes)),
    }
}

/// How much has to be done.
#[derive(Debug, Clone, PartialEq, Serialize)]
#[serde(tag = "kind", content = "steps", rename_all = "kebab-case")]
pub enum Work {
    /// Nothing: the same bytes.
    Nothing,
    /// Another header; the samples are copied bit for bit.
    Rewrap,
    /// These steps, in this order.
    Render(Vec<Step>),
}

/// One step of rendering.
#[derive(Debug, Clone, PartialEq, Serialize)]
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
    /// Stretches of the clip, one after another: a loop that goes round more than once.
    Stretches {
        /// Frames of the clip.
        ranges: Vec<FrameRange>,
        /// What is done at the loop's end.
        crossfade: Option<Crossfade>,
    },
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
        /// So many frames in …
        from: u64,
        /// … give so many out …
        to: u64,
        /// … at this rate.
        rate: SampleRate,
        /// So many frames in come before the first that counts.
        lead: u64,
    },
    /// Samples are rounded to what the encoding holds.
    Quantise {
        /// The encoding.
        #[serde(serialize_with = "codec_word")]
        codec: Codec,
        /// The dither.
        dither: Dither,
    },
}

fn codec_word<S: Serializer>(codec: &Codec, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.serialize_str(codec.facts().word)
}

/// One decision.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Decision {
    /// What it is about: `samples`, `channels`, `sample rate`, `bit depth`, `header`, `loop`, `chunks`.
    pub about: &'static str,
    /// What will be done.
    pub what: String,
    /// Why.
    pub why: String,
}

impl Output {
    /// So many frames of this format, with the usual header and nothing beside them.
    pub fn plain(format: Format, frames: u64) -> Self {
        Self {
            format,
            header: usual_header(format),
            frames,
            before: 0,
            beyond: 0,
            block_bytes: None,
            loops: Vec::new(),
            markers: Vec::new(),
            tags: Vec::new(),
            loop_tags: LoopTags::default(),
            carried: Vec::new(),
        }
    }

    /// How many bytes the file will take, about: exact for PCM, by the codec's usual rate where only the
    /// encoder can tell.
    pub fn about_bytes(&self) -> u64 {
        let encoding = self.format.encoding;
        if let Some(Quality::BitRate(kbps)) = encoding.quality {
            return crate::num::rounded(self.seconds() * f64::from(kbps) * 125.0) + HEADERS;
        }
        let bits = usual_bits(encoding.codec);
        let samples = self.frames * u64::from(self.format.channels.count());
        crate::num::rounded(crate::num::real(samples) * bits / 8.0) + HEADERS
    }

    /// How long it will play, in seconds.
    pub fn seconds(&self) -> f64 {
        self.format.rate.seconds(self.frames)
    }
}

impl Plan {
    /// The steps of rendering; none where nothing is rendered.
    pub fn steps(&self) -> &[Step] {
        match &self.work {
            Work::Render(steps) => steps,
            Work::Nothing | Work::Rewrap => &[],
        }
    }
}

impl fmt::Display for Plan {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let line = |format: Format, frames: u64| {
            let seconds = Duration(format.rate.seconds(frames));
            format!("{format}, {frames} frames, {seconds}")
        };
        writeln!(f, "  from  {}", line(self.from, self.from_frames))?;
        write!(f, "  to    {}", line(self.to.format, self.to.frames))?;
        for Decision { about, what, why } in &self.decisions {
            write!(f, "\n  {about:<12} {what}\n  {:<12} because {why}", "")?;
        }
        Ok(())
    }
}
