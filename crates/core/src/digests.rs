//! Digests of finished files, as lists of targets hold them.

use crate::error::{Error, Result};
use deft_needle_audio::read::open_regular;
use md5::{Digest as _, Md5};
use serde_json::Value;
use sha1::Sha1;
use sha2::Sha256;
use std::io::Read as _;
use std::path::Path;

/// What templates call them.
pub const NAMES: [&str; 5] = ["bytes", "crc32", "md5", "sha1", "sha256"];

/// A file's size, and its digests in small hexadecimal digits.
pub type Digests = [Value; NAMES.len()];

/// Those of a file: CRC-32 (ISO 3309), MD5 (RFC 1321), SHA-1 and SHA-256 (FIPS 180-4).
///
/// # Errors
/// [`Error::Read`].
pub fn of_file(path: &Path) -> Result<Digests> {
    let mut file = open_regular(path).map_err(Error::read(path))?;
    let (mut bytes, mut crc) = (0, crc32fast::Hasher::new());
    let (mut md5, mut sha1, mut sha256) = (Md5::new(), Sha1::new(), Sha256::new());
    let mut buffer = vec![0; 1 << 16];
    loop {
        let read = file.read(&mut buffer).map_err(Error::read(path))?;
        let block = &buffer[..read];
        if block.is_empty() {
            break;
        }
        bytes += deft_needle_audio::num::count(read);
        crc.update(block);
        md5.update(block);
        sha1.update(block);
        sha256.update(block);
    }
    let hex =
        |digest: &[u8]| Value::from(digest.iter().map(|b| format!("{b:02x}")).collect::<String>());
    Ok([
        Value::from(bytes),
        Value::from(format!("{:08x}", crc.finalize())),
        hex(&md5.finalize()),
        hex(&sha1.finalize()),
        hex(&sha256.finalize()),
    ])
}

/// Whether a template names one of them.
pub fn named_in(template: &str) -> bool {
    let named = |place: &str| {
        let name = place.split(['}', '|', '*', '/']).next().unwrap_or_default().trim();
        NAMES.contains(&name)
    };
    template.split('{').skip(1).any(named)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_standards_own_examples() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("x");
        std::fs::write(&path, "abc").unwrap();
        let found = of_file(&path).unwrap();
        assert_eq!(found[0], 3);
        assert_eq!(found[1], "352441c2");
        assert_eq!(found[2], "900150983cd24fb0d6963f7d28e17f72");
        assert_eq!(found[3], "a9993e364706816aba3e25717850c26c9cd0d89d");
        assert_eq!(found[4], "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad");
        assert!(named_in("a {sha1} b") && named_in("{bytes*2}"));
        assert!(!named_in("sha1") && !named_in("{sha}"));
    }
}
