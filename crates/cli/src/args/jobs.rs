//! Commands about whole jobs.

use super::RootOptions;
use clap::Args;
use std::path::PathBuf;

/// Write a job sheet to start from: clips that are named like slots are matched
#[derive(Debug, Args)]
#[command(after_long_help = "Examples:
  deft-needle new lantern-ferry.toml takes -o first-job.toml --root game
  deft-needle new brass-wren.toml takes -o voices.toml --root card --dry-run
What is not matched stands in the sheet as comments.")]
pub struct New {
    /// The target's sheet
    #[arg(value_name = "SHEET")]
    pub sheet: PathBuf,
    /// A folder of clips
    #[arg(value_name = "CLIPS")]
    pub clips: PathBuf,
    /// The job sheet to write
    #[arg(short, long = "out", value_name = "JOB")]
    pub out: PathBuf,
    /// The target's main root
    #[arg(long, value_name = "FOLDER")]
    pub root: Option<PathBuf>,
    /// Replace an existing job sheet
    #[arg(long)]
    pub overwrite: bool,
    /// Print the job sheet, write nothing
    #[arg(long)]
    pub dry_run: bool,
}

/// Where a job goes, and what it may do.
#[derive(Debug, Args)]
pub struct Going {
    #[command(flatten)]
    pub place: RootOptions,
    /// Let commands run: encoders of closed formats, voices of prompt lists
    #[arg(long)]
    pub allow_commands: bool,
}

/// Put in all that a job sheet or a pack says: everything, or nothing
#[derive(Debug, Args)]
#[command(after_long_help = "Examples:
  deft-needle install quay.toml --dry-run      all that would happen, and all that is wrong
  deft-needle install quay.toml
  deft-needle restore game --job quay          takes it out again
  deft-needle install quay-bells.ferry --root game --root settings=settings")]
pub struct Install {
    /// A job sheet, or a pack
    #[arg(value_name = "JOB-or-PACK")]
    pub job: PathBuf,
    #[command(flatten)]
    pub going: Going,
    /// For a pack: the target's sheet, instead of the one that it brings
    #[arg(long, value_name = "SHEET")]
    pub target: Option<PathBuf>,
    /// Print all that would happen, change nothing
    #[arg(long)]
    pub dry_run: bool,
}

/// Keep a target in step: install again whenever a clip or a sheet is saved
#[derive(Debug, Args)]
#[command(after_long_help = "Examples:
  deft-needle watch quay.toml
Ctrl-C ends it and leaves a whole state.")]
pub struct Watch {
    /// A job sheet
    #[arg(value_name = "JOB")]
    pub job: PathBuf,
    #[command(flatten)]
    pub going: Going,
    /// Stop after this many seconds without a change
    #[arg(long, value_name = "SECONDS")]
    pub idle: Option<f64>,
}

/// Make a job into one file to share; no root is needed
#[derive(Debug, Args)]
#[command(after_long_help = "Examples:
  deft-needle pack additions.toml -o shared.ferry
  deft-needle install shared.ferry --root game --root settings=settings")]
pub struct Pack {
    /// A job sheet
    #[arg(value_name = "JOB")]
    pub job: PathBuf,
    /// The archive to write, or a folder where the target's packs are folders
    #[arg(short, long = "out", value_name = "ARCHIVE")]
    pub out: PathBuf,
    /// Let commands run: encoders of closed formats, voices of prompt lists
    #[arg(long)]
    pub allow_commands: bool,
    /// Replace an existing archive
    #[arg(long)]
    pub overwrite: bool,
}
