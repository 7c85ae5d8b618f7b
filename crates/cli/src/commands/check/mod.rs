//! Files against a spec, a target, or their own names.

mod sheet;
mod tree;

use super::inspect::misnamed;
use super::restore::within;
use super::{notice, sort_out};
use crate::args::{Check, Going, RootOptions};
use crate::console::{BAD, Console, GOOD, paint, safe};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::object;
use crate::paths::{extension, shown, sounds};
use crate::progress::Progress;
use crate::report::check as words;
use deft_needle_audio::clip::Note;
use deft_needle_audio::read::sniff::{self, Sniffed};
use deft_needle_audio::read::{Input, open_regular};
use deft_needle_audio::spec::Demand;
use deft_needle_audio::{Clip, Error as AudioError};
use deft_needle_core::check::Short;
use deft_needle_core::error::Error as CoreError;
use deft_needle_core::names::Taken;
use deft_needle_core::refusal::{OddJob, Refusal};
use deft_needle_core::root::{RootAsk, absolute};
use deft_needle_core::run::{Ask, Proof, Run, Status, Which, status};
use deft_needle_core::target::name_faults;
use rayon::prelude::*;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

/// What was found about one file.
#[derive(Debug, JsonSchema, Serialize)]
pub struct FileCheck {
    #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
    file: PathBuf,
    is: String,
    shortfalls: Vec<String>,
    /// What is unusual, and what every player takes.
    notes: Vec<String>,
}

/// Checks files and trees.
pub fn run(args: &Check, console: &Console) -> Result<Exit, Failure> {
    if let [job] = args.paths.as_slice()
        && sheet::is_job(job)
    {
        return check_job(args, job, console);
    }
    let sheets = args.paths.iter().all(|path| sheet::is_one(path)) && args.wanted.target.is_none();
    if sheets {
        return sheet::run(&args.paths, &args.place.asked().roots(), console);
    }
    if !args.place.root.is_empty() && args.wanted.target.is_none() {
        return Err(Failure::usage(
            "--root goes with a job sheet, a target's sheet or --target SHEET",
            "name the target's sheet",
        ));
    }
    if args.wanted.target.is_some() {
        return tree::run(args, console);
    }
    check_files(args, console)
}

/// Checks files and what is in folders against a spec, or against their own names.
fn check_files(args: &Check, console: &Console) -> Result<Exit, Failure> {
    let demand = args.wanted.demand(&args.options)?;
    // Folders that were named may lie within each other.
    let mut seen = BTreeSet::new();
    let files = sounds(&args.paths)?.into_iter().map(|sound| sound.path);
    let files: Vec<PathBuf> = files.filter(|file| seen.insert(file.clone())).collect();
    let found: Vec<_> = files.par_iter().map(|file| check(file, args, demand.as_ref())).collect();
    let (mut checked, failed, mut exit) = sort_out(found, console);
    check_names(args, &mut checked);
    let sounds = checked.len();
    let is_short = |one: &&FileCheck| !one.shortfalls.is_empty();
    let failing = checked.iter().filter(is_short).count();
    // Whoever asks for a spec asks for nothing else.
    let folders = args.paths.iter().filter(|path| demand.is_none() && path.is_dir());
    let mut changed = BTreeSet::new();
    for folder in folders {
        if let Err(failure) = check_installed(folder, &mut checked, &mut changed) {
            console.failure(&failure);
            exit = exit.worst(failure.exit());
        }
    }
    for one in &checked {
        let name = one.file.display().to_string();
        tell_file(&name, &one.shortfalls, &[], console);
        for note in &one.notes {
            console.say(notice(&safe(&format!("{name}: {note}"))));
        }
    }
    let short = checked.iter().filter(is_short).count();
    if short > 0 {
        exit = exit.worst(Exit::Short);
    }
    console.say(summary(sounds, failing, demand.as_ref()));
    match changed.len() {
        0 => {}
        1 => console.say("1 file is no longer as it was installed"),
        many => console.say(format!("{many} files are no longer as they were installed")),
    }
    console.object(|| object::CheckedFiles {
        checked: checked.len(),
        short,
        files: &checked,
        failed: &failed,
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
        let (faults, right) = name_faults(name, &rules, &[], &taken);
        let short = |odd| format!("its name {}", words::name(odd, right.as_deref()));
        one.shortfalls.extend(faults.iter().map(short));
        taken.add(name);
    }
}

/// What was installed in a folder, and is no longer there: in slots, and in lists.
fn check_installed(
    folder: &Path,
    checked: &mut Vec<FileCheck>,
    changed: &mut BTreeSet<PathBuf>,
) -> Result<(), Failure> {
    // Most folders have no ledger.
    for root in RootAsk::default().all_of(folder).unwrap_or_default() {
        let below = within(&root, folder)?;
        let which = below.as_deref().map_or(Which::All, Which::Below);
        let Status { slots, entries, state, .. } = status(&root, which, Proof::Look)?;
        let there = |key| state.path_of(&root.path, key).is_ok_and(|path| path.exists());
        let slots = slots.iter().flat_map(|slot| {
            let said = words::slot(slot, there(&slot.slot)).into_iter();
            said.map(|said| (&slot.slot, "a slot", said))
        });
        let gone = entries.iter().filter(|entry| entry.condition.is_odd());
        let entries = gone.map(|entry| (&entry.file, "a list", words::entry(&entry.what)));
        for (key, is, said) in slots.chain(entries) {
            let path = state.path_of(&root.path, key)?;
            let same = |one: &&mut FileCheck| absolute(&one.file).is_ok_and(|file| file == path);
            changed.insert(path.clone());
            match checked.iter_mut().find(same) {
                Some(one) if one.shortfalls.contains(&said) => {}
                Some(one) => one.shortfalls.push(said),
                None => checked.push(FileCheck {
                    file: PathBuf::from(shown(&path)),
                    is: is.to_owned(),
                    shortfalls: vec![said],
                    notes: Vec::new(),
                }),
            }
        }
    }
    Ok(())
}

/// One file with all that is wrong with it, and what would mend it.
fn tell_file(name: &str, lines: &[String], fixes: &[String], console: &Console) {
    let name = paint(BAD, format!("{}:", safe(name)));
    match (lines, fixes) {
        ([], _) => {}
        ([line], []) => console.find(format!("{name} {}", safe(line))),
        _ => {
            let fixes = fixes.iter().map(|fix| format!("fix: {fix}"));
            let lines: Vec<String> = lines.iter().cloned().chain(fixes).collect();
            let lines: Vec<String> = lines.iter().map(|line| format!("  {}", safe(line))).collect();
            console.find(format!("{name}\n{}", lines.join("\n")));
        }
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
        place: RootOptions { folders: args.place.clone(), ..RootOptions::default() },
        allow_commands: args.allow_commands,
    };
    let progress = Progress::new(console, "checking", 0);
    let found = match going.open(job, None, &progress) {
        // What has no root may still be packed.
        Err(Failure::Core(CoreError::Refused(refusal)))
            if matches!(*refusal, Refusal::Job(OddJob::RootUnsaid { .. })) =>
        {
            let ask = Ask { allow_commands: args.allow_commands, ..Ask::default() };
            let run = Run::without_root(job, ask, &progress)?;
            console.say("no root is named: checked as a job that is only packed");
            super::job::install::look_unplaced(&run, console)?
        }
        opened => super::job::install::look(opened?.run, console)?,
    };
    // What is wrong is what was asked for here: the look itself went well.
    Ok(if found == Exit::Done { Exit::Done } else { Exit::Short })
}

fn check(file: &Path, args: &Check, demand: Option<&Demand>) -> Result<FileCheck, Failure> {
    let checked = |is: String, shortfalls| FileCheck {
        file: file.to_owned(),
        is,
        shortfalls,
        notes: Vec::new(),
    };
    let hints = args.options.hints();
    match Clip::from_input(Input::file(file), &hints) {
        Ok(clip) => {
            let facts = clip.facts();
            let told = |which: &dyn Fn(&Note) -> bool| -> Vec<String> {
                let notes = facts.notes.iter().filter(|note| which(note));
                notes.map(ToString::to_string).collect()
            };
            let mut shortfalls: Vec<String> = match demand {
                Some(demand) => {
                    let found: Vec<Short> =
                        demand.shortfalls(facts).into_iter().map(Short::Property).collect();
                    let (is, asked) = (facts.format.to_string(), demand.specs[0].to_string());
                    words::shortfalls(&found, &is, Some(&asked))
                }
                None => told(&|note| !note.is_harmless()),
            };
            if demand.is_none() {
                let named = misnamed(file, &clip);
                shortfalls.extend(named.map(|m| format!("{}: {}", m.what, m.remedy)));
            }
            let notes = if demand.is_none() { told(&Note::is_harmless) } else { Vec::new() };
            Ok(FileCheck { notes, ..checked(facts.format.to_string(), shortfalls) })
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
