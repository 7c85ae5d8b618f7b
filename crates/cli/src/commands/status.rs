//! What is installed in a root.

use super::counted;
use crate::args;
use crate::commands::restore::within;
use crate::console::{BAD, BOLD, Console, FAINT, GOOD, WARN, paint, safe};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::object::{RootStatus, Statuses};
use crate::paths::{shown, text};
use crate::report::plan;
use crate::table::{Room, Table};
use deft_needle_audio::units::Duration;
use deft_needle_core::job::start::from_swaps;
use deft_needle_core::ledger::record::Installed;
use deft_needle_core::ledger::state::Pending;
use deft_needle_core::root::{Known, Registry, Root};
use deft_needle_core::run::{
    Condition, EntryStatus, KeptCopy, Proof, SlotStatus, Status, Which, status,
};
use deft_needle_core::sheet::Method;

use std::path::Path;

/// Lists every slot with its state, its clip and what was done to it.
pub fn run(args: &args::Status, console: &Console) -> Result<Exit, Failure> {
    let asked = args.place.asked();
    let at = args.at.as_deref().unwrap_or(Path::new("."));
    let roots = match asked.all_of(at) {
        Ok(roots) => roots,
        Err(_) if args.at.is_none() && args.place.folders.root.is_empty() => {
            let known = Registry::of_user().all().into_iter().filter(|known| known.root.is_dir());
            let first = |known: Known| asked.all_of(&known.root).ok()?.into_iter().next();
            let mut known: Vec<Root> = known.filter_map(first).collect();
            known.dedup();
            if !known.is_empty() {
                console.say("nothing is installed in the current folder; on this machine:");
            }
            known
        }
        Err(_) if at.is_dir() && args.place.ledger.is_none() => Vec::new(),
        Err(error) => return Err(error.into()),
    };
    let mut exit = Exit::Done;
    let mut objects = Vec::new();
    for root in &roots {
        match one(root, at, args, console) {
            Ok((object, found)) => {
                exit = exit.worst(found);
                objects.push(object);
            }
            Err(failure) if roots.len() > 1 => {
                console.failure(&failure);
                exit = exit.worst(failure.exit());
            }
            Err(failure) => return Err(failure),
        }
    }
    if roots.is_empty() {
        let name = safe(&text(at));
        console.say(format!("{name}: nothing is installed"));
    }
    console.object(|| Statuses { roots: objects });
    Ok(exit)
}

/// What is installed in one root.
fn one(
    root: &Root,
    at: &Path,
    args: &args::Status,
    console: &Console,
) -> Result<(RootStatus, Exit), Failure> {
    let below = within(root, at)?;
    let proof = match args.verify {
        true => Proof::Verify,
        false => Proof::Look,
    };
    let which = below.as_deref().map_or(Which::All, Which::Below);
    let Status { slots, entries, kept, strays, state } = status(root, which, proof)?;
    if args.as_job {
        let (sheet, swaps) = from_swaps(&state, args.target.as_deref(), &root.path);
        console.find(sheet.trim_end());
        let object = RootStatus::Job { root: text(&root.path), text: sheet, swaps };
        return Ok((object, Exit::Done));
    }
    let name = safe(&shown(&root.path));
    let replaced = slots.iter().filter(|one| !one.installed.beside).count();
    let beside = slots.iter().filter(|one| one.installed.beside && !one.installed.tended).count();
    let mut told = vec![format!("{} replaced", counted(replaced, "slot"))];
    if beside > 0 {
        told.push(format!("{} beside them", counted(beside, "file")));
    }
    match entries.len() {
        0 => {}
        1 => told.push("1 entry made".to_owned()),
        many => told.push(format!("{many} entries made")),
    }
    console.say(format!("{}: {}", paint(BOLD, name), told.join(", ")));
    let odd = |one: &&SlotStatus| one.stock_lost || one.condition.is_odd();
    // A companion that went in as it was is nobody's concern until it is restored.
    let told = |one: &&SlotStatus| !one.installed.tended || console.verbose() || odd(one);
    let shown: Vec<&SlotStatus> = match console.quiet() {
        true => slots.iter().filter(odd).collect(),
        false => slots.iter().filter(told).collect(),
    };
    if !shown.is_empty() {
        console.find(table(&shown, console.verbose(), console.room()));
    }
    let is_odd = |entry: &&EntryStatus| entry.condition.is_odd();
    for entry in entries.iter().filter(|entry| !console.quiet() || is_odd(entry)) {
        console.find(entry_line(entry));
    }
    for copy in kept.iter().filter(|copy| !console.quiet() || copy.lost) {
        console.find(kept_line(copy));
    }
    if !kept.is_empty() {
        console.say(
            "  `deft-needle restore ROOT SLOT --kept` restores a kept copy, `--drop` deletes it",
        );
    }
    warn_of(state.pending.as_ref(), strays.len(), console);
    let lost = slots.iter().any(|slot| slot.stock_lost) || kept.iter().any(|copy| copy.lost);
    if args.verify && !lost {
        console.say("every kept original was read and is intact");
    }
    let object = RootStatus::Status {
        root: text(&root.path),
        ledger: text(&root.ledger),
        slots,
        entries,
        kept,
        strays,
        verified: args.verify,
        interrupted: state.pending.map(|pending| pending.slots),
    };
    Ok((object, if lost { Exit::Short } else { Exit::Done }))
}

/// What was interrupted, and what nobody knows any more.
fn warn_of(pending: Option<&Pending>, strays: usize, console: &Console) {
    if let Some(pending) = pending {
        let slots: Vec<&str> = pending.slots.iter().map(|slot| slot.as_str()).collect();
        console.warn(format!(
            "an earlier {} of {} was interrupted; the next swap, install or restore completes it or rolls it back",
            pending.what,
            safe(&slots.join(", "))
        ));
    }
    if strays > 0 {
        console.warn(format!(
            "{} kept without a record of its slot: deft-needle rescue lists them",
            if strays == 1 {
                "1 original is".to_owned()
            } else {
                format!("{strays} originals are")
            }
        ));
    }
}

/// A copy that is kept aside, in a line.
fn kept_line(copy: &KeptCopy) -> String {
    let state = match copy.lost {
        true => paint(BAD, "missing or damaged"),
        false => paint(WARN, "kept copy"),
    };
    let size = counted(usize::try_from(copy.bytes).unwrap_or(usize::MAX), "byte");
    format!("{}: {state}  {}  {}", safe(copy.slot.as_str()), &copy.copy[..8], paint(FAINT, size))
}

/// An entry in a line.
fn entry_line(entry: &EntryStatus) -> String {
    let state = paint(style(entry.condition), entry.condition.words());
    format!(
        "{}: {}  {state}  {}",
        safe(entry.file.as_str()),
        safe(&entry.what),
        paint(
            FAINT,
            match entry.job.as_str() {
                "" => "single swap".to_owned(),
                job => format!("job {}", safe(job)),
            }
        )
    )
}

fn style(condition: Condition) -> anstyle::Style {
    match condition {
        Condition::Installed => GOOD,
        Condition::Covered => FAINT,
        Condition::StockAgain => WARN,
        Condition::Changed | Condition::Missing => BAD,
    }
}

/// A line a slot, and what was done to its clip below it.
fn table(slots: &[&SlotStatus], verbose: bool, room: Room) -> String {
    let heading = ["slot", "state", "length", "clip", "job"];
    let mut rows = vec![heading.map(|name| paint(FAINT, name)).to_vec()];
    rows.extend(slots.iter().map(|one| row(one)));
    let table = Table::new(rows, &[2], &[2]);
    let mut text: Vec<String> = table.heading(room).into_iter().collect();
    for (row, one) in table.each(room).into_iter().zip(slots) {
        text.push(row);
        if verbose {
            text.extend(done(&one.installed).iter().map(|line| format!("    {line}")));
        }
        if one.installed.guide {
            let reminder = "    this is a guide: swap the full clip in once it has served";
            text.push(paint(WARN, reminder));
        }
        if !one.below.is_empty() {
            let below = one.below.iter().map(|job| job.as_deref().unwrap_or("a single swap"));
            let below = below.collect::<Vec<_>>().join(", ");
            text.push(paint(FAINT, format!("    over the file of: {}", safe(&below))));
        }
        if one.stock_lost {
            let lost =
                "    the kept original is missing or damaged: copy it from the target's maker";
            text.push(paint(BAD, lost));
        }
    }
    text.join("\n")
}

fn row(one: &SlotStatus) -> Vec<String> {
    let style = style(one.condition);
    vec![
        safe(one.slot.as_str()),
        paint(style, one.condition.words()),
        match one.installed.spec.starts_with("opaque") {
            true => "-".to_owned(),
            false => Duration(one.installed.seconds).to_string(),
        },
        safe(&one.installed.clip),
        match &one.installed.job {
            Some(job) => safe(job),
            None => paint(FAINT, "single swap"),
        },
    ]
}

/// What was done to a clip, a line each.
fn done(installed: &Installed) -> Vec<String> {
    let decisions = installed.decisions.iter().map(plan::line);
    let made = installed.making.iter().map(|making| match making {
        Method::Encoder(encoder) => format!("encoder: {}", safe(&encoder.command.join(" "))),
        _ => "whole file: as it was finished".to_owned(),
    });
    let earlier = installed.edits.iter().map(|line| safe(line));
    decisions.chain(made).chain(earlier).collect()
}
