//! Values of sheets that are written as text: paths, sizes, sets of characters, one or many.

use crate::limits;
use crate::names::{is_own, reserved};
use crate::refusal::fault::clipped;
use deft_needle_audio::Invalid;
use regex::{Regex, RegexBuilder};
use schemars::JsonSchema;
use serde::de::value::{MapAccessDeserializer, SeqAccessDeserializer};
use serde::de::{Error as _, MapAccess, SeqAccess, Visitor};
use serde::{Deserialize, Deserializer, Serialize};
use std::fmt;
use std::marker::PhantomData;
use std::str::FromStr;

/// A regular expression, which takes no more than [`limits::PATTERN`].
///
/// # Errors
/// What is wrong with it.
pub fn expression<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Option<Regex>, D::Error> {
    let text = String::deserialize(deserializer)?;
    let built = RegexBuilder::new(&text)
        .size_limit(limits::PATTERN)
        .dfa_size_limit(limits::PATTERN)
        .build();
    built.map(Some).map_err(D::Error::custom)
}

/// One value or a list of them.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(transparent)]
pub struct OneOrMany<T>(pub Vec<T>);

impl<T> Default for OneOrMany<T> {
    fn default() -> Self {
        Self(Vec::new())
    }
}

/// Tells one from many without losing the place of what is wrong within.
impl<'de, T: Deserialize<'de>> Deserialize<'de> for OneOrMany<T> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Either<T>(PhantomData<T>);
        impl<'de, T: Deserialize<'de>> Visitor<'de> for Either<T> {
            type Value = Vec<T>;
            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("a value or a list of values")
            }
            fn visit_str<E: serde::de::Error>(self, value: &str) -> Result<Vec<T>, E> {
                T::deserialize(serde::de::value::StrDeserializer::new(value)).map(|one| vec![one])
            }
            fn visit_i64<E: serde::de::Error>(self, value: i64) -> Result<Vec<T>, E> {
                T::deserialize(serde::de::value::I64Deserializer::new(value)).map(|one| vec![one])
            }
            fn visit_map<A: MapAccess<'de>>(self, map: A) -> Result<Vec<T>, A::Error> {
                T::deserialize(MapAccessDeserializer::new(map)).map(|one| vec![one])
            }
            fn visit_seq<A: SeqAccess<'de>>(self, seq: A) -> Result<Vec<T>, A::Error> {
                Vec::deserialize(SeqAccessDeserializer::new(seq))
            }
        }
        deserializer.deserialize_any(Either(PhantomData)).map(Self)
    }
}

/// A path below a root or beside a sheet, with `/` between its folders: it leads out nowhere.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(transparent)]
pub struct Within(pub String);

/// Double quotes turn `\n` and `\t` of a Windows path into such characters.
pub(crate) const NO_CONTROL: &str = "one without control characters: in double quotes \\t and \\n are \
     a tab and a new line, so write paths in single quotes";

/// Bytes of a path at most (`PATH_MAX` of most systems).
const LONGEST: usize = 4096;

impl FromStr for Within {
    type Err = Invalid;

    /// Reads a path with `/` or `\` between its folders; `.` is the folder itself.
    fn from_str(text: &str) -> Result<Self, Invalid> {
        if text.chars().any(char::is_control) {
            return Err(Invalid::new("path", &clipped(text), NO_CONTROL));
        }
        let path = text.replace('\\', "/");
        if path == "." {
            return Ok(Self(path));
        }
        let expected = if path.is_empty() {
            Some("one that is not empty")
        } else if path.starts_with('/') || path.contains(':') {
            Some("one relative to its root, not an absolute one")
        } else if path.split('/').any(|part| part == "..") {
            Some("one that does not lead out of its folder")
        } else if path.split('/').any(|part| matches!(part, "" | ".")) {
            Some("one without empty parts")
        } else if path.split('/').any(is_own) {
            Some("one outside the ledger")
        } else if path.len() > LONGEST {
            Some("one as short as file systems take (4096 bytes)")
        } else if path.split('/').any(reserved) {
            Some("one without the name of a Windows device")
        } else {
            None
        };
        match expected {
            Some(expected) => Err(Invalid::new("path", &clipped(text), expected)),
            None => Ok(Self(path)),
        }
    }
}

impl<'de> Deserialize<'de> for Within {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        text.parse().map_err(D::Error::custom)
    }
}

/// A number of bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, JsonSchema, Serialize)]
#[serde(transparent)]
pub struct Size(pub u64);

impl FromStr for Size {
    type Err = Invalid;

    /// Reads `48KiB`, `1.5MiB`, `200kB`, `1200B`, and `0`.
    fn from_str(text: &str) -> Result<Self, Invalid> {
        if text == "0" {
            return Ok(Self(0));
        }
        const UNITS: [(&str, f64); 7] = [
            ("KiB", 1024.0),
            ("MiB", 1_048_576.0),
            ("GiB", 1_073_741_824.0),
            ("kB", 1e3),
            ("MB", 1e6),
            ("GB", 1e9),
            ("B", 1.0),
        ];
        let bad =
            || Invalid::new("size", &clipped(text), "one such as 48KiB, 1.5MiB, 200kB or 1200B");
        let (digits, unit) = UNITS
            .iter()
            .find_map(|(unit, bytes)| Some((text.strip_suffix(unit)?.trim_end(), bytes)))
            .ok_or_else(bad)?;
        let plain = !digits.is_empty() && digits.bytes().all(|b| b.is_ascii_digit() || b == b'.');
        let value: f64 = digits.parse().ok().filter(|_| plain).ok_or_else(bad)?;
        Ok(Self(deft_needle_audio::num::rounded(value * unit)))
    }
}

impl fmt::Display for Size {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let bytes = deft_needle_audio::num::real(self.0);
        match self.0 {
            0..=9_999 => write!(f, "{} bytes", self.0),
            10_000..=1_048_575 => write!(f, "{:.1} KiB", bytes / 1024.0),
            1_048_576..=1_073_741_823 => write!(f, "{:.2} MiB", bytes / 1_048_576.0),
            _ => write!(f, "{:.1} GiB", bytes / 1_073_741_824.0),
        }
    }
}

/// The first bytes of a file, written as in `4C 42 58 31`; `??` is any byte.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(into = "String")]
pub struct FirstBytes(pub Vec<Option<u8>>);

impl FirstBytes {
    /// Just these.
    pub fn of(bytes: &[u8]) -> Self {
        Self(bytes.iter().copied().map(Some).collect())
    }

    /// Whether a file that begins so has them.
    pub fn begin(&self, head: &[u8]) -> bool {
        head.len() >= self.0.len()
            && self.0.iter().zip(head).all(|(known, byte)| known.is_none_or(|known| known == *byte))
    }

    /// What a file that begins so has in their place.
    pub fn found(&self, head: &[u8]) -> Self {
        let byte = |(known, byte): (&Option<u8>, &u8)| known.map(|_| *byte);
        Self(self.0.iter().zip(head).map(byte).collect())
    }
}

impl FromStr for FirstBytes {
    type Err = Invalid;

    fn from_str(text: &str) -> Result<Self, Invalid> {
        let byte = |pair: &str| match pair {
            "??" => Some(None),
            pair if pair.len() == 2 => u8::from_str_radix(pair, 16).ok().map(Some),
            _ => None,
        };
        let bytes: Option<Vec<Option<u8>>> = text.split_whitespace().map(byte).collect();
        let sound = |bytes: &Vec<Option<u8>>| {
            (1..=64).contains(&bytes.len()) && bytes.iter().any(Option::is_some)
        };
        bytes.filter(sound).map(Self).ok_or_else(|| {
            let expected = "one as in 4C 42 58 31, with ?? for any byte";
            Invalid::new("row of bytes", &clipped(text), expected)
        })
    }
}

impl<'de> Deserialize<'de> for FirstBytes {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer)?.parse().map_err(D::Error::custom)
    }
}

impl fmt::Display for FirstBytes {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let pair = |byte: &Option<u8>| byte.map_or("??".to_owned(), |byte| format!("{byte:02X}"));
        let pairs: Vec<String> = self.0.iter().map(pair).collect();
        f.write_str(&pairs.join(" "))
    }
}

impl From<FirstBytes> for String {
    fn from(bytes: FirstBytes) -> Self {
        bytes.to_string()
    }
}

/// A TOML string, in single quotes wherever those can hold it.
pub fn quoted(text: &str) -> String {
    match text.contains('\'') || text.chars().any(char::is_control) {
        true => toml::Value::String(text.to_owned()).to_string(),
        false => format!("'{text}'"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_lead_out_nowhere() {
        for (text, want) in [("a/b c.wav", "a/b c.wav"), (r"a\b.ogg", "a/b.ogg"), (".", ".")] {
            assert_eq!(text.parse(), Ok(Within(want.to_owned())));
        }
        for (text, part) in [
            ("../x", "lead out"),
            ("a/../../x", "lead out"),
            (r"..\x", "lead out"),
            ("/etc/x", "absolute"),
            ("C:/x", "absolute"),
            ("", "empty"),
            ("a//b", "empty part"),
            ("C:\new\tones", "single quotes"),
            ("a/.deft-needle/x", "ledger"),
            ("sfx/NUL.wav", "device"),
            ("aux", "device"),
        ] {
            let error = text.parse::<Within>().unwrap_err().expected;
            assert!(error.contains(part), "{text}: {error}");
        }
    }

    #[test]
    fn sizes_and_bytes() {
        for (text, bytes) in
            [("48KiB", 49_152), ("1.5MiB", 1_572_864), ("200kB", 200_000), ("7B", 7)]
        {
            assert_eq!(text.parse(), Ok(Size(bytes)));
        }
        for text in ["48", "x KiB", "-1B", "1e9B", "KiB"] {
            assert!(text.parse::<Size>().is_err(), "{text}");
        }
        assert_eq!("4c 42".parse::<FirstBytes>().unwrap().to_string(), "4C 42");
        let gap: FirstBytes = "4C ?? 58".parse().unwrap();
        assert!(gap.begin(b"L.X1") && !gap.begin(b"L.Y") && !gap.begin(b"L."));
        assert_eq!(
            (gap.to_string(), gap.found(b"aXY")),
            ("4C ?? 58".to_owned(), "61 ?? 59".parse().unwrap())
        );
        for text in ["4C4", "?? ??", "4G", ""] {
            assert!(text.parse::<FirstBytes>().is_err(), "{text}");
        }
    }
}
