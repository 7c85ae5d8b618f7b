//! Exact audio specifications: the spec line and what else a slot asks of its file.

mod channels;
mod container;
mod demand;
mod encoding;
mod line;

pub use channels::{Channels, Layout, MOST_CHANNELS};
pub use container::{CONTAINERS, Container, ContainerFacts};
pub use demand::{Chunks, Demand, Header, Shortfall, convertible, usual_header};
pub use encoding::{ByteOrder, Codec, CodecFacts, ENCODINGS, Encoding, Kind, Quality};
pub use line::{Choice, RATES, Spec};

use crate::units::SampleRate;
use serde::{Serialize, Serializer};
use std::fmt;

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

impl fmt::Display for Format {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self {
            container,
            encoding,
            rate,
            channels,
        } = self;
        write!(f, "{container} {encoding} {rate} {channels}")
    }
}

impl Serialize for Format {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}
