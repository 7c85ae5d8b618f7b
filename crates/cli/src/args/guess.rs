//! Wrong guesses: what was typed in another program's way, and how it is typed here.

use super::Cli;
use crate::failure::Failure;
use clap::error::{ContextKind, ContextValue, ErrorKind};
use clap::{CommandFactory, Error};
use deft_needle_core::names::nearest;
use std::ffi::OsString;

/// Words for commands that this program calls something else.
const COMMANDS: &[(&[&str], &str)] = &[
    (&["convert", "encode", "transcode", "resample", "export", "render"], "fit CLIP -o OUT"),
    (&["play", "listen", "preview", "render-wav"], "hear FILE -o OUT.wav"),
    (&["undo", "uninstall", "revert", "remove", "rollback", "reset"], "restore ROOT"),
    (&["info", "show", "analyse", "analyze", "identify", "stat", "view"], "inspect FILE"),
    (&["replace", "put", "set", "inject"], "swap CLIP SLOT-FILE"),
    (&["verify", "validate", "lint", "test", "compare"], "check PATH --target SHEET"),
    (&["list", "ls", "find", "search"], "slots SHEET WORD"),
    (&["apply", "add", "deploy"], "install JOB"),
    (&["scan", "import", "detect"], "learn STOCK -o SHEET"),
    (&["loop", "loops"], "seam CLIP"),
    (&["init", "create", "template"], "new SHEET CLIPS -o JOB"),
    (&["zip", "bundle", "share", "archive"], "pack JOB -o ARCHIVE"),
    (&["repair", "recover", "fix"], "rescue ROOT"),
    (&["log", "history", "installed"], "status ROOT"),
    (&["tour", "example", "examples", "tutorial"], "demo"),
    (&["settings", "preferences"], "config"),
    (&["diagnose", "debug"], "doctor"),
    (&["version"], "--version"),
];

/// What options are called elsewhere, and how the same is typed here; `{}` is the value that was typed.
const OPTIONS: &[(&[&str], &str, &str)] = &[
    (&["rate", "samplerate", "sample-rate", "hz"], "44100", "--spec \"wav pcm16 {} any\""),
    (&["mono"], "", "--spec \"wav pcm16 any mono\""),
    (&["stereo"], "", "--spec \"wav pcm16 any stereo\""),
    (&["channels"], "2", "--spec \"wav pcm16 any {}\""),
    (&["bits", "bit-depth", "depth"], "16", "--spec \"wav pcm{} any any\""),
    (&["format", "container", "type"], "wav", "--spec \"{} any any any\""),
    (&["codec", "encoding"], "pcm16", "--spec \"any {} any any\""),
    (&["bitrate", "kbps"], "96k", "--spec \"m4a aac:{} any any\""),
    (&["quality"], "6", "--spec \"ogg vorbis:q{} any any\""),
    (&["volume", "amplify"], "+3dB", "--gain +3dB, or --level -16LUFS"),
    (
        &["normalize", "normalise", "loudness", "lufs", "peak"],
        "",
        "--level -16LUFS, or --level -1dBTP",
    ),
    (&["trim", "start", "end", "from", "to", "range", "offset", "duration"], "", "--cut 0.5s..2s"),
    (&["silence", "strip-silence"], "", "--trim-silence"),
    (&["fade"], "50ms", "--fade-in {} --fade-out {}"),
    (&["pitch", "tempo"], "1.25", "--speed {}"),
    (&["limit", "limiter"], "", "--ceiling -1dB"),
    (&["pan", "mix", "map", "swap-channels"], "", "--route \"R L\""),
    (&["effect", "fx", "filter"], "", "--voicing dispatch"),
    (&["title", "artist", "metadata", "comment"], "", "--tag TITLE=Text"),
    (&["output", "output-file", "dest"], "OUT", "--out {}"),
    (&["force", "yes", "replace"], "", "--overwrite"),
    (&["preview", "simulate", "no-act"], "", "--dry-run"),
    (&["xfade"], "50ms", "--crossfade {}"),
    (&["silent"], "", "--quiet"),
    (&["jobs", "parallel"], "2", "--threads {}"),
    (&["no-color", "no-colour", "colour"], "", "--color never"),
];

/// A wrong command line as an error of this program: what is wrong, and what to type.
pub fn failure(error: &Error, typed: &[OsString]) -> Failure {
    let context = |kind| match error.get(kind) {
        Some(ContextValue::String(text)) => Some(text.clone()),
        Some(ContextValue::Strings(texts)) => texts.first().cloned(),
        _ => None,
    };
    let command = command_of(typed);
    match error.kind() {
        ErrorKind::InvalidSubcommand => {
            let word = context(ContextKind::InvalidSubcommand).unwrap_or_default();
            let commands = Cli::command();
            let commands = commands.get_subcommands().filter(|command| !command.is_hide_set());
            let near = nearest(&word, commands.map(clap::Command::get_name), 1);
            let near = near.into_iter().next().map(|near| near.name);
            Failure::usage(format!("unknown command \"{word}\""), for_command(&word, near))
        }
        ErrorKind::UnknownArgument => {
            let word = context(ContextKind::InvalidArg).unwrap_or_default();
            let near = context(ContextKind::SuggestedArg);
            let what = match word.starts_with('-') {
                true => format!("unknown option {word}"),
                false => format!("\"{word}\" is one argument too many"),
            };
            Failure::usage(what, for_option(&word, near, command.as_deref(), typed))
        }
        ErrorKind::InvalidValue | ErrorKind::ValueValidation => {
            let (what, tip) = parted(&error.to_string());
            let option = context(ContextKind::InvalidArg).unwrap_or_default();
            let option = option.split([' ', '[']).next().unwrap_or_default().to_owned();
            let value = context(ContextKind::InvalidValue).unwrap_or_default();
            if value.is_empty() && error.kind() == ErrorKind::InvalidValue {
                return Failure::usage(
                    format!("{option} needs a value"),
                    explained(command.as_deref()),
                );
            }
            let expected = match error.get(ContextKind::ValidValue) {
                Some(ContextValue::Strings(words)) => format!("expected {}", words.join(", ")),
                _ => {
                    // The second is an option whose value may be left out.
                    let ends = [">\": ", ">]\": "].into_iter();
                    let why = ends.filter_map(|end| what.split_once(end)).next();
                    why.map_or(what.clone(), |(_, why)| why.to_owned())
                }
            };
            let tip = tip.filter(|tip| !tip.starts_with("deft-needle"));
            let help = tip.unwrap_or_else(|| explained(command.as_deref()));
            Failure::usage(format!("invalid {option} \"{value}\": {expected}"), help)
        }
        _ => {
            let (what, help) = parted(&error.to_string());
            let what =
                what.replace("the following required arguments were not provided:", "missing");
            let help = help.unwrap_or_else(|| explained(command.as_deref()));
            Failure::usage(what, help)
        }
    }
}

fn explained(command: Option<&str>) -> String {
    let more = command.map_or(String::new(), |command| format!("{command} "));
    format!("deft-needle {more}--help explains it")
}

/// The command that was typed.
fn command_of(typed: &[OsString]) -> Option<String> {
    let mut words = typed.iter().skip(1).map(|word| word.to_string_lossy().into_owned());
    words.find(|word| Cli::command().find_subcommand(word).is_some())
}

fn for_command(word: &str, near: Option<String>) -> String {
    let lower = word.to_lowercase();
    let known = COMMANDS.iter().find(|(words, _)| words.contains(&lower.as_str()));
    match (known, near) {
        (Some((_, right)), _) => format!("deft-needle {right}"),
        (None, Some(near)) => format!("did you mean {near}?"),
        (None, None) => "deft-needle --help lists the commands".to_owned(),
    }
}

fn for_option(
    word: &str,
    near: Option<String>,
    command: Option<&str>,
    typed: &[OsString],
) -> String {
    let name = word.trim_start_matches('-').split('=').next().unwrap_or_default().to_lowercase();
    if let Some((_, usual, right)) =
        OPTIONS.iter().find(|(names, ..)| names.contains(&name.as_str()))
    {
        let value = value_of(word, typed).unwrap_or_else(|| (*usual).to_owned());
        return format!("use {}", right.replace("{}", &value));
    }
    match (near, command) {
        (Some(near), _) => format!("did you mean {near}?"),
        (None, Some(command)) => format!("deft-needle {command} --help lists its options"),
        (None, None) => "deft-needle --help lists the options".to_owned(),
    }
}

/// The value that stands with an option.
fn value_of(word: &str, typed: &[OsString]) -> Option<String> {
    let joined = format!("{word}=");
    let values = typed.iter().map(|typed| typed.to_string_lossy());
    if let Some(value) =
        values.filter_map(|typed| Some(typed.strip_prefix(&joined)?.to_owned())).next()
    {
        return Some(value);
    }
    let at = typed.iter().position(|typed| *typed == *word)?;
    let next = typed.get(at + 1)?.to_string_lossy();
    let plain = !next.starts_with('-') && next.chars().all(char::is_alphanumeric);
    plain.then(|| next.into_owned())
}

/// The parser's own message: what is wrong in a line, and its tip or the usage.
fn parted(text: &str) -> (String, Option<String>) {
    let text = text.strip_prefix("error: ").unwrap_or(text);
    let mut parts = text.split("\n\n").map(str::trim);
    let what = parts.next().unwrap_or_default();
    let what = what.lines().map(str::trim).collect::<Vec<_>>().join(" ");
    let help = parts.find_map(|part| {
        let tip = part.strip_prefix("tip: ").map(str::to_owned);
        tip.or_else(|| part.strip_prefix("Usage: ").map(str::to_owned))
    });
    (what.replace('\'', "\""), help)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn help(line: &str) -> (String, String) {
        let typed: Vec<OsString> = line.split(' ').map(OsString::from).collect();
        let error = Cli::command().try_get_matches_from(&typed).unwrap_err();
        let failure = failure(&error, &typed);
        (failure.message(), failure.remedy())
    }

    #[test]
    fn wrong_guesses_are_answered_with_what_is_typed_here() {
        for (line, answer) in [
            ("x convert a.mp3", "deft-needle fit CLIP -o OUT"),
            ("x undo", "deft-needle restore ROOT"),
            ("x play a.wav", "deft-needle hear FILE -o OUT.wav"),
            ("x inspekt a.wav", "did you mean inspect?"),
            ("x fit a.wav -o b.wav --rate 22050", "use --spec \"wav pcm16 22050 any\""),
            ("x fit a.wav -o b.wav --mono", "use --spec \"wav pcm16 any mono\""),
            ("x fit a.wav -o b.wav --bits=24", "use --spec \"wav pcm24 any any\""),
            ("x fit a.wav -o b.wav --volume 2", "use --gain +3dB, or --level -16LUFS"),
            ("x fit a.wav -o b.wav --normalize", "use --level -16LUFS, or --level -1dBTP"),
            ("x fit a.wav -o b.wav --start 3", "use --cut 0.5s..2s"),
            ("x fit a.wav -o b.wav --gian 3", "did you mean --gain?"),
            ("x fit a.wav -o", "deft-needle fit --help explains it"),
            ("x swap a.wav b.wav --zzz", "deft-needle swap --help lists its options"),
        ] {
            assert_eq!(help(line).1, answer, "{line}");
        }
        assert_eq!(help("x convert a.mp3").0, "unknown command \"convert\"");
        assert_eq!(help("x fit a.wav -o b.wav --mono").0, "unknown option --mono");
        assert_eq!(help("x fit a.wav -o").0, "--out needs a value");
        let (what, usage) = help("x fit a.wav");
        assert!(what.contains("--out <OUT>") && usage.contains("fit"), "{what} | {usage}");
    }

    /// A word that is a command or an option here would never be looked up.
    #[test]
    fn no_guess_is_a_name_of_ours() {
        let cli = Cli::command();
        for (words, right) in COMMANDS {
            assert!(words.iter().all(|word| cli.find_subcommand(word).is_none()), "{words:?}");
            let command = right.split(' ').next().unwrap();
            assert!(command.starts_with("--") || cli.find_subcommand(command).is_some(), "{right}");
        }
        let known: Vec<&str> = cli
            .get_subcommands()
            .flat_map(|command| command.get_arguments().chain(cli.get_arguments()))
            .filter_map(clap::Arg::get_long)
            .collect();
        for (names, _, right) in OPTIONS {
            let ours = right.split_whitespace().filter_map(|word| word.strip_prefix("--"));
            for option in ours {
                assert!(known.contains(&option.trim_end_matches(',')), "{right}");
            }
            let clash =
                |name: &&&str| known.contains(name) && !matches!(**name, "replace" | "from" | "to");
            assert_eq!(names.iter().find(clash), None);
        }
    }
}
