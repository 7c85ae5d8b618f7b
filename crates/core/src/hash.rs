//! Hashes of file contents (BLAKE3).

use crate::error::{Error, Result};
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use std::fmt;
use std::fs::File;
use std::io::{self, Write};
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

/// Hashes what passes through it.
pub struct HashingWriter<W> {
    inner: W,
    hasher: blake3::Hasher,
}

impl<W: Write> HashingWriter<W> {
    /// Passes on to `inner`.
    pub fn new(inner: W) -> Self {
        Self {
            inner,
            hasher: blake3::Hasher::new(),
        }
    }

    /// What it passed on to, and the hash of all that passed.
    pub fn finish(self) -> (W, Hash) {
        (self.inner, Hash(self.hasher.finalize()))
    }
}

impl<W: Write> Write for HashingWriter<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let written = self.inner.write(bytes)?;
        self.hasher.update(&bytes[..written]);
        Ok(written)
    }
    fn flush(&mut self) -> io::Result<()> {
        self.inner.flush()
    }
}
