//! Paths in what is serialised.

use serde::Serializer;
use std::path::Path;

/// A path as text, whatever its bytes: what is not Unicode becomes U+FFFD.
///
/// # Errors
/// The serializer's.
pub fn lossy<S: Serializer>(path: &Path, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.serialize_str(&path.to_string_lossy())
}
