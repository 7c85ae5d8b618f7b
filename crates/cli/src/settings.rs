//! What the user sets once. What is typed wins over the environment, the environment over the file.

use crate::args::Color;
use crate::failure::Failure;
use clap::ValueEnum as _;
use deft_needle_core::encoder::words;
use deft_needle_core::names::{did_you_mean, nearest};
use etcetera::BaseStrategy as _;
use schemars::JsonSchema;
use serde::Serialize;
use std::io::ErrorKind;
use std::path::{Path, PathBuf};
use std::time::Duration;

/// The variable that names the configuration file.
const FILE: &str = "DEFT_NEEDLE_CONFIG";
/// Bytes that a configuration file may have.
const MOST: u64 = 1 << 16;
/// Threads at most.
pub const MOST_THREADS: usize = 256;

/// A setting: its key in the file, its variable, what it does, its default, and what sets it.
struct Row {
    key: &'static str,
    variable: &'static str,
    about: &'static str,
    default: &'static str,
    expected: &'static str,
    set: fn(&mut Settings, &str) -> Option<()>,
}

const ROWS: &[Row] = &[
    Row {
        key: "color",
        variable: "DEFT_NEEDLE_COLOR",
        about: "Colours: on terminals (auto), always or never",
        default: "auto",
        expected: "auto, always or never",
        set: |settings, text| {
            settings.color = Color::from_str(text, false).ok()?;
            Some(())
        },
    },
    Row {
        key: "plain",
        variable: "DEFT_NEEDLE_PLAIN",
        about: "One fact a line, without drawings, for screen readers",
        default: "false",
        expected: "true or false",
        set: |settings, text| {
            settings.plain = text.parse().ok()?;
            Some(())
        },
    },
    Row {
        key: "threads",
        variable: "DEFT_NEEDLE_THREADS",
        about: "Number of files processed in parallel; 0 is one for each core",
        default: "0",
        expected: "a number from 0 to 1024",
        set: |settings, text| {
            settings.threads = text.parse().ok().filter(|threads| *threads <= MOST_THREADS)?;
            Some(())
        },
    },
    Row {
        key: "progress",
        variable: "DEFT_NEEDLE_PROGRESS",
        about: "Seconds between two updates of the progress line; 0 shows none",
        default: "0.1",
        expected: "seconds, from 0 to 60",
        set: |settings, text| {
            let seconds = text.parse().ok().filter(|seconds| (0.0..=60.0).contains(seconds))?;
            settings.progress = (seconds > 0.0).then(|| Duration::from_secs_f64(seconds));
            Some(())
        },
    },
    Row {
        key: "player",
        variable: "DEFT_NEEDLE_PLAYER",
        about: "Program that hear --open starts, with its arguments [the system's own]",
        default: "",
        expected: "a program and its arguments",
        set: |settings, text| {
            settings.player = words(text);
            Some(())
        },
    },
    Row {
        key: "sheets",
        variable: "DEFT_NEEDLE_SHEETS",
        about: "Folder of your own target sheets, found by name like the built-in ones",
        default: "",
        expected: "a folder",
        set: |settings, text| {
            settings.sheets = (!text.is_empty()).then(|| PathBuf::from(text));
            Some(())
        },
    },
    Row {
        key: "drive-ledgers",
        variable: "DEFT_NEEDLE_DRIVE_LEDGERS",
        about: "Folder for ledgers of roots on other drives than its own, such as cards [in the root]",
        default: "",
        expected: "a folder",
        set: |settings, text| {
            settings.drive_ledgers = (!text.is_empty()).then(|| PathBuf::from(text));
            Some(())
        },
    },
];

/// Where a value comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Origin {
    /// Nobody has set it.
    Default,
    /// The configuration file.
    File,
    /// The environment.
    Environment,
}

/// A setting with its value, for whoever shows them.
#[derive(Debug, Clone, JsonSchema, Serialize)]
pub struct Value {
    /// Its key in the file.
    pub key: &'static str,
    /// Its value as text.
    pub value: String,
    /// Where that comes from.
    pub from: Origin,
    /// The variable that sets it.
    pub variable: &'static str,
    /// What it does.
    pub about: &'static str,
}

/// All settings.
#[derive(Debug, Clone, Default)]
pub struct Settings {
    /// When colours are shown.
    pub color: Color,
    /// Whether results are shown as one fact a line.
    pub plain: bool,
    /// How many files are worked on at once; 0 is one for each core.
    pub threads: usize,
    /// How long until progress is shown again; `None` shows none.
    pub progress: Option<Duration>,
    /// The program that plays, and its arguments; empty is the system's own.
    pub player: Vec<String>,
    /// The folder of the user's own sheets.
    pub sheets: Option<PathBuf>,
    /// The folder of the ledgers of roots on other drives.
    pub drive_ledgers: Option<PathBuf>,
    /// All of them, to be shown.
    pub values: Vec<Value>,
}

/// Where the configuration file is, whether it exists or not; `None` where the system names no place.
pub fn file() -> Option<PathBuf> {
    match std::env::var_os(FILE).filter(|named| !named.is_empty()) {
        Some(named) => Some(PathBuf::from(named)),
        None => {
            let folder = etcetera::choose_base_strategy().ok()?.config_dir();
            Some(folder.join("deft-needle").join("config.toml"))
        }
    }
}

impl Settings {
    /// Reads the file and the environment.
    ///
    /// # Errors
    /// [`Failure::Usage`] for what is not understood there.
    pub fn read() -> Result<Self, Failure> {
        let path = file();
        let table = path.as_deref().map(table_of).transpose()?.unwrap_or_default();
        let shown = path.unwrap_or_default().display().to_string();
        if let Some(odd) = table.keys().find(|key| ROWS.iter().all(|row| row.key != **key)) {
            let near = nearest(odd, ROWS.iter().map(|row| row.key), 3);
            let keys = ROWS.iter().map(|row| row.key).collect::<Vec<_>>().join(", ");
            let help = did_you_mean(&near).unwrap_or_else(|| format!("known are: {keys}"));
            return Err(Failure::usage(format!("{shown}: unknown setting \"{odd}\""), help));
        }
        let variable = |row: &Row| std::env::var(row.variable).ok().filter(|v| !v.is_empty());
        Self::of(|row| match (variable(row), table.get(row.key)) {
            (Some(text), _) => (text, Origin::Environment, row.variable.to_owned()),
            (None, Some(toml::Value::String(text))) => (text.clone(), Origin::File, shown.clone()),
            (None, Some(value)) => (value.to_string(), Origin::File, shown.clone()),
            (None, None) => (row.default.to_owned(), Origin::Default, String::new()),
        })
    }

    /// What holds where nothing is set.
    pub fn usual() -> Self {
        Self::of(|row| (row.default.to_owned(), Origin::Default, String::new())).unwrap_or_default()
    }

    fn of(value: impl Fn(&Row) -> (String, Origin, String)) -> Result<Self, Failure> {
        let mut settings = Self::default();
        for row in ROWS {
            let (text, from, place) = value(row);
            (row.set)(&mut settings, &text).ok_or_else(|| {
                let key = if from == Origin::File { row.key } else { row.variable };
                let place = if from == Origin::File { format!("{place}: ") } else { String::new() };
                Failure::usage(
                    format!("{place}invalid {key} \"{text}\": expected {}", row.expected),
                    format!("by default it is \"{}\"", row.default),
                )
            })?;
            settings.values.push(Value {
                key: row.key,
                value: text,
                from,
                variable: row.variable,
                about: row.about,
            });
        }
        Ok(settings)
    }
}

fn table_of(path: &Path) -> Result<toml::Table, Failure> {
    let unreadable = |reason: String| {
        let what = format!("{}: cannot read the configuration: {reason}", path.display());
        Failure::usage(what, "correct the file, or name another one with DEFT_NEEDLE_CONFIG")
    };
    let bytes = match deft_needle_core::disk::read_plain(path, MOST) {
        Ok(bytes) => bytes,
        Err(error) if error.kind() == ErrorKind::NotFound => return Ok(toml::Table::new()),
        Err(error) => return Err(unreadable(error.to_string())),
    };
    let text = String::from_utf8(bytes).map_err(|error| unreadable(error.to_string()))?;
    text.parse().map_err(|error: toml::de::Error| {
        let line = error.span().map_or(1, |span| text[..span.start].matches('\n').count() + 1);
        unreadable(format!("line {line}: {}", error.message()))
    })
}
