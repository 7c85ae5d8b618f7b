//! What `--json` prints, an object for each command. The schemas in `docs/json/` are made from these types.

use crate::commands::check::FileCheck;
use crate::commands::doctor::Checked as CheckedRoot;
use crate::commands::fit::FitLine;
use crate::commands::inspect::Inspection;
use crate::commands::slots::One;
use crate::exit::Exit;
use crate::failure::Failure;
use crate::settings;
use deft_needle_audio::Plan;
use deft_needle_audio::seam::{Candidate, Judgement, Smoothing};
use deft_needle_core::check::{Checked, Whole};
use deft_needle_core::disk::Promises;
use deft_needle_core::ledger::rescue::Rescue;
use deft_needle_core::names::Key;
use deft_needle_core::run::{EntryStatus, JobPlan, KeptCopy, KeptDone, Restored, SlotStatus};
use deft_needle_core::slots::Group;
use schemars::JsonSchema;
use serde::Serialize;
use serde_json::{Map, Value};

/// Any command that fails, and wrong usage.
#[derive(JsonSchema, Serialize)]
pub struct Failed<'a> {
    /// What went wrong.
    pub error: &'a Failure,
    /// The exit code.
    pub exit: u8,
}

/// An error in words and in values.
#[derive(JsonSchema, Serialize)]
pub struct ErrorObject {
    /// What kind it is.
    pub kind: Exit,
    /// What is wrong.
    pub message: String,
    /// Where: what is known of `path`, `slot`, `clip`, `line`, `column`.
    pub r#where: Option<Map<String, Value>>,
    /// What to do next; empty where the message says it.
    pub help: String,
    /// Its values, where they are known.
    pub detail: Value,
}

/// `--version`.
#[derive(JsonSchema, Serialize)]
pub struct Version {
    /// Its name.
    pub program: &'static str,
}

/// `inspect`.
#[derive(JsonSchema, Serialize)]
pub struct Inspected<'a> {
    /// Files that could be read.
    pub files: &'a [Inspection],
    /// Files that could not.
    pub failed: &'a [Failure],
}

/// `fit`.
#[derive(JsonSchema, Serialize)]
pub struct Fitted<'a> {
    /// A line each.
    pub files: Vec<FittedFile<'a>>,
    /// Clips that could not be fitted.
    pub failed: &'a [Failure],
    /// Whether nothing was written.
    pub dry_run: bool,
}

/// A clip that was fitted, here or by an external program.
#[derive(JsonSchema, Serialize)]
#[serde(untagged)]
pub enum FittedFile<'a> {
    /// Here.
    Here(&'a FitLine),
    /// By a program.
    Outside {
        /// The clip.
        clip: String,
        /// The file that the program wrote.
        out: String,
        /// What the program was given.
        feed: &'a Plan,
        /// How large its file is; `null` where only planned.
        bytes: Option<u64>,
    },
}

/// `check` of files.
#[derive(JsonSchema, Serialize)]
pub struct CheckedFiles<'a> {
    /// How many.
    pub checked: usize,
    /// How many of them fail.
    pub short: usize,
    /// A line each.
    pub files: &'a [FileCheck],
    /// Files that could not be read.
    pub failed: &'a [Failure],
}

/// `check --target`.
#[derive(JsonSchema, Serialize)]
pub struct CheckedTrees {
    /// The sheet.
    pub target: Option<String>,
    /// A line for each path.
    pub trees: Vec<CheckedTree>,
}

/// One path that was checked against a sheet.
#[derive(JsonSchema, Serialize)]
pub struct CheckedTree {
    /// The path.
    pub path: String,
    /// The root that it is in.
    pub root: Option<String>,
    /// Its files.
    pub files: Vec<Checked>,
    /// What is wrong with no file by itself.
    pub whole: Vec<Whole>,
    /// Listed names without a file, which the target takes as additions.
    pub absent: Vec<String>,
    /// What is seldom meant in the sheet.
    pub remarks: Vec<String>,
}

/// `check` of sheets.
#[derive(JsonSchema, Serialize)]
pub struct CheckedSheets {
    /// A line each.
    pub sheets: Vec<CheckedSheet>,
}

/// One sheet that was checked.
#[derive(JsonSchema, Serialize)]
pub struct CheckedSheet {
    /// The sheet.
    pub sheet: String,
    /// What is seldom meant in it.
    pub remarks: Vec<String>,
}

/// `check JOB`, `--dry-run` of `swap` and `install`, an `install` that is refused.
#[derive(JsonSchema, Serialize)]
pub struct Planned<'a> {
    /// The job; `null` for a swap.
    pub job: Option<String>,
    /// What the target is called.
    pub target: &'a str,
    /// The root.
    pub root: Option<String>,
    /// All that would be done.
    #[serde(flatten)]
    pub plan: &'a JobPlan,
    /// All that is wrong.
    pub faults: Vec<ErrorObject>,
}

/// `seam`.
#[derive(JsonSchema, Serialize)]
pub struct Seams<'a> {
    /// The clip.
    pub clip: String,
    /// Loops that were found, the best first.
    pub found: &'a [Candidate],
    /// How each loop joins.
    pub seams: &'a [Judgement],
    /// The crossfade that would smooth the first of them, where it is heard and there is room for one.
    pub smoothing: Option<Smoothing>,
    /// The file that was written.
    pub out: Option<String>,
}

/// `learn`.
#[derive(JsonSchema, Serialize)]
pub struct Learnt {
    /// What was learnt from.
    pub stock: String,
    /// The sheet.
    pub sheet: String,
    /// Its list of names.
    pub list: String,
    /// Whether nothing was written.
    pub dry_run: bool,
    /// How many rules it has.
    pub rules: usize,
    /// How many sounds were read.
    pub sounds: usize,
    /// How many files of closed formats were found.
    pub opaque: usize,
    /// How many files without sound.
    pub others: usize,
    /// Archives with sounds in them.
    pub archives: Vec<String>,
    /// What could not be read.
    pub left_out: Vec<String>,
}

/// `proof`.
#[derive(JsonSchema, Serialize)]
pub struct Proven {
    /// The page.
    pub page: String,
    /// Its size in bytes.
    pub bytes: u64,
    /// The folder of what lies beside it; `null` where all is in it.
    pub files: Option<String>,
    /// How many slots it shows.
    pub slots: usize,
    /// What is wrong with the job.
    pub problems: Vec<String>,
}

/// `slots`.
#[derive(JsonSchema, Serialize)]
pub struct SlotList<'a> {
    /// Whether they are only spelt alike.
    pub near: bool,
    /// A line each.
    pub slots: Vec<One<'a>>,
    /// Variants, and slots that stand alone.
    pub families: Vec<Group>,
}

/// `sheets`.
#[derive(JsonSchema, Serialize)]
pub struct SheetList {
    /// A line each.
    pub sheets: Vec<SheetLine>,
}

/// A sheet that is found by its name.
#[derive(JsonSchema, Serialize)]
pub struct SheetLine {
    /// Its name.
    pub name: String,
    /// What it is for; `null` for one of the user's own.
    pub about: Option<&'static str>,
    /// Its file; `null` for a built-in one.
    pub path: Option<String>,
}

/// `sheets NAME`.
#[derive(JsonSchema, Serialize)]
pub struct SheetText<'a> {
    /// Its name.
    pub name: &'a str,
    /// What it is for; `null` for one of the user's own.
    pub about: Option<&'static str>,
    /// Its text.
    pub text: &'a str,
}

/// `hear`.
#[derive(JsonSchema, Serialize)]
pub struct Heard {
    /// The file that was written.
    pub out: String,
    /// Its spec line.
    pub is: deft_needle_audio::spec::Format,
    /// Its length.
    pub seconds: f64,
    /// What follows what.
    pub parts: Vec<HeardPart>,
}

/// A part of a programme.
#[derive(JsonSchema, Serialize)]
pub struct HeardPart {
    /// The file.
    pub file: String,
    /// Where it begins, in seconds.
    pub from: f64,
}

/// `status`.
#[derive(JsonSchema, Serialize)]
pub struct Statuses {
    /// A line for each ledger.
    pub roots: Vec<RootStatus>,
}

/// What is installed in one root.
#[derive(JsonSchema, Serialize)]
#[serde(untagged)]
pub enum RootStatus {
    /// As it is.
    Status {
        /// The root.
        root: String,
        /// Its ledger.
        ledger: String,
        /// Slots.
        slots: Vec<SlotStatus>,
        /// Entries.
        entries: Vec<EntryStatus>,
        /// Copies that are kept and neither installed over nor in place.
        kept: Vec<KeptCopy>,
        /// Kept originals that no record names.
        strays: Vec<String>,
        /// Whether every kept original was read.
        verified: bool,
        /// The slots of a change that was interrupted.
        interrupted: Option<Vec<Key>>,
    },
    /// As a job.
    Job {
        /// The root.
        root: String,
        /// The job sheet.
        text: String,
        /// How many swaps it holds.
        swaps: usize,
    },
}

/// `restore`.
#[derive(JsonSchema, Serialize)]
pub struct RestoredRoots {
    /// A line for each ledger.
    pub roots: Vec<RestoredRoot>,
    /// Kept copies that came back (`--kept`).
    pub kept: Vec<KeptDone>,
    /// Kept copies that were deleted (`--drop`).
    pub dropped: Vec<KeptDone>,
}

/// What was restored in one root.
#[derive(JsonSchema, Serialize)]
pub struct RestoredRoot {
    /// The root.
    pub root: String,
    /// What was done.
    pub done: Restored,
}

/// `rescue`.
#[derive(JsonSchema, Serialize)]
pub struct Rescued<'a> {
    /// The root.
    pub root: String,
    /// Whether nothing was written.
    pub dry_run: bool,
    /// What was found, and done.
    pub rescue: &'a Rescue,
}

/// `new`.
#[derive(JsonSchema, Serialize)]
pub struct NewJob<'a> {
    /// The job sheet.
    pub out: String,
    /// Its text.
    pub text: &'a str,
    /// How many clips found their slots.
    pub matched: usize,
    /// How many did not.
    pub unmatched: usize,
    /// Whether nothing was written.
    pub dry_run: bool,
}

/// `config`.
#[derive(JsonSchema, Serialize)]
pub struct Settings<'a> {
    /// The file.
    pub file: String,
    /// Whether it exists.
    pub exists: bool,
    /// A line each.
    pub settings: &'a [settings::Value],
}

/// `doctor`.
#[derive(JsonSchema, Serialize)]
pub struct Health<'a> {
    /// Where the program is.
    pub program: String,
    /// The operating system.
    pub system: &'static str,
    /// The processor's architecture.
    pub processor: &'static str,
    /// Containers that are written.
    pub writes: &'a [&'a str],
    /// Containers that are read.
    pub reads: &'a [&'a str],
    /// Whether there is an AAC encoder.
    pub aac_encoder: bool,
    /// The settings' file.
    pub config: String,
    /// Whether it exists.
    pub config_exists: bool,
    /// What the root's file system can promise; `null` without a root.
    pub place: Option<&'a Promises>,
    /// Roots that are known on this machine.
    pub roots: &'a [CheckedRoot],
}

/// `man --all`.
#[derive(JsonSchema, Serialize)]
pub struct Pages {
    /// The folder.
    pub folder: String,
    /// How many there are.
    pub pages: usize,
}

/// `man` and `completions`.
#[derive(JsonSchema, Serialize)]
pub struct Text<'a> {
    /// What it is called.
    pub name: &'a str,
    /// The text itself.
    pub text: &'a str,
}

#[cfg(test)]
mod tests;
