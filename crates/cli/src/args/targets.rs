//! Commands about whole targets.

use super::{RootOptions, complete};
use clap::Args;
use std::path::PathBuf;

/// Write a target sheet from a target's own files
#[derive(Debug, Args)]
#[command(after_long_help = "Examples:
  deft-needle learn game -o lantern-ferry.toml
  deft-needle learn sounds.zip -o somewhere/ferry.toml   archives are never unpacked
A list is written next to the sheet: lantern-ferry.slots.csv, with every name, spec, length,
loudness, loop and hash.")]
pub struct Learn {
    /// A folder, a zip or a tar
    #[arg(value_name = "STOCK")]
    pub stock: PathBuf,
    /// The sheet to write
    #[arg(short, long = "out", value_name = "SHEET")]
    pub out: PathBuf,
    /// Replace an existing sheet and its list
    #[arg(long)]
    pub overwrite: bool,
    /// Print the sheet, write nothing
    #[arg(long)]
    pub dry_run: bool,
}

/// List and search a target's slots
#[derive(Debug, Args)]
#[command(after_long_help = "Examples:
  deft-needle slots lantern-ferry.toml                 all of them, variants together
  deft-needle slots lantern-ferry.toml storm           names and labels
  deft-needle slots lantern-ferry.toml gull_#          the variants of gull alone
  deft-needle slots game gull --as-job                 [[replace]] entries to paste
  deft-needle slots lantern-ferry.toml --root game     what is in each slot now")]
pub struct SlotsArgs {
    /// A target sheet; or a folder, zip or tar with the files themselves
    #[arg(value_name = "SHEET-or-STOCK")]
    pub of: PathBuf,
    /// Words to search for; * ? and # make a pattern
    #[arg(value_name = "WORD")]
    pub words: Vec<String>,
    #[command(flatten)]
    pub place: RootOptions,
    /// Print [[replace]] entries for a job sheet
    #[arg(long)]
    pub as_job: bool,
}

/// List the built-in target sheets, or print one
#[derive(Debug, Args)]
#[command(after_long_help = "Examples:
  deft-needle sheets
  deft-needle sheets placed-effect > my-game.toml
  deft-needle check fitted --target placed-effect")]
pub struct Sheets {
    /// Which one to print
    #[arg(value_name = "NAME", add = complete::sheets())]
    pub name: Option<String>,
}
