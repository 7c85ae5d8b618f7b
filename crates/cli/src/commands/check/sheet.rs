//! A target sheet, looked at by itself.

use crate::commands::counted;
use crate::console::{BOLD, Console, GOOD, WARN, paint, safe};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::object;
use crate::paths::text;
use crate::report::error::fault;
use crate::report::refusal::Words;
use deft_needle_core::job::Job;
use deft_needle_core::root::Roots;
use deft_needle_core::sheet::{Remark, Sheet};
use deft_needle_core::target::Target;
use std::path::{Path, PathBuf};

/// Whether a path means a sheet.
pub fn is_one(path: &Path) -> bool {
    let extension = path.extension().unwrap_or_default();
    extension.eq_ignore_ascii_case("toml") && path.is_file()
}

/// Whether a path means a job sheet.
pub fn is_job(path: &Path) -> bool {
    is_one(path) && std::fs::read_to_string(path).is_ok_and(|text| Job::is_one(&text))
}

/// Reads sheets with their lists, and tells what is odd about them.
pub fn run(paths: &[PathBuf], roots: &Roots, console: &Console) -> Result<Exit, Failure> {
    let mut exit = Exit::Done;
    let mut sheets = Vec::new();
    for path in paths {
        let target = Target::new(Sheet::load(path)?, roots.clone())?;
        let remarks = target.remarks();
        tell(&remarks, console);
        let names = match (target.slots.names().count(), target.slots.unread.is_empty()) {
            (0, false) => "names not read (add --root)".to_owned(),
            (names, _) => counted(names, "name"),
        };
        console.say(format!(
            "{}: {}: {}, {names}",
            paint(BOLD, safe(&path.display().to_string())),
            match remarks.len() {
                0 => paint(GOOD, "sheet OK"),
                some => paint(WARN, counted(some, "remark")),
            },
            counted(target.sheet.rules.len(), "rule"),
        ));
        if !remarks.is_empty() {
            exit = Exit::Short;
        }
        let told: Vec<String> = remarks.iter().map(|remark| fault(remark).0).collect();
        sheets.push(object::CheckedSheet { sheet: text(path), remarks: told });
    }
    console.object(|| object::CheckedSheets { sheets });
    Ok(exit)
}

/// Remarks with the lines that they are about.
pub fn tell(remarks: &[Remark], console: &Console) {
    for remark in remarks {
        let Words(what, help) = fault(remark);
        let mut text = safe(&what);
        for line in remark.excerpt().iter().flatten() {
            text += &format!("\n      {}", safe(line));
        }
        if !help.is_empty() {
            text += &format!("\n      {}", safe(&help));
        }
        console.warn(text);
    }
}
