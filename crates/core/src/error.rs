//! What can go wrong with files, names and ledgers.

use crate::names::Key;
use crate::sheet::Fault;
use std::io;
use std::path::{Path, PathBuf};

/// The result of this crate's functions.
pub type Result<T, E = Error> = std::result::Result<T, E>;

/// What went wrong. [`Error::remedy`] says what to do next.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum Error {
    /// Something about the clip or the spec.
    #[error(transparent)]
    Audio(#[from] deft_needle_audio::Error),
    /// Something about one slot of a job.
    #[error("{slot} ({clip}): {source}")]
    Slot {
        /// The slot.
        slot: String,
        /// The clip that was meant for it.
        clip: String,
        /// What is wrong.
        source: Box<Error>,
    },
    /// What was asked is not done to this target.
    #[error("{what}")]
    Refused {
        /// What and where.
        what: String,
        /// What to do instead.
        instead: String,
    },
    /// An output, a slot or the ledger could not be written.
    #[error("cannot {action} {path}")]
    Write {
        /// What was tried: `write`, `rename`, `remove`, …
        action: &'static str,
        /// The file or folder.
        path: PathBuf,
        /// The system's own reason.
        #[source]
        source: io::Error,
    },
    /// A file or folder could not be read.
    #[error("cannot read {path}")]
    Read {
        /// The file or folder.
        path: PathBuf,
        /// The system's own reason.
        #[source]
        source: io::Error,
    },
    /// A command of the user's failed.
    #[error("{what}")]
    Outside {
        /// Which, and how.
        what: String,
        /// What to do next.
        instead: String,
    },
    /// A sheet or a list that is wrong where it stands.
    #[error("{0}")]
    Sheet(Box<Fault>),
    /// A slot holds neither what was installed nor its stock.
    #[error("{slot} was changed since it was installed")]
    Changed {
        /// The slot.
        slot: Key,
    },
    /// Both files of a ledger's log are damaged or gone, and so it does not know its copies of stock.
    #[error(
        "the ledger in {ledger} is damaged: it does not know where its {copies} kept originals belong"
    )]
    Damaged {
        /// The ledger's folder.
        ledger: PathBuf,
        /// How many copies it keeps.
        copies: usize,
    },
    /// A copy of stock is missing, or not what it was when it was taken.
    #[error("the kept stock of {slot} is missing or damaged: {path}")]
    StockDamaged {
        /// The slot.
        slot: String,
        /// The copy.
        path: PathBuf,
    },
}

impl Error {
    /// A refusal.
    pub fn refused(what: impl Into<String>, instead: impl Into<String>) -> Self {
        Self::Refused { what: what.into(), instead: instead.into() }
    }

    /// For `map_err` behind a call that reads.
    pub fn read(path: &Path) -> impl FnOnce(io::Error) -> Self + use<> {
        let path = path.to_owned();
        move |source| Self::Read { path, source }
    }

    /// For `map_err` behind a call that changes the disk.
    pub fn write(action: &'static str, path: &Path) -> impl FnOnce(io::Error) -> Self + use<> {
        let path = path.to_owned();
        move |source| Self::Write { action, path, source }
    }

    /// Whether a disk is full.
    pub fn is_full(&self) -> bool {
        let full = [io::ErrorKind::StorageFull, io::ErrorKind::QuotaExceeded];
        matches!(self, Self::Write { source, .. } if full.contains(&source.kind()))
    }

    /// Whether something is not there.
    pub fn is_absent(&self) -> bool {
        let absent = |source: &io::Error| source.kind() == io::ErrorKind::NotFound;
        matches!(self, Self::Write { source, .. } | Self::Read { source, .. } if absent(source))
    }

    /// What the user can do next; empty where the message says it all.
    pub fn remedy(&self) -> &str {
        match self {
            // What can go wrong with a clip is worded where it is shown.
            Self::Audio(_) => "",
            Self::Sheet(fault) => &fault.instead,
            Self::Slot { source, .. } => source.remedy(),
            Self::Refused { instead, .. } | Self::Outside { instead, .. } => instead,
            Self::Write { source, .. } => match source.kind() {
                io::ErrorKind::StorageFull => "free some space on that disk or card",
                io::ErrorKind::ReadOnlyFilesystem => {
                    "the disk or card is write-protected: unlock it"
                }
                io::ErrorKind::PermissionDenied => {
                    "check that you may write there, and close the game or program that holds the file"
                }
                io::ErrorKind::NotFound => "check that the folder exists and the card is in",
                io::ErrorKind::InvalidFilename => {
                    "the name is too long for that disk, or has characters that it does not take"
                }
                io::ErrorKind::QuotaExceeded => {
                    "free some space: your quota on that disk is used up"
                }
                _ => "check that the disk or card is still there; close what holds the file",
            },
            Self::Read { source, .. } => match source.kind() {
                io::ErrorKind::NotFound => "check the path: there is nothing there",
                io::ErrorKind::PermissionDenied => "you need permission to read it",
                _ => "check that the disk or card is still there",
            },
            Self::StockDamaged { .. } => {
                "copy the original from the target's maker; the slot was left as it is"
            }
            Self::Changed { .. } => {
                "add --changed overwrite to restore the stock (what is there now is kept in the ledger), \
                 or --changed keep to leave it"
            }
            Self::Damaged { .. } => {
                "nothing was changed: run deft-needle rescue ROOT to restore what is sure"
            }
        }
    }
}
