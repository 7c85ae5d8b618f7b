//! The table of options as clap takes it.

use clap::builder::{PossibleValuesParser, StringValueParser, TypedValueParser as _, ValueParser};
use clap::parser::ValueSource;
use clap::{Arg, ArgAction, ArgMatches, Args, Command, FromArgMatches};
use deft_needle_audio::edit::{Group, OPTIONS, OptionRow, Request, ValueKind};
use std::marker::PhantomData;
use std::ops::Deref;

/// Which options a command has.
pub trait Choice {
    /// Whether this is one of them.
    fn has(row: &OptionRow) -> bool;
}

/// All of them.
#[derive(Debug)]
pub struct Every;

/// What a file must be, and how it is read.
#[derive(Debug)]
pub struct ForFiles;

/// How a clip is read.
#[derive(Debug)]
pub struct ForReading;

/// How a clip is read, and what is done to its loop's seam.
#[derive(Debug)]
pub struct ForSeams;

impl Choice for Every {
    fn has(_: &OptionRow) -> bool {
        true
    }
}

impl Choice for ForFiles {
    fn has(row: &OptionRow) -> bool {
        matches!(row.group, Group::Reading | Group::Spec)
    }
}

impl Choice for ForReading {
    fn has(row: &OptionRow) -> bool {
        row.group == Group::Reading
    }
}

impl Choice for ForSeams {
    fn has(row: &OptionRow) -> bool {
        ForReading::has(row) || ["loop", "tail", "loop-snap", "crossfade"].contains(&row.name)
    }
}

/// What was typed of the options that a command has.
#[derive(Debug)]
pub struct Options<C>(Request, PhantomData<C>);

impl<C> Deref for Options<C> {
    type Target = Request;

    fn deref(&self) -> &Request {
        &self.0
    }
}

/// Under which heading of the help an option stands.
fn heading(group: Group) -> &'static str {
    match group {
        Group::Reading => "Reading",
        Group::Spec => "Spec",
        Group::Shaping => {
            "Shaping (times are the clip's own: 47, 1.25s, 250ms, 1:02.5, 48000smp, 12bars@96bpm)"
        }
        Group::Looping => "Loops and tags",
    }
}

/// Reads a value, and says of a wrong one what would be right.
fn checked(row: &'static OptionRow) -> ValueParser {
    let read = |text: String| match Request::read([(row.name, text.as_str())]) {
        Ok(_) => Ok(text),
        Err(invalid) => Err(format!("expected {}", invalid.expected)),
    };
    StringValueParser::new().try_map(read).into()
}

fn argument(row: &'static OptionRow) -> Arg {
    let argument =
        Arg::new(row.name).long(row.name).help(row.help).help_heading(heading(row.group));
    match row.value {
        ValueKind::Flag => argument.action(ArgAction::SetTrue),
        ValueKind::Word(words) => {
            argument.value_name("WORD").value_parser(PossibleValuesParser::new(words))
        }
        ValueKind::One(name) => argument.value_name(name).value_parser(checked(row)),
        ValueKind::Many(name) => {
            argument.value_name(name).value_parser(checked(row)).action(ArgAction::Append)
        }
        ValueKind::Maybe(name, missing) => argument
            .value_name(name)
            .value_parser(checked(row))
            .num_args(0..=1)
            .require_equals(true)
            .default_missing_value(missing),
    }
    .allow_hyphen_values(row.takes_minus())
}

impl<C: Choice> Args for Options<C> {
    fn augment_args(command: Command) -> Command {
        command.args(OPTIONS.iter().filter(|row| C::has(row)).map(argument))
    }

    fn augment_args_for_update(command: Command) -> Command {
        Self::augment_args(command)
    }
}

impl<C: Choice> FromArgMatches for Options<C> {
    fn from_arg_matches(matches: &ArgMatches) -> Result<Self, clap::Error> {
        let mut request = Request::default();
        let is_typed = |name| matches.value_source(name) == Some(ValueSource::CommandLine);
        for row in OPTIONS.iter().filter(|row| C::has(row) && is_typed(row.name)) {
            let typed: Vec<String> = match row.value {
                ValueKind::Flag => vec!["true".to_owned()],
                _ => matches.get_many(row.name).into_iter().flatten().cloned().collect(),
            };
            for text in typed {
                request.set(row.name, &text).map_err(|invalid| {
                    clap::Error::raw(clap::error::ErrorKind::InvalidValue, format!("{invalid}\n"))
                })?;
            }
        }
        Ok(Self(request, PhantomData))
    }

    fn update_from_arg_matches(&mut self, matches: &ArgMatches) -> Result<(), clap::Error> {
        *self = Self::from_arg_matches(matches)?;
        Ok(())
    }
}
