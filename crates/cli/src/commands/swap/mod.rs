//! The whole job for one slot, in one line.

mod aimed;

use super::{level, notice};
use crate::args::Swap;
use crate::console::{BOLD, Console, GOOD, paint, safe};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::paths::{open_clip, text};
use crate::progress::Progress;
use crate::table::columns;
use aimed::Aimed;
use deft_needle_audio::units::Duration;
use deft_needle_core::disk::RealDisk;
use deft_needle_core::install::{self, Prepared, Side, Swapped};
use deft_needle_core::root::{Found, Root};
use serde_json::json;
use std::path::Path;

/// Swaps, or shows what would be done.
pub fn run(args: &Swap, console: &Console) -> Result<Exit, Failure> {
    swap(args, console).map_err(|failure| match failure {
        Failure::Audio(_) => failure.about(&args.clip),
        other => other,
    })
}

fn swap(args: &Swap, console: &Console) -> Result<Exit, Failure> {
    let aimed = Aimed::of(args)?;
    if args.as_is {
        return place(args, &args.clip, aimed.as_ref(), console);
    }
    let ruled = aimed.as_ref().and_then(|aimed| aimed.rule.loop_tags.as_ref());
    let loop_tags = args.wanted.loop_tags.as_ref().or(ruled);
    let clip = open_clip(&args.clip, &args.reading.hints(loop_tags))?;
    let mut edits = args.shaping.edits();
    let closed = aimed.as_ref().and_then(Aimed::closed);
    if args.dry_run
        && let Some(plan) = args.outside.plan(&clip, &edits, closed, console)?
    {
        console.say(format!("{plan}\n  then the command is run; nothing was changed"));
        console.object(|| json!({ "dry_run": true, "feed": plan }));
        return Ok(Exit::Done);
    }
    if let Some(made) = args.outside.make(&clip, &edits, closed, console)? {
        return place(args, &made.file, aimed.as_ref(), console);
    }
    let measuring = Progress::new(console, clip.facts().frames);
    let mut demand = match args.wanted.names_a_spec() {
        true => args.wanted.demand()?,
        false => None,
    };
    if let Some(aimed) = &aimed {
        let (ruled, overruled) = aimed.fill_in(args, demand.as_ref(), &mut edits, clip.facts())?;
        demand = Some(ruled);
        for option in overruled {
            console.warn(safe(&option));
        }
    }
    let root = root_of(args, aimed.as_ref(), console)?;
    let swap = install::Swap {
        clip: &clip,
        slot: &args.slot,
        root: &root,
        demand,
        adjust: &|demand| args.wanted.adjust(demand),
        edits: &edits,
        rule: aimed.as_ref().map(|aimed| &aimed.rule),
        new: args.new || aimed.as_ref().is_some_and(|aimed| aimed.takes_new),
        options: args.typed.clone(),
    };
    let disk = RealDisk::default();
    if args.dry_run {
        let prepared = swap.prepare(None, &measuring)?;
        console.say(planned(&prepared, &clip.input().name().to_string_lossy()));
        console.object(|| json!({
            "dry_run": true, "root": prepared.root, "slot": prepared.slot, "plan": prepared.plan,
        }));
        return Ok(Exit::Done);
    }
    let prepared = swap.prepare(Some(&disk), &measuring)?;
    drop(measuring);
    let progress = Progress::new(console, prepared.plan.to.frames);
    let swapped = swap.carry_out(prepared, &disk, &progress)?;
    drop(progress);
    console.say(described(&swapped));
    if disk.refused_to_sync() {
        console.warn(
            "this disk refuses to sync: what was written is safe from a crash, \
             but not from a loss of power",
        );
    }
    say_after(aimed.as_ref(), console);
    console.object(|| &swapped);
    Ok(Exit::Done)
}

/// The root, which is told where it was guessed.
fn root_of(args: &Swap, aimed: Option<&Aimed>, console: &Console) -> Result<Root, Failure> {
    let root = match aimed {
        Some(aimed) => aimed.root.clone(),
        None => args.place.asked().of_file(&args.slot, &[])?,
    };
    if let Some(how) = how_found(root.found) {
        let path = safe(&text(&root.path));
        console.announce(format!("the root is {path}: {how}"));
    }
    Ok(root)
}

/// How a root was found; nothing where the user named it.
fn how_found(found: Found) -> Option<&'static str> {
    match found {
        Found::Named => None,
        Found::ByFile => Some("its ledger knows this file"),
        Found::ByLedger => Some("it has the nearest ledger above"),
        Found::ByMarker => Some("it has the sheet's marker"),
        Found::CurrentFolder => Some("the current folder (--root names another)"),
        Found::SlotFolder => Some("the file's own folder (--root names another)"),
    }
}

/// What the sheet says that the user has to do now.
fn say_after(aimed: Option<&Aimed>, console: &Console) {
    if let Some(after) = aimed.and_then(|aimed| aimed.after.as_deref()) {
        console.say(format!("  {}", safe(after)));
    }
}

/// A file of a closed format, checked by its first bytes and by what its rule says.
fn place(
    args: &Swap,
    file: &Path,
    aimed: Option<&Aimed>,
    console: &Console,
) -> Result<Exit, Failure> {
    if let Some(aimed) = aimed {
        aimed.refuse_short(file)?;
    }
    let root = root_of(args, aimed, console)?;
    let disk = RealDisk::default();
    let as_is = install::AsIs {
        file,
        clip: &args.clip,
        slot: &args.slot,
        root: &root,
        new: args.new || aimed.is_some_and(|aimed| aimed.takes_new),
    };
    let placed = as_is.place(match args.dry_run {
        true => None,
        false => Some(&disk),
    })?;
    let done = match args.dry_run {
        true => "nothing was changed".to_owned(),
        false => format!(
            "{} in {}; the stock is kept in {}",
            paint(GOOD, "installed"),
            safe(&placed.root.path.display().to_string()),
            safe(&placed.root.ledger.display().to_string())
        ),
    };
    let bytes = |bytes: u64| format!("opaque, {bytes} bytes, begins with \"{}\"", placed.mark);
    let mut lines = vec![paint(BOLD, safe(placed.slot.as_str()))];
    lines.extend(placed.before_bytes.map(|before| format!("  before    {}", bytes(before))));
    lines.push(format!("  after     {}", bytes(placed.after_bytes)));
    lines.push(format!("  {done}"));
    let warnings = placed.warnings.iter().map(ToString::to_string);
    lines.extend(warnings.map(|warning| notice(&safe(&warning))));
    console.say(lines.join("\n"));
    if !args.dry_run {
        say_after(aimed, console);
    }
    console.object(|| &placed);
    Ok(Exit::Done)
}

fn planned(prepared: &Prepared, clip: &str) -> String {
    format!(
        "{} to {} in {}\n{}\n  nothing was changed",
        paint(BOLD, safe(clip)),
        paint(BOLD, safe(prepared.slot.as_str())),
        safe(&prepared.root.path.display().to_string()),
        prepared.plan
    )
}

fn described(swapped: &Swapped) -> String {
    let mut rows = vec![];
    if let Some(before) = &swapped.before {
        rows.push(row("before", before));
    }
    rows.push(row("after", &swapped.after));
    let mut lines = vec![
        paint(BOLD, safe(swapped.slot.as_str())),
        columns(&rows, &[]),
        format!(
            "  {} in {}; the stock is kept in {}",
            paint(GOOD, "installed"),
            safe(&swapped.root.path.display().to_string()),
            safe(&swapped.root.ledger.display().to_string())
        ),
    ];
    if swapped.before.is_none() {
        lines[2] = format!("  {}: nothing was here before", paint(GOOD, "installed"));
    }
    let warnings = swapped.warnings.iter().map(ToString::to_string);
    let recovered = swapped.recovered.iter().map(ToString::to_string);
    lines.extend(recovered.chain(warnings).map(|note| notice(&safe(&note))));
    lines.join("\n")
}

fn row(name: &str, side: &Side) -> Vec<String> {
    let mut spec = side.spec.clone();
    if side.loops {
        spec += ", loops";
    }
    vec![
        format!("  {name:<8}"),
        spec,
        Duration(side.seconds).to_string(),
        level(side.survey.loudness.lufs, "LUFS"),
        format!("peak {}", level(side.survey.peak_dbfs, "dBFS")),
    ]
}
