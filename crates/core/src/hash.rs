//! Hashes of file contents (BLAKE3).

use crate::error::{Error, Result};
use deft_needle_audio::read::open_regular;
use schemars::JsonSchema;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use std::cmp::Ordering;
use std::fmt;
use std::path::Path;

/// The hash of some bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Hash(blake3::Hash);

impl PartialOrd for Hash {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for Hash {
    fn cmp(&self, other: &Self) -> Ordering {
        self.0.as_bytes().cmp(other.0.as_bytes())
    }
}

impl Hash {
    /// Of bytes in memory.
    pub fn of(bytes: &[u8]) -> Self {
        Self(blake3::hash(bytes))
    }

    /// Of all that can be read.
    ///
    /// # Errors
    /// The system's.
    pub fn of_reader(bytes: &mut dyn std::io::Read) -> std::io::Result<Self> {
        let mut hasher = blake3::Hasher::new();
        hasher.update_reader(bytes)?;
        Ok(Self(hasher.finalize()))
    }

    /// Of a regular file; links are followed.
    ///
    /// # Errors
    /// [`Error::Read`], for a pipe or a device, too.
    pub fn of_file(path: &Path) -> Result<Self> {
        open_regular(path)
            .and_then(|mut file| Self::of_reader(&mut file))
            .map_err(Error::read(path))
    }

    /// All 64 hexadecimal digits.
    pub fn hex(&self) -> String {
        self.0.to_hex().to_string()
    }
}

impl fmt::Display for Hash {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.hex())
    }
}

impl JsonSchema for Hash {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "Hash".into()
    }

    fn json_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
        schemars::json_schema!({ "type": "string", "pattern": "^[0-9a-f]{64}$" })
    }
}

impl Serialize for Hash {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&self.hex())
    }
}

impl<'de> Deserialize<'de> for Hash {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let hex = String::deserialize(deserializer)?;
        let hash = blake3::Hash::from_hex(&hex).map_err(serde::de::Error::custom)?;
        Ok(Self(hash))
    }
}
