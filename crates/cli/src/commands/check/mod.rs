//! Files against a spec, a target, or their own names.

mod sheet;
mod tree;

use super::inspect::misnamed;
use super::sort_out;
use crate::args::{Check, Going, RootOptions};
use crate::console::{BAD, Console, GOOD, paint, safe};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::paths::{extension, sounds};
use crate::progress::Progress;
use deft_needle_audio::read::sniff::{self, Sniffed};
use deft_needle_audio::read::{Input, open_regular};
use deft_needle_audio::spec::Demand;
use deft_needle_audio::{Clip, Error as AudioError};
use deft_needle_core::names::Taken;
use deft_needle_core::target::name_faults;
use rayon::prelude::*;
use serde::Serialize;
use serde_json::json;
use std::path::{Path, PathBuf};

/// What was found about one file.
#[derive(Debug, Serialize)]
struct FileCheck {
    #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
    file: PathBuf,
    is: String,
    shortfalls: Vec<String>,
}

/// Checks files and trees.
pub fn run(args: &Check, console: &Console) -> Result<Exit, Failure> {
    if let [job] = args.paths.as_slice()
        && sheet::is_job(job)
    {
        return check_job(args, job, console);
    }
    if args.root.is_some() && args.wanted.target.is_none() {
        return Err(Failure::usage(
            "--root goes with a job sheet or with --target SHEET",
            "name the target's sheet",
        ));
    }
    if args.wanted.target.is_some() {
        return tree::run(args, console);
    }
    if args.paths.iter().all(|path| sheet::is_one(path)) {
        return sheet::run(&args.paths, console);
    }
    check_files(args, console)
}

/// Checks files and what is in folders against a spec, or against their own names.
fn check_files(args: &Check, console: &Console) -> Result<Exit, Failure> {
    let demand = args.wanted.demand(&args.options)?;
    let files: Vec<PathBuf> = sounds(&args.paths)?.into_iter().map(|sound| sound.path).collect();
    let found: Vec<_> = files.par_iter().map(|file| check(file, args, demand.as_ref())).collect();
    let (mut checked, failed, mut exit) = sort_out(found, console);
    check_names(args, &mut checked);
    let mut short = 0;
    for one in &checked {
        let name = safe(&one.file.display().to_string());
        for shortfall in &one.shortfalls {
            console.find(format!("{} {}", paint(BAD, format!("{name}:")), safe(shortfall)));
        }
        short += usize::from(!one.shortfalls.is_empty());
    }
    if short > 0 {
        exit = exit.worst(Exit::Short);
    }
    console.say(summary(checked.len(), short, demand.as_ref()));
    console.object(|| {
        json!({
            "checked": checked.len(),
            "short": short,
            "files": checked,
            "failed": failed,
        })
    });
    Ok(exit)
}

/// Names against the rules that were typed, and against each other.
fn check_names(args: &Check, checked: &mut [FileCheck]) {
    let Some(rules) = args.naming.rules() else {
        return;
    };
    let names: Vec<String> =
        checked.iter().map(|one| one.file.to_string_lossy().replace('\\', "/")).collect();
    let mut taken = Taken::default();
    for (one, name) in checked.iter_mut().zip(&names) {
        let faults = name_faults(name, &rules, &[], &taken);
        let short = faults.iter().map(|fault| format!("its name {fault}"));
        one.shortfalls.extend(short);
        taken.add(name);
    }
}

fn summary(checked: usize, short: usize, demand: Option<&Demand>) -> String {
    let files = |n: usize| match n {
        1 => "1 file".to_owned(),
        n => format!("{n} files"),
    };
    let measure = match demand {
        Some(demand) => demand.specs[0].to_string().replace('|', " or "),
        None => "what their names say".to_owned(),
    };
    match (checked, short) {
        (0, _) => "no audio files found".to_owned(),
        (n, 0) => paint(GOOD, format!("{} checked against {measure}: all pass", files(n))),
        (n, short) => format!(
            "{} checked against {measure}: {} fail{}",
            files(n),
            files(short),
            if short == 1 { "s" } else { "" }
        ),
    }
}

/// A job held against its target, as `install --dry-run` does.
fn check_job(args: &Check, job: &Path, console: &Console) -> Result<Exit, Failure> {
    let going = Going {
        place: RootOptions { root: args.root.iter().cloned().collect(), ..RootOptions::default() },
        allow_commands: args.allow_commands,
    };
    let progress = Progress::new(console, "checking", 0);
    super::job::install::look(going.open(job, None, &progress)?.run, console)
}

fn check(file: &Path, args: &Check, demand: Option<&Demand>) -> Result<FileCheck, Failure> {
    let checked = |is: String, shortfalls| FileCheck { file: file.to_owned(), is, shortfalls };
    let hints = args.options.hints();
    match Clip::from_input(Input::file(file), &hints) {
        Ok(clip) => {
            let facts = clip.facts();
            let mut shortfalls: Vec<String> = match demand {
                Some(demand) => demand.shortfalls(facts).iter().map(ToString::to_string).collect(),
                None => facts.notes.iter().map(ToString::to_string).collect(),
            };
            if demand.is_none() {
                let named = misnamed(file, &clip);
                shortfalls.extend(named.map(|m| format!("{}: {}", m.what, m.remedy)));
            }
            Ok(checked(facts.format.to_string(), shortfalls))
        }
        Err(error @ (AudioError::Read { .. } | AudioError::Malformed { .. })) => Err(error.into()),
        Err(error) => {
            let (is, shortfall) = what_else(file, demand, &error)?;
            Ok(checked(is, shortfall.into_iter().collect()))
        }
    }
}

/// A file that cannot be decoded can still be named, and held against its name.
fn what_else(
    file: &Path,
    demand: Option<&Demand>,
    error: &AudioError,
) -> Result<(String, Option<String>), Failure> {
    let mut open =
        open_regular(file).map_err(|source| AudioError::Read { path: file.to_owned(), source })?;
    let sniffed = sniff::sniff(&mut open, file)?;
    let (is, container) = match (&sniffed, error) {
        (Sniffed::Known { container, .. }, AudioError::Unsupported { what, .. }) => {
            (what.clone(), Some(*container))
        }
        (Sniffed::Known { container, about }, _) => ((*about).to_owned(), Some(*container)),
        (Sniffed::Named { about }, _) => ((*about).to_owned(), None),
        (Sniffed::Unknown { looks }, _) => (format!("not audio: {looks}"), None),
    };
    let extension = extension(file);
    let named_right = container.is_some_and(|c| c.facts().has_extension(&extension));
    let shortfall = match demand {
        Some(demand) => Some(format!("is {is}, should be {}", demand.specs[0])),
        None if named_right || extension.is_empty() => None,
        None => Some(format!("named .{extension} but is {is}")),
    };
    Ok((is, shortfall))
}
