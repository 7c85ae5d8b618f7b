//! What can go wrong with files, names and ledgers.

use crate::names::{Key, NotWithin};
use crate::refusal::{
    Fault, OddArchive, OddCaches, OddJob, OddLedger, OddPack, OddPath, OddSlot, OutsideFault,
    Refusal,
};
use schemars::JsonSchema;
use serde::{Serialize, Serializer};
use std::io;
use std::path::{Path, PathBuf};

/// The result of this crate's functions.
pub type Result<T, E = Error> = std::result::Result<T, E>;

/// What went wrong. Whoever shows it words it, and says what to do next.
#[derive(Debug, thiserror::Error, JsonSchema, Serialize)]
#[serde(tag = "error", content = "of", rename_all = "kebab-case")]
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
    #[error("refused: {0:?}")]
    Refused(Box<Refusal>),
    /// An output, a slot or the ledger could not be written.
    #[error("cannot {action} {path}")]
    Write {
        /// What was tried: `write`, `rename`, `remove`, …
        action: &'static str,
        /// The file or folder.
        #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
        path: PathBuf,
        /// The system's own reason.
        #[source]
        #[serde(serialize_with = "reason")]
        #[schemars(with = "String")]
        source: io::Error,
    },
    /// A file or folder could not be read.
    #[error("cannot read {path}")]
    Read {
        /// The file or folder.
        #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
        path: PathBuf,
        /// The system's own reason.
        #[source]
        #[serde(serialize_with = "reason")]
        #[schemars(with = "String")]
        source: io::Error,
    },
    /// A command of the user's failed.
    #[error("the {role} {program} failed: {why:?}")]
    Outside {
        /// What it is for: `encoder` or `voice`.
        role: &'static str,
        /// The program.
        program: String,
        /// How it failed.
        why: OutsideFault,
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
        #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
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
        #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
        path: PathBuf,
    },
}

/// A system's reason as text.
fn reason<S: Serializer>(source: &io::Error, to: S) -> std::result::Result<S::Ok, S::Error> {
    to.collect_str(source)
}

impl From<Refusal> for Error {
    fn from(refusal: Refusal) -> Self {
        Self::Refused(Box::new(refusal))
    }
}

impl Error {
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
}

impl From<Fault> for Error {
    fn from(fault: Fault) -> Self {
        Self::Sheet(Box::new(fault))
    }
}

impl From<NotWithin> for Error {
    fn from(NotWithin { typed, why }: NotWithin) -> Self {
        Refusal::NotWithin { typed, why }.into()
    }
}

impl OddPath {
    /// A refusal of this path.
    pub fn of(self, path: impl Into<PathBuf>) -> Error {
        Refusal::Path { path: path.into(), why: self }.into()
    }
}

impl OddSlot {
    /// A refusal of this slot.
    pub fn of(self, slot: impl Into<String>) -> Error {
        Refusal::Slot { slot: slot.into(), why: self }.into()
    }
}

impl OddArchive {
    /// A refusal of this archive.
    pub fn of(self, path: impl Into<PathBuf>) -> Error {
        Refusal::Archive { path: path.into(), why: self }.into()
    }
}

impl From<OddLedger> for Error {
    fn from(why: OddLedger) -> Self {
        Refusal::Ledger(why).into()
    }
}

impl From<OddJob> for Error {
    fn from(why: OddJob) -> Self {
        Refusal::Job(why).into()
    }
}

impl From<OddPack> for Error {
    fn from(why: OddPack) -> Self {
        Refusal::Pack(why).into()
    }
}

impl From<OddCaches> for Error {
    fn from(why: OddCaches) -> Self {
        Refusal::Caches(why).into()
    }
}

/// A fault of the program's own.
pub(crate) fn internal(what: impl Into<String>) -> Error {
    Refusal::Internal { what: what.into() }.into()
}
