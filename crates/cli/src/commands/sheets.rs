//! The built-in target sheets, and the user's own.

use crate::args::Sheets;
use crate::console::{BOLD, Console, paint, safe};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::paths::text;
use crate::table::Table;
use deft_needle_core::error::Error as CoreError;
use deft_needle_core::names::{did_you_mean, nearest};
use deft_needle_core::sheet::{OwnSheet, SHIPPED, Sheet, Shipped, own_sheets};
use serde_json::json;
use std::path::Path;

/// Lists them, or prints one.
pub fn run(args: &Sheets, console: &Console) -> Result<Exit, Failure> {
    let own = own_sheets();
    let Some(name) = &args.name else {
        let row = |shipped: &Shipped| vec![paint(BOLD, shipped.name), shipped.about.to_owned()];
        let mut rows: Vec<Vec<String>> = SHIPPED.iter().map(row).collect();
        rows.extend(own.iter().map(|own| vec![paint(BOLD, safe(&own.name)), shown(own)]));
        console.find(Table::bare(rows, &[]).text(console.room()));
        console.say("`deft-needle sheets NAME` prints one to start from; --target NAME uses it");
        console.object(|| {
            let built_in = SHIPPED.iter().map(|s| json!({ "name": s.name, "about": s.about }));
            let own = own.iter().map(|own| json!({ "name": own.name, "path": text(&own.path) }));
            json!({ "sheets": built_in.chain(own).collect::<Vec<_>>() })
        });
        return Ok(Exit::Done);
    };
    let found = Sheet::find(Path::new(name)).map_err(|error| match error {
        CoreError::Sheet(fault) if fault.because.is_some() => {
            let names = own.iter().map(|own| own.name.as_str());
            let near = nearest(name, names.chain(SHIPPED.iter().map(|s| s.name)), 3);
            Failure::usage(
                format!("there is no sheet named {name}"),
                did_you_mean(&near).unwrap_or_else(|| "`deft-needle sheets` lists them".to_owned()),
            )
        }
        other => other.into(),
    })?;
    console.find(found.text().trim_end());
    let about = Shipped::named(name).map(|shipped| shipped.about);
    console.object(|| json!({ "name": name, "about": about, "text": found.text() }));
    Ok(Exit::Done)
}

fn shown(own: &OwnSheet) -> String {
    format!("your own: {}", safe(&text(&own.path)))
}
