//! A tree, an archive or a file held against a target sheet.

use super::sheet::tell;
use crate::args::Check;
use crate::commands::{counted, tell_unread};
use crate::console::{BAD, Console, GOOD, paint, safe};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::paths::expand;
use crate::paths::text;
use crate::progress::Progress;
use crate::table::Table;
use deft_needle_audio::num::count;
use deft_needle_core::check::{Checked, Report};
use deft_needle_core::error::Error as CoreError;
use deft_needle_core::stock::{Member, Stock};
use deft_needle_core::target::Target;
use deft_needle_core::tree::slot_name;
use serde_json::json;
use std::path::Path;

/// Checks every path against the sheet.
pub fn run(args: &Check, console: &Console) -> Result<Exit, Failure> {
    let mut exit = Exit::Done;
    let mut objects = Vec::new();
    for path in expand(&args.paths)? {
        let Some(mut target) = args.wanted.target_at(&path, args.root.as_deref())? else {
            continue;
        };
        tell_unread(&target.slots, console);
        target.sheet.names = args.naming.over(&target.sheet.names);
        let report = check(&target, &path, args, console)?;
        for unread in &report.unread {
            console.fault(unread);
            exit = exit.worst(Exit::Unreadable);
        }
        exit = exit.worst(told(&target, &path, &report, console));
        objects.push(json!({
            "path": text(&path),
            "root": target.roots.main.as_deref().map(text),
            "files": report.files,
            "whole": report.whole,
            "remarks": target.remarks().iter().map(ToString::to_string).collect::<Vec<_>>(),
        }));
    }
    console
        .object(|| json!({ "target": args.wanted.target.as_deref().map(text), "trees": objects }));
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
fn told(target: &Target, path: &Path, report: &Report, console: &Console) -> Exit {
    for file in &report.files {
        for shortfall in &file.shortfalls {
            let slot = paint(BAD, format!("{}:", safe(&file.slot)));
            console.find(format!("{slot} {}", safe(shortfall)));
        }
    }
    for line in &report.whole {
        let (what, how) = line.split_once(": ").unwrap_or((line, ""));
        console.find(format!("{} {}", paint(BAD, format!("{}:", safe(what))), safe(how)));
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
    match wrong {
        0 => Exit::Done,
        _ => Exit::Short,
    }
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
