//! What is installed in a root.

use super::counted;
use crate::args;
use crate::console::{BAD, BOLD, Console, FAINT, GOOD, WARN, paint, safe};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::table::columns;
use deft_needle_audio::units::Duration;
use deft_needle_core::install::{
    Condition, EntryStatus, SlotStatus, Status, find_root_above, status,
};
use deft_needle_core::job::start::from_swaps;
use serde_json::json;

/// Lists every slot with its state, its clip and what was done to it.
pub fn run(args: &args::Status, console: &Console) -> Result<Exit, Failure> {
    let root = match find_root_above(&args.root, None, args.ledger.as_deref()) {
        Ok(root) => root,
        Err(_) if args.root.is_dir() && args.ledger.is_none() => {
            let name = safe(&args.root.display().to_string());
            console.say(format!("{name}: nothing is installed"));
            console.object(&json!({ "root": args.root, "slots": [] }));
            return Ok(Exit::Done);
        }
        Err(error) => return Err(error.into()),
    };
    let Status {
        slots,
        entries,
        state,
    } = status(&root)?;
    if args.as_job {
        let (text, swaps) = from_swaps(&state, args.target.as_deref(), &root.path);
        console.find(text.trim_end());
        console.object(&json!({ "root": root.path, "text": text, "swaps": swaps }));
        return Ok(Exit::Done);
    }
    let name = safe(&root.path.display().to_string());
    let what = match entries.len() {
        0 => String::new(),
        1 => ", 1 entry made".to_owned(),
        many => format!(", {many} entries made"),
    };
    console.say(format!(
        "{} {} replaced{what}",
        paint(BOLD, name),
        counted(slots.len(), "slot")
    ));
    if !slots.is_empty() {
        console.find(table(&slots));
    }
    for entry in &entries {
        console.find(told(entry));
    }
    if let Some(pending) = &state.pending {
        console.warn(format!(
            "a {} of {} was broken off; the next swap, install or restore sets it right",
            pending.what,
            safe(&pending.slots.join(", "))
        ));
    }
    console.object(&json!({
        "root": root.path, "ledger": root.ledger, "slots": slots, "entries": entries,
        "broken_off": state.pending.map(|pending| pending.slots),
    }));
    Ok(Exit::Done)
}

/// An entry in a line.
fn told(entry: &EntryStatus) -> String {
    let state = paint(style(entry.condition), entry.condition.words());
    format!(
        "{}: {}  {state}  {}",
        safe(&entry.file),
        safe(&entry.what),
        paint(FAINT, format!("job {}", safe(&entry.job)))
    )
}

fn style(condition: Condition) -> anstyle::Style {
    match condition {
        Condition::Installed => GOOD,
        Condition::StockAgain => WARN,
        Condition::ChangedSince | Condition::Missing => BAD,
    }
}

/// A line a slot, and what was done to its clip below it.
fn table(slots: &[SlotStatus]) -> String {
    let heading = ["slot", "state", "length", "clip", "job"];
    let mut rows = vec![heading.map(|name| paint(FAINT, name)).to_vec()];
    rows.extend(slots.iter().map(row));
    let table = columns(&rows, &[2]);
    let mut lines = table.lines();
    let mut text: Vec<String> = lines.next().map(str::to_owned).into_iter().collect();
    for (line, one) in lines.zip(slots) {
        text.push(line.to_owned());
        text.extend(one.installed.edits.iter().map(|edit| format!("    {edit}")));
        if one.installed.guide {
            let reminder = "    this is a guide: swap the full clip in once it has served";
            text.push(paint(WARN, reminder));
        }
        if !one.below.is_empty() {
            let below = one
                .below
                .iter()
                .map(|job| job.as_deref().unwrap_or("a swap by hand"));
            let below = below.collect::<Vec<_>>().join(", ");
            text.push(paint(
                FAINT,
                format!("    over what was there of: {}", safe(&below)),
            ));
        }
        if one.generations > 1 {
            let kept = format!("    {} generations of stock are kept", one.generations);
            text.push(paint(WARN, kept));
        }
    }
    text.join("\n")
}

fn row(one: &SlotStatus) -> Vec<String> {
    let style = style(one.condition);
    vec![
        safe(&one.slot),
        paint(style, one.condition.words()),
        match one.installed.spec.starts_with("opaque") {
            true => "-".to_owned(),
            false => Duration(one.installed.seconds).to_string(),
        },
        safe(&one.installed.clip),
        match &one.installed.job {
            Some(job) => safe(job),
            None => paint(FAINT, "by hand"),
        },
    ]
}
