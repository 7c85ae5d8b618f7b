//! What can be typed.

mod complete;
mod files;
mod guess;
mod help;
mod jobs;
mod options;
mod proof;
mod roots;
mod targets;
mod tools;
mod wanted;

pub use files::{Check, Fit, Hear, Inspect, Seam};
pub use jobs::{Going, Install, New, Pack, Watch};
pub use options::{Every, ForFiles, ForReading, ForSeams, Options};
pub use proof::Proof;
pub use roots::{
    ChangedChoice, LinkChoice, Rescue, Restore, RootFolders, RootOptions, Status, Swap, Swapping,
};
pub use targets::{Learn, Sheets, SlotsArgs};
pub use tools::{Completions, Config, Doctor, Man};
pub use wanted::{Naming, OfTarget, Outside, SpecArgs};

use crate::failure::Failure;
use clap::error::ErrorKind;
use clap::{Args, CommandFactory, FromArgMatches, Parser, Subcommand, ValueEnum};
use deft_needle_audio::edit::{Request, ValueKind, option};
use std::ffi::OsString;
use std::path::Path;

/// Put your own sounds into a device or a game: exactly to its spec, by name, undoably.
#[derive(Debug, Parser)]
#[command(
    name = "deft-needle",
    version,
    max_term_width = 100,
    after_help = "A file alone is inspected:  deft-needle kettle.wav\n\
                  To try it all:              deft-needle demo try",
    after_long_help = "A file alone is inspected:  deft-needle kettle.wav\n\
                  To try it all:              deft-needle demo try\n\n\
                  Exit codes: 0 done, 1 something fails, 2 wrong usage, 3 unreadable input, \
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
    /// Colours: on terminals (auto), always or never; honours NO_COLOR
    #[arg(long, global = true, help_heading = "Everywhere", value_name = "WHEN")]
    pub color: Option<Color>,
    /// One fact a line, without drawings, for screen readers
    #[arg(long, global = true, help_heading = "Everywhere")]
    pub plain: bool,
    /// Number of files processed in parallel [default: one for each core]
    #[arg(long, global = true, help_heading = "Everywhere", value_name = "N")]
    pub threads: Option<usize>,
}

impl Common {
    /// What decides how even a wrong command line is answered, before it is read.
    pub fn glanced(typed: &[OsString]) -> Self {
        let words: Vec<_> = typed.iter().skip(1).map(|word| word.to_string_lossy()).collect();
        let has = |names: &[&str]| words.iter().any(|word| names.contains(&word.as_ref()));
        let color = words.iter().enumerate().find_map(|(at, word)| {
            let next = words.get(at + 1).map(AsRef::as_ref);
            let named = if word == "--color" { next } else { word.strip_prefix("--color=") };
            named.and_then(|named| Color::from_str(named, true).ok())
        });
        Self {
            json: has(&["--json"]),
            quiet: has(&["-q", "--quiet"]),
            plain: has(&["--plain"]),
            color,
            ..Self::default()
        }
    }
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
    Proof(Proof),
    Doctor(Doctor),
    Config(Config),
    Completions(Completions),
    Man(Man),
    #[cfg(feature = "demo")]
    Demo(deft_needle_demo::Demo),
    #[cfg(feature = "demo")]
    #[command(flatten)]
    StandIn(deft_needle_demo::StandIn),
}

/// What was typed, or what is shown instead of running anything.
pub enum Typed {
    /// A command.
    Command(Box<Cli>),
    /// Help, or the version, as text.
    Shown(clap::Error),
    /// The version, for a program.
    Version,
    /// Wrong usage.
    Wrong(Failure),
}

/// Reads what was typed.
pub fn read(typed: &[OsString]) -> Typed {
    let typed = &with_values(typed)[..];
    let common = Common::glanced(typed);
    let parsed = command(common.color.unwrap_or_default()).try_get_matches_from(typed);
    match parsed.and_then(|matches| Cli::from_arg_matches(&matches)) {
        Ok(cli) => Typed::Command(Box::new(cli)),
        Err(error) if error.kind() == ErrorKind::DisplayVersion && common.json => Typed::Version,
        Err(error) if !error.use_stderr() => Typed::Shown(error),
        // A bare `deft-needle` shows its help.
        Err(error) if error.kind() == ErrorKind::DisplayHelpOnMissingArgumentOrSubcommand => {
            Typed::Shown(error)
        }
        Err(error) => Typed::Wrong(guess::failure(&error, typed)),
    }
}

/// The whole command line, with its commands in groups.
pub fn command(color: Color) -> clap::Command {
    let choice = match color {
        Color::Auto => clap::ColorChoice::Auto,
        Color::Always => clap::ColorChoice::Always,
        Color::Never => clap::ColorChoice::Never,
    };
    help::grouped(Cli::command().color(choice))
}

/// A value behind an option that may stand without one belongs to it where it is one of its values, and no file.
fn with_values(typed: &[OsString]) -> Vec<OsString> {
    let mut all: Vec<OsString> = Vec::new();
    for word in typed {
        let text = word.to_string_lossy();
        let option = all.last().and_then(|last| last.to_str()?.strip_prefix("--").and_then(option));
        let takes = option.filter(|row| matches!(row.value, ValueKind::Maybe(..)));
        let is_value = takes.is_some_and(|row| Request::read([(row.name, &*text)]).is_ok());
        match all.last_mut().filter(|_| is_value && !Path::new(word).exists()) {
            Some(last) => {
                last.push("=");
                last.push(word);
            }
            None => all.push(word.clone()),
        }
    }
    all
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
    fn the_command_line_is_valid() {
        command(Color::Auto).debug_assert();
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

    #[test]
    fn a_value_may_stand_behind_an_option_that_needs_none() {
        for (typed, want) in [
            (
                "x fit a.wav --trim-silence auto -o b.wav",
                "x fit a.wav --trim-silence=auto -o b.wav",
            ),
            ("x fit --trim-silence -55dBFS a.wav", "x fit --trim-silence=-55dBFS a.wav"),
            ("x fit --trim-silence a.wav", "x fit --trim-silence a.wav"),
            ("x fit --gain auto", "x fit --gain auto"),
            ("x fit --trim-silence --gain 1dB", "x fit --trim-silence --gain 1dB"),
        ] {
            let words: Vec<OsString> = typed.split(' ').map(OsString::from).collect();
            let want: Vec<OsString> = want.split(' ').map(OsString::from).collect();
            assert_eq!(with_values(&words), want);
        }
    }

    /// The voice of the help: short lines that say what is done, without a full stop, within 80 columns.
    #[test]
    fn help_is_short_and_speaks_plainly() {
        let mut odd = Vec::new();
        for command in Cli::command().get_subcommands() {
            let about = command.get_about().map(ToString::to_string).unwrap_or_default();
            if about.is_empty() && !command.is_hide_set() {
                odd.push(format!("{}: no about", command.get_name()));
            }
            if about.len() > 78 || about.ends_with('.') {
                odd.push(format!("{}: {about}", command.get_name()));
            }
            for arg in command.get_arguments().filter(|arg| !arg.is_hide_set()) {
                let help = arg.get_help().map(ToString::to_string).unwrap_or_default();
                let capital = help.starts_with(|c: char| c.is_uppercase() || !c.is_alphabetic());
                if help.is_empty() || help.len() > 100 || help.ends_with('.') || !capital {
                    odd.push(format!("{} {}: {help}", command.get_name(), arg.get_id()));
                }
            }
        }
        assert!(odd.is_empty(), "{}", odd.join("\n"));
    }
}
