//! The whole job for one slot, in one line.

use super::{level, notice};
use crate::args::Swap;
use crate::console::{BOLD, Console, GOOD, paint, safe};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::paths::open_clip;
use crate::progress::Progress;
use crate::table::columns;
use deft_needle_audio::spec::Demand;
use deft_needle_audio::units::Duration;
use deft_needle_audio::{Clip, Edits};
use deft_needle_core::disk::RealDisk;
use deft_needle_core::error::Error as CoreError;
use deft_needle_core::install::{self, Found, Prepared, Side, Swapped};
use deft_needle_core::sheet::{New, Rule};
use deft_needle_core::tree::slot_name;
use serde_json::json;
use std::path::{Path, PathBuf};

/// Swaps, or shows what would be done.
pub fn run(args: &Swap, console: &Console) -> Result<Exit, Failure> {
    if args.as_is {
        return place(args, &args.clip, console);
    }
    let clip = open_clip(&args.clip, &args.reading.hints())?;
    let edits = args.shaping.edits();
    if args.dry_run
        && let Some(plan) = args.outside.plan(&clip, &edits, None, console)?
    {
        console.say(format!(
            "{plan}\n  then the command is run; nothing was changed"
        ));
        console.object(&json!({ "dry_run": true, "feed": plan }));
        return Ok(Exit::Done);
    }
    if let Some(made) = args.outside.make(&clip, &edits, None, console)? {
        return place(args, &made.file, console);
    }
    let measuring = Progress::new(console, clip.facts().frames);
    let typed = match args.wanted.names_a_spec() {
        true => args.wanted.demand()?,
        false => None,
    };
    let ruled = ruled(args, &clip, typed.as_ref())?;
    let swap = install::Swap {
        clip: &clip,
        slot: &args.slot,
        root: match &ruled {
            Some(ruled) => Some(&ruled.root),
            None => args.place.root.as_deref(),
        },
        ledger: args.place.ledger.as_deref(),
        demand: ruled.as_ref().map(|ruled| ruled.demand.clone()).or(typed),
        adjust: &|demand| args.wanted.adjust(demand),
        edits: ruled.as_ref().map_or(&edits, |ruled| &ruled.edits),
        rule: ruled.as_ref().map(|ruled| &ruled.rule),
        new: args.new || ruled.as_ref().is_some_and(|ruled| ruled.takes_new),
    };
    for option in ruled.iter().flat_map(|ruled| &ruled.overruled) {
        console.warn(safe(option));
    }
    let disk = RealDisk::default();
    if args.dry_run {
        let prepared = swap.prepare(None, &measuring)?;
        console.say(planned(&prepared, &clip.input().name().to_string_lossy()));
        console.object(&json!({
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
    if let Some(after) = ruled.and_then(|ruled| ruled.after) {
        console.say(format!("  {}", safe(&after)));
    }
    console.object(&swapped);
    Ok(Exit::Done)
}

/// What a sheet says of the slot.
struct Ruled {
    root: PathBuf,
    rule: Rule,
    demand: Demand,
    edits: Edits,
    overruled: Vec<String>,
    takes_new: bool,
    after: Option<String>,
}

/// The sheet's word on the slot, with what was typed in its place; `None` where no sheet was named.
fn ruled(args: &Swap, clip: &Clip, typed: Option<&Demand>) -> Result<Option<Ruled>, Failure> {
    let named = args.place.root.as_deref();
    let Some(target) = args.wanted.target_at(&args.slot, named)? else {
        return Ok(None);
    };
    if target.roots.main.is_none() && !target.sheet.marker.0.is_empty() {
        let marker = &target.sheet.marker.0[0].0;
        return Err(Failure::Core(CoreError::refused(
            format!(
                "{} lies in no root of {}: no folder above it has {marker}",
                args.slot.display(),
                target.sheet.name
            ),
            "check the path, or name the root with --root",
        )));
    }
    let root = install::find_root(
        &args.slot,
        target.roots.main.as_deref(),
        args.place.ledger.as_deref(),
    )?;
    let path = std::path::absolute(&args.slot).map_err(CoreError::read(&args.slot))?;
    let (slot, aim) = target.aim(&slot_name(&root.path, &path)?)?;
    let mut edits = args.shaping.edits();
    let (demand, mut overruled) = args.wanted.demand_for(aim.rule, typed)?;
    let stock = install::has_stock(&root, &slot)?;
    overruled.extend(aim.fill_in(&mut edits, clip.facts(), stock));
    let takes_new = match aim.rule.new {
        New::Never => false,
        New::Listed => target.slots.has(&slot),
        New::Any => true,
    };
    Ok(Some(Ruled {
        root: root.path,
        rule: aim.rule.clone(),
        demand,
        edits,
        overruled,
        takes_new,
        after: target.sheet.after.clone(),
    }))
}

/// A file of a closed format, checked by its first bytes.
fn place(args: &Swap, file: &Path, console: &Console) -> Result<Exit, Failure> {
    let disk = RealDisk::default();
    let as_is = install::AsIs {
        file,
        clip: &args.clip,
        slot: &args.slot,
        root: args.place.root.as_deref(),
        ledger: args.place.ledger.as_deref(),
        new: args.new,
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
    let mut lines = vec![paint(BOLD, safe(&placed.slot))];
    lines.extend(
        placed
            .before_bytes
            .map(|before| format!("  before    {}", bytes(before))),
    );
    lines.push(format!("  after     {}", bytes(placed.after_bytes)));
    lines.push(format!("  {done}"));
    let warnings = placed.warnings.iter().map(ToString::to_string);
    lines.extend(warnings.map(|text| notice(&safe(&text))));
    console.say(lines.join("\n"));
    console.object(&placed);
    Ok(Exit::Done)
}

fn planned(prepared: &Prepared, clip: &str) -> String {
    format!(
        "{} to {} in {}\n{}\n  nothing was changed",
        paint(BOLD, safe(clip)),
        paint(BOLD, safe(&prepared.slot)),
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
        paint(BOLD, safe(&swapped.slot)),
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
    if swapped.root.found == Found::SlotFolder {
        lines.push(notice(
            "no root was named and none has a ledger: the slot's own folder counts as the root (--root)",
        ));
    }
    let warnings = swapped.warnings.iter().map(ToString::to_string);
    let recovered = swapped.recovered.iter().map(ToString::to_string);
    lines.extend(recovered.chain(warnings).map(|text| notice(&safe(&text))));
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
