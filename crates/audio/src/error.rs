//! What can go wrong with a clip.

use crate::unmet::Unmet;
use schemars::JsonSchema;
use serde::{Serialize, Serializer};
use std::io;
use std::path::PathBuf;

/// The result of this crate's functions.
pub type Result<T, E = Error> = std::result::Result<T, E>;

/// What went wrong. Whoever shows it words it, and says what to do next.
#[derive(Debug, thiserror::Error, JsonSchema, Serialize)]
#[serde(tag = "error", rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Error {
    /// The operating system could not give us bytes of the input.
    #[error("cannot read {path}")]
    Read {
        /// The file, or what stands for it.
        #[serde(serialize_with = "crate::path_text::lossy")]
        path: PathBuf,
        /// The system's own reason.
        #[source]
        #[serde(serialize_with = "reason")]
        #[schemars(with = "String")]
        source: io::Error,
    },
    /// The bytes contradict the format that they begin with.
    #[error("{path} is not a valid {format} file: {what} (at byte {offset})")]
    Malformed {
        /// The file.
        #[serde(serialize_with = "crate::path_text::lossy")]
        path: PathBuf,
        /// The format that its first bytes claim.
        format: &'static str,
        /// What contradicts it.
        what: String,
        /// Where in the file.
        offset: u64,
    },
    /// A format or encoding that is known, but not decoded here.
    #[error("{path} holds {what}, which cannot be decoded here")]
    Unsupported {
        /// The file.
        #[serde(serialize_with = "crate::path_text::lossy")]
        path: PathBuf,
        /// What it really is.
        what: String,
    },
    /// First bytes that no known format has.
    #[error("{path} is not a recognised audio file: {what}")]
    Unknown {
        /// The file.
        #[serde(serialize_with = "crate::path_text::lossy")]
        path: PathBuf,
        /// What its first bytes look like.
        what: String,
    },
    /// A spec line that says nothing, too much, or a contradiction.
    #[error("spec \"{line}\": {what}")]
    BadSpec {
        /// The line as it was typed.
        line: String,
        /// What is wrong with which word, and what it could be.
        what: String,
    },
    /// A spec that this clip cannot meet.
    #[error("the clip cannot be made so: {0:?}")]
    CannotMeet(Unmet),
    /// The output could not be written.
    #[error("cannot write the output")]
    Write {
        /// The system's own reason.
        #[source]
        #[serde(serialize_with = "reason")]
        #[schemars(with = "String")]
        source: io::Error,
    },
    /// The written file, read back, is not what was meant.
    #[error("the written file does not hold what was meant: {what}")]
    Verify {
        /// Expected and found.
        what: String,
    },
    /// The user stopped it.
    #[error("stopped")]
    Stopped,
}

/// A system's reason as text.
fn reason<S: Serializer>(source: &io::Error, to: S) -> std::result::Result<S::Ok, S::Error> {
    to.collect_str(source)
}

impl Error {
    /// For `map_err` behind a call that writes.
    pub(crate) fn write(source: io::Error) -> Self {
        Self::Write { source }
    }
}
