//! A job or a pack into its target: everything, or nothing.

use super::{plan, tell_unsynced};
use crate::args::Install;
use crate::commands::counted;
use crate::console::{BOLD, Console, GOOD, paint, safe};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::paths::shown;
use crate::progress::Progress;
use crate::report::notice;
use deft_needle_core::disk::RealDisk;
use deft_needle_core::hash_cache::HashCache;
use deft_needle_core::ledger::Ledger;
use deft_needle_core::ledger::state::State;
use deft_needle_core::names::Key;
use deft_needle_core::run::{Installation, JobPlan, Run, Session};
use serde::Deserialize;
use std::collections::BTreeSet;
use std::path::Path;

/// Installs, or shows what would be done.
pub fn run(args: &Install, console: &Console) -> Result<Exit, Failure> {
    let progress = Progress::new(console, "reading", 0);
    let mut opened = args.going.open(&args.job, args.target.as_deref(), &progress)?;
    if !args.only.is_empty() {
        opened.run.only(&args.only)?;
    }
    if let Some(marks) = &args.only_approved {
        let approved = approved(marks, &opened.run.job.name)?;
        opened.run.only_slots(&approved)?;
    }
    if args.dry_run {
        return look(opened.run, console);
    }
    let disk = RealDisk::default();
    let progress = Progress::new(console, "planning", 0);
    let session = Session::open(opened.run, &disk, &progress)?;
    drop(progress);
    if session.run.faults(&session.plan).next().is_some() {
        return Ok(tell_plan(&session.run, &session.plan, console));
    }
    let progress = Progress::new(console, "fitting", session.plan.frames());
    let name = session.run.job.name.clone();
    let root = session.run.root.as_ref().map(|root| root.path.clone());
    let done = session.carry_out(&disk, &progress)?;
    drop(progress);
    tell(&name, root.as_deref(), &done, console);
    tell_unsynced(&disk, console);
    console.object(|| &done);
    Ok(Exit::Done)
}

/// What a page of proof saves.
#[derive(Deserialize)]
struct Marks {
    job: String,
    marks: Vec<Marked>,
}

#[derive(Deserialize)]
struct Marked {
    slot: String,
    #[serde(default)]
    mark: String,
}

/// Marks of more bytes than this are none.
const MOST_MARKS: u64 = 16 << 20;

/// The slots that are marked good.
fn approved(path: &Path, job: &str) -> Result<BTreeSet<String>, Failure> {
    let read = |source| deft_needle_core::Error::read(path)(source);
    let bytes = deft_needle_core::disk::read_plain(path, MOST_MARKS).map_err(read)?;
    let marks: Marks = serde_json::from_slice(&bytes).map_err(|error| {
        let what = format!("{} holds no marks: {error}", shown(path));
        Failure::usage(what, "save them from a page that `proof` has written")
    })?;
    if marks.job != job {
        return Err(Failure::usage(
            format!("{} holds marks of the job {}, this is {job}", shown(path), marks.job),
            "save the marks from the page of this job",
        ));
    }
    let good = marks.marks.into_iter().filter(|marked| marked.mark == "good");
    let good: BTreeSet<String> = good.map(|marked| marked.slot).collect();
    if good.is_empty() {
        return Err(Failure::usage(
            format!("no slot is marked good in {}", shown(path)),
            "mark some on the page, or leave --only-approved out",
        ));
    }
    Ok(good)
}

/// Only looks: nothing is locked, nothing changed.
pub fn look(run: Run, console: &Console) -> Result<Exit, Failure> {
    let progress = Progress::new(console, "planning", 0);
    let Some(root) = run.root.clone() else {
        return Err(Failure::usage("the job has no root", "name it with --root"));
    };
    let state = Ledger::peek(&root)?;
    let hash_cache = HashCache::load(&root.ledger);
    let mut found = run.look(&state, &hash_cache, &RealDisk::default(), &progress)?;
    drop(progress);
    look_at_pack(&run, &mut found);
    if let Some(pending) = &state.pending {
        console.warn(format!(
            "an earlier {} was interrupted here; the next command that writes completes it or rolls it back",
            pending.what
        ));
    }
    Ok(tell_plan(&run, &found, console))
}

/// The same for a job without a root, which is only to be packed.
pub fn look_unplaced(run: &Run, console: &Console) -> Result<Exit, Failure> {
    let progress = Progress::new(console, "planning", 0);
    let (state, hash_cache) = (State::default(), HashCache::default());
    let mut found = run.look(&state, &hash_cache, &RealDisk::default(), &progress)?;
    drop(progress);
    look_at_pack(run, &mut found);
    Ok(tell_plan(run, &found, console))
}

/// What a pack of the job would trip over.
fn look_at_pack(run: &Run, found: &mut JobPlan) {
    // A pack is one already, and brings no templates of packs.
    if run.target.sheet.pack.is_some() && !Run::is_pack(run.job.path()) {
        found.faults.extend(run.check_manifests(found).err());
    }
}

/// All that would be done, and all that is wrong.
fn tell_plan(run: &Run, found: &JobPlan, console: &Console) -> Exit {
    let exit = plan::show(run, found, console);
    console.say(plan::verdict(found, run.faults(found).count()));
    console.object(|| plan::as_object(run, found));
    exit
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
        && done.beside.is_empty()
        && done.left.is_empty();
    if idle {
        let same = counted(done.unchanged.len(), "slot");
        console.say(format!("{name}: nothing to do: {same} up to date"));
        return;
    }
    for placed in &done.placed {
        console.say(format!(
            "{}: {} {}",
            safe(&placed.slot),
            paint(GOOD, "installed"),
            safe(&placed.clip)
        ));
        for found in &placed.notices {
            console.say(super::super::notice(&safe(&notice::words(found))));
        }
    }
    let say = |what: &str, all: &[Key]| {
        all.iter().for_each(|one| console.say(format!("{}: {what}", safe(one.as_str()))));
    };
    say("no longer in the job: stock restored", &done.restored);
    say("no longer in the job, but changed: left as it is", &done.left);
    say("cache cleared", &done.caches);
    let files = done.beside.iter();
    files.for_each(|file| console.say(format!("file {}", safe(file.as_str()))));
    done.entries.iter().for_each(|entry| console.say(format!("entry in {}", safe(entry))));
    for found in &done.notices {
        console.say(super::super::notice(&safe(&notice::words(found))));
    }
    let mut what = vec![format!("{} installed", counted(done.placed.len(), "slot"))];
    if !done.unchanged.is_empty() {
        what.push(format!("{} unchanged", done.unchanged.len()));
    }
    let place = match (&done.archive, root) {
        (Some(archive), _) => format!(" in {}", safe(archive.as_str())),
        (None, Some(root)) => format!(" in {}", safe(&shown(root))),
        (None, None) => String::new(),
    };
    console.say(format!("{name}: {}{place}", what.join(", ")));
    if let Some(after) = &done.after {
        console.say(format!("  {}", safe(after)));
    }
}
