//! Hashes of file contents (BLAKE3).

use crate::error::{Error, Result};
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use std::fmt;
use std::fs::File;
use std::path::Path;

/// The hash of some bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Hash(blake3::Hash);

impl Hash {
    /// Of bytes in memory.
    pub fn of(bytes: &[u8]) -> Self {
        Self(blake3::hash(bytes))
    }

    /// Of a file.
    ///
    /// # Errors
    /// [`Error::Read`].
    pub fn of_file(path: &Path) -> Result<Self> {
        let read = || {
            let mut hasher = blake3::Hasher::new();
            hasher.update_reader(File::open(path)?)?;
            Ok(Self(hasher.finalize()))
        };
        read().map_err(Error::read(path))
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
