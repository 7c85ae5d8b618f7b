//! Stock back, bit for bit.

use super::job::tell_unsynced;
use crate::args::{ChangedChoice, Restore};
use crate::console::{Console, GOOD, paint, safe};
use crate::exit::Exit;
use crate::failure::Failure;
use deft_needle_core::disk::RealDisk;
use deft_needle_core::install::{Changed, Restored, Root, Which, find_root_above, restore};
use deft_needle_core::tree::slot_name;
use std::path::{Path, PathBuf};

/// Gives back all slots, or those named.
pub fn run(args: &Restore, console: &Console) -> Result<Exit, Failure> {
    let root = find_root_above(
        &args.at,
        args.place.root.as_deref(),
        args.place.ledger.as_deref(),
    )?;
    let mut slots = Vec::new();
    let typed_root = absolute(&args.at);
    if typed_root != root.path {
        slots.push(slot_name(&root.path, &typed_root)?);
    }
    for slot in &args.slots {
        slots.push(named(&root, slot)?);
    }
    let changed = match args.changed {
        None => Changed::Refuse,
        Some(ChangedChoice::Overwrite) => Changed::Overwrite,
        Some(ChangedChoice::Keep) => Changed::Keep,
    };
    let which = match (&args.job, slots.as_slice()) {
        (Some(job), _) => Which::Job(job),
        (None, []) => Which::All,
        (None, slots) => Which::Slots(slots),
    };
    let disk = RealDisk::default();
    let done = restore(&root, which, changed, args.dry_run, &disk)?;
    if let Some(recovered) = &done.recovered {
        console.warn(safe(&recovered.to_string()));
    }
    tell(&done, args.dry_run, console);
    tell_unsynced(&disk, console);
    console.object(&done);
    Ok(Exit::Done)
}

/// What was done, a line a slot.
fn tell(done: &Restored, dry_run: bool, console: &Console) {
    let parts = [
        (
            &done.given_back,
            "stock given back",
            "stock would be given back",
        ),
        (
            &done.uncovered,
            "what lay below is back",
            "what lies below would be given back",
        ),
        (
            &done.removed,
            "removed, nothing was here",
            "would be removed, nothing was here",
        ),
        (&done.left, "left as it is", "would be left as it is"),
        (
            &done.entries,
            "entry taken back",
            "entry would be taken back",
        ),
        (&done.caches, "cache taken out", "cache would be taken out"),
    ];
    let mut count = 0;
    for (slots, done, planned) in &parts {
        let what = match dry_run {
            true => (*planned).to_owned(),
            false => paint(GOOD, done),
        };
        for slot in *slots {
            console.say(format!("{}: {what}", safe(slot)));
            count += 1;
        }
    }
    match (&done.after, count) {
        (_, 0) => console.say("nothing is installed: nothing to give back"),
        (Some(after), _) if !dry_run => console.say(format!("  {}", safe(after))),
        _ => {}
    }
}

/// A slot as typed: relative to the root, or a path to the file.
fn named(root: &Root, typed: &Path) -> Result<String, Failure> {
    let in_root = slot_name(&root.path, &absolute(typed));
    if typed.is_absolute() || (typed.exists() && in_root.is_ok()) {
        return Ok(in_root?);
    }
    Ok(slot_name(&root.path, &root.path.join(typed))?)
}

fn absolute(path: &Path) -> PathBuf {
    std::path::absolute(path).unwrap_or_else(|_| path.to_owned())
}
