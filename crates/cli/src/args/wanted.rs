//! What tells what a file must be, how it is named, and which program makes it.

use clap::Args;
use deft_needle_core::sheet::CharSet;
use std::path::PathBuf;

/// What tells what a file must be.
#[derive(Debug, Args)]
#[command(next_help_heading = "Spec")]
pub struct SpecArgs {
    /// Match a file that works today: its spec, header and chunks
    #[arg(long, value_name = "FILE", conflicts_with = "spec")]
    pub like: Option<PathBuf>,
    /// Meet a target sheet: a file, or a built-in one; options win over it
    #[arg(long, value_name = "SHEET")]
    pub target: Option<PathBuf>,
}

/// How files must be named, where no sheet tells.
#[derive(Debug, Args)]
#[command(next_help_heading = "Names")]
pub struct Naming {
    /// The most characters before the extension
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..))]
    pub name_longest: Option<u16>,
    /// The characters that are allowed before the extension, as in a-z0-9_
    #[arg(long, value_name = "SET")]
    pub name_allowed: Option<CharSet>,
}

/// An encoder of the target's maker, where the format is closed.
#[derive(Debug, Args)]
#[command(next_help_heading = "Closed formats")]
pub struct Outside {
    /// Have this command make the file: a program, {in} and {out}; never through a shell
    #[arg(long, value_name = "COMMAND", conflicts_with_all = ["spec", "like", "target"])]
    pub encoder: Option<String>,
    /// What the command is fed
    #[arg(long, value_name = "SPEC", requires = "encoder", default_value = "wav pcm16 any any")]
    pub feed: String,
    /// How long it may take, in seconds
    #[arg(long, value_name = "SECONDS", requires = "encoder", default_value_t = 60)]
    pub encoder_limit: u64,
    /// Let commands run at all
    #[arg(long)]
    pub allow_commands: bool,
}
