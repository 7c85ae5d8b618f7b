//! The originals back, bit for bit.

use super::job::tell_unsynced;
use crate::args::{ChangedChoice, Restore};
use crate::console::{Console, GOOD, paint, safe};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::object;
use crate::paths::{shown, text};
use deft_needle_core::disk::RealDisk;
use deft_needle_core::names::{Key, shell_word};
use deft_needle_core::refusal::Refusal;
use deft_needle_core::root::{Root, absolute, key_of};
use deft_needle_core::run::{Changed, KeptAct, Restored, Which, kept, restore};

use std::path::Path;

/// Restores all slots, or those named, of every ledger at, above or below what was typed.
pub fn run(args: &Restore, console: &Console) -> Result<Exit, Failure> {
    let roots = args.place.asked().all_of(&args.at)?;
    let changed = match args.changed {
        None => Changed::Refuse,
        Some(ChangedChoice::Overwrite) => Changed::Overwrite,
        Some(ChangedChoice::Keep) => Changed::Keep,
    };
    let disk = RealDisk::default();
    let mut exit = Exit::Done;
    let mut objects = Vec::new();
    let mut count = 0;
    let (knowing, unknown) = with_slots(args, &roots, &disk)?;
    if let Some((act, copy)) = kept_act(args) {
        return unknown.map_or_else(|| kept_copies(args, act, copy, &knowing, console), Err);
    }
    for (root, slots) in &knowing {
        let below = below(root, args)?;
        let which = match (&args.job, slots.as_slice(), &below) {
            (Some(job), ..) => Which::Job(job),
            (None, [], Some(folder)) => Which::Below(folder),
            (None, [], None) => Which::All,
            (None, slots, _) => Which::Slots(slots),
        };
        let done = match restore(root, which, changed, args.dry_run, &disk) {
            Ok(done) => done,
            // One of several ledgers must not keep the others from it.
            Err(error) if knowing.len() > 1 => {
                let failure = Failure::Core(error);
                console.failure(&failure);
                exit = exit.worst(failure.exit());
                continue;
            }
            Err(error) => return Err(error.into()),
        };
        if let Some(recovered) = &done.recovered {
            console.warn(safe(&recovered.to_string()));
        }
        if knowing.len() > 1 {
            console.say(safe(&shown(&root.path)));
        }
        count += tell(&done, args.dry_run, console);
        if !done.lacking.is_empty() {
            console.warn(format!(
                "not restored, since this system or your rights do not allow it: {}",
                done.lacking.join(", ")
            ));
        }
        for failed in &done.failed {
            exit = exit.worst(Exit::Refused);
            console.fault_of(&failed.slot, &failed.error);
        }
        for slot in &done.kept {
            console.warn(format!(
                "{}: something else is in place, so a copy of the original is kept (restore --kept)",
                safe(slot.as_str())
            ));
        }
        objects.push(object::RestoredRoot { root: text(&root.path), done });
    }
    if let Some(error) = unknown {
        return Err(error);
    }
    if count == 0 && exit == Exit::Done {
        console.say("nothing is installed: nothing to restore");
    }
    tell_unsynced(&disk, console);
    console.object(|| object::RestoredRoots { roots: objects, kept: vec![], dropped: vec![] });
    Ok(exit)
}

/// What is done with kept copies, and which of a slot's are meant.
fn kept_act(args: &Restore) -> Option<(KeptAct, Option<&str>)> {
    let act = match (&args.kept, &args.drop) {
        (Some(copy), _) => (KeptAct::Restore, copy),
        (None, Some(copy)) => (KeptAct::Drop, copy),
        (None, None) => return None,
    };
    Some((act.0, Some(act.1.as_str()).filter(|copy| !copy.is_empty())))
}

/// Kept copies of the named slots come back, or go.
fn kept_copies(
    args: &Restore,
    act: KeptAct,
    copy: Option<&str>,
    knowing: &Slots,
    console: &Console,
) -> Result<Exit, Failure> {
    let disk = RealDisk::default();
    let option = if act == KeptAct::Drop { "--drop" } else { "--kept" };
    let mut all = Vec::new();
    for (root, slots) in knowing {
        if slots.is_empty() {
            let help = format!("deft-needle restore {} SLOT {option}", shell_word(&root.path));
            return Err(Failure::usage(format!("{option} needs the names of slots"), help));
        }
        all.extend(kept(root, slots, copy, act, args.dry_run, &disk)?);
    }
    for one in &all {
        let what = match (act, args.dry_run) {
            (KeptAct::Restore, false) => paint(GOOD, "kept copy restored"),
            (KeptAct::Restore, true) => "kept copy would be restored".to_owned(),
            (KeptAct::Drop, false) => paint(GOOD, "kept copy deleted"),
            (KeptAct::Drop, true) => "kept copy would be deleted".to_owned(),
        };
        console.say(format!("{}: {what} ({})", safe(one.slot.as_str()), one.copy));
    }
    tell_unsynced(&disk, console);
    let (kept, dropped) = match act {
        KeptAct::Restore => (all, Vec::new()),
        KeptAct::Drop => (Vec::new(), all),
    };
    console.object(|| object::RestoredRoots { roots: vec![], kept, dropped });
    Ok(Exit::Done)
}

type Slots = Vec<(Root, Vec<Key>)>;

/// The slots that were named, each with the ledger that knows it; no slot: all of every ledger.
fn with_slots(
    args: &Restore,
    roots: &[Root],
    disk: &RealDisk,
) -> Result<(Slots, Option<Failure>), Failure> {
    let mut named: Vec<&Path> = args.slots.iter().map(|slot| slot.as_path()).collect();
    let is_root = |path: &Path| roots.iter().any(|root| root.path == path);
    let at = absolute(&args.at)?;
    if !at.is_dir() && !is_root(&at) {
        named.push(&args.at);
    }
    if named.is_empty() {
        return Ok((roots.iter().map(|root| (root.clone(), Vec::new())).collect(), None));
    }
    let mut all: Slots = Vec::new();
    let mut unknown = None;
    for slot in named {
        let keys = roots.iter().filter_map(|root| Some((root, key(root, slot, &at, disk).ok()?)));
        let keys: Vec<(&Root, Key)> = keys.collect();
        let knows = |(root, key): &&(&Root, Key)| {
            let state = deft_needle_core::ledger::Ledger::peek(root);
            state.is_ok_and(|state| state.slots.get(key).is_some_and(|slot| slot.matters()))
        };
        let Some((root, key)) = keys.iter().find(knows).or(keys.first()).cloned() else {
            let root = roots.first().ok_or_else(|| Failure::usage("no root", ""))?;
            unknown = Some(Failure::Core(match key(root, slot, &at, disk) {
                Err(Failure::Core(error)) => error,
                _ => {
                    let (path, root) = (slot.to_owned(), root.path.clone());
                    Refusal::OutsideRoot { path, root }.into()
                }
            }));
            continue;
        };
        match all.iter_mut().find(|(known, _)| known.path == root.path) {
            Some((_, slots)) => slots.push(key),
            None => all.push((root.clone(), vec![key])),
        }
    }
    Ok((all, unknown))
}

/// A slot as typed: relative to the root, in another root, or a path to the file.
fn key(root: &Root, typed: &Path, at: &Path, disk: &RealDisk) -> Result<Key, Failure> {
    let name = typed.to_string_lossy();
    if let Some((other, _)) = name.split_once(':')
        && root_knows(root, other)
    {
        return Ok(Key::parse(&name.replace('\\', "/")).map_err(deft_needle_core::Error::from)?);
    }
    let direct = key_of(&root.path, typed, disk);
    if typed.is_absolute() || (typed.exists() && direct.is_ok()) || typed == at {
        return Ok(direct?);
    }
    Ok(key_of(&root.path, &root.path.join(typed), disk)?)
}

fn root_knows(root: &Root, other: &str) -> bool {
    let state = deft_needle_core::ledger::Ledger::peek(root);
    state.is_ok_and(|state| state.others.contains_key(other))
}

/// The folder within a root that was typed, where it is below it.
pub fn below(root: &Root, args: &Restore) -> Result<Option<String>, Failure> {
    within(root, &args.at)
}

/// The folder within a root that a path is; nothing where it is the root, or above it.
pub fn within(root: &Root, typed: &Path) -> Result<Option<String>, Failure> {
    let path = absolute(typed)?;
    match path.is_dir() && path != root.path && path.starts_with(&root.path) {
        true => Ok(Some(deft_needle_core::tree::slot_name(&root.path, &path)?)),
        false => Ok(None),
    }
}

/// What was done, a line a slot; how many there were.
fn tell(done: &Restored, dry_run: bool, console: &Console) -> usize {
    let names = |keys: &[Key]| keys.iter().map(ToString::to_string).collect::<Vec<_>>();
    let parts = [
        (names(&done.restored), "stock restored", "stock would be restored"),
        (
            names(&done.uncovered),
            "the previous job's file is back",
            "the previous job's file would be back",
        ),
        (names(&done.removed), "new file removed", "new file would be removed"),
        (names(&done.left), "left as it is", "would be left as it is"),
        (done.entries.clone(), "entry reverted", "entry would be reverted"),
        (
            done.entries_gone.clone(),
            "entry already gone or changed",
            "entry is already gone or changed",
        ),
        (names(&done.caches), "cache cleared", "cache would be cleared"),
    ];
    let mut count = 0;
    for (slots, done, planned) in &parts {
        let what = match dry_run {
            true => (*planned).to_owned(),
            false => paint(GOOD, done),
        };
        for slot in slots {
            console.say(format!("{}: {what}", safe(slot)));
            count += 1;
        }
    }
    if let Some(after) = done.after.as_ref().filter(|_| count > 0 && !dry_run) {
        console.say(format!("  {}", safe(after)));
    }
    count
}
