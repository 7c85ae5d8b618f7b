//! Bytes at places of a file, and numbers in them; nothing is allocated beyond what the file holds.

use super::ReadSeek;
use crate::error::{Error, Result};
use crate::num::{count, size};
use std::io::{self, SeekFrom};
use std::path::{Path, PathBuf};

/// A file whose headers are being read.
pub struct Bytes<'a> {
    file: &'a mut dyn ReadSeek,
    path: PathBuf,
    format: &'static str,
    length: u64,
}

impl<'a> Bytes<'a> {
    /// Measures the file; `format` names it in errors.
    pub fn new(file: &'a mut dyn ReadSeek, path: &Path, format: &'static str) -> Result<Self> {
        let mut bytes = Self { file, path: path.to_owned(), format, length: 0 };
        bytes.length = bytes.io(|file| file.seek(SeekFrom::End(0)))?;
        Ok(bytes)
    }

    /// The whole file, in bytes.
    pub fn length(&self) -> u64 {
        self.length
    }

    /// Up to `bytes` bytes from `offset`; fewer where the file ends.
    pub fn at(&mut self, offset: u64, bytes: u64) -> Result<Vec<u8>> {
        let bytes = bytes.min(self.length.saturating_sub(offset));
        let mut contents = vec![0; size(bytes)];
        let filled = self.io(|file| {
            file.seek(SeekFrom::Start(offset))?;
            let mut filled = 0;
            while filled < contents.len() {
                match file.read(&mut contents[filled..]) {
                    Ok(0) => break,
                    Ok(n) => filled += n,
                    Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                    Err(error) => return Err(error),
                }
            }
            Ok(count(filled))
        })?;
        contents.truncate(size(filled));
        Ok(contents)
    }

    /// An error at a place of this file.
    pub fn malformed(&self, what: &str, offset: u64) -> Error {
        Error::Malformed {
            path: self.path.clone(),
            format: self.format,
            what: what.to_owned(),
            offset,
        }
    }

    /// What is known, but not decoded here.
    pub fn unsupported(&self, what: String) -> Error {
        Error::Unsupported { path: self.path.clone(), what }
    }

    fn io(&mut self, act: impl FnOnce(&mut dyn ReadSeek) -> io::Result<u64>) -> Result<u64> {
        act(self.file).map_err(|source| Error::Read { path: self.path.clone(), source })
    }
}

fn field<const N: usize>(bytes: &[u8], at: usize) -> Option<[u8; N]> {
    bytes.get(at..at.checked_add(N)?)?.try_into().ok()
}

/// A big-endian 16-bit number at `at`.
pub fn be16(bytes: &[u8], at: usize) -> Option<u16> {
    field(bytes, at).map(u16::from_be_bytes)
}

/// A big-endian 32-bit number at `at`.
pub fn be32(bytes: &[u8], at: usize) -> Option<u32> {
    field(bytes, at).map(u32::from_be_bytes)
}

/// A big-endian 64-bit number at `at`.
pub fn be64(bytes: &[u8], at: usize) -> Option<u64> {
    field(bytes, at).map(u64::from_be_bytes)
}

/// A little-endian 16-bit number at `at`.
pub fn le16(bytes: &[u8], at: usize) -> Option<u16> {
    field(bytes, at).map(u16::from_le_bytes)
}

/// A little-endian 32-bit number at `at`.
pub fn le32(bytes: &[u8], at: usize) -> Option<u32> {
    field(bytes, at).map(u32::from_le_bytes)
}

/// A little-endian 64-bit number at `at`.
pub fn le64(bytes: &[u8], at: usize) -> Option<u64> {
    field(bytes, at).map(u64::from_le_bytes)
}

/// Four letters at `at`.
pub fn four(bytes: &[u8], at: usize) -> Option<[u8; 4]> {
    field(bytes, at)
}

/// Text of a header: UTF-8, else Latin-1, up to the first NUL, without the spaces around it.
pub fn text(bytes: &[u8]) -> String {
    let bytes = bytes.split(|&b| b == 0).next().unwrap_or_default();
    let text = match std::str::from_utf8(bytes) {
        Ok(text) => text.to_owned(),
        Err(_) => bytes.iter().copied().map(char::from).collect(),
    };
    text.trim().to_owned()
}
