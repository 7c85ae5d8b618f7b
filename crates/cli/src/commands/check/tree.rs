//! A tree, an archive or a file held against a target sheet.

use super::sheet::tell;
use crate::args::Check;
use crate::commands::{counted, notice, tell_unread};
use crate::console::{BAD, Console, GOOD, paint, safe};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::object;
use crate::paths::expand;
use crate::paths::text;
use crate::progress::Progress;
use crate::report::check as words;
use crate::report::error::fault;
use crate::report::notice::some_of;
use crate::table::Table;
use deft_needle_audio::num::count;
use deft_needle_core::check::{Checked, Report, Short};
use deft_needle_core::error::Error as CoreError;
use deft_needle_core::names::shell_word;
use deft_needle_core::stock::{Member, Stock};
use deft_needle_core::target::Target;
use deft_needle_core::tree::slot_name;
use std::collections::BTreeMap;
use std::path::Path;

/// Checks every path against the sheet.
pub fn run(args: &Check, console: &Console) -> Result<Exit, Failure> {
    let mut exit = Exit::Done;
    let mut objects = Vec::new();
    for path in expand(&args.paths)? {
        let Some(mut target) = args.wanted.target_at(&path, &args.place.asked())? else {
            continue;
        };
        tell_unread(&target.slots, console);
        target.sheet.names = args.naming.over(&target.sheet.names);
        let report = check(&target, &path, args, console)?;
        for unread in &report.unread {
            console.fault(unread);
            exit = exit.worst(Exit::Unreadable);
        }
        exit = exit.worst(told(&target, &path, &report, args, console));
        objects.push(object::CheckedTree {
            path: text(&path),
            root: target.roots.main.as_deref().map(text),
            files: report.files,
            whole: report.whole,
            absent: report.absent,
            remarks: target.remarks().iter().map(|remark| fault(remark).0).collect(),
        });
    }
    let sheet = args.wanted.target.as_deref().map(text);
    console.object(|| object::CheckedTrees { target: sheet, trees: objects });
    Ok(exit)
}

fn check(target: &Target, path: &Path, args: &Check, console: &Console) -> Result<Report, Failure> {
    if path.is_dir() || Stock::is_archive(path) {
        let (prefix, whole) = prefix(target, path)?;
        let stock = Stock::open(path)?;
        let progress = Progress::new(console, "checking", count(stock.names()?.len()));
        return Ok(target.check(&stock, &prefix, whole, &progress)?);
    }
    let slot = match (&args.slot, &target.roots.main) {
        (Some(slot), _) => slot.replace('\\', "/"),
        (None, Some(root)) => {
            let path = std::path::absolute(path).map_err(CoreError::read(path))?;
            slot_name(root, &path)?
        }
        (None, None) => path.file_name().unwrap_or_default().to_string_lossy().into_owned(),
    };
    let member = Member::of_file(&slot, path)?;
    Ok(target.check_file(&slot, &member))
}

/// What the slots of a folder begin with, and whether it is the whole root.
fn prefix(target: &Target, path: &Path) -> Result<(String, bool), Failure> {
    let path = std::path::absolute(path).map_err(CoreError::read(path))?;
    match &target.roots.main {
        Some(root) if *root != path && path.starts_with(root) => {
            Ok((slot_name(root, &path)? + "/", false))
        }
        _ => Ok((String::new(), true)),
    }
}

/// A line a shortfall, a line a rule.
fn told(target: &Target, path: &Path, report: &Report, args: &Check, console: &Console) -> Exit {
    for file in &report.files {
        let asked = file.rule.and_then(|at| target.sheet.rules[at].demand());
        let asked = asked.map(|demand| demand.specs[0].to_string());
        let lines = words::shortfalls(&file.shortfalls, &file.is, asked.as_deref());
        let fixes = fixes(file, path, args);
        super::tell_file(&file.slot, &lines, &fixes, console);
    }
    for line in &report.whole {
        let (what, how) = words::whole(line);
        console.find(format!("{} {}", paint(BAD, format!("{}:", safe(&what))), safe(&how)));
    }
    if !report.absent.is_empty() {
        console.say(notice(&format!(
            "no file for {} that the target takes as additions: {}",
            counted(report.absent.len(), "listed name"),
            safe(&some_of(&report.absent))
        )));
    }
    tell(&target.remarks(), console);
    let ruled = |at: usize| move |file: &&Checked| file.rule == Some(at);
    let mut rows = Vec::new();
    for (at, rule) in target.sheet.rules.iter().enumerate() {
        let files = report.files.iter().filter(ruled(at)).count();
        let short = report.files.iter().filter(ruled(at));
        let short = short.filter(|file| !file.shortfalls.is_empty()).count();
        if files > 0 {
            rows.push(vec![
                format!("  {}", safe(&rule.short_title())),
                files.to_string(),
                verdict(short),
            ]);
        }
    }
    let short = report.files.iter().filter(|file| !file.shortfalls.is_empty()).count();
    let wrong = short + report.whole.len();
    console.say(format!(
        "{} checked as {}: {}, {}",
        safe(&path.display().to_string()),
        safe(&target.sheet.name),
        counted(report.files.len(), "file"),
        match wrong {
            0 => paint(GOOD, "all pass"),
            wrong if report.whole.is_empty() => paint(BAD, fail(wrong)),
            _ => paint(
                BAD,
                format!("{}, {} missing or wrong as a whole", fail(short), report.whole.len()),
            ),
        }
    ));
    if !rows.is_empty() {
        console.say(Table::bare(rows, &[1]).text(console.room()));
    }
    if short > 1 {
        console.say(format!("  problems: {}", counts(&report.files)));
    }
    match wrong {
        0 => Exit::Done,
        _ => Exit::Short,
    }
}

/// What would mend a file, ready to be typed where it can be.
fn fixes(file: &Checked, path: &Path, args: &Check) -> Vec<String> {
    let mut all = Vec::new();
    let right = file.shortfalls.iter().find_map(|short| match short {
        Short::Name { right, .. } => right.as_deref(),
        _ => None,
    });
    let property = |short: &Short| match short {
        Short::Property(short) => short.what != "size",
        _ => false,
    };
    if let (true, Some(sheet)) = (file.shortfalls.iter().any(property), &args.wanted.target) {
        let slot = right.unwrap_or(&file.slot);
        let name = slot.rsplit('/').next().unwrap_or(slot);
        let source = if path.is_dir() { path.join(&file.slot) } else { path.to_owned() };
        if source.is_file() {
            let word = |path: &Path| shell_word(path);
            all.push(format!(
                "deft-needle fit {} -o {} --target {} --slot {}",
                word(&source),
                word(&Path::new("fixed").join(name)),
                word(sheet),
                word(Path::new(slot)),
            ));
        }
    }
    all
}

/// How often each kind of thing is wrong, the most frequent first.
fn counts(files: &[Checked]) -> String {
    let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
    for file in files {
        words::kinds(&file.shortfalls)
            .into_iter()
            .for_each(|kind| *counts.entry(kind).or_default() += 1);
    }
    let mut counts: Vec<(&str, usize)> = counts.into_iter().collect();
    counts.sort_by_key(|(_, count)| std::cmp::Reverse(*count));
    let told: Vec<String> = counts.iter().map(|(kind, count)| format!("{kind} {count}")).collect();
    told.join(", ")
}

fn verdict(failing: usize) -> String {
    match failing {
        0 => paint(GOOD, "pass"),
        failing => paint(BAD, fail(failing)),
    }
}

fn fail(count: usize) -> String {
    format!("{count} fail{}", if count == 1 { "s" } else { "" })
}
