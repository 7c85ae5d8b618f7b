//! A job or a pack into its target: everything, or nothing.

use super::{outlook, tell_unsynced};
use crate::args::Install;
use crate::commands::{counted, notice};
use crate::console::{BOLD, Console, GOOD, paint, safe};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::progress::Progress;
use deft_needle_core::disk::RealDisk;
use deft_needle_core::install::job::{Installation, Run, Session};
use deft_needle_core::ledger::Ledger;
use deft_needle_core::names::Key;
use deft_needle_core::stamps::Stamps;
use std::path::Path;

/// Installs, or shows what would be done.
pub fn run(args: &Install, console: &Console) -> Result<Exit, Failure> {
    let progress = Progress::new(console, 0);
    let opened = args.going.open(&args.job, args.target.as_deref(), &progress)?;
    if args.dry_run {
        return look(opened.run, console);
    }
    let disk = RealDisk::default();
    let mut session = Session::open(opened.run, &disk, &progress)?;
    if !session.outlook.faults.is_empty() {
        let wrong = session.outlook.faults.len();
        let value = outlook::as_json(&session.run, &session.outlook, &session.outlook.faults);
        let exit = outlook::show(&session.run, &mut session.outlook, console);
        console.say(outlook::verdict(&session.outlook, wrong));
        console.object(|| &value);
        return Ok(exit);
    }
    drop(progress);
    let progress = Progress::new(console, session.outlook.frames());
    let name = session.run.job.name.clone();
    let root = session.run.root.as_ref().map(|root| root.path.clone());
    let done = session.carry_out(&disk, &progress)?;
    drop(progress);
    tell(&name, root.as_deref(), &done, console);
    tell_unsynced(&disk, console);
    console.object(|| &done);
    Ok(Exit::Done)
}

/// Only looks: nothing is locked, nothing changed.
pub fn look(mut run: Run, console: &Console) -> Result<Exit, Failure> {
    let progress = Progress::new(console, 0);
    let Some(root) = run.root.clone() else {
        return Err(Failure::usage("the job has no root", "name it with --root"));
    };
    let state = Ledger::peek(&root)?;
    let stamps = Stamps::load(&root.ledger);
    let mut found = run.look(&state, &stamps, &RealDisk::default(), &progress)?;
    drop(progress);
    let wrong = found.faults.len();
    let value = outlook::as_json(&run, &found, &found.faults);
    let exit = outlook::show(&run, &mut found, console);
    if let Some(pending) = &state.pending {
        console.warn(format!(
            "a {} was interrupted here; the next command that writes completes it or rolls it back",
            pending.what
        ));
    }
    console.say(outlook::verdict(&found, wrong));
    console.object(|| &value);
    Ok(exit)
}

/// What was done, in words.
pub fn tell(name: &str, root: Option<&Path>, done: &Installation, console: &Console) {
    let name = paint(BOLD, safe(name));
    if let Some(recovered) = &done.recovered {
        console.warn(safe(&recovered.to_string()));
    }
    let idle = done.placed.is_empty()
        && done.restored.is_empty()
        && done.entries.is_empty()
        && done.left.is_empty();
    if idle {
        let same = counted(done.unchanged.len(), "slot");
        console.say(format!("{name}: nothing to do, {same} as the job says"));
        return;
    }
    for placed in &done.placed {
        console.say(format!(
            "{}: {} {}",
            safe(&placed.slot),
            paint(GOOD, "installed"),
            safe(&placed.clip)
        ));
        for warning in &placed.warnings {
            console.say(notice(&safe(&warning.to_string())));
        }
    }
    let say = |what: &str, all: &[Key]| {
        all.iter().for_each(|one| console.say(format!("{}: {what}", safe(one.as_str()))));
    };
    say("no longer in the job: stock restored", &done.restored);
    say("no longer in the job, but changed: left as it is", &done.left);
    say("cache cleared", &done.caches);
    done.entries.iter().for_each(|entry| console.say(format!("entry in {}", safe(entry))));
    done.notes.iter().for_each(|note| console.say(notice(&safe(note))));
    let mut what = vec![format!("{} installed", counted(done.placed.len(), "slot"))];
    if !done.unchanged.is_empty() {
        what.push(format!("{} unchanged", done.unchanged.len()));
    }
    let place = match (&done.archive, root) {
        (Some(archive), _) => format!(" in {}", safe(archive.as_str())),
        (None, Some(root)) => format!(" in {}", safe(&root.display().to_string())),
        (None, None) => String::new(),
    };
    console.say(format!("{name}: {}{place}", what.join(", ")));
    if let Some(after) = &done.after {
        console.say(format!("  {}", safe(after)));
    }
}
