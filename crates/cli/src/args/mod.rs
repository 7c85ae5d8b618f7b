//! What can be typed.

mod jobs;
mod options;
mod targets;
mod wanted;

pub use jobs::{Going, Install, New, Pack, Watch};
pub use options::{Every, ForFiles, ForReading, ForSeams, Options};
pub use targets::{Learn, Sheets, SlotsArgs};
pub use wanted::{Naming, Outside, Wanted};

use clap::{Args, CommandFactory, FromArgMatches, Parser, Subcommand, ValueEnum};
use deft_needle_audio::edit::{Span, Time};
use deft_needle_core::root::Asked;
use std::ffi::OsString;
use std::path::{Path, PathBuf};

/// Put your own sounds into a device or a game: exactly to its spec, by name, undoably.
#[derive(Debug, Parser)]
#[command(
    name = "deft-needle",
    version,
    max_term_width = 100,
    after_help = "A file alone is inspected:  deft-needle kettle.wav\n\
                  Exit codes: 0 done, 1 something falls short, 2 wrong usage, 3 unreadable input, \
                  4 the clip cannot meet the spec, 5 the target refused, 6 not written, 130 interrupted"
)]
pub struct Cli {
    #[command(flatten)]
    pub common: Common,
    #[command(subcommand)]
    pub command: Command,
}

/// `--version -v`, which clap alone cannot tell apart.
pub fn asks_for_notices(typed: &[OsString]) -> bool {
    let is =
        |names: &[&str]| typed.iter().skip(1).any(|word| names.iter().any(|name| word == name));
    is(&["--version", "-V"]) && is(&["-v", "--verbose"])
}

/// Options of every command.
#[derive(Debug, Default, Args)]
pub struct Common {
    /// Print one JSON object instead of text
    #[arg(long, global = true, help_heading = "Everywhere")]
    pub json: bool,
    /// Print only what is wrong
    #[arg(short, long, global = true, help_heading = "Everywhere")]
    pub quiet: bool,
    /// Print more; -vv also what is decided and done inside
    #[arg(short, long, global = true, help_heading = "Everywhere", action = clap::ArgAction::Count)]
    pub verbose: u8,
    /// Colours: on terminals, always or never (NO_COLOR is minded)
    #[arg(
        long,
        global = true,
        help_heading = "Everywhere",
        value_name = "WHEN",
        default_value = "auto"
    )]
    pub color: Color,
    /// Work on so many files at once; 0 is one for each core
    #[arg(long, global = true, help_heading = "Everywhere", value_name = "N", default_value_t = 0)]
    pub threads: usize,
}

#[derive(Debug, Clone, Copy, Default, ValueEnum)]
pub enum Color {
    #[default]
    Auto,
    Always,
    Never,
}

#[derive(Debug, Subcommand)]
pub enum Command {
    Inspect(Inspect),
    Hear(Hear),
    Fit(Fit),
    Check(Check),
    Swap(Swap),
    Status(Status),
    Restore(Restore),
    Rescue(Rescue),
    Seam(Seam),
    Learn(Learn),
    Slots(SlotsArgs),
    Sheets(Sheets),
    New(New),
    Install(Install),
    Watch(Watch),
    Pack(Pack),
    #[cfg(feature = "demo")]
    Demo(deft_needle_demo::Demo),
    #[cfg(feature = "demo")]
    #[command(flatten)]
    StandIn(deft_needle_demo::StandIn),
}

/// Tell what files really are, whatever their names say
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  deft-needle inspect kettle.wav          one file in full
  deft-needle inspect takes/*.wav         several in one table
  deft-needle inspect --json kettle.wav   everything, for a program
  deft-needle inspect kettle.wav --plot kettle.png --plot-rate 18900")]
pub struct Inspect {
    /// Files to look at; - is standard input
    #[arg(required = true, value_name = "FILE")]
    pub files: Vec<PathBuf>,
    #[command(flatten)]
    pub options: Options<ForReading>,
    /// Draw one file's wave and spectrum
    #[arg(long, value_name = "OUT.png")]
    pub plot: Option<PathBuf>,
    /// Mark in the spectrum what this sample rate can hold
    #[arg(long, value_name = "HERTZ", requires = "plot")]
    pub plot_rate: Option<u32>,
}

/// Turn anything readable into a plain WAV to listen to
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  deft-needle hear card/SAY/TICK01.PRM -o tick.wav
  deft-needle hear new.wav --beside card/SAY/TICK01.PRM -o both.wav   new, old, new, old
  deft-needle hear hum.wav --loops 3 -o hum3.wav                      three times round")]
pub struct Hear {
    /// Files to hear, one after another
    #[arg(required = true, value_name = "FILE")]
    pub files: Vec<PathBuf>,
    #[command(flatten)]
    pub options: Options<ForReading>,
    /// The WAV to write; - is standard output
    #[arg(short, long = "out", value_name = "OUT.wav")]
    pub out: PathBuf,
    /// Alternate with this file, twice
    #[arg(long, value_name = "FILE")]
    pub beside: Option<PathBuf>,
    /// Go round the loop, or the whole file, so often
    #[arg(long, value_name = "N", default_value_t = 1, value_parser = clap::value_parser!(u32).range(1..=1000))]
    pub loops: u32,
    /// Open it in the system's player
    #[arg(long)]
    pub open: bool,
    /// Replace an existing file
    #[arg(long)]
    pub overwrite: bool,
}

/// Turn clips into files that meet a spec
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  deft-needle fit kettle.wav -o TICK01.PRM --like card/SAY/TICK01.PRM
  deft-needle fit kettle.wav -o kettle-24.wav --spec \"wav pcm16 24000 mono\" --dry-run
  deft-needle fit takes/*.wav -o fitted/ --spec \"wav pcm16 any mono\"
  deft-needle fit kettle.wav -o gull_1.ogg --target lantern-ferry.toml --slot sfx/gull_1.ogg
  deft-needle fit kettle.wav -o short.wav --cut 0.2s..1s --trim-silence --level -16LUFS
  deft-needle fit kettle.wav -o round.wav --spec \"wav pcm16 any any\" --loop 0.4s..1.2s
  deft-needle fit kettle.wav -o kettle.ogg --spec \"ogg vorbis:q6 44100 stereo\" --tag TITLE=Kettle
  deft-needle fit dump.bin -o dump.flac --read-as \"raw pcm16be 22050 mono\"
  deft-needle fit - -o - --spec \"wav pcm16 24000 mono\" < in.wav > out.wav")]
pub struct Fit {
    /// Clips; - is standard input
    #[arg(required = true, value_name = "CLIP")]
    pub clips: Vec<PathBuf>,
    /// The file to write, or a folder for several; - is standard output
    #[arg(short, long = "out", value_name = "OUT")]
    pub out: PathBuf,
    /// Draw the clip and the result, one above the other
    #[arg(long, value_name = "OUT.png")]
    pub plot: Option<PathBuf>,
    /// Write what --keep keeps (what is shared, where it is not given) here, and the full clip to OUT
    #[arg(long, value_name = "GUIDE")]
    pub guide: Option<PathBuf>,
    /// Replace existing files
    #[arg(long)]
    pub overwrite: bool,
    /// Print the plan, write nothing
    #[arg(long)]
    pub dry_run: bool,
    #[command(flatten)]
    pub wanted: Wanted,
    /// The slot that the file is for, as the sheet names it [default: the name of OUT]
    #[arg(long, value_name = "SLOT", requires = "target")]
    pub slot: Option<String>,
    /// The target's main root, where the sheet's lists lie in it
    #[arg(long, value_name = "FOLDER", requires = "target")]
    pub root: Option<PathBuf>,
    #[command(flatten)]
    pub naming: Naming,
    #[command(flatten)]
    pub options: Options<Every>,
    #[command(flatten)]
    pub outside: Outside,
}

/// Tell in what files fall short of a spec, or of their own names
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  deft-needle check card --like card/SAY/TICK01.PRM
  deft-needle check fitted --spec \"wav pcm16 24000 mono\"
  deft-needle check game --target lantern-ferry.toml
  deft-needle check lantern-ferry.toml    is the sheet itself sound?
  deft-needle check quay.toml             would the job go in, and what is wrong with it?
  deft-needle check downloads             is each file what its name says?")]
pub struct Check {
    /// Files and folders; with --target archives, too; or a target sheet; or a job sheet
    #[arg(required = true, value_name = "PATH")]
    pub paths: Vec<PathBuf>,
    #[command(flatten)]
    pub options: Options<ForFiles>,
    #[command(flatten)]
    pub wanted: Wanted,
    /// The slot that a file is for, as the sheet names it
    #[arg(long, value_name = "SLOT", requires = "target")]
    pub slot: Option<String>,
    /// The target's main root [default: the nearest folder with the sheet's markers, or the PATH]
    #[arg(long, value_name = "FOLDER")]
    pub root: Option<PathBuf>,
    #[command(flatten)]
    pub naming: Naming,
    /// For a job: let commands run that speak prompt lists
    #[arg(long)]
    pub allow_commands: bool,
}

/// Which root, and where its ledger is.
#[derive(Debug, Default, Args)]
pub struct RootOptions {
    /// The target's main root [default: found by its ledger]; other roots as NAME=FOLDER
    #[arg(long, value_name = "FOLDER")]
    pub root: Vec<String>,
    /// Keep the ledger and the stock in this folder instead of .deft-needle in the root
    #[arg(long, value_name = "FOLDER")]
    pub ledger: Option<PathBuf>,
    /// Take over a ledger that was made for another place
    #[arg(long)]
    pub adopt: bool,
}

impl RootOptions {
    /// As the library takes it.
    pub fn asked(&self) -> Asked {
        let mut asked =
            Asked { ledger: self.ledger.clone(), adopt: self.adopt, ..Asked::default() };
        for typed in &self.root {
            match typed.split_once('=') {
                Some((name, folder)) if !Path::new(typed).exists() => {
                    asked.others.insert(name.to_owned(), PathBuf::from(folder));
                }
                _ => asked.root = Some(PathBuf::from(typed)),
            }
        }
        asked
    }
}

/// Find, judge, prove and set loops: where does a clip go round, and does it click there?
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  deft-needle seam game/ambience/engine.wav                     judge the loop that the file brings
  deft-needle seam takes/concertina.wav                         find loops where it brings none
  deft-needle seam takes/concertina.wav --near 3s..8s           the best about there
  deft-needle seam takes/harbour.wav --loop 1s..9s --crossfade 300ms --plot seam.png
  deft-needle seam takes/concertina.wav --loop auto --hear seam.wav -o looped.wav
Loops are set with the same --loop in fit and swap.")]
pub struct Seam {
    /// The clip; - is standard input
    #[arg(value_name = "CLIP")]
    pub clip: PathBuf,
    #[command(flatten)]
    pub options: Options<ForSeams>,
    #[command(flatten)]
    pub finding: Finding,
    /// Write what is heard around the seam as a WAV
    #[arg(long, value_name = "OUT.wav")]
    pub hear: Option<PathBuf>,
    /// How often it is heard there
    #[arg(long, value_name = "N", requires = "hear", default_value_t = 3, value_parser = clap::value_parser!(u32).range(1..=100))]
    pub rounds: u32,
    /// Draw the seam, and the loop in its clip
    #[arg(long, value_name = "OUT.png")]
    pub plot: Option<PathBuf>,
    /// Write the clip with this loop
    #[arg(short, long = "out", value_name = "OUT")]
    pub out: Option<PathBuf>,
    /// Replace files that are there already
    #[arg(long)]
    pub overwrite: bool,
}

/// Which loops are sought.
#[derive(Debug, Args)]
#[command(next_help_heading = "Finding")]
pub struct Finding {
    /// Seek loops even where the clip brings some
    #[arg(long, conflicts_with = "loop")]
    pub find: bool,
    /// Both ends within a second of these, as in 12s..1:15
    #[arg(long, value_name = "RANGE", allow_hyphen_values = true, conflicts_with = "loop")]
    pub near: Option<Span>,
    /// No shorter than this [default: a quarter of the clip, 10s at most]
    #[arg(long, value_name = "TIME", conflicts_with = "loop")]
    pub at_least: Option<Time>,
    /// About as long as this, as in 12bars@96bpm
    #[arg(long, value_name = "TIME", conflicts_with = "loop")]
    pub length: Option<Time>,
    /// How many are shown
    #[arg(long, value_name = "N", default_value_t = 5, value_parser = clap::value_parser!(u32).range(1..=50))]
    pub most: u32,
}

/// Replace one file of a target: fit the clip to it, keep the stock, put it there
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  deft-needle swap kettle.wav card/SAY/TICK01.PRM --root card
  deft-needle swap kettle.wav card/SAY/CUCKOO.PRM --root card --trim-silence --level stock
  deft-needle swap kettle.wav card/SAY/TICK09.PRM --new
  deft-needle swap bell.lbx game/BELL.LBX --as-is   a finished file of a closed format
  deft-needle restore card/SAY/TICK01.PRM          gives the stock back")]
pub struct Swap {
    /// The clip; - is standard input
    #[arg(value_name = "CLIP")]
    pub clip: PathBuf,
    /// The file to replace
    #[arg(value_name = "SLOT-FILE")]
    pub slot: PathBuf,
    #[command(flatten)]
    pub place: RootOptions,
    /// Put the file there as it is: one of a closed format, finished elsewhere
    #[arg(long, conflicts_with_all = ["spec", "like", "encoder"])]
    pub as_is: bool,
    /// Allow a new file
    #[arg(long)]
    pub new: bool,
    /// Make the sheet's entries and clear its caches, too
    #[arg(long, requires = "target")]
    pub entries: bool,
    /// Print the plan, change nothing
    #[arg(long)]
    pub dry_run: bool,
    #[command(flatten)]
    pub wanted: Wanted,
    #[command(flatten)]
    pub options: Options<Every>,
    #[command(flatten)]
    pub outside: Outside,
}

/// Show what is installed in a root, and whether it is still there
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  deft-needle status                           the current folder
  deft-needle status card --verify             read every kept original
  deft-needle status card --as-job --target brass-wren.toml   single swaps as a job sheet")]
pub struct Status {
    /// A root, a folder above or below one, or a file [default: the current folder]
    #[arg(value_name = "ROOT", default_value = ".")]
    pub at: PathBuf,
    #[command(flatten)]
    pub place: RootOptions,
    /// Read every kept original and prove it by its hash
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
#[command(after_help = "Examples:
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
    /// Slots that were changed since: restore the stock all the same, or keep what is there
    #[arg(long, value_name = "WHAT")]
    pub changed: Option<ChangedChoice>,
    /// Print what would be done, change nothing
    #[arg(long)]
    pub dry_run: bool,
}

/// Restore what is sure when a ledger's log is damaged or lost
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  deft-needle rescue card --dry-run                   what is sure, and what is not
  deft-needle rescue card --target brass-wren.toml    match originals by the hashes of its list, too
Kept originals that nothing tells the slot of stay where they are, and are listed.")]
pub struct Rescue {
    /// The root
    #[arg(value_name = "ROOT", default_value = ".")]
    pub at: PathBuf,
    #[command(flatten)]
    pub place: RootOptions,
    /// A sheet whose list tells the hashes of originals
    #[arg(long, value_name = "SHEET")]
    pub target: Option<PathBuf>,
    /// Print what would be done, change nothing
    #[arg(long)]
    pub dry_run: bool,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
pub enum ChangedChoice {
    Overwrite,
    Keep,
}

/// Reads what was typed; wrong usage ends the program with its message.
pub fn read(typed: Vec<OsString>) -> Cli {
    let matches = Cli::command().get_matches_from(typed);
    Cli::from_arg_matches(&matches).unwrap_or_else(|error| error.exit())
}

/// Puts `inspect` in front of bare files, so that files can be dropped on the program.
pub fn with_default_command(typed: impl Iterator<Item = OsString>) -> Vec<OsString> {
    let mut typed: Vec<OsString> = typed.collect();
    let flag_with_value = ["--color", "--threads"];
    let mut at = 1;
    while let Some(word) = typed.get(at) {
        let text = word.to_string_lossy();
        if flag_with_value.contains(&text.as_ref()) {
            at += 2;
        } else if text.starts_with('-') && text != "-" {
            at += 1;
        } else {
            break;
        }
    }
    let is_file = typed.get(at).is_some_and(|word| {
        let text = word.to_string_lossy();
        let command = Cli::command().find_subcommand(text.as_ref()).is_some() || text == "help";
        !command
            && (text == "-" || text.contains(['.', '/', '\\', '*']) || Path::new(word).exists())
    });
    if is_file {
        typed.insert(at, "inspect".into());
    }
    typed
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_commands_are_sound() {
        Cli::command().debug_assert();
    }

    #[test]
    fn bare_files_are_inspected() {
        for (typed, at) in [
            (vec!["x", "kettle.wav"], Some(1)),
            (vec!["x", "--json", "kettle.wav"], Some(2)),
            (vec!["x", "--color", "never", "-"], Some(3)),
            (vec!["x", "fit", "kettle.wav"], None),
            (vec!["x", "inspct"], None),
            (vec!["x", "--help"], None),
        ] {
            let with = with_default_command(typed.iter().map(OsString::from));
            assert_eq!(with.iter().position(|word| word == "inspect"), at, "{typed:?}");
        }
    }
}
