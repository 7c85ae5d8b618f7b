//! A rule: what the slots that match it ask of their files.

use super::Pairs;
use super::loop_file::LoopFile;
use super::pattern::Pattern;
use super::values::{FirstBytes, OneOrMany, Size};
use crate::names::text;
use deft_needle_audio::edit::{Level, Request, Time};
use deft_needle_audio::plan::Plan;
use deft_needle_audio::read::Hints;
use deft_needle_audio::shape::route::Route;
use deft_needle_audio::spec::{
    Choice, Chunks, Demand, Header, LoopTags, LoopUnit, Looped, Second, Shortfall,
};
use deft_needle_audio::units::{Duration, FrameRange, SampleRate};
use deft_needle_audio::{Edits, Error as AudioError, Facts, Invalid, Spec};
use schemars::JsonSchema;
use serde::de::Error as _;
use serde::{Deserialize, Deserializer, Serialize};
use std::num::NonZeroU64;
use std::path::PathBuf;
use toml::Spanned;

/// What some slots ask of their files.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Rule {
    /// For which slots.
    #[serde(rename = "match")]
    pub patterns: Spanned<OneOrMany<Pattern>>,
    /// What the file must be.
    pub spec: Spanned<Accepted>,
    /// The kind of WAV header.
    pub header: Option<Header>,
    /// What may stand beside the samples.
    pub tags: Option<Tags>,
    /// Bytes of an ADPCM block.
    pub block_bytes: Option<u32>,
    /// Which channels of a clip feed each channel, where their number differs.
    #[serde(default, deserialize_with = "text")]
    pub route: Option<Route>,
    /// Whether it has to loop.
    #[serde(rename = "loop", default)]
    pub looped: Looped,
    /// Under which names a loop is written among texts.
    #[serde(default, deserialize_with = "loop_tags")]
    pub loop_tags: Option<LoopTags>,
    /// Files beside a slot's that tell its loop.
    #[serde(default)]
    pub loop_file: OneOrMany<LoopFile>,
    /// Loops start at and last for multiples of this many frames.
    pub loop_multiple: Option<NonZeroU64>,
    /// The shortest loop.
    #[serde(default, deserialize_with = "text")]
    pub loop_shortest: Option<Time>,
    /// The longest loop.
    #[serde(default, deserialize_with = "text")]
    pub loop_longest: Option<Time>,
    /// The shortest that a file may be.
    #[serde(default, deserialize_with = "text")]
    pub shortest: Option<Time>,
    /// The longest.
    #[serde(default, deserialize_with = "text")]
    pub longest: Option<Time>,
    /// The largest.
    #[serde(default, deserialize_with = "text")]
    pub largest: Option<Size>,
    /// How loud.
    #[serde(default, deserialize_with = "text")]
    pub level: Option<Level>,
    /// Extensions that the target takes, without their dots.
    pub extensions: Option<Vec<String>>,
    /// How many variants work.
    pub count: Option<OneOrMany<u32>>,
    /// Whether the target takes files that it has none of yet.
    #[serde(default)]
    pub new: New,
    /// Whether every listed name that it matches must be there.
    #[serde(default)]
    pub complete: bool,
    /// What happens to a slot that is a symbolic link.
    pub link: Option<Links>,
    /// How files of a closed format begin.
    #[serde(default)]
    pub first_bytes: OneOrMany<FirstBytes>,
    /// A command of the user's that makes files of a closed format.
    pub encoder: Option<OutsideEncoder>,
    /// Options that hold where nothing else is said.
    #[serde(default)]
    pub(crate) defaults: Pairs,
    /// What its keys ask to be done to a clip.
    #[serde(skip)]
    pub asks: Request,
    /// What a file that works today asks, where the rule is read off it.
    #[serde(skip)]
    pub like: Option<Demand>,
}

/// What a file must be.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub enum Accepted {
    /// One of these spec lines.
    Sound(Vec<Spec>),
    /// A file of a closed format.
    Opaque,
}

/// What may stand beside the samples.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Tags {
    /// Nothing but a loop.
    Strip,
    /// Whatever the clip brings.
    Keep,
}

/// Whether a target takes files that it has none of yet.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Deserialize, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum New {
    /// It does not.
    #[default]
    Never,
    /// Those that a list names.
    Listed,
    /// Any.
    Any,
}

/// What happens to a slot that is a symbolic link.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Deserialize, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Links {
    /// The link makes way for a file; a restore brings it back.
    #[default]
    Replace,
    /// The file that it leads to is replaced.
    Follow,
}

/// A command that makes files of a closed format.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize, JsonSchema, Serialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct OutsideEncoder {
    /// The program and its words, with `{in}` and `{out}`.
    pub command: Vec<String>,
    /// What it is fed.
    #[serde(default = "usual_feed")]
    pub feed: String,
    /// How many seconds it may take.
    #[serde(default = "usual_seconds")]
    pub seconds: u64,
    /// The name of the file that the program makes beside its input, where it takes no output path: `{stem}`
    /// is the stem of the input.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub out: Option<String>,
    /// Where a relative program is looked for first.
    #[serde(skip)]
    pub folder: Option<PathBuf>,
}

fn usual_feed() -> String {
    "wav pcm16 any any".to_owned()
}

fn usual_seconds() -> u64 {
    60
}

impl<'de> Deserialize<'de> for Accepted {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let lines = OneOrMany::<String>::deserialize(deserializer)?.0;
        match lines.as_slice() {
            [] => Err(D::Error::custom("no spec line is given")),
            [line] if line == "opaque" => Ok(Self::Opaque),
            lines => {
                let specs = lines.iter().map(|line| line.parse::<Spec>());
                let specs: Result<_, AudioError> = specs.collect();
                specs.map(Self::Sound).map_err(D::Error::custom)
            }
        }
    }
}

/// Reads `{ start = "A", length = "B" }`, with `end` for `length` and `in = "seconds"`.
fn loop_tags<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Option<LoopTags>, D::Error> {
    #[derive(Deserialize)]
    #[serde(deny_unknown_fields)]
    struct Keys {
        start: String,
        length: Option<String>,
        end: Option<String>,
        #[serde(default, rename = "in")]
        unit: LoopUnit,
    }
    let keys = Keys::deserialize(deserializer)?;
    let second = match (keys.length, keys.end) {
        (Some(name), None) => Second::Length(name),
        (None, Some(name)) => Second::End(name),
        _ => {
            return Err(D::Error::custom("name either the length or the end of a loop"));
        }
    };
    let tags = LoopTags { start: keys.start, second, unit: keys.unit };
    tags.validate().map(Some).map_err(D::Error::custom)
}

impl Rule {
    /// A rule of every slot, which nobody wrote.
    pub(crate) fn of_all(asked: Accepted) -> Self {
        Self {
            patterns: Spanned::new(0..0, OneOrMany(Vec::new())),
            spec: Spanned::new(0..0, asked),
            header: None,
            tags: None,
            block_bytes: None,
            route: None,
            looped: Looped::Allowed,
            loop_tags: None,
            loop_file: OneOrMany::default(),
            loop_multiple: None,
            loop_shortest: None,
            loop_longest: None,
            shortest: None,
            longest: None,
            largest: None,
            level: None,
            extensions: Some(Vec::new()),
            count: None,
            new: New::Never,
            complete: false,
            link: None,
            first_bytes: OneOrMany::default(),
            encoder: None,
            defaults: Pairs::default(),
            asks: Request::default(),
            like: None,
        }
    }

    /// What its keys ask to be done to a clip; its own keys win over its defaults.
    ///
    /// # Errors
    /// A value that is wrong.
    pub(super) fn gather(&self) -> Result<Request, Invalid> {
        let own = [
            ("route", self.route.as_ref().map(ToString::to_string)),
            ("longest", self.longest.map(|time| time.to_string())),
            ("level", self.level.as_ref().map(ToString::to_string)),
            ("loop-multiple", self.loop_multiple.map(|frames| frames.to_string())),
        ];
        let own = own.iter().filter_map(|(name, text)| Some((*name, text.as_deref()?)));
        Request::read(self.defaults.iter().chain(own))
    }

    /// Whether it matches a slot.
    pub fn matches(&self, slot: &str) -> bool {
        let patterns = &self.patterns.get_ref().0;
        patterns.is_empty() || patterns.iter().any(|pattern| pattern.matches(slot))
    }

    /// Its patterns, as they are written.
    pub fn title(&self) -> String {
        let texts: Vec<&str> = self.patterns.get_ref().0.iter().map(Pattern::text).collect();
        texts.join(", ")
    }

    /// The same in a few words, where there are many.
    pub fn short_title(&self) -> String {
        let patterns = &self.patterns.get_ref().0;
        match patterns.as_slice() {
            [a, b, _, _, ..] => format!("{a}, {b} and {} more", patterns.len() - 2),
            _ => self.title(),
        }
    }

    /// What it asks of a sound; `None` for closed formats.
    pub fn demand(&self) -> Option<Demand> {
        let Accepted::Sound(specs) = self.spec.get_ref() else {
            return None;
        };
        if self.like.is_some() {
            return self.like.clone();
        }
        Some(Demand {
            specs: specs.clone(),
            header: self.header,
            chunks: self.tags.map(|tags| match (tags, self.looped) {
                (Tags::Keep, _) => Chunks::Kept,
                (Tags::Strip, Looped::Forbidden) => Chunks::Bare,
                (Tags::Strip, _) => Chunks::Loops,
            }),
            block_bytes: self.block_bytes,
            loop_tags: self.loop_tags.clone(),
            looped: self.looped,
            loop_beside: !self.loop_file.0.is_empty(),
        })
    }

    /// How the target's own files are read: samples without a header need to be told what they are.
    pub fn hints(&self) -> Hints {
        Hints {
            raw: self.demand().and_then(|demand| demand.raw()),
            loop_tags: self.loop_tags.clone(),
            ..Hints::default()
        }
    }

    /// Every problem of a file under the demand and the limits.
    pub fn shortfalls(&self, facts: &Facts) -> Vec<Shortfall> {
        let mut all = self.demand().map_or_else(Vec::new, |d| d.shortfalls(facts));
        let loops: Vec<FrameRange> = facts.loops.iter().map(|l| l.range).collect();
        let edits = &self.asks.edits;
        all.extend(self.limits(facts.frames, facts.format.rate, &loops, edits));
        all.extend(self.too_large(facts.file_bytes));
        all
    }

    /// Lengths and loops beyond the limits.
    ///
    /// What may be asked otherwise is taken from `edits`.
    fn limits(
        &self,
        frames: u64,
        rate: SampleRate,
        loops: &[FrameRange],
        edits: &Edits,
    ) -> Vec<Shortfall> {
        let mut all = Vec::new();
        let mut bound = |what, frames: u64, shortest: Option<Time>, longest: Option<Time>| {
            let is = |frames| Duration(rate.seconds(frames)).to_string();
            let short = shortest.map(|t| t.frames(rate)).filter(|least| frames < *least);
            let long = longest.map(|t| t.frames(rate)).filter(|most| frames > *most);
            let expected = match (short, long) {
                (Some(least), _) => format!("{} at least", is(least)),
                (_, Some(most)) => format!("{} at most", is(most)),
                (None, None) => return,
            };
            all.push(Shortfall { what, expected, found: is(frames) });
        };
        bound("length", frames, self.shortest, edits.longest);
        for range in loops {
            bound("loop length", range.len(), self.loop_shortest, self.loop_longest);
        }
        let Some(multiple) = edits.loop_multiple else {
            return all;
        };
        let off = |range: &&FrameRange| {
            !range.start.is_multiple_of(multiple.get())
                || !range.len().is_multiple_of(multiple.get())
        };
        all.extend(loops.iter().find(off).map(|range| Shortfall {
            what: "loop",
            expected: format!("at multiples of {multiple} frames"),
            found: format!("from {} for {} frames", range.start, range.len()),
        }));
        all
    }

    /// A file that takes too much room.
    pub fn too_large(&self, bytes: u64) -> Option<Shortfall> {
        let most = self.largest.filter(|most| bytes > most.0)?;
        Some(Shortfall {
            what: "size",
            expected: format!("{most} at most"),
            found: Size(bytes).to_string(),
        })
    }

    /// Refuses a plan that goes beyond the limits.
    ///
    /// # Errors
    /// [`AudioError::CannotMeet`] with the figures.
    pub fn refuse(&self, plan: &Plan, edits: &Edits) -> Result<(), AudioError> {
        let loops: Vec<FrameRange> = plan.to.looped().map(|l| l.range).collect();
        let found = self.limits(plan.to.frames, plan.to.format.rate, &loops, edits);
        match found.first() {
            None => Ok(()),
            Some(short) => Err(AudioError::CannotMeet(short.clone().into())),
        }
    }

    /// Extensions that files of this rule may have; empty where any may.
    pub fn extensions(&self) -> Vec<String> {
        if let Some(extensions) = &self.extensions {
            return extensions.clone();
        }
        let Accepted::Sound(specs) = self.spec.get_ref() else {
            return Vec::new();
        };
        let mut all = Vec::new();
        for spec in specs {
            let Choice::OneOf(containers) = &spec.container else {
                return Vec::new();
            };
            all.extend(containers.iter().flat_map(|c| c.facts().extensions));
        }
        all.into_iter().map(|e: &&str| (*e).to_owned()).collect()
    }
}
