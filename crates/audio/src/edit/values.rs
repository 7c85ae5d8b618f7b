//! How the texts of options are read: the types that have no reader of their own.

use super::Factor;
use super::request::Request;
use crate::Error;
use crate::clip::Tag;
use crate::invalid::Invalid;
use crate::spec::{Chunks, Container, Format, Spec};
use std::str::FromStr;

/// Reads a value where one is given.
pub(super) fn maybe<T: FromStr<Err = Invalid>>(text: Option<&str>) -> Result<Option<T>, Invalid> {
    text.map(str::parse).transpose()
}

/// The same, where nothing means the usual.
pub(super) fn usual<T: FromStr<Err = Invalid> + Default>(text: Option<&str>) -> Result<T, Invalid> {
    Ok(maybe(text)?.unwrap_or_default())
}

pub(super) fn flag(text: Option<&str>) -> Result<bool, Invalid> {
    match text {
        None => Ok(false),
        Some("true") => Ok(true),
        Some(text) => Err(Invalid::new("switch", text, "true or false")),
    }
}

pub(super) fn whole<T: FromStr>(
    text: Option<&str>,
    what: &'static str,
) -> Result<Option<T>, Invalid> {
    let read =
        |text: &str| text.parse().map_err(|_| Invalid::new(what, text, "a whole number from 1"));
    text.map(read).transpose()
}

/// Beyond four times the sound is another.
pub(super) fn stretch(text: Option<&str>) -> Result<Option<Factor>, Invalid> {
    let read = |text: &str| match text.parse::<Factor>() {
        Ok(factor) if (0.25..=4.0).contains(&factor.value()) => Ok(factor),
        _ => Err(Invalid::new("factor", text, "0.25 to 4, as in 1.1 or 4/5")),
    };
    text.map(read).transpose()
}

/// Beyond a semitone it would be another note.
pub(super) fn cents(text: Option<&str>) -> Result<Option<f64>, Invalid> {
    let read = |text: &str| match text.parse() {
        Ok(cents) if (0.0..=100.0).contains(&cents) => Ok(cents),
        _ => Err(Invalid::new("retuning", text, "cents from 0 to 100, as in 1")),
    };
    text.map(read).transpose()
}

pub(super) fn tag(request: &mut Request, text: Option<&str>) -> Result<(), Invalid> {
    let plain = |name: &str| !name.is_empty() && name.bytes().all(|b| (0x20..0x7E).contains(&b));
    let text = text.unwrap_or_default();
    match text.split_once('=') {
        Some((name, value)) if plain(name) => {
            request.edits.tags.push(Tag::new(&name.to_uppercase(), value));
            Ok(())
        }
        _ => Err(Invalid::new("tag", text, "NAME=TEXT in plain letters, as in TITLE=Kettle")),
    }
}

pub(super) fn spec(text: Option<&str>) -> Result<Option<Spec>, Invalid> {
    let read = |text: &str| {
        text.parse::<Spec>().map_err(|error| match error {
            Error::BadSpec { line, what } => {
                let expected = "four words, as in \"wav pcm16 24000 mono\"";
                Invalid::new("spec line", &line, format!("{expected}; {what}"))
            }
            other => Invalid::new("spec line", text, other.to_string()),
        })
    };
    text.map(read).transpose()
}

/// Only samples without a header need to be told what they are.
pub(super) fn raw(text: Option<&str>) -> Result<Option<Format>, Invalid> {
    let read = |text: &str| match text.parse::<Format>() {
        Ok(format)
            if format.container == Container::Raw
                && Container::Raw.facts().writes.contains(&format.encoding.codec) =>
        {
            Ok(format)
        }
        _ => {
            let expected = "samples without a header, as in \"raw pcm16le 24000 mono\"";
            Err(Invalid::new("format", text, expected))
        }
    };
    text.map(read).transpose()
}

pub(super) fn chunks(text: Option<&str>) -> Result<Option<Chunks>, Invalid> {
    let read = |text: &str| match text {
        "strip" => Ok(Chunks::Bare),
        "keep" => Ok(Chunks::Kept),
        _ => Err(Invalid::new("choice", text, "strip or keep")),
    };
    text.map(read).transpose()
}

pub(super) fn piece(text: Option<&str>) -> Result<Option<u32>, Invalid> {
    Ok(whole::<std::num::NonZeroU32>(text, "piece")?.map(std::num::NonZeroU32::get))
}

pub(super) fn edge_fade(text: Option<&str>) -> Result<Option<super::Time>, Invalid> {
    match text {
        Some("none") => Ok(Some(super::Time::Frames(0))),
        text => maybe(text),
    }
}
