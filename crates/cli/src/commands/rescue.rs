//! Stock back when a ledger's log is damaged or lost.

use crate::args::Rescue as Args;
use crate::commands::counted;
use crate::console::{BAD, Console, GOOD, WARN, paint, safe};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::object;
use crate::paths::text;
use deft_needle_audio::units::Duration;
use deft_needle_core::Hash;
use deft_needle_core::disk::RealDisk;
use deft_needle_core::ledger::rescue::{How, Rescue, Stray, plan, rescue};
use deft_needle_core::root::Found;
use deft_needle_core::root::Roots;
use deft_needle_core::sheet::Sheet;
use deft_needle_core::target::Target;
use std::collections::BTreeMap;

/// Restores what is sure, and tells what is not.
pub fn run(args: &Args, console: &Console) -> Result<Exit, Failure> {
    let asked = args.place.asked();
    let root = asked.certain(asked.root.as_deref().unwrap_or(&args.at), Found::Named)?;
    let mut listed: BTreeMap<String, Hash> = BTreeMap::new();
    if let Some(sheet) = &args.target {
        let target = Target::new(Sheet::find(sheet)?, Roots::main(Some(&root.path)))?;
        let hash = |name: &str| Some((name.to_owned(), target.slots.listed(name)?.hash?));
        listed.extend(target.slots.names().filter_map(hash));
    }
    let disk = RealDisk::default();
    let found = match args.dry_run {
        true => plan(&root, &listed, &disk)?,
        false => rescue(&root, &listed, &disk)?,
    };
    tell(&found, args.dry_run, console);
    console.object(|| object::Rescued {
        root: text(&root.path),
        dry_run: args.dry_run,
        rescue: &found,
    });
    match found.failed.is_empty() && found.strays.is_empty() {
        true => Ok(Exit::Done),
        false => Ok(Exit::Short),
    }
}

fn tell(found: &Rescue, dry_run: bool, console: &Console) {
    for one in &found.restored {
        let what = match (one.removed, dry_run) {
            (false, false) => "stock restored",
            (false, true) => "stock would be restored",
            (true, false) => "new file removed",
            (true, true) => "new file would be removed",
        };
        let how = match one.how {
            How::Record => "",
            How::List => " (known by the list's hash)",
        };
        let slot = safe(one.slot.as_str());
        console.say(format!("{slot}: {}{how}", paint(GOOD, what)));
    }
    for slot in &found.unchanged {
        console.say(format!("{}: stock is in place", safe(slot.as_str())));
    }
    for slot in &found.failed {
        let what = paint(
            BAD,
            "not restored: its kept copy is damaged or gone, or others have written into it",
        );
        console.find(format!("{}: {what}", safe(slot.as_str())));
    }
    if !found.strays.is_empty() {
        console.find(paint(
            WARN,
            format!(
                "{} without a record of its slot; put one in its place with swap --as-is FILE SLOT-FILE:",
                counted(found.strays.len(), "kept original")
            ),
        ));
    }
    for stray in &found.strays {
        console.find(format!("  {}", described(stray)));
    }
}

fn described(stray: &Stray) -> String {
    let path = safe(&text(&stray.path));
    let what = match (&stray.spec, stray.seconds) {
        (Some(spec), Some(seconds)) => format!("{spec}, {}", Duration(seconds)),
        _ => format!("{} bytes", stray.bytes),
    };
    let damaged = if stray.intact { "" } else { ", damaged" };
    format!("{path}  {what}{damaged}")
}
