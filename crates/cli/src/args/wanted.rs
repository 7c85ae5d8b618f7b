//! How a clip is read, what a file must be, how it is named.

use clap::{Args, ValueEnum};
use deft_needle_audio::Error;
use deft_needle_audio::spec::{Container, Format, LoopTags};
use deft_needle_core::sheet::CharSet;
use std::path::PathBuf;

/// What the content of a file cannot tell.
#[derive(Debug, Args)]
pub struct Reading {
    /// Take the clip for samples without a header, as in "raw pcm16le 24000 mono"
    #[arg(long, value_name = "SPEC", value_parser = raw_format)]
    pub read_as: Option<Format>,
}

/// The same, with the names of a loop that only the target knows.
#[derive(Debug, Args)]
pub struct Opening {
    #[command(flatten)]
    pub reading: Reading,
    /// Names of a loop's tags, where the target has its own: start=NAME,length=NAME
    #[arg(long, value_name = "NAMES")]
    pub loop_tags: Option<LoopTags>,
}

fn raw_format(text: &str) -> Result<Format, String> {
    let format: Format = text.parse().map_err(|error: Error| error.to_string())?;
    let samples = format.encoding.codec.sample_bytes().is_some();
    match format.container == Container::Raw && samples {
        true => Ok(format),
        false => Err("name samples without a header, as in \"raw pcm16le 24000 mono\"".to_owned()),
    }
}

/// What a file must be.
#[derive(Debug, Args)]
pub struct Wanted {
    /// Container, encoding, rate and channels, as in "wav pcm16 24000 mono"
    #[arg(long, value_name = "SPEC", conflicts_with = "like")]
    pub spec: Option<String>,
    /// A file that works today: its spec, its header kind, and no other chunks where it has none
    #[arg(long, value_name = "FILE")]
    pub like: Option<PathBuf>,
    /// What a target sheet asks: a file, or one of those that ship; other options win over it
    #[arg(long, value_name = "SHEET")]
    pub target: Option<PathBuf>,
    /// The kind of WAV header
    #[arg(long, value_name = "KIND")]
    pub header: Option<HeaderKind>,
    /// Whether loop points, markers and tags come along
    #[arg(long, value_name = "WHAT")]
    pub tags: Option<Tags>,
    /// The size of IMA ADPCM blocks [default: the clip's own, or 256 a channel at 11025 Hz and more above]
    #[arg(long, value_name = "BYTES")]
    pub block_bytes: Option<u32>,
    /// Names of a loop's tags [default: start=LOOPSTART,length=LOOPLENGTH]; also end=NAME, in=seconds
    #[arg(long, value_name = "NAMES")]
    pub loop_tags: Option<LoopTags>,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
pub enum HeaderKind {
    Plain,
    Extensible,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
pub enum Tags {
    /// Nothing but the samples
    Strip,
    /// All that the clip brings
    Keep,
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
