//! The page that shows and plays replacements.

use super::Swapping;
use clap::Args;
use deft_needle_core::sheet::Size;
use std::path::PathBuf;

/// Write a page that shows and plays every replacement beside its stock
#[derive(Debug, Args)]
#[command(after_long_help = "Examples:
  deft-needle proof quay.toml -o quay.html --open
  deft-needle proof kettle.wav game/SFX/STEAM.WAV -o kettle.html --level stock
  deft-needle proof shared.ferry --root game -o shared.html
  deft-needle proof game -o installed.html            what is installed, beside what it replaced
Nothing of the target is changed. What is heard is what would be installed, or is.")]
pub struct Proof {
    /// A job sheet, a pack, a root that something is installed in, or a clip
    #[arg(value_name = "JOB-or-PACK-or-ROOT-or-CLIP")]
    pub what: PathBuf,
    /// With a clip: the file to replace
    #[arg(value_name = "SLOT-FILE")]
    pub slot: Option<PathBuf>,
    /// The page to write
    #[arg(short, long = "out", value_name = "PAGE")]
    pub out: PathBuf,
    /// Open it in the browser
    #[arg(long)]
    pub open: bool,
    /// How much sound goes into the page; the rest lies in a folder beside it
    #[arg(long, value_name = "SIZE", default_value = "32MiB")]
    pub inline: Size,
    /// Replace a file that is no page of ours
    #[arg(long)]
    pub overwrite: bool,
    #[command(flatten)]
    pub how: Swapping,
}
