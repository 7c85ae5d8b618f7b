//! Errors in words: what is wrong, and what to do next.

use super::refusal::{Words, odd_text, outside, refusal};
use super::unmet::{unmet, unmet_remedy};
use crate::failure::core_exit;
use crate::object::ErrorObject;
use crate::paths::near;
use deft_needle_audio::Error;
use deft_needle_core::Error as CoreError;
use deft_needle_core::names::did_you_mean;
use deft_needle_core::sheet::{Because, Fault};
use serde::Serialize;
use serde_json::{Map, Value};
use std::error::Error as _;
use std::io::ErrorKind;
use std::path::Path;

/// What is wrong, with its causes.
pub fn audio(error: &Error) -> String {
    match error {
        Error::CannotMeet(wanted) => unmet(wanted),
        Error::Malformed { path, format, what, offset } => {
            format!("{} is not a valid {format} file: {what} (at byte {offset})", path.display())
        }
        other => match other.source() {
            Some(cause) => format!("{other}: {cause}"),
            None => other.to_string(),
        },
    }
}

/// What to do next; empty where the message says it all.
pub fn audio_remedy(error: &Error) -> String {
    let text = match error {
        Error::Read { path, source } => return unread(path, source.kind()),
        Error::Malformed { .. } => "copy or download the file again",
        Error::Unsupported { .. } => "export it as WAV with PCM samples where it was made",
        Error::Unknown { .. } => {
            "check that it is an audio file at all; swap --as-is places one of a closed format"
        }
        Error::BadSpec { .. } => {
            "write four words: container, encoding, sample rate, channels, \
             as in \"wav pcm16 24000 mono\""
        }
        Error::CannotMeet(wanted) => return unmet_remedy(wanted),
        Error::Write { source } => match source.kind() {
            ErrorKind::StorageFull => "free some space on that disk or card",
            ErrorKind::PermissionDenied | ErrorKind::ReadOnlyFilesystem => {
                "choose a place that you may write to"
            }
            _ => "check that the disk or card is still there and has room",
        },
        Error::Verify { .. } => "nothing was put in place; check the disk, then try again",
        Error::Stopped => "what was finished before is kept, nothing is half-written",
        _ => "",
    };
    text.to_owned()
}

/// What is wrong with files, names or ledgers, with its causes.
pub fn core(error: &CoreError) -> String {
    match error {
        CoreError::Audio(error) => audio(error),
        CoreError::Slot { slot, clip, source } => format!("{slot} ({clip}): {}", core(source)),
        CoreError::Sheet(found) => fault(found).0,
        CoreError::Refused(refused) => refusal(refused).0,
        CoreError::Outside { role, program, why } => outside(role, program, why).0,
        other => match other.source() {
            Some(cause) => format!("{other}: {cause}"),
            None => other.to_string(),
        },
    }
}

/// What is wrong in a sheet, a job or a list, with its place.
pub fn fault(fault: &Fault) -> Words {
    let Words(what, help) = match &fault.because {
        Because::Odd(odd) => odd_text(odd),
        Because::Refusal(refused) => refusal(refused),
    };
    let path = fault.path.display();
    let place = match &fault.spot {
        Some(spot) => format!("{path}, line {}, column {}", spot.line, spot.column),
        None => path.to_string(),
    };
    Words(format!("{place}: {what}"), help)
}

/// What to do next; empty where the message says it all.
pub fn core_remedy(error: &CoreError) -> String {
    let text = match error {
        CoreError::Audio(error) => return audio_remedy(error),
        CoreError::Slot { source, .. } => return core_remedy(source),
        CoreError::Sheet(found) => return fault(found).1,
        CoreError::Refused(refused) => return refusal(refused).1,
        CoreError::Outside { role, program, why } => return outside(role, program, why).1,
        CoreError::Write { source, .. } => unwritten(source.kind()),
        CoreError::Read { path, source } => return unread(path, source.kind()),
        CoreError::StockDamaged { .. } => {
            "copy the original from the target's maker; the slot was left as it is"
        }
        CoreError::Changed { .. } => {
            "add --changed overwrite to restore the stock (what is there now is kept in the ledger), \
             or --changed keep to leave it"
        }
        CoreError::Damaged { .. } => {
            "nothing was changed: run deft-needle rescue ROOT to restore what is sure"
        }
        _ => "",
    };
    text.to_owned()
}

/// What may have been meant by a path where nothing is.
fn absent(path: &Path) -> String {
    did_you_mean(&near(path)).unwrap_or_else(|| match path.parent() {
        Some(folder) if !folder.as_os_str().is_empty() && !folder.is_dir() => {
            format!("check the path: there is no folder {}", folder.display())
        }
        _ => "check the path: there is no such file".to_owned(),
    })
}

fn unread(path: &Path, kind: ErrorKind) -> String {
    let text = match kind {
        ErrorKind::NotFound => return absent(path),
        ErrorKind::PermissionDenied => "you need permission to read it",
        ErrorKind::IsADirectory => "name a file in that folder instead",
        ErrorKind::InvalidInput => "name a regular file",
        ErrorKind::FileTooLarge => "name a smaller file",
        _ => "check that the disk or card is still there",
    };
    text.to_owned()
}

fn unwritten(kind: ErrorKind) -> &'static str {
    match kind {
        ErrorKind::StorageFull => "free some space on that disk or card",
        ErrorKind::ReadOnlyFilesystem => "the disk or card is write-protected: unlock it",
        ErrorKind::PermissionDenied => {
            "check that you may write there, and close the game or program that holds the file"
        }
        ErrorKind::NotFound => "check that the folder exists and the card is in",
        ErrorKind::InvalidFilename => {
            "the name is too long for that disk, or has characters that it does not take"
        }
        ErrorKind::QuotaExceeded => "free some space: your quota on that disk is used up",
        _ => "check that the disk or card is still there; close what holds the file",
    }
}

/// An error for a program: in words, what to do next, and its values where they are known.
pub fn as_object(error: &CoreError) -> ErrorObject {
    let detail = detail(error);
    ErrorObject {
        kind: core_exit(error),
        message: core(error),
        r#where: place(&detail),
        help: core_remedy(error),
        detail,
    }
}

/// Where something is wrong, out of an error's values: a path, a slot, a line and a column.
pub fn place(detail: &Value) -> Option<Map<String, Value>> {
    let values = detail.as_object()?;
    let values = values.values().filter_map(Value::as_object).chain([values]);
    let mut place = Map::new();
    for values in values {
        for key in ["path", "slot", "clip", "line", "column"] {
            if let Some(value) = values.get(key).filter(|value| !value.is_null()) {
                place.insert(key.to_owned(), value.clone());
            }
        }
    }
    (!place.is_empty()).then_some(place)
}

/// The values of an error.
pub fn detail(error: &CoreError) -> Value {
    match error {
        CoreError::Audio(error) => values(error),
        CoreError::Slot { source, .. } => detail(source),
        other => values(other),
    }
}

/// The message must be told even where a value cannot be.
pub fn values(error: &impl Serialize) -> Value {
    serde_json::to_value(error).unwrap_or_default()
}
