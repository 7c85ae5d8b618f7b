//! What a file will be.

use super::{Codec, Format, Header, LoopTags, Quality, usual_header};
use crate::clip::{Extra, Loop, Marker, Tag};
use crate::units::{FrameRange, SampleRate};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What a file will be.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct Output {
    /// Its spec line.
    pub format: Format,
    /// Its WAV header; `None` in other containers.
    pub header: Option<Header>,
    /// The rate of what it is made of, where its header says so beside its own (Opus).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub original: Option<SampleRate>,
    /// How many frames it will hold.
    pub frames: u64,
    /// Frames before the first that a lossy encoder is shown, and that the file hides: the end of its
    /// loop.
    pub before: u64,
    /// Frames after the last that a lossy encoder is shown, and that the file does not hold: the
    /// beginning of its loop.
    pub beyond: u64,
    /// Bytes of a block, where the encoding leaves that open (ADPCM).
    pub block_bytes: Option<u32>,
    /// Loop points that it will have.
    pub loops: Vec<Loop>,
    /// The loop that a file beside it will tell.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub beside: Option<Loop>,
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
        Codec::Mp3 => 2.0,
        Codec::Qoa => 3.2,
        Codec::ImaAdpcm | Codec::MsAdpcm => 4.1,
        Codec::Opus => 1.4,
        Codec::Gsm => 1.65,
        Codec::G722 => 4.0,
        Codec::Flac16 | Codec::Alac16 => 10.0,
        Codec::Flac24 | Codec::Alac24 => 17.0,
        codec => match codec.g726_bits() {
            Some(bits) => bits.into(),
            None => codec.sample_bytes().map_or(16.0, |bytes| 8.0 * f64::from(bytes)),
        },
    }
}

/// A chunk that comes along.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct Carried {
    /// Which chunk of the clip.
    pub extra: Extra,
    /// What changes in it.
    pub patch: Patch,
}

/// What changes in a chunk.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Patch {
    /// Nothing.
    Same,
    /// The loops of a `smpl` chunk move.
    Loops {
        /// The rate that it names.
        rate: SampleRate,
        /// Where its loops lie.
        ranges: Vec<FrameRange>,
    },
    /// The points of a `cue ` chunk move.
    Cues {
        /// This many frames …
        from: u64,
        /// … are this many now.
        to: u64,
    },
}

impl Output {
    /// This many frames of this format, with the usual header and nothing beside them.
    pub fn plain(format: Format, frames: u64) -> Self {
        Self {
            format,
            header: usual_header(format),
            original: None,
            frames,
            before: 0,
            beyond: 0,
            block_bytes: None,
            loops: Vec::new(),
            beside: None,
            markers: Vec::new(),
            tags: Vec::new(),
            loop_tags: LoopTags::default(),
            carried: Vec::new(),
        }
    }

    /// Its loop points, be they in it or beside it.
    pub fn looped(&self) -> impl Iterator<Item = &Loop> {
        self.loops.iter().chain(&self.beside)
    }

    /// How many bytes the file will take, about: exact for PCM, by the codec's usual rate where only the
    /// encoder can tell.
    pub fn about_bytes(&self) -> u64 {
        let encoding = self.format.encoding;
        if let Some(Quality::BitRate(kbps) | Quality::Average(kbps)) = encoding.quality {
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
