//! Commands about the program itself and this machine.

use clap::Args;
use clap_complete::Shell;
use std::path::PathBuf;

/// Check what works on this machine, and find every ledger on it
#[derive(Debug, Args)]
#[command(after_long_help = "Examples:
  deft-needle doctor           this machine, and every root that was installed into
  deft-needle doctor card      what this card's file system can promise, too")]
pub struct Doctor {
    /// A root to look at as well
    #[arg(value_name = "ROOT")]
    pub root: Option<PathBuf>,
}

/// Show the settings and where they are kept
#[derive(Debug, Args)]
#[command(after_long_help = "Examples:
  deft-needle config             every setting, its value, and where that comes from
  deft-needle config --path      the file alone
The file is TOML; DEFT_NEEDLE_CONFIG names another one. What is typed wins over the environment,
the environment over the file.")]
pub struct Config {
    /// Print the path of the configuration file
    #[arg(long)]
    pub path: bool,
}

/// Print the completions of a shell
#[derive(Debug, Args)]
#[command(after_long_help = "Examples:
  deft-needle completions bash > ~/.local/share/bash-completion/completions/deft-needle
  deft-needle completions zsh > ~/.zfunc/_deft-needle
  deft-needle completions fish > ~/.config/fish/completions/deft-needle.fish
  deft-needle completions powershell >> $PROFILE
They ask the program itself, so that names of slots and sheets are completed, too.")]
pub struct Completions {
    /// Which shell
    #[arg(value_name = "SHELL")]
    pub shell: Shell,
}

/// Print a manual page, or write all of them
#[derive(Debug, Args)]
#[command(after_long_help = "Examples:
  deft-needle man                 the program's page
  deft-needle man fit             a command's page
  deft-needle man --all man1/     every page, to a folder")]
pub struct Man {
    /// Which command
    #[arg(value_name = "COMMAND", conflicts_with = "all")]
    pub command: Option<String>,
    /// Write every page to this folder
    #[arg(long, value_name = "FOLDER")]
    pub all: Option<PathBuf>,
}
