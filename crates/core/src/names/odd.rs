//! What can be wrong with a name.

use deft_needle_audio::Invalid;
use schemars::JsonSchema;
use serde::Serialize;
use std::fmt;

/// What is wrong with a name.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum OddName {
    /// It has not this extension.
    Extension(String),
    /// It has this one before its own.
    SecondExtension(String),
    /// It is too long before its extension.
    Long {
        /// Its characters.
        length: usize,
        /// How many are allowed.
        most: usize,
    },
    /// It has characters that are not allowed.
    Letters {
        /// Those.
        odd: String,
        /// Those that are.
        allowed: String,
    },
    /// It has upper-case letters where none may be.
    Upper,
    /// It has lower-case letters where none may be.
    Lower,
    /// It is no 8.3 name.
    NotShort,
    /// It has characters that Windows does not take.
    Windows(String),
    /// It is the name of a device on Windows.
    Device,
    /// It ends in what Windows takes away.
    End,
    /// Its accents are stored apart from their letters.
    Apart,
    /// It differs from this one only in case, or in how accents are stored.
    Twin(String),
    /// It has the stem of these.
    Stem(Vec<String>),
}

/// A text that is no path within a root.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NotWithin {
    /// As it was typed.
    pub typed: String,
    /// What is wrong with it, where that is known.
    pub why: Option<Invalid>,
}

impl fmt::Display for NotWithin {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} is not a path within a root", self.typed)
    }
}
