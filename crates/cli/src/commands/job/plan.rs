//! All that a job will do, in a table.

use crate::commands::counted;
use crate::console::{BOLD, Console, FAINT, GOOD, WARN, paint, safe};
use crate::exit::Exit;
use crate::failure::core_exit;
use crate::object;
use crate::paths::{shown, text};
use crate::report::error;
use crate::report::notice;
use crate::report::plan::words;
use crate::table::{Room, Table};
use deft_needle_audio::units::Duration;
use deft_needle_core::run::{JobPlan, Line, Run, Work};

/// Shows everything; gives the worst exit code of what is wrong.
pub fn show(run: &Run, plan: &JobPlan, console: &Console) -> Exit {
    let root = run.root.as_ref().map(|root| shown(&root.path));
    console.say(format!(
        "{}: {} in {}",
        paint(BOLD, safe(&run.job.name)),
        safe(&run.target.sheet.name),
        safe(&root.unwrap_or_default())
    ));
    if !plan.lines.is_empty() {
        console.find(table(&plan.lines, console.room()));
    }
    console.say(beside(plan).join("\n"));
    run.faults(plan).fold(Exit::Done, |exit, fault| {
        console.fault(fault);
        exit.worst(core_exit(fault))
    })
}

/// The same for a program.
pub fn as_object<'a>(run: &'a Run, plan: &'a JobPlan) -> object::Planned<'a> {
    object::Planned {
        job: run.job.layer().map(str::to_owned),
        target: &run.target.sheet.name,
        root: run.root.as_ref().map(|root| text(&root.path)),
        plan,
        faults: run.faults(plan).map(error::as_object).collect(),
    }
}

/// What is done for one slot, with every decision.
pub fn in_full(work: &Work) -> String {
    match work {
        Work::Fit { plan } => words(plan),
        Work::Encode { plan, encoder } => {
            format!("{}\n  then run: {}", words(plan), safe(&encoder.command.join(" ")))
        }
        Work::AsIs { bytes } => format!("  as it is, {bytes} bytes"),
        Work::Unchanged { .. } => "  unchanged: installed from this clip already".to_owned(),
    }
}

/// What is said once it was shown.
pub fn verdict(plan: &JobPlan, wrong: usize) -> String {
    let is_new = |line: &&Line| !matches!(line.work, Work::Unchanged { .. });
    let new = plan.lines.iter().filter(is_new).count();
    let same = plan.lines.len() - new;
    let mut parts = vec![format!("{} would be replaced", counted(new, "slot"))];
    if same > 0 {
        parts.push(format!("{same} stay as they are"));
    }
    let parts = parts.join(", ");
    match wrong {
        0 => format!("{parts}: {}", paint(GOOD, "no problems")),
        wrong => {
            format!("{parts}: {}; nothing is installed", paint(WARN, counted(wrong, "problem")))
        }
    }
}

fn table(lines: &[Line], room: Room) -> String {
    let heading = ["slot", "clip", "becomes", "length", ""];
    let mut rows = vec![heading.map(|name| paint(FAINT, name)).to_vec()];
    rows.extend(lines.iter().map(row));
    Table::new(rows, &[3], &[]).whole(&[2]).text(room)
}

fn row(line: &Line) -> Vec<String> {
    let (becomes, length, state) = match &line.work {
        Work::Fit { plan } => (
            plan.to.format.to_string() + if plan.to.loops.is_empty() { "" } else { ", loops" },
            Duration(plan.to.seconds()).to_string(),
            paint(GOOD, "new"),
        ),
        Work::AsIs { bytes } => {
            (format!("as it is, {bytes} bytes"), "-".to_owned(), paint(GOOD, "new"))
        }
        Work::Encode { plan, .. } => (
            format!("by its encoder, fed {}", plan.to.format),
            Duration(plan.to.seconds()).to_string(),
            paint(GOOD, "new"),
        ),
        Work::Unchanged { installed } => (
            installed.spec.clone(),
            Duration(installed.seconds).to_string(),
            paint(FAINT, "unchanged"),
        ),
    };
    vec![safe(&line.slot), safe(&line.clip), becomes, length, state]
}

/// Entries, caches, what is restored, notices: a line each.
pub fn beside(plan: &JobPlan) -> Vec<String> {
    let mut lines = Vec::new();
    let mut row = |what: &str, text: String| lines.push(format!("  {what:<10}{}", safe(&text)));
    for entry in &plan.entries {
        let there = if entry.new { "" } else { "  (already there)" };
        row("entry", format!("{}: {}{there}", entry.file, entry.what));
    }
    plan.beside().for_each(|file| row("file", file.to_string()));
    for back in &plan.back {
        row(
            "back",
            match back.changed {
                true => format!("{}: no longer in the job, but changed: left as it is", back.key),
                false => format!("{}: no longer in the job, its stock is restored", back.key),
            },
        );
    }
    for cache in &plan.caches {
        row("cache", format!("{cache} is cleared; the target rebuilds it"));
    }
    let of_lines = plan.lines.iter().flat_map(|line| {
        line.notices.iter().map(|n| format!("{}: {}", line.slot, notice::words(n)))
    });
    let notices = plan.notices.iter().map(notice::words).chain(of_lines);
    lines.extend(notices.map(|text| super::super::notice(&safe(&text))));
    lines
}
