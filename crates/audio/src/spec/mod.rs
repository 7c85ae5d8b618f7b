//! Exact audio specifications: the spec line and what else a slot asks of its file.

mod channels;
mod container;
mod demand;
mod encoding;
mod facts;
mod limits;
mod line;
mod loop_tags;
mod output;

pub use channels::{Channels, Layout, MOST_CHANNELS, vorbis_order};
pub use container::{CONTAINERS, Container, ContainerFacts};
pub use demand::{Chunks, Demand, Header, Looped, Shortfall, convertible, usual_header};
pub use encoding::{ByteOrder, Codec, CodecFacts, ENCODINGS, Encoding, Kind, Quality};
pub use facts::Facts;
pub use limits::{AAC_RATES, limit, mp3_bit_rates};
pub use line::{Choice, RATES, Spec};
pub use loop_tags::{LoopTags, LoopUnit, Second};
pub use output::{Carried, Output, Patch};

use crate::error::Error;
use crate::units::SampleRate;
use std::fmt;
use std::str::FromStr;

/// What one file is: a spec line without alternatives.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Format {
    /// What wraps the audio.
    pub container: Container,
    /// How samples are stored.
    pub encoding: Encoding,
    /// Frames a second.
    pub rate: SampleRate,
    /// How many channels, and which where that is stated.
    pub channels: Channels,
}

impl Format {
    /// Bytes of one unit of codes and its frames, where the format leaves no choice: those of telephones, of which WAV
    /// pairs the frames of GSM, and the packets that IMA ADPCM has outside of WAV.
    pub fn unit(self) -> Option<(u64, u64)> {
        match (self.container, self.encoding.codec) {
            (container, Codec::Gsm) if container.is_wave() => Some((65, 320)),
            (container, _) if container.is_wave() => None,
            (_, Codec::ImaAdpcm) => Some((34 * u64::from(self.channels.count()), 64)),
            (_, codec) => codec.running_unit(),
        }
    }

    /// Frames of which a file holds a whole number, since nothing in it counts them: the clip is filled up.
    pub fn whole_frames(self) -> u64 {
        match self.container {
            Container::Raw | Container::Au | Container::Aifc => {
                self.unit().map_or(1, |unit| unit.1)
            }
            _ => 1,
        }
    }
}

impl fmt::Display for Format {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { container, encoding, rate, channels } = self;
        write!(f, "{container} {encoding} {rate} {channels}")
    }
}

impl FromStr for Format {
    type Err = Error;

    /// Reads a spec line without alternatives and without `any`.
    ///
    /// # Errors
    /// [`Error::BadSpec`] naming the word that is wrong or leaves something open.
    fn from_str(line: &str) -> Result<Self, Error> {
        let spec: Spec = line.parse()?;
        let open = |word: String| Error::BadSpec {
            line: line.to_owned(),
            what: format!("\"{word}\" leaves open what is meant"),
        };
        Ok(Self {
            container: spec.container.only().ok_or_else(|| open(spec.container.to_string()))?,
            encoding: spec.encoding.only().ok_or_else(|| open(spec.encoding.to_string()))?,
            rate: spec.rate.only().ok_or_else(|| open(spec.rate.to_string()))?,
            channels: spec.channels.only().ok_or_else(|| open(spec.channels.to_string()))?,
        })
    }
}

crate::invalid::as_text!(Format);
