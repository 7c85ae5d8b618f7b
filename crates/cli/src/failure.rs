//! Anything that ends a command or one of its files: a message, what to do next, an exit code.

use crate::exit::Exit;
use crate::object::ErrorObject;
use crate::report::error as words;
use deft_needle_audio::Error as AudioError;
use deft_needle_core::Error as CoreError;
use schemars::{JsonSchema, Schema, SchemaGenerator};
use serde::{Serialize, Serializer};
use serde_json::Value;
use std::borrow::Cow;
use std::io::Write as _;

/// What went wrong.
#[derive(Debug, thiserror::Error)]
pub enum Failure {
    /// With a clip or a spec.
    #[error(transparent)]
    Audio(#[from] AudioError),
    /// With files, names or the ledger.
    #[error(transparent)]
    Core(#[from] CoreError),
    /// With what was typed.
    #[error("{what}")]
    Usage {
        /// What is wrong.
        what: String,
        /// What to type instead.
        instead: String,
    },
    /// A file whose name says something else than its content.
    #[error("{message}")]
    Renamed {
        /// What it is named and what it is.
        message: String,
    },
    /// With one of several clips.
    #[error("{clip}: {source}")]
    Of {
        /// Which.
        clip: String,
        /// What.
        source: Box<Failure>,
    },
    /// With a program of the system's.
    #[error("{what}")]
    Outside {
        /// Which, and why.
        what: String,
    },
}

impl Failure {
    /// Wrong usage.
    pub fn usage(what: impl Into<String>, instead: impl Into<String>) -> Self {
        Self::Usage { what: what.into(), instead: instead.into() }
    }

    /// The same, naming the clip where the message does not.
    pub fn about(self, clip: &std::path::Path) -> Self {
        let clip = clip.to_string_lossy().into_owned();
        match self.message().contains(&clip) {
            true => self,
            false => Self::Of { clip, source: Box::new(self) },
        }
    }

    fn detail(&self) -> Value {
        match self {
            Self::Audio(error) => words::values(error),
            Self::Core(error) => words::detail(error),
            Self::Of { source, .. } => source.detail(),
            _ => Value::Null,
        }
    }

    /// The exit code.
    pub fn exit(&self) -> Exit {
        match self {
            Self::Audio(error) => audio_exit(error),
            Self::Core(error) => core_exit(error),
            Self::Of { source, .. } => source.exit(),
            Self::Usage { .. } => Exit::Usage,
            Self::Renamed { .. } => Exit::Unreadable,
            Self::Outside { .. } => Exit::Unwritten,
        }
    }

    /// What to do next; empty where the message says it all.
    pub fn remedy(&self) -> String {
        match self {
            Self::Audio(error) => words::audio_remedy(error),
            Self::Core(error) => words::core_remedy(error),
            Self::Of { source, .. } => source.remedy(),
            Self::Usage { instead, .. } => instead.clone(),
            Self::Renamed { .. } => {
                "export it as WAV where it was made; renaming converts nothing".to_owned()
            }
            Self::Outside { .. } => String::new(),
        }
    }

    /// The message and the help without the file's name, by which equal errors of several files are known.
    pub fn without_name(&self) -> String {
        match self {
            Self::Of { source, .. } => source.without_name(),
            // The first bytes differ from file to file; what is wrong does not.
            Self::Audio(AudioError::Unknown { .. })
            | Self::Core(CoreError::Audio(AudioError::Unknown { .. })) => self.remedy(),
            _ => {
                let text = format!("{}\n{}", self.message(), self.remedy());
                let place = words::place(&self.detail());
                let name = place.as_ref().and_then(|place| place.get("path")?.as_str());
                name.map_or(text.clone(), |name| text.replace(name, ""))
            }
        }
    }

    /// The line that is wrong, with the place marked below it.
    pub fn excerpt(&self) -> Option<[String; 2]> {
        match self {
            Self::Core(error) => excerpt(error),
            _ => None,
        }
    }

    /// The message with its causes.
    pub fn message(&self) -> String {
        match self {
            Self::Audio(error) => words::audio(error),
            Self::Core(error) => words::core(error),
            Self::Of { clip, source } => format!("{clip}: {}", source.message()),
            other => other.to_string(),
        }
    }
}

/// For a program, as [`words::as_object`].
impl Serialize for Failure {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let detail = self.detail();
        ErrorObject {
            kind: self.exit(),
            message: self.message(),
            r#where: words::place(&detail),
            help: self.remedy(),
            detail,
        }
        .serialize(to)
    }
}

impl JsonSchema for Failure {
    fn schema_name() -> Cow<'static, str> {
        ErrorObject::schema_name()
    }

    fn json_schema(generator: &mut SchemaGenerator) -> Schema {
        ErrorObject::json_schema(generator)
    }
}

/// The line of a sheet that is wrong, with the place marked below it.
pub fn excerpt(error: &CoreError) -> Option<[String; 2]> {
    match error {
        CoreError::Sheet(fault) => fault.excerpt(),
        _ => None,
    }
}

/// The exit code of an error.
pub fn core_exit(error: &CoreError) -> Exit {
    match error {
        CoreError::Audio(error) => audio_exit(error),
        CoreError::Slot { source, .. } => core_exit(source),
        CoreError::Sheet(fault) if fault.is_refused() => Exit::Refused,
        CoreError::Refused { .. }
        | CoreError::StockDamaged { .. }
        | CoreError::Changed { .. }
        | CoreError::Damaged { .. } => Exit::Refused,
        CoreError::Read { .. } => Exit::Unreadable,
        CoreError::Sheet(_) => Exit::Usage,
        _ => Exit::Unwritten,
    }
}

fn audio_exit(error: &AudioError) -> Exit {
    match error {
        AudioError::BadSpec { .. } => Exit::Usage,
        AudioError::CannotMeet(_) => Exit::CannotMeet,
        AudioError::Stopped => Exit::Interrupted,
        AudioError::Write { .. } | AudioError::Verify { .. } => Exit::Unwritten,
        _ => Exit::Unreadable,
    }
}

/// What is said where the program itself is wrong.
pub fn apologise(panic: &std::panic::PanicHookInfo<'_>) {
    let place = panic.location().map(ToString::to_string).unwrap_or_default();
    let said = panic.payload_as_str().unwrap_or_default();
    let version = env!("CARGO_PKG_VERSION");
    let _ = writeln!(
        std::io::stderr(),
        "error: internal error, sorry: {} ({place})\nhelp: please report this line with the command and the \
         version, deft-needle {version}; no original is lost: the next run completes or rolls back what was under way",
        crate::console::safe(said)
    );
}
