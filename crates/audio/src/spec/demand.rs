//! Everything that a slot asks of its file, and in what a file fails it.

use super::{Codec, Container, Format, LoopTags, Spec};
use crate::error::{Error, Result};
use crate::spec::Facts;
use crate::units::SampleRate;
use crate::unmet::Unmet;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::fmt;

/// The two ways to write a WAV `fmt ` chunk.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Header {
    /// 16 or 18 bytes; says nothing of loudspeakers. Old loaders know no other.
    Plain,
    /// `WAVE_FORMAT_EXTENSIBLE`, 40 bytes, with a channel mask.
    Extensible,
}

crate::invalid::words!(Header, "header", "plain" => Self::Plain, "extensible" => Self::Extensible);
crate::invalid::as_word!(Header);

/// What beside the samples may be in the file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Chunks {
    /// Nothing but what the format itself needs.
    Bare,
    /// Loop points, and nothing else.
    Loops,
    /// Whatever the clip brings: loop points, markers, tags.
    Kept,
}

/// Whether a file has to loop.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Looped {
    /// As it likes.
    #[default]
    Allowed,
    /// It must.
    Required,
    /// It must not.
    Forbidden,
}

/// What a slot asks of its file. Only what is stated is compared.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct Demand {
    /// Spec lines; a file must satisfy one of them. Never empty.
    pub specs: Vec<Spec>,
    /// The WAV header that the target's loader knows.
    pub header: Option<Header>,
    /// Whether other chunks may be in it.
    pub chunks: Option<Chunks>,
    /// Bytes of an ADPCM block.
    pub block_bytes: Option<u32>,
    /// Under which names a loop is written among texts; the usual ones by default.
    pub loop_tags: Option<LoopTags>,
    /// Whether it has to loop.
    pub looped: Looped,
    /// Whether a loop stands in a file of its own beside it, and none in it.
    #[serde(default)]
    pub loop_beside: bool,
}

/// One thing in which a file is not what is asked.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Shortfall {
    /// Which property: `container`, `encoding`, `sample rate`, `channels`, `header`,
    /// `block size`, `chunks`, `loop`, `loop tags`, `whole`.
    pub what: &'static str,
    /// What was asked.
    pub expected: String,
    /// What the file has.
    pub found: String,
}

impl Chunks {
    /// What a file has.
    pub fn of(facts: &Facts) -> Self {
        match (facts.beside_loops().is_empty(), facts.loops.is_empty()) {
            (true, true) => Self::Bare,
            (true, false) => Self::Loops,
            (false, _) => Self::Kept,
        }
    }
}

impl fmt::Display for Shortfall {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { what, expected, found } = self;
        write!(f, "{what}: {found}, should be {expected}")
    }
}

/// One property held against what is asked; nothing where it `meets` that.
fn shortfall(
    meets: bool,
    what: &'static str,
    expected: impl Into<String>,
    found: impl Into<String>,
) -> Option<Shortfall> {
    let asked =
        || Shortfall { what, expected: expected.into().replace('|', " or "), found: found.into() };
    (!meets).then(asked)
}

impl Spec {
    /// Whether a file that satisfies it can be written here.
    fn is_written(&self) -> bool {
        let container = match &self.container {
            super::Choice::Any => true,
            super::Choice::OneOf(all) => all.iter().any(|c| !c.facts().writes.is_empty()),
        };
        let encoding = match &self.encoding {
            super::Choice::Any => true,
            super::Choice::OneOf(all) => all.iter().any(|e| e.codec.is_written()),
        };
        container && encoding
    }

    /// The words of the line that a format does not satisfy.
    fn shortfalls(&self, own: Format) -> Vec<Shortfall> {
        let Self { container, encoding, rate, channels } = self;
        let words = [
            shortfall(
                container.accepts(own.container, |a, b| a == b),
                "container",
                container.to_string(),
                own.container.to_string(),
            ),
            shortfall(
                encoding.accepts(own.encoding, super::Encoding::accepts),
                "encoding",
                encoding.to_string(),
                own.encoding.to_string(),
            ),
            shortfall(
                rate.accepts(own.rate, |a, b| a == b),
                "sample rate",
                rate.to_string(),
                own.rate.to_string(),
            ),
            shortfall(
                channels.accepts(own.channels, super::Channels::accepts),
                "channels",
                channels.to_string(),
                own.channels.to_string(),
            ),
        ];
        words.into_iter().flatten().collect()
    }
}

impl From<Shortfall> for Unmet {
    fn from(Shortfall { what, expected, found }: Shortfall) -> Self {
        Self::Rule { what: what.to_owned(), expected, found }
    }
}

impl From<Spec> for Demand {
    fn from(spec: Spec) -> Self {
        Self {
            specs: vec![spec],
            header: None,
            chunks: None,
            block_bytes: None,
            loop_tags: None,
            looped: Looped::Allowed,
            loop_beside: false,
        }
    }
}

impl Demand {
    /// What a file that works today asks of its replacement: its format, its header kind, and no
    /// chunk beside the samples where it has none. Of a format that is not written here only the format
    /// counts.
    pub fn like(facts: &Facts) -> Self {
        let written = !facts.format.container.facts().writes.is_empty();
        Self {
            specs: vec![Spec::exactly(facts.format)],
            header: facts.header,
            chunks: written.then(|| Chunks::of(facts)),
            block_bytes: facts.block_bytes,
            loop_tags: None,
            looped: Looped::Allowed,
            loop_beside: false,
        }
    }

    /// What samples without a header are, where nothing else is asked.
    pub fn raw(&self) -> Option<Format> {
        let [only] = self.specs.as_slice() else {
            return None;
        };
        only.written().filter(|format| format.container == Container::Raw)
    }

    /// The spec line that counts for a clip of this format: one that it satisfies, else the first that is
    /// written here.
    pub fn spec_for(&self, own: Format) -> &Spec {
        let satisfied = self.specs.iter().find(|spec| spec.accepts(own));
        let written = || self.specs.iter().find(|spec| spec.is_written());
        satisfied.or_else(written).unwrap_or(&self.specs[0])
    }

    /// Every problem of the file, most telling first.
    pub fn shortfalls(&self, facts: &Facts) -> Vec<Shortfall> {
        let mut all = self.spec_for(facts.format).shortfalls(facts.format);
        all.extend(self.header_shortfalls(facts));
        all.extend(self.loop_shortfalls(facts));
        if let Some(missing) = facts.missing_frames() {
            let promised = format!("{} frames as its header says", facts.frames + missing);
            let held = format!("{} frames", facts.frames);
            all.push(Shortfall { what: "whole", expected: promised, found: held });
        }
        if let Some(clips) = facts.chained() {
            let (expected, found) = ("1".to_owned(), format!("{clips} chained"));
            all.push(Shortfall { what: "clips", expected, found });
        }
        all
    }

    /// The header's kind, the blocks, and what stands beside the samples.
    fn header_shortfalls(&self, facts: &Facts) -> Vec<Shortfall> {
        let header = self.header.zip(facts.header).map(|(asked, own)| {
            shortfall(asked == own, "header", asked.to_string(), own.to_string())
        });
        let bytes = |bytes: u32| format!("{bytes} bytes");
        let blocks = self
            .block_bytes
            .zip(facts.block_bytes)
            .map(|(asked, own)| shortfall(asked == own, "block size", bytes(asked), bytes(own)));
        let (beside, allowed) = match self.chunks {
            Some(Chunks::Bare) => (facts.beside_samples(), "none but the samples"),
            Some(Chunks::Loops) => (facts.beside_loops(), "none but samples and loop points"),
            Some(Chunks::Kept) | None => (Vec::new(), ""),
        };
        let chunks = shortfall(beside.is_empty(), "chunks", allowed, beside.join(", "));
        [header.flatten(), blocks.flatten(), chunks].into_iter().flatten().collect()
    }

    /// Whether it loops as it should, by the tags that it should have.
    fn loop_shortfalls(&self, facts: &Facts) -> Vec<Shortfall> {
        let loops = !facts.loops.is_empty();
        let (meets, expected) = match self.looped {
            Looped::Required => (loops, "a loop"),
            Looped::Forbidden => (!loops, "none"),
            Looped::Allowed => (true, ""),
        };
        let looped =
            shortfall(meets, "loop", expected, if loops { "there is one" } else { "none" });
        let tags = self.loop_tags.as_ref().and_then(|asked| {
            let (asked, own) = (asked.names().join(" "), facts.loop_names.join(" "));
            let meets = own.is_empty() || own.eq_ignore_ascii_case(&asked);
            shortfall(meets, "loop tags", asked, own)
        });
        looped.into_iter().chain(tags).collect()
    }

    /// Refuses what contradicts itself.
    ///
    /// # Errors
    /// [`Error::BadSpec`] saying which word and why.
    pub fn validate(&self) -> Result<()> {
        let blocks = |e: &super::Encoding| matches!(e.codec, Codec::ImaAdpcm | Codec::MsAdpcm);
        for spec in &self.specs {
            let bad = |what: String| Error::BadSpec { line: spec.to_string(), what };
            if let (super::Choice::OneOf(encodings), Some(_)) = (&spec.encoding, self.block_bytes)
                && !encodings.iter().any(blocks)
            {
                return Err(bad(format!("{} has no blocks to size", spec.encoding)));
            }
        }
        Ok(())
    }
}

/// The header that a WAV of this format gets where none is asked for: extensible beyond two
/// channels or 16 integer bits, as "Multiple Channel Audio Data and WAVE Files" (2007) asks.
pub fn usual_header(format: Format) -> Option<Header> {
    if !format.container.is_wave() {
        return None;
    }
    let wide = matches!(format.encoding.codec.kind(), super::Kind::Integer(bits) if bits > 16);
    Some(if wide || format.channels.count() > 2 { Header::Extensible } else { Header::Plain })
}

/// Whether a rate can be converted to and from here.
pub fn convertible(rate: SampleRate) -> bool {
    super::line::RATES.contains(&rate.hertz())
}
