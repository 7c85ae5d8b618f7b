//! Paths in what is serialised.

use serde::{Serialize as _, Serializer};
use std::path::{Path, PathBuf};

/// A path as text, whatever its bytes: what is not Unicode becomes U+FFFD.
///
/// # Errors
/// The serializer's.
pub fn lossy<S: Serializer>(path: &Path, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.serialize_str(&path.to_string_lossy())
}

/// The same where there may be none.
///
/// # Errors
/// The serializer's.
pub fn lossy_if_any<S: Serializer>(
    path: &Option<PathBuf>,
    serializer: S,
) -> Result<S::Ok, S::Error> {
    path.as_ref().map(|path| path.to_string_lossy()).serialize(serializer)
}
