//! Values that cannot be read: which kind, what was found, what was expected.

use schemars::JsonSchema;
use serde::Serialize;
use std::fmt;

/// A value, as somebody typed it, that is none of its kind.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Invalid {
    /// The kind of value: `gain`, `time`, `spec line`, …
    pub what: &'static str,
    /// The text.
    pub found: String,
    /// What would be right, with an example.
    pub expected: String,
}

impl Invalid {
    /// Such a value.
    pub fn new(what: &'static str, found: &str, expected: impl Into<String>) -> Self {
        Self { what, found: found.to_owned(), expected: expected.into() }
    }
}

impl fmt::Display for Invalid {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { what, found, expected } = self;
        write!(f, "invalid {what} \"{found}\", expected {expected}")
    }
}

impl std::error::Error for Invalid {}

/// Few values with a word each: gives `WORDS`, [`std::str::FromStr`] and [`fmt::Display`].
macro_rules! words {
    ($type:ty, $what:literal, $($word:literal => $value:path),+ $(,)?) => {
        impl $type {
            /// Its words, in the order of help and documentation.
            pub const WORDS: &'static [&'static str] = &[$($word),+];
        }

        impl std::str::FromStr for $type {
            type Err = $crate::Invalid;

            fn from_str(text: &str) -> Result<Self, Self::Err> {
                match text {
                    $($word => Ok($value),)+
                    _ => Err($crate::Invalid::new($what, text, Self::WORDS.join(", "))),
                }
            }
        }

        impl std::fmt::Display for $type {
            fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str(match self {
                    $($value => $word,)+
                })
            }
        }
    };
}

/// Serialised as the text that it prints as, and read back from it.
macro_rules! as_text {
    ($($type:ty),+ $(,)?) => {
        $crate::invalid::as_text!(@ |_text, invalid| serde::de::Error::custom(invalid); $($type),+);
    };
    (@ |$text:ident, $invalid:ident| $error:expr; $($type:ty),+) => {$(
        impl schemars::JsonSchema for $type {
            fn schema_name() -> std::borrow::Cow<'static, str> {
                stringify!($type).into()
            }

            fn inline_schema() -> bool {
                true
            }

            fn json_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
                schemars::json_schema!({ "type": "string" })
            }
        }

        impl serde::Serialize for $type {
            fn serialize<S: serde::Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
                to.collect_str(self)
            }
        }

        impl<'de> serde::Deserialize<'de> for $type {
            fn deserialize<D: serde::Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
                let $text = <std::borrow::Cow<'_, str>>::deserialize(from)?;
                $text.parse().map_err(|$invalid| $error)
            }
        }
    )+};
}

/// The same of few words, all of which a wrong one tells.
macro_rules! as_word {
    ($($type:ty),+ $(,)?) => {$(
        $crate::invalid::as_text!(
            @ |text, _invalid| serde::de::Error::unknown_variant(&text, Self::WORDS); $type
        );
    )+};
}

pub(crate) use {as_text, as_word, words};
