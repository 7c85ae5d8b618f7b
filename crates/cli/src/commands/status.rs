//! What is installed in a root.

use crate::args::Status;
use crate::console::{BAD, BOLD, Console, FAINT, GOOD, WARN, paint, safe};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::table::columns;
use deft_needle_audio::units::Duration;
use deft_needle_core::install::{Condition, SlotStatus, find_root_above, status};
use serde_json::json;

/// Lists every slot with its state, its clip and what was done to it.
pub fn run(args: &Status, console: &Console) -> Result<Exit, Failure> {
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
    let (slots, state) = status(&root)?;
    let name = safe(&root.path.display().to_string());
    let count = slots.len();
    let plural = if count == 1 { "slot" } else { "slots" };
    console.say(format!("{} {count} {plural} replaced", paint(BOLD, name)));
    if !slots.is_empty() {
        console.find(table(&slots));
    }
    if let Some(pending) = &state.pending {
        console.warn(format!(
            "a {} of {} was broken off; the next swap or restore sets it right",
            pending.what,
            safe(&pending.slots.join(", "))
        ));
    }
    console.object(&json!({
        "root": root.path, "ledger": root.ledger, "slots": slots,
        "broken_off": state.pending.map(|pending| pending.slots),
    }));
    Ok(Exit::Done)
}

/// A line a slot, and what was done to its clip below it.
fn table(slots: &[SlotStatus]) -> String {
    let heading = ["slot", "state", "length", "clip"];
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
        if one.generations > 1 {
            let kept = format!("    {} generations of stock are kept", one.generations);
            text.push(paint(WARN, kept));
        }
    }
    text.join("\n")
}

fn row(one: &SlotStatus) -> Vec<String> {
    let style = match one.condition {
        Condition::Installed => GOOD,
        Condition::StockAgain => WARN,
        Condition::ChangedSince | Condition::Missing => BAD,
    };
    vec![
        safe(&one.slot),
        paint(style, one.condition.words()),
        match one.installed.spec.starts_with("opaque") {
            true => "-".to_owned(),
            false => Duration(one.installed.seconds).to_string(),
        },
        safe(&one.installed.clip),
    ]
}
