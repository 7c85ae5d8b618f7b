//! Commands on roots: a swap, and what was installed.

use super::{Every, Options, Outside, SpecArgs};
use clap::{Args, ValueEnum};
use deft_needle_core::root::RootAsk;
use std::path::PathBuf;

/// Where a target's roots are.
#[derive(Debug, Default, Clone, Args)]
pub struct RootFolders {
    /// The target's main root [default: found by its ledger or marker]; others as NAME=FOLDER
    #[arg(long, value_name = "FOLDER")]
    pub root: Vec<PathBuf>,
}

impl RootFolders {
    /// As the library takes it.
    pub fn asked(&self) -> RootAsk {
        let mut asked = RootAsk::default();
        for typed in &self.root {
            match typed.to_str().and_then(|typed| typed.split_once('=')) {
                Some((name, folder)) if !typed.exists() => {
                    asked.others.insert(name.to_owned(), PathBuf::from(folder));
                }
                _ => asked.root = Some(typed.clone()),
            }
        }
        asked
    }
}

/// Which root, and where its ledger is.
#[derive(Debug, Default, Clone, Args)]
pub struct RootOptions {
    #[command(flatten)]
    pub folders: RootFolders,
    /// Folder of the ledger and the stock [default: .deft-needle in the root]
    #[arg(long, value_name = "FOLDER")]
    pub ledger: Option<PathBuf>,
    /// Take over a ledger that was made for another place
    #[arg(long)]
    pub adopt: bool,
}

impl RootOptions {
    /// As the library takes it.
    pub fn asked(&self) -> RootAsk {
        RootAsk { ledger: self.ledger.clone(), adopt: self.adopt, ..self.folders.asked() }
    }
}

/// Replace one file of a target with a clip, and keep the original
#[derive(Debug, Args)]
#[command(after_long_help = "Examples:
  deft-needle swap kettle.wav card/SAY/TICK01.PRM --root card
  deft-needle swap kettle.wav card/SAY/CUCKOO.PRM --root card --trim-silence --level stock
  deft-needle swap kettle.wav card/SAY/TICK09.PRM --new --root card
  deft-needle swap bell.lbx game/BELL.LBX --as-is --root game   a finished file of a closed format
  deft-needle restore card/SAY/TICK01.PRM          restores the original")]
pub struct Swap {
    /// The clip; - is standard input
    #[arg(value_name = "CLIP")]
    pub clip: PathBuf,
    /// The file to replace
    #[arg(value_name = "SLOT-FILE")]
    pub slot: PathBuf,
    #[command(flatten)]
    pub how: Swapping,
    /// Print the plan, change nothing
    #[arg(long)]
    pub dry_run: bool,
}

/// How one file is replaced.
#[derive(Debug, Args)]
pub struct Swapping {
    #[command(flatten)]
    pub place: RootOptions,
    /// Place the file as it is: a finished one of a closed format
    #[arg(long, conflicts_with_all = ["spec", "like", "encoder"])]
    pub as_is: bool,
    /// Allow a new file
    #[arg(long)]
    pub new: bool,
    /// Allow a name that does not match what the file holds
    ///
    /// Without it, an extension of another format than the one written is refused, and so is a new file whose extension
    /// none of its neighbours has.
    #[arg(long)]
    pub name_anyway: bool,
    /// For a slot that is a link: replace the link by a file, or follow it [default: replace]
    #[arg(long, value_name = "WHAT")]
    pub link: Option<LinkChoice>,
    /// Also make the sheet's entries and clear its caches
    #[arg(long, requires = "target")]
    pub entries: bool,
    #[command(flatten)]
    pub wanted: SpecArgs,
    #[command(flatten)]
    pub options: Options<Every>,
    #[command(flatten)]
    pub outside: Outside,
}

/// Show what is installed, and whether it is still in place
#[derive(Debug, Args)]
#[command(after_long_help = "Examples:
  deft-needle status                           the current folder, or every root on this machine
  deft-needle status card --verify             read every kept original
  deft-needle status card --as-job --target brass-wren.toml   single swaps as a job sheet")]
pub struct Status {
    /// A root, a folder above or below one, or a file [default: the current folder]
    #[arg(value_name = "ROOT")]
    pub at: Option<PathBuf>,
    #[command(flatten)]
    pub place: RootOptions,
    /// Read every kept original and verify its hash
    #[arg(long)]
    pub verify: bool,
    /// Print single swaps as a job sheet
    #[arg(long)]
    pub as_job: bool,
    /// The target's sheet, for that job sheet
    #[arg(long, value_name = "SHEET", requires = "as_job")]
    pub target: Option<PathBuf>,
}

/// Restore the original files, bit for bit
#[derive(Debug, Args)]
#[command(after_long_help = "Examples:
  deft-needle restore                          everything in the current folder
  deft-needle restore card                     everything
  deft-needle restore card/SAY/TICK01.PRM      one slot
  deft-needle restore card SAY/TICK01.PRM SAY/CUCKOO.PRM
  deft-needle restore game --job quay          what a job has installed")]
pub struct Restore {
    /// A root, a folder above or below one, or a slot file [default: the current folder]
    #[arg(value_name = "ROOT", default_value = ".")]
    pub at: PathBuf,
    /// Slots, relative to the root; none means all
    #[arg(value_name = "SLOT")]
    pub slots: Vec<PathBuf>,
    #[command(flatten)]
    pub place: RootOptions,
    /// Only what this job has installed
    #[arg(long, value_name = "NAME", conflicts_with = "slots")]
    pub job: Option<String>,
    /// For slots that were changed since: overwrite, or keep what is there
    #[arg(long, value_name = "WHAT")]
    pub changed: Option<ChangedChoice>,
    /// Restore a kept copy of the named slots
    ///
    /// What is in the slot is kept in its turn. COPY is how the copy's name begins; `status` shows it.
    #[arg(long, value_name = "COPY", num_args = 0..=1, require_equals = true, default_missing_value = "",
        conflicts_with_all = ["job", "changed", "drop"])]
    pub kept: Option<String>,
    /// Delete kept copies of the named slots for good
    #[arg(long, value_name = "COPY", num_args = 0..=1, require_equals = true, default_missing_value = "",
        conflicts_with_all = ["job", "changed"])]
    pub drop: Option<String>,
    /// Print what would be done, change nothing
    #[arg(long)]
    pub dry_run: bool,
}

/// Restore originals when a ledger's log is damaged or lost
#[derive(Debug, Args)]
#[command(after_long_help = "Examples:
  deft-needle rescue card --dry-run                   what is sure, and what is not
  deft-needle rescue card --target brass-wren.toml    match originals by the hashes of its list, too
Kept originals without a record of their slot stay where they are, and are listed.")]
pub struct Rescue {
    /// The root
    #[arg(value_name = "ROOT", default_value = ".")]
    pub at: PathBuf,
    #[command(flatten)]
    pub place: RootOptions,
    /// A sheet whose list has the hashes of originals
    #[arg(long, value_name = "SHEET")]
    pub target: Option<PathBuf>,
    /// Print what would be done, change nothing
    #[arg(long)]
    pub dry_run: bool,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
pub enum LinkChoice {
    Replace,
    Follow,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
pub enum ChangedChoice {
    Overwrite,
    Keep,
}
