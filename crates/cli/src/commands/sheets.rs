//! The target sheets that ship.

use crate::args::Sheets;
use crate::console::{BOLD, Console, paint};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::table::columns;
use deft_needle_core::names::{did_you_mean, nearest};
use deft_needle_core::sheet::{SHIPPED, Shipped};
use serde_json::json;

/// Lists them, or prints one.
pub fn run(args: &Sheets, console: &Console) -> Result<Exit, Failure> {
    let Some(name) = &args.name else {
        let row = |shipped: &Shipped| vec![paint(BOLD, shipped.name), shipped.about.to_owned()];
        let rows: Vec<Vec<String>> = SHIPPED.iter().map(row).collect();
        console.find(columns(&rows, &[]));
        console.say("`deft-needle sheets NAME` prints one to start from; --target NAME uses it");
        let object = |s: &Shipped| json!({ "name": s.name, "about": s.about });
        console.object(|| json!({ "sheets": SHIPPED.iter().map(object).collect::<Vec<_>>() }));
        return Ok(Exit::Done);
    };
    let Some(shipped) = Shipped::named(name) else {
        let near = nearest(name, SHIPPED.iter().map(|s| s.name), 3);
        return Err(Failure::usage(
            format!("no sheet named {name} ships"),
            did_you_mean(&near).unwrap_or_else(|| "`deft-needle sheets` lists them".to_owned()),
        ));
    };
    console.find(shipped.text.trim_end());
    console
        .object(|| json!({ "name": shipped.name, "about": shipped.about, "text": shipped.text }));
    Ok(Exit::Done)
}
