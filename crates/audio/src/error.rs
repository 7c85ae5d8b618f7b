//! What can go wrong with a clip, and what to do about it.

use std::io;
use std::path::PathBuf;

/// The result of this crate's functions.
pub type Result<T, E = Error> = std::result::Result<T, E>;

/// What went wrong. [`Error::remedy`] says what to do next.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum Error {
    /// The operating system could not give us bytes of the input.
    #[error("cannot read {path}")]
    Read {
        /// The file, or what stands for it.
        path: PathBuf,
        /// The system's own reason.
        #[source]
        source: io::Error,
    },
    /// The bytes contradict the format that they begin with.
    #[error("{path} is not sound {format}: {what} (at byte {offset})")]
    Malformed {
        /// The file.
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
        path: PathBuf,
        /// What it really is.
        what: String,
    },
    /// First bytes that no known format has.
    #[error("{path} is no sound file that is known here: {what}")]
    Unknown {
        /// The file.
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
    #[error("{what}")]
    CannotMeet {
        /// What does not fit, with the figures.
        what: String,
        /// What the user could ask for instead.
        instead: String,
    },
    /// The output could not be written.
    #[error("cannot write the output")]
    Write(#[source] io::Error),
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

impl Error {
    /// What the user can do next; empty where the message says it all.
    pub fn remedy(&self) -> &str {
        match self {
            Self::Read { source, .. } => match source.kind() {
                io::ErrorKind::NotFound => "check the path: there is no such file",
                io::ErrorKind::PermissionDenied => "give yourself the right to read it",
                io::ErrorKind::IsADirectory => "name a file in that folder instead",
                _ => "check that the disk or card is still there",
            },
            Self::Malformed { .. } => "get the file anew from where it came from",
            Self::Unsupported { .. } => "export it as WAV with PCM samples where it was made",
            Self::Unknown { .. } => {
                "check that it is a sound file at all; swap --as-is places one of a closed format"
            }
            Self::BadSpec { .. } => {
                "write four words: container, encoding, sample rate, channels, \
                 as in \"wav pcm16 24000 mono\""
            }
            Self::CannotMeet { instead, .. } => instead,
            Self::Write(source) => match source.kind() {
                io::ErrorKind::StorageFull => "free some space on that disk or card",
                io::ErrorKind::PermissionDenied | io::ErrorKind::ReadOnlyFilesystem => {
                    "choose a place that you may write to"
                }
                _ => "check that the disk or card is still there and has room",
            },
            Self::Verify { .. } => "nothing was put in place; check the disk, then try again",
            Self::Stopped => "what was finished before is kept, nothing is half-written",
        }
    }
}
