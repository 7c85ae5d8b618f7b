//! Commands on files: what they are, what they sound like, and what they become.

use super::complete;
use super::{
    Every, ForFiles, ForReading, ForSeams, Naming, OfTarget, Options, Outside, RootFolders,
    SpecArgs,
};
use clap::Args;
use deft_needle_audio::edit::{Span, Time};
use std::path::PathBuf;

/// Show what audio files really contain
#[derive(Debug, Args)]
#[command(after_long_help = "Examples:
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
    #[command(flatten)]
    pub of: OfTarget,
    /// Plot one file's waveform and average spectrum
    #[arg(long, value_name = "OUT.png")]
    pub plot: Option<PathBuf>,
    /// Mark the limit of this sample rate in the spectrum
    #[arg(long, value_name = "HERTZ", requires = "plot")]
    pub plot_rate: Option<u32>,
}

/// Write anything readable as a plain WAV to listen to
#[derive(Debug, Args)]
#[command(after_long_help = "Examples:
  deft-needle hear card/SAY/TICK01.PRM -o tick.wav
  deft-needle hear new.wav --beside card/SAY/TICK01.PRM -o both.wav   new, old, new, old
  deft-needle hear hum.wav --loops 3 -o hum3.wav                      three times round")]
pub struct Hear {
    /// Files to hear, one after another
    #[arg(required = true, value_name = "FILE")]
    pub files: Vec<PathBuf>,
    #[command(flatten)]
    pub options: Options<ForReading>,
    #[command(flatten)]
    pub of: OfTarget,
    /// The WAV to write; - is standard output
    #[arg(short, long = "out", value_name = "OUT.wav")]
    pub out: PathBuf,
    /// Alternate with this file, twice over
    #[arg(long, value_name = "FILE")]
    pub beside: Option<PathBuf>,
    /// How many times to play the loop, or the whole file
    #[arg(long, value_name = "N", default_value_t = 1, value_parser = clap::value_parser!(u32).range(1..=1000))]
    pub loops: u32,
    /// Open it in the system's player
    #[arg(long)]
    pub open: bool,
    /// Replace an existing file
    #[arg(long)]
    pub overwrite: bool,
}

/// Convert clips to files that meet a spec
#[derive(Debug, Args)]
#[command(after_long_help = "Examples:
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
    /// Plot the clip and the result, one above the other
    #[arg(long, value_name = "OUT.png")]
    pub plot: Option<PathBuf>,
    /// Also write what --keep keeps (default: shared) here, and the full clip to OUT
    #[arg(long, value_name = "GUIDE")]
    pub guide: Option<PathBuf>,
    /// Replace existing files
    #[arg(long)]
    pub overwrite: bool,
    /// Print the plan, write nothing
    #[arg(long)]
    pub dry_run: bool,
    #[command(flatten)]
    pub wanted: SpecArgs,
    /// The slot, as the sheet names it [default: the name of OUT]
    #[arg(long, value_name = "SLOT", requires = "target", add = complete::slots())]
    pub slot: Option<String>,
    #[command(flatten)]
    pub place: RootFolders,
    #[command(flatten)]
    pub naming: Naming,
    #[command(flatten)]
    pub options: Options<Every>,
    #[command(flatten)]
    pub outside: Outside,
}

/// Check files against a spec, or against their own names
#[derive(Debug, Args)]
#[command(after_long_help = "Examples:
  deft-needle check card --like card/SAY/TICK01.PRM
  deft-needle check fitted --spec \"wav pcm16 24000 mono\"
  deft-needle check game --target lantern-ferry.toml
  deft-needle check lantern-ferry.toml    is the sheet itself valid?
  deft-needle check quay.toml             would the job install, and what is wrong with it?
  deft-needle check downloads             is each file what its name says?")]
pub struct Check {
    /// Files and folders; with --target archives, too; or a target sheet; or a job sheet
    #[arg(required = true, value_name = "PATH")]
    pub paths: Vec<PathBuf>,
    #[command(flatten)]
    pub options: Options<ForFiles>,
    #[command(flatten)]
    pub wanted: SpecArgs,
    /// The slot, as the sheet names it
    #[arg(long, value_name = "SLOT", requires = "target", add = complete::slots())]
    pub slot: Option<String>,
    #[command(flatten)]
    pub place: RootFolders,
    #[command(flatten)]
    pub naming: Naming,
    /// For a job: allow the external programs that speak prompt lists
    #[arg(long)]
    pub allow_commands: bool,
}

/// Find, judge, smooth and set loops
#[derive(Debug, Args)]
#[command(after_long_help = "Examples:
  deft-needle seam game/ambience/engine.wav                     judge the loop in the file
  deft-needle seam takes/concertina.wav                         find loops in a file without one
  deft-needle seam takes/concertina.wav --near 3s..8s           the best near there
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
    pub of: OfTarget,
    #[command(flatten)]
    pub finding: Finding,
    /// Write the sound around the seam as a WAV
    #[arg(long, value_name = "OUT.wav")]
    pub hear: Option<PathBuf>,
    /// How many times the loop is played there
    #[arg(long, value_name = "N", requires = "hear", default_value_t = 3, value_parser = clap::value_parser!(u32).range(1..=100))]
    pub rounds: u32,
    /// Plot the seam, and the loop in its clip
    #[arg(long, value_name = "OUT.png")]
    pub plot: Option<PathBuf>,
    /// Write the clip with this loop
    #[arg(short, long = "out", value_name = "OUT")]
    pub out: Option<PathBuf>,
    /// Replace existing files
    #[arg(long)]
    pub overwrite: bool,
}

/// Which loops are sought.
#[derive(Debug, Args)]
#[command(next_help_heading = "Finding")]
pub struct Finding {
    /// Find loops even if the clip has some
    #[arg(long, conflicts_with = "loop")]
    pub find: bool,
    /// Earliest and latest loop start, as in 0s..20s
    #[arg(long, value_name = "RANGE", allow_hyphen_values = true, conflicts_with = "loop")]
    pub from: Option<Span>,
    /// Earliest and latest loop end, as in 1:00..end
    #[arg(long, value_name = "RANGE", allow_hyphen_values = true, conflicts_with = "loop")]
    pub to: Option<Span>,
    /// Both ends within 1 s of these, as in 12s..1:15
    #[arg(long, value_name = "RANGE", allow_hyphen_values = true, conflicts_with_all = ["loop", "from", "to"])]
    pub near: Option<Span>,
    /// Shortest loop [default: a quarter of the clip, 10s at most]
    #[arg(long, value_name = "TIME", conflicts_with = "loop")]
    pub shortest: Option<Time>,
    /// Longest loop, and no more of the clip than that
    #[arg(long, value_name = "TIME", conflicts_with = "loop")]
    pub longest: Option<Time>,
    /// Approximate length, as in 12bars@96bpm
    #[arg(long, value_name = "TIME", conflicts_with = "loop")]
    pub length: Option<Time>,
    /// Number of loops to show
    #[arg(long, value_name = "N", default_value_t = 5, value_parser = clap::value_parser!(u32).range(1..=50))]
    pub most: u32,
}
