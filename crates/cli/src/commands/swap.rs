//! The whole job for one slot, in one line.

use super::job::{carry_out, plan};
use super::level;
use crate::args::{LinkChoice, Swap, Swapping};
use crate::console::{BOLD, Console, GOOD, paint, safe};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::paths::{input, shown};
use crate::progress::Progress;
use crate::report::notice;
use crate::table::{Room, Table};
use deft_needle_audio::units::Duration;
use deft_needle_core::disk::RealDisk;
use deft_needle_core::error::Error as CoreError;
use deft_needle_core::hash_cache::HashCache;
use deft_needle_core::ledger::Ledger;
use deft_needle_core::refusal::OddJob;
use deft_needle_core::root::Roots;
use deft_needle_core::root::{Found, Root};
use deft_needle_core::run::{self, Installation, JobPlan, Placed, Run, Side};
use deft_needle_core::sheet::Links;
use deft_needle_core::sheet::Method;
use deft_needle_core::target::Target;
use std::path::Path;

/// Swaps, or shows what would be done.
pub fn run(args: &Swap, console: &Console) -> Result<Exit, Failure> {
    swap(args, console).map_err(|failure| match failure {
        Failure::Audio(_) | Failure::Core(CoreError::Audio(_)) => failure.about(&args.clip),
        other => other,
    })
}

fn swap(args: &Swap, console: &Console) -> Result<Exit, Failure> {
    let (target, root) = aimed(&args.clip, &args.slot, &args.how)?;
    if let Some(how) = how_found(root.found) {
        let path = safe(&shown(&root.path));
        console.announce(format!("the root is {path}: {how}"));
    }
    let swap = asked(&args.clip, &args.slot, &args.how, target, root.clone())?;
    let disk = RealDisk::default();
    let tells_place = console.verbose() || !root.ledger.is_dir();
    if args.dry_run {
        return look(Run::swap(swap, None)?, &root, console);
    }
    let run = Run::swap(swap, Some(&disk))?;
    let done = carry_out(run, &disk, console)?;
    console.say(described(&done, &root, tells_place));
    if let Some(after) = done.after.as_ref().filter(|_| !done.placed.is_empty()) {
        console.say(format!("  {}", safe(after)));
    }
    super::job::tell_unsynced(&disk, console);
    console.object(|| &done);
    Ok(Exit::Done)
}

/// A swap as the library takes it.
pub fn asked<'a>(
    clip: &Path,
    slot: &'a Path,
    how: &Swapping,
    target: Option<Target>,
    root: Root,
) -> Result<run::Swap<'a>, Failure> {
    let making = match how.outside.encoder()? {
        Some(encoder) => Method::Encoder(encoder),
        None if how.as_is => Method::AsIs,
        None => Method::Fit,
    };
    Ok(run::Swap {
        clip: input(clip)?,
        slot,
        root,
        target,
        request: how.options.clone(),
        like: how.wanted.model()?,
        making,
        new: how.new,
        name_anyway: how.name_anyway,
        link: how.link.map(|link| match link {
            LinkChoice::Replace => Links::Replace,
            LinkChoice::Follow => Links::Follow,
        }),
        entries: how.entries,
        allow_commands: how.outside.allow_commands,
    })
}

/// The target, where its sheet was named, and the root that the slot lies in.
pub fn aimed(clip: &Path, slot: &Path, how: &Swapping) -> Result<(Option<Target>, Root), Failure> {
    let asked = how.place.asked();
    let Some(target) = how.wanted.target_at(slot, &asked)? else {
        return Ok((None, asked.of_file(slot, &[], clip)?));
    };
    let marker = target.sheet.marker.0.first();
    if let (None, Some(marker)) = (&target.roots.main, marker) {
        let (slot, name) = (slot.to_owned(), target.sheet.name.clone());
        let why = OddJob::InNoRoot { slot, target: name, marker: marker.0.clone() };
        return Err(Failure::Core(why.into()));
    }
    let markers: Vec<&str> = target.sheet.marker.0.iter().map(|m| m.0.as_str()).collect();
    let root = asked.of_file(slot, &markers, clip)?;
    // Without markers it is the root that tells where lists are.
    let mut roots = Roots::main(Some(&root.path));
    roots.others.clone_from(&root.others);
    Ok((Some(Target::new(target.sheet, roots)?), root))
}

/// How a root was found; nothing where the user named it.
fn how_found(found: Found) -> Option<&'static str> {
    match found {
        Found::Named => None,
        Found::ByFile => Some("its ledger knows this file"),
        Found::ByLedger => Some("it has the nearest ledger above"),
        Found::ByMarker => Some("it has the sheet's marker"),
    }
}

/// Only looks: nothing is locked, nothing changed.
fn look(mut run: Run, root: &Root, console: &Console) -> Result<Exit, Failure> {
    let progress = Progress::new(console, "planning", 0);
    let state = Ledger::peek(root)?;
    let hash_cache = HashCache::load(&root.ledger);
    let mut found = run.look(&state, &hash_cache, &RealDisk::default(), &progress)?;
    drop(progress);
    run.refuse(&mut found)?;
    console.say(planned(&found, root));
    console.object(|| plan::as_object(&run, &found));
    Ok(Exit::Done)
}

fn planned(found: &JobPlan, root: &Root) -> String {
    let mut lines = Vec::new();
    for line in &found.lines {
        lines.push(format!(
            "{} to {} in {}",
            paint(BOLD, safe(&line.clip)),
            paint(BOLD, safe(&line.slot)),
            safe(&shown(&root.path))
        ));
        lines.push(plan::in_full(&line.work));
    }
    lines.extend(plan::beside(found));
    lines.push("  nothing was changed".to_owned());
    lines.join("\n")
}

/// `tells_place`: whether to print where stock is kept, which is the same after every swap.
fn described(done: &Installation, root: &Root, tells_place: bool) -> String {
    let mut lines: Vec<String> =
        done.recovered.iter().map(|r| super::notice(&safe(&r.to_string()))).collect();
    for slot in &done.unchanged {
        lines.push(format!(
            "{}: unchanged, installed from this clip already",
            paint(BOLD, safe(slot))
        ));
    }
    for placed in &done.placed {
        lines.push(paint(BOLD, safe(&placed.slot)));
        lines.extend(sides(placed));
        lines.push(match placed.new {
            true => format!("  {}, a new file", paint(GOOD, "installed")),
            false => {
                let kept = match tells_place {
                    true => format!("; the stock is kept in {}", safe(&shown(&root.ledger))),
                    false => String::new(),
                };
                format!("  {} in {}{kept}", paint(GOOD, "installed"), safe(&shown(&root.path)))
            }
        });
        let notices = placed.notices.iter().chain(&done.notices);
        lines.extend(notices.map(|n| super::notice(&safe(&notice::words(n)))));
    }
    lines.extend(done.beside.iter().map(|file| format!("  file      {}", safe(file.as_str()))));
    lines.extend(done.entries.iter().map(|entry| format!("  entry in {}", safe(entry))));
    lines.extend(
        done.caches.iter().map(|cache| format!("  cache cleared: {}", safe(cache.as_str()))),
    );
    lines.join("\n")
}

/// What was there and what is there now.
fn sides(placed: &Placed) -> Option<String> {
    let Some(after) = &placed.after else {
        return Some(format!("  after     {}", safe(&placed.installed.spec)));
    };
    let mut rows: Vec<Vec<String>> =
        placed.before.iter().map(|before| row("before", before)).collect();
    rows.push(row("after", after));
    let wide = Room { width: None, blocks: false };
    Some(Table::bare(rows, &[]).text(wide))
}

fn row(name: &str, side: &Side) -> Vec<String> {
    let mut spec = side.spec.clone();
    if side.loops {
        spec += ", loops";
    }
    let lufs = side.lufs.unwrap_or(f64::NEG_INFINITY);
    let peak =
        side.survey.as_ref().map(|survey| format!("peak {}", level(survey.peak_dbfs, "dBFS")));
    vec![
        format!("  {name:<8}"),
        spec,
        Duration(side.seconds).to_string(),
        level(lufs, "LUFS"),
        peak.unwrap_or_default(),
    ]
}
