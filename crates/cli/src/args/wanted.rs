//! What tells what a file must be, how it is named, and which program makes it.

use super::{RootFolders, complete};
use clap::Args;
use deft_needle_core::sheet::CharSet;
use std::path::PathBuf;

/// What tells what a file must be.
#[derive(Debug, Args)]
#[command(next_help_heading = "Spec")]
pub struct SpecArgs {
    /// Match the spec, header and chunks of this file
    #[arg(long, value_name = "FILE", conflicts_with = "spec")]
    pub like: Option<PathBuf>,
    /// Meet this target sheet: a file, or a built-in one; options win over it
    #[arg(long, value_name = "SHEET", add = complete::sheets())]
    pub target: Option<PathBuf>,
}

/// A target that files belong to.
#[derive(Debug, Args)]
#[command(next_help_heading = "Target")]
pub struct OfTarget {
    /// Read files as this target's sheet says; the names of its slots may be typed, too
    #[arg(long, value_name = "SHEET", add = complete::sheets())]
    pub target: Option<PathBuf>,
    #[command(flatten)]
    pub place: RootFolders,
}

/// How files must be named, without a sheet.
#[derive(Debug, Args)]
#[command(next_help_heading = "Names")]
pub struct Naming {
    /// Maximum length of a name, without its extension
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..))]
    pub name_longest: Option<u16>,
    /// Characters allowed in a name, without its extension, as in a-z0-9_
    #[arg(long, value_name = "SET")]
    pub name_allowed: Option<CharSet>,
}

/// An encoder of the target's maker, where the format is closed.
#[derive(Debug, Args)]
#[command(next_help_heading = "Closed formats")]
pub struct Outside {
    /// Encode with this external program: its name, {in} and {out}; no shell is used
    #[arg(long, value_name = "COMMAND", conflicts_with_all = ["spec", "like", "target"])]
    pub encoder: Option<String>,
    /// Spec of the file that the program is given
    #[arg(long, value_name = "SPEC", requires = "encoder", default_value = "wav pcm16 any any")]
    pub feed: String,
    /// File that the program makes beside what it is fed, as in {stem}.bin, where it takes no {out}
    #[arg(long, value_name = "NAME", requires = "encoder")]
    pub encoder_out: Option<String>,
    /// Time limit in seconds
    #[arg(long, value_name = "SECONDS", requires = "encoder", default_value_t = 60)]
    pub encoder_limit: u64,
    /// Allow external programs to run
    #[arg(long)]
    pub allow_commands: bool,
}
