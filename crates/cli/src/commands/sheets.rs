//! The built-in target sheets, and the user's own.

use crate::args::Sheets;
use crate::console::{BOLD, Console, paint, safe};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::object::{SheetLine, SheetList, SheetText};
use crate::paths::text;
use crate::report::refusal::{Words, odd_text};
use crate::table::Table;
use deft_needle_core::error::Error as CoreError;
use deft_needle_core::refusal::OddText;
use deft_needle_core::sheet::{Because, OwnSheet, SHIPPED, Sheet, Shipped, own_sheets};
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
            let built_in = SHIPPED.iter().map(|s| SheetLine {
                name: s.name.to_owned(),
                about: Some(s.about),
                path: None,
            });
            let own = own.iter().map(|own| SheetLine {
                name: own.name.clone(),
                about: None,
                path: Some(text(&own.path)),
            });
            SheetList { sheets: built_in.chain(own).collect() }
        });
        return Ok(Exit::Done);
    };
    let found = Sheet::find(Path::new(name)).map_err(|error| match error {
        CoreError::Sheet(fault) => match &fault.because {
            Because::Odd(odd @ OddText::NoSheet(..)) => {
                let Words(what, help) = odd_text(odd);
                Failure::usage(what, help)
            }
            _ => CoreError::Sheet(fault).into(),
        },
        other => other.into(),
    })?;
    console.find(found.text().trim_end());
    let about = Shipped::named(name).map(|shipped| shipped.about);
    console.object(|| SheetText { name, about, text: found.text() });
    Ok(Exit::Done)
}

fn shown(own: &OwnSheet) -> String {
    format!("your own: {}", safe(&text(&own.path)))
}
