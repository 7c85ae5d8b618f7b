//! One replacement of a job sheet.

use crate::refusal::OddLine;
use crate::sheet::{Column, Links, NO_CONTROL, OneOrMany, OutsideEncoder, Pairs};
use deft_needle_audio::Invalid;
use deft_needle_audio::edit::OPTIONS;
use serde::de::{Error as _, MapAccess, Visitor};
use serde::{Deserialize, Deserializer};
use std::fmt;
use std::path::PathBuf;
use std::sync::LazyLock;

/// Which clips go to which slots, and how they are shaped.
#[derive(Debug, Clone, Default)]
pub struct Replace {
    /// Slots, or patterns over them.
    pub slots: Vec<String>,
    /// Clips, dealt to the slots in order, starting over at the end.
    pub clips: Vec<PathBuf>,
    /// A table of slots and clips, in place of both.
    pub table: Option<PathBuf>,
    /// Sounds between silences that are dealt out, by their numbers.
    pub pieces: Vec<u32>,
    /// A list of lines to be spoken, in place of clips.
    pub prompts: Option<Prompts>,
    /// Values for its templates.
    pub values: toml::Table,
    /// An outside encoder that makes the file.
    pub encoder: Option<OutsideEncoder>,
    /// Whether the clip is a finished file that goes in byte for byte.
    pub as_is: bool,
    /// Whether slots may be named otherwise than what they hold.
    pub name_anyway: bool,
    /// What happens to slots that are links, whatever the sheet says.
    pub link: Option<Links>,
    options: Pairs,
}

/// A list of lines to be spoken.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Prompts {
    /// A table beside the job sheet; its first line names the columns, where one is told by its name.
    pub list: PathBuf,
    /// The column that names the slot.
    #[serde(default = "usual_slot")]
    pub slot: Column,
    /// The column that holds what is said.
    #[serde(default = "usual_say")]
    pub say: Column,
    /// What parts the columns; told by the first line by default.
    pub delimiter: Option<char>,
}

fn usual_slot() -> Column {
    Column::Named("slot".to_owned())
}

fn usual_say() -> Column {
    Column::Named("say".to_owned())
}

/// The keys beside the options.
const OWN: &[&str] = &[
    "slot",
    "slots",
    "clip",
    "clips",
    "pieces",
    "prompts",
    "values",
    "encoder",
    "as-is",
    "link",
    "name-anyway",
    "table",
];

/// All keys of a replacement; serde wants them at hand for its message.
static KEYS: LazyLock<Vec<&str>> =
    LazyLock::new(|| OWN.iter().copied().chain(OPTIONS.iter().map(|row| row.name)).collect());

impl Replace {
    /// Its own options.
    pub fn pairs(&self) -> &Pairs {
        &self.options
    }

    /// # Errors
    /// What is missing or contradicts itself, and what to write.
    pub(super) fn validate(&self) -> Result<(), OddLine> {
        if self.table.is_some() {
            let more = !self.slots.is_empty() || !self.clips.is_empty() || self.prompts.is_some();
            return if more { Err(OddLine::TableAndMore) } else { Ok(()) };
        }
        if self.slots.is_empty() {
            return Err(OddLine::NoSlot);
        }
        match (self.clips.is_empty(), &self.prompts) {
            (true, None) => Err(OddLine::NoClip),
            (false, Some(_)) => Err(OddLine::ClipsAndPrompts),
            _ if self.as_is && self.encoder.is_some() => Err(OddLine::EncoderAndAsIs),
            _ => Ok(()),
        }
    }
}

/// A path as it is typed; control characters are what double quotes make of `\n` and `\t`.
struct Typed(String);

impl<'de> Deserialize<'de> for Typed {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        match text.chars().any(char::is_control) {
            true => Err(D::Error::custom(Invalid::new("path", &text, NO_CONTROL))),
            false => Ok(Self(text)),
        }
    }
}

impl<'de> Deserialize<'de> for Replace {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Keys;
        impl<'de> Visitor<'de> for Keys {
            type Value = Replace;
            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("a table of keys")
            }
            fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Replace, A::Error> {
                let mut replace = Replace::default();
                while let Some(key) = map.next_key::<String>()? {
                    match key.as_str() {
                        "slot" | "slots" => {
                            let slots = map.next_value::<OneOrMany<Typed>>()?.0;
                            let plain = slots.into_iter().map(|slot| slot.0.replace('\\', "/"));
                            replace.slots.extend(plain);
                        }
                        "clip" | "clips" => {
                            let clips = map.next_value::<OneOrMany<Typed>>()?.0;
                            replace.clips.extend(clips.into_iter().map(|clip| clip.0.into()));
                        }
                        "pieces" => replace.pieces = map.next_value()?,
                        "prompts" => replace.prompts = Some(map.next_value::<PromptKeys>()?.0),
                        "values" => replace.values = map.next_value()?,
                        "encoder" => replace.encoder = Some(map.next_value()?),
                        "as-is" => replace.as_is = map.next_value()?,
                        "name-anyway" => replace.name_anyway = map.next_value()?,
                        "table" => replace.table = Some(map.next_value::<Typed>()?.0.into()),
                        "link" => replace.link = Some(map.next_value()?),
                        key => replace.options.take(key, &KEYS, &mut map)?,
                    }
                }
                Ok(replace)
            }
        }
        deserializer.deserialize_map(Keys)
    }
}

/// The list's path alone, or a table with its columns.
struct PromptKeys(Prompts);

impl<'de> Deserialize<'de> for PromptKeys {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Either;
        impl<'de> Visitor<'de> for Either {
            type Value = Prompts;
            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("the path of a list, or { list = …, slot = …, say = …, delimiter = … }")
            }
            fn visit_str<E: serde::de::Error>(self, list: &str) -> Result<Prompts, E> {
                Ok(Prompts {
                    list: list.into(),
                    slot: usual_slot(),
                    say: usual_say(),
                    delimiter: None,
                })
            }
            fn visit_map<A: MapAccess<'de>>(self, map: A) -> Result<Prompts, A::Error> {
                Prompts::deserialize(serde::de::value::MapAccessDeserializer::new(map))
            }
        }
        deserializer.deserialize_any(Either).map(Self)
    }
}
