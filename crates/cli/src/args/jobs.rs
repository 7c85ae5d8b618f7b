//! Commands about whole jobs.

use super::{RootFolders, RootOptions, complete};
use clap::Args;
use deft_needle_core::sheet::Pattern;
use std::path::PathBuf;

/// Write a job sheet to start from, with clips matched to slots by name
#[derive(Debug, Args)]
#[command(after_long_help = "Examples:
  deft-needle new lantern-ferry.toml takes -o first-job.toml --root game
  deft-needle new brass-wren.toml takes -o voices.toml --root card --dry-run
What is not matched is listed in the sheet as comments.")]
pub struct New {
    /// The target's sheet
    #[arg(value_name = "SHEET", add = complete::sheets())]
    pub sheet: PathBuf,
    /// A folder of clips
    #[arg(value_name = "CLIPS")]
    pub clips: PathBuf,
    /// The job sheet to write
    #[arg(short, long = "out", value_name = "JOB")]
    pub out: PathBuf,
    #[command(flatten)]
    pub place: RootFolders,
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
    /// Allow external programs: encoders of closed formats, voices of prompt lists
    #[arg(long)]
    pub allow_commands: bool,
}

/// Install a job sheet or a pack: all of it or nothing
#[derive(Debug, Args)]
#[command(after_long_help = "Examples:
  deft-needle install quay.toml --dry-run      what would happen, and what is wrong
  deft-needle install quay.toml
  deft-needle restore game --job quay          undoes it
  deft-needle install shared.ferry --root game --root settings=settings")]
pub struct Install {
    /// A job sheet, or a pack
    #[arg(value_name = "JOB-or-PACK")]
    pub job: PathBuf,
    #[command(flatten)]
    pub going: Going,
    /// Only these slots of the job; * ? and # make a pattern
    #[arg(long, value_name = "SLOT", num_args = 1..)]
    pub only: Vec<Pattern>,
    /// Only the slots that are marked good in this file, as a page of proof saves it
    #[arg(long, value_name = "MARKS", conflicts_with = "only")]
    pub only_approved: Option<PathBuf>,
    /// For a pack: use this target sheet instead of its own
    #[arg(long, value_name = "SHEET")]
    pub target: Option<PathBuf>,
    /// Print what would happen, change nothing
    #[arg(long)]
    pub dry_run: bool,
}

/// Install again whenever a clip or a sheet is saved
#[derive(Debug, Args)]
#[command(after_long_help = "Examples:
  deft-needle watch quay.toml
  deft-needle watch quay.toml --proof quay.html    a page that shows and plays each turn
Ctrl-C ends it; nothing is left half done.")]
pub struct Watch {
    /// A job sheet
    #[arg(value_name = "JOB")]
    pub job: PathBuf,
    #[command(flatten)]
    pub going: Going,
    /// Write this page of proof at each turn; it reloads itself while it is open
    #[arg(long, value_name = "PAGE")]
    pub proof: Option<PathBuf>,
    /// Stop after this many seconds without a change
    #[arg(long, value_name = "SECONDS")]
    pub idle: Option<f64>,
}

/// Make a job into one file to share
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
    /// Allow external programs: encoders of closed formats, voices of prompt lists
    #[arg(long)]
    pub allow_commands: bool,
    /// Check all of it, write nothing
    #[arg(long)]
    pub dry_run: bool,
    /// Replace an existing archive
    #[arg(long)]
    pub overwrite: bool,
}
