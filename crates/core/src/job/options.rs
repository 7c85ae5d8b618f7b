//! Shaping and spec options as a job sheet's keys: the same words, the same values.

use deft_needle_audio::clip::Tag;
use deft_needle_audio::edit::{Edits, Ends, Level, Pad, Tail, Time, TooLong, Trim};
use deft_needle_audio::shape::fade::Curve;
use deft_needle_audio::shape::separate::Keep;
use deft_needle_audio::spec::{Chunks, Demand, Format, Header, LoopTags};
use deft_needle_audio::{Error as AudioError, Spec};
use std::fmt::Display;
use std::path::Path;
use std::str::FromStr;

/// The keys, as they are typed behind `--`.
pub const OPTIONS: &[&str] = &[
    "cut",
    "piece",
    "snap",
    "trim-silence",
    "trim-ends",
    "breath",
    "edge-fade",
    "longest",
    "too-long",
    "keep",
    "voicing",
    "route",
    "speed",
    "gain",
    "level",
    "ceiling",
    "allow-clipping",
    "fade-in",
    "fade-out",
    "fade-curve",
    "pad",
    "loop",
    "tail",
    "loop-snap",
    "crossfade",
    "loop-multiple",
    "loop-bend",
    "tag",
    "spec",
    "header",
    "tags",
    "block-bytes",
    "loop-tags",
    "read-as",
];

/// What the options of one replacement say.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Options {
    /// What is done to the clip.
    pub edits: Edits,
    /// What the file must be, where that is said against the sheet.
    pub spec: Option<Spec>,
    /// The kind of WAV header.
    pub header: Option<Header>,
    /// What may stand beside the samples.
    pub chunks: Option<Chunks>,
    /// Bytes of an ADPCM block.
    pub block_bytes: Option<u32>,
    /// Names of a loop's tags.
    pub loop_tags: Option<LoopTags>,
    /// How a clip without a header is read.
    pub read_as: Option<Format>,
    trim: TrimKeys,
}

/// The three keys of one edit, in whatever order they come.
#[derive(Debug, Clone, Default, PartialEq)]
struct TrimKeys {
    below: Option<f64>,
    ends: Ends,
    breath: Option<Pad>,
}

fn read<T: FromStr<Err: Display>>(text: &str) -> Result<Option<T>, String> {
    text.parse().map(Some).map_err(|error: T::Err| error.to_string())
}

fn flag(text: &str) -> Result<bool, String> {
    match text {
        "true" => Ok(true),
        "false" => Ok(false),
        _ => Err("write true or false".to_owned()),
    }
}

/// One of a few words.
fn word<T: Copy>(text: &str, words: &[(&str, T)]) -> Result<T, String> {
    let found = words.iter().find(|(word, _)| *word == text);
    found.map(|(_, value)| *value).ok_or_else(|| {
        let words: Vec<&str> = words.iter().map(|(word, _)| *word).collect();
        format!("\"{text}\" is none of: {}", words.join(", "))
    })
}

impl Options {
    /// All of these keys with their values, in their order; later ones win.
    ///
    /// # Errors
    /// The first value that is wrong.
    pub fn read<'a>(pairs: impl IntoIterator<Item = (&'a str, &'a str)>) -> Result<Self, String> {
        let mut options = Self::default();
        for (key, text) in pairs {
            options.set(key, text).map_err(|what| format!("{key}: {what}"))?;
        }
        Ok(options)
    }

    /// Takes one in.
    ///
    /// # Errors
    /// What is wrong with the value; a key that is none.
    pub fn set(&mut self, key: &str, text: &str) -> Result<(), String> {
        let edits = &mut self.edits;
        match key {
            "cut" => edits.cut = read(text)?,
            "piece" => match text.parse() {
                Ok(piece @ 1..) => edits.piece = Some(piece),
                _ => return Err("sounds are counted from 1".to_owned()),
            },
            "snap" => edits.snap = flag(text)?,
            "trim-silence" => self.trim.below = silence(text)?,
            "trim-ends" => {
                let words = [("head", Ends::Head), ("tail", Ends::Tail), ("both", Ends::Both)];
                self.trim.ends = word(text, &words)?;
            }
            "breath" => self.trim.breath = read(text)?,
            "edge-fade" if text == "none" => edits.edge_fade = Some(Time::Frames(0)),
            "edge-fade" => edits.edge_fade = read(text)?,
            "longest" => edits.longest = read(text)?,
            "too-long" => {
                let (cut, loudest) = (("cut", TooLong::Cut), ("loudest", TooLong::Loudest));
                edits.too_long = word(text, &[("refuse", TooLong::Refuse), cut, loudest])?;
            }
            "keep" => {
                let words = [("shared", Keep::Shared), ("different", Keep::Different)];
                edits.keep = Some(word(text, &words)?);
            }
            "voicing" => edits.voicing = read(text)?,
            "route" => edits.route = read(text)?,
            "speed" => edits.speed = read(text)?,
            "gain" => edits.gain = read(text)?,
            "level" => edits.level = read(text)?,
            "ceiling" => edits.ceiling = read(text)?,
            "allow-clipping" => edits.allow_clipping = flag(text)?,
            "fade-in" => edits.fade_in = read(text)?,
            "fade-out" => edits.fade_out = read(text)?,
            "fade-curve" => {
                let words = [("linear", Curve::Linear), ("equal-power", Curve::EqualPower)];
                edits.fade_curve = word(text, &words)?;
            }
            "pad" => edits.pad = read(text)?,
            "loop" => edits.looped = read(text)?,
            "tail" => {
                let words = [("keep", Tail::Keep), ("cut", Tail::Cut), ("fade", Tail::Fade)];
                edits.tail = Some(word(text, &words)?);
            }
            "loop-snap" => edits.loop_snap = read(text)?,
            "crossfade" => edits.crossfade = read(text)?,
            "loop-multiple" => edits.loop_multiple = read(text)?,
            "loop-bend" => match text.parse() {
                Ok(cents) if (0.0..=100.0).contains(&cents) => edits.loop_bend = Some(cents),
                _ => return Err("write cents from 0 to 100, as in 1".to_owned()),
            },
            "tag" => edits.tags.push(tag(text)?),
            _ => return self.set_form(key, text),
        }
        self.edits.trim = self.trim.edit();
        Ok(())
    }

    /// What the file must be.
    fn set_form(&mut self, key: &str, text: &str) -> Result<(), String> {
        match key {
            "spec" => self.spec = read(text)?,
            "header" => {
                let words = [("plain", Header::Plain), ("extensible", Header::Extensible)];
                self.header = Some(word(text, &words)?);
            }
            "tags" => {
                let words = [("strip", Chunks::Bare), ("keep", Chunks::Kept)];
                self.chunks = Some(word(text, &words)?);
            }
            "block-bytes" => self.block_bytes = read(text)?,
            "loop-tags" => self.loop_tags = read(text)?,
            "read-as" => self.read_as = read(text)?,
            _ => return Err("it is no option".to_owned()),
        }
        Ok(())
    }

    /// Files that options name lie beside the job sheet.
    pub fn beside(&mut self, folder: &Path) {
        if let Some(Level::Like(file)) = &mut self.edits.level {
            *file = folder.join(&*file);
        }
    }

    /// What the file must be, where the sheet asks `ruled`.
    ///
    /// # Errors
    /// A demand that contradicts itself, or names what is not written here.
    pub fn demand(&self, ruled: Demand) -> Result<Demand, AudioError> {
        let mut demand = match &self.spec {
            None => ruled,
            Some(spec) => Demand {
                loop_tags: ruled.loop_tags,
                looped: ruled.looped,
                ..Demand::from(spec.clone())
            },
        };
        demand.header = self.header.or(demand.header);
        demand.chunks = self.chunks.or(demand.chunks);
        demand.block_bytes = self.block_bytes.or(demand.block_bytes);
        if self.loop_tags.is_some() {
            demand.loop_tags.clone_from(&self.loop_tags);
        }
        demand.validate()?;
        Ok(demand)
    }
}

impl TrimKeys {
    fn edit(&self) -> Option<Trim> {
        let usual = Pad { head: Time::Seconds(0.005), tail: Time::Seconds(0.02) };
        let breath = self.breath.unwrap_or(usual);
        self.below.map(|below| Trim {
            below,
            ends: self.ends,
            head: breath.head,
            tail: breath.tail,
        })
    }
}

/// A level below full scale; `true` is the usual one, `false` none.
fn silence(text: &str) -> Result<Option<f64>, String> {
    match (text, text.parse()) {
        ("true", _) => Ok(Some(-60.0)),
        ("false", _) => Ok(None),
        (_, Ok(Level::Peak(db))) if db < 0.0 => Ok(Some(db)),
        _ => Err("write a level below full scale, as in -55dBFS, or true".to_owned()),
    }
}

fn tag(text: &str) -> Result<Tag, String> {
    let plain = |name: &str| !name.is_empty() && name.bytes().all(|b| (0x20..0x7E).contains(&b));
    match text.split_once('=') {
        Some((name, value)) if plain(name) => Ok(Tag::new(&name.to_uppercase(), value)),
        _ => Err("write NAME=TEXT, as in TITLE=Kettle; names are plain letters".to_owned()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A value that each key takes, and one that it does not.
    #[test]
    fn every_key_reads_its_values() {
        for (key, good, bad) in [
            ("cut", "0.4s..2.1s", "x"),
            ("piece", "2", "0"),
            ("snap", "true", "yes"),
            ("trim-silence", "-55dBFS", "3dBFS"),
            ("trim-ends", "head", "front"),
            ("breath", "5ms,20ms", "x"),
            ("edge-fade", "none", "some"),
            ("longest", "25s", "long"),
            ("too-long", "loudest", "quiet"),
            ("keep", "shared", "both"),
            ("voicing", "dispatch", "robot"),
            ("route", "L R R L", "Q"),
            ("speed", "1.25", "0"),
            ("gain", "+7dB", "loud"),
            ("level", "stock", "7"),
            ("ceiling", "-1dB", "x"),
            ("allow-clipping", "true", "1"),
            ("fade-in", "1s", "x"),
            ("fade-out", "1s", "x"),
            ("fade-curve", "equal-power", "round"),
            ("pad", "0.5s", "x"),
            ("loop", "12.0s..auto", "round"),
            ("tail", "cut", "off"),
            ("loop-snap", "1ms", "x"),
            ("crossfade", "50ms", "x"),
            ("loop-multiple", "16", "0"),
            ("loop-bend", "1", "500"),
            ("tag", "TITLE=x", "title"),
            ("spec", "wav pcm16 any any", "wav"),
            ("header", "plain", "odd"),
            ("tags", "strip", "drop"),
            ("block-bytes", "256", "x"),
            ("loop-tags", "start=A,length=B", "A"),
            ("read-as", "raw pcm16le 24000 mono", "x"),
        ] {
            assert!(OPTIONS.contains(&key));
            let options = Options::read([(key, good)]);
            let changes = !matches!(key, "trim-ends" | "breath");
            assert!(options.is_ok_and(|o| !changes || o != Options::default()), "{key} {good}");
            assert!(Options::read([(key, bad)]).is_err(), "{key} {bad}");
        }
        assert!(Options::read([("volume", "3")]).is_err());
        let pairs = [("trim-ends", "tail"), ("breath", "1ms,2ms"), ("trim-silence", "true")];
        let trim = Options::read(pairs).unwrap().edits.trim.unwrap();
        assert_eq!((trim.below, trim.ends, trim.head), (-60.0, Ends::Tail, Time::Seconds(0.001)));
    }
}
