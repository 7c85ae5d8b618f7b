//! A target sheet from files that work today.

use crate::args::Learn;
use crate::commands::fit::make_folder;
use crate::commands::{counted, notice};
use crate::console::{BOLD, Console, GOOD, paint, safe};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::object;
use crate::paths::text;
use crate::progress::Progress;
use crate::report::error as words;
use deft_needle_audio::num::count;
use deft_needle_core::RealDisk;
use deft_needle_core::disk::put_bytes;
use deft_needle_core::learn::{Learnt, learn};
use deft_needle_core::names::shell_word;
use deft_needle_core::run::refuse_existing;
use deft_needle_core::slots::to_csv;
use deft_needle_core::stock::Stock;
use std::path::{Path, PathBuf};

/// Learns, and writes the sheet and its list.
pub fn run(args: &Learn, console: &Console) -> Result<Exit, Failure> {
    if args.out.is_dir() || args.out.file_name().is_none() {
        return Err(Failure::usage(
            format!("{} is a folder", args.out.display()),
            "name the sheet with -o, as in -o lantern-ferry.toml",
        ));
    }
    let list = list_beside(&args.out);
    if !args.dry_run {
        for out in [&args.out, &list] {
            refuse_existing(&[], out, args.overwrite)?;
        }
    }
    let stock = Stock::open(&args.stock)?.before_us()?;
    let progress = Progress::new(console, "reading", count(stock.names()?.len()));
    let list_name = list.file_name().unwrap_or_default().to_string_lossy();
    let learnt = learn(&stock, &list_name, &progress)?;
    drop(progress);
    let mut exit = Exit::Done;
    for error in learnt.left_out.iter().map(|left| words::core(&left.error)) {
        console.warn(format!("left out: {}", safe(&error)));
        exit = exit.worst(Exit::Unreadable);
    }
    for (archive, sounds) in &learnt.archives {
        let path = args.stock.join(archive);
        console.say(notice(&format!(
            "{} holds {}: deft-needle learn {}",
            safe(archive),
            counted(*sounds, "sound"),
            safe(&shell_word(&path))
        )));
    }
    if args.dry_run {
        console.say(learnt.sheet.trim_end());
    } else {
        let disk = RealDisk::default();
        make_folder(&args.out, &disk)?;
        // The list first: a sheet without its list is no use.
        put_bytes(&list, &to_csv(&learnt.list)?, &disk)?;
        put_bytes(&args.out, learnt.sheet.as_bytes(), &disk)?;
        console.say(told(&learnt, args, &list));
    }
    console.object(|| object::Learnt {
        stock: text(&args.stock),
        sheet: text(&args.out),
        list: text(&list),
        dry_run: args.dry_run,
        rules: learnt.rules,
        sounds: learnt.sounds,
        opaque: learnt.opaque,
        others: learnt.others,
        archives: learnt.archives.iter().map(|(archive, _)| archive.clone()).collect(),
        left_out: learnt.left_out.iter().map(|left| words::core(&left.error)).collect(),
    });
    Ok(exit)
}

/// `lantern-ferry.slots.csv` beside `lantern-ferry.toml`.
fn list_beside(sheet: &Path) -> PathBuf {
    let stem = sheet.file_stem().unwrap_or_default().to_string_lossy();
    sheet.with_file_name(format!("{stem}.slots.csv"))
}

fn told(learnt: &Learnt, args: &Learn, list: &Path) -> String {
    let name = |path: &Path| paint(BOLD, safe(&path.display().to_string()));
    let mut found = counted(learnt.sounds, "sound");
    if learnt.opaque > 0 {
        found += &format!(", {} of closed formats", counted(learnt.opaque, "file"));
    }
    if learnt.others > 0 {
        found += &format!(", {} without sound", counted(learnt.others, "file"));
    }
    format!(
        "{}: {found}\n  {} in {}\n  names, lengths, loudness, loops and hashes in {}\n  next: deft-needle slots {}",
        name(&args.stock),
        paint(GOOD, counted(learnt.rules, "rule")),
        name(&args.out),
        name(list),
        safe(&args.out.display().to_string()),
    )
}
