//! One file a command.

pub mod check;
pub mod completions;
pub mod config;
#[cfg(feature = "demo")]
pub mod demo;
pub mod doctor;
pub mod fit;
pub mod hear;
pub mod inspect;
pub mod job;
pub mod learn;
pub mod proof;
pub mod rescue;
pub mod restore;
pub mod seam;
pub mod sheets;
pub mod slots;
pub mod status;
pub mod swap;

mod draw;
mod naming;
mod wanted;

use crate::console::{Console, WARN, paint, safe};
use crate::exit::Exit;
use crate::failure::Failure;
use deft_needle_audio::measure::{Loudness, Measure};
use deft_needle_core::slots::Slots;

/// `1 file`, `2 files`.
pub fn counted(count: usize, what: &str) -> String {
    format!("{count} {what}{}", if count == 1 { "" } else { "s" })
}

/// Says which lists of names could not be read, since their root is not at hand.
pub fn tell_unread(slots: &Slots, console: &Console) {
    for unread in &slots.unread {
        let unread = safe(unread);
        console.warn(format!("the names in {unread} were not read: say where it is with --root"));
    }
}

/// A level, or a dash for silence.
pub fn level(value: f64, unit: &str) -> String {
    match value.is_finite() {
        true => format!("{value:.1} {unit}"),
        false => format!("- {unit}"),
    }
}

/// A loudness with how it was measured where that is not the usual way.
pub fn loudness(loudness: Loudness) -> String {
    let how = match loudness.measure {
        Measure::Momentary => " (max momentary)",
        Measure::Padded => " (shorter than 0.4 s)",
        Measure::Integrated | Measure::None => "",
    };
    format!("{}{how}", level(loudness.lufs, "LUFS"))
}

/// A warning within a result.
pub fn notice(text: &str) -> String {
    format!("  {}{text}", paint(WARN, format!("{:<10}", "note")))
}

/// Equal errors of up to this many files are shown; of more, the first with their number.
const EQUAL: usize = 3;

/// Shows failures; equal ones of many files as one.
fn report(failed: &[Failure], console: &Console) {
    let mut kinds: Vec<(String, Vec<&Failure>)> = Vec::new();
    for failure in failed {
        let kind = failure.without_name();
        match kinds.iter_mut().find(|(known, _)| *known == kind) {
            Some((_, all)) => all.push(failure),
            None => kinds.push((kind, vec![failure])),
        }
    }
    for (_, all) in kinds {
        let shown = if console.verbose() || all.len() <= EQUAL { all.len() } else { 1 };
        for failure in &all[..shown] {
            console.failure(failure);
        }
        if shown < all.len() {
            let more = counted(all.len() - shown, "more file");
            console.announce(format!("{more} with the same error (-v shows all)"));
        }
    }
}

/// What worked of many, and what failed; failures are told here.
fn sort_out<T>(all: Vec<Result<T, Failure>>, console: &Console) -> (Vec<T>, Vec<Failure>, Exit) {
    let (mut good, mut failed, mut exit) = (Vec::new(), Vec::new(), Exit::Done);
    for one in all {
        match one {
            Ok(one) => good.push(one),
            Err(failure) => {
                exit = exit.worst(failure.exit());
                failed.push(failure);
            }
        }
    }
    report(&failed, console);
    (good, failed, exit)
}
