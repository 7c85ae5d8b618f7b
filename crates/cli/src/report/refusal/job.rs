//! Refusals of ledgers, jobs and packs, and commands that failed, in words.

use super::text::odd_line;
use super::{Words, near_or, words};
use crate::commands::counted;
use crate::paths::{shown, typed_with};
use crate::report::notice::some_of;
use crate::report::unmet::unmet;
use deft_needle_audio::num::real;
use deft_needle_audio::units::Duration;
use deft_needle_core::names::shell_word;
use deft_needle_core::refusal::{OddJob, OddLedger, OddPack, OutsideFault};
use deft_needle_core::sheet::Size;

pub(super) fn odd_ledger(why: &OddLedger) -> Words {
    match why {
        OddLedger::NothingInstalled { path } => words(
            format!("nothing is installed in {}, above or below it", shown(path)),
            "check the path; name a ledger elsewhere with --ledger",
        ),
        OddLedger::NoRoot { file, likely, turned } => words(
            format!("no root is known for {}", shown(file)),
            match (likely, turned) {
                (_, true) => "the clip comes first: deft-needle swap CLIP SLOT-FILE".to_owned(),
                (Some(likely), false) => {
                    let root = shell_word(std::path::Path::new(&shown(likely)));
                    format!("name the target's folder: {}", typed_with(&format!("--root {root}")))
                }
                (None, false) => "name the target's folder with --root FOLDER".to_owned(),
            },
        ),
        OddLedger::UnknownRoot { name } => words(
            format!("the ledger does not know where the root {name} is"),
            format!("name it with --root {name}=FOLDER"),
        ),
        OddLedger::Away { folder, key } => words(
            format!("{} is not there, and {key} is in it", folder.display()),
            "insert the card or mount the drive, then run this again",
        ),
        OddLedger::Busy { root } => words(
            format!("another run is changing {} right now", shown(root)),
            "wait until it is done",
        ),
        OddLedger::Raced { root } => words(
            format!("another run has just changed {}", shown(root)),
            "run this again: it has to look at what is there now",
        ),
        OddLedger::Interrupted => {
            words("a slot was changed after an interrupted run", "run the command again")
        }
        OddLedger::LogFailed { log } => words(
            format!("{} could not be written before", log.display()),
            "run the command again once the disk can be written to",
        ),
        other => odd_owner(other),
    }
}

/// Whose a ledger is, and whether it is there.
fn odd_owner(why: &OddLedger) -> Words {
    match why {
        OddLedger::MadeFor { ledger, place } => words(
            format!("the ledger in {} was made for {}", ledger.display(), place.display()),
            "if you trust where it comes from, take it over with --adopt",
        ),
        OddLedger::KnownElsewhere { path, ledger, root } => words(
            format!(
                "{} was replaced before, and the ledger in {} keeps its stock",
                shown(path),
                ledger.display()
            ),
            format!(
                "use that one with --root {0}, or restore it first: deft-needle restore {0}",
                shell_word(root)
            ),
        ),
        OddLedger::Missing { root } => words(
            format!("{} has no ledger", shown(root)),
            "name the root, or its ledger's folder with --ledger",
        ),
        OddLedger::Healthy { root } => words(
            format!("the ledger of {} is not damaged", shown(root)),
            "`deft-needle restore` puts back what it knows",
        ),
        OddLedger::OtherPlace { name, known, named } => match known {
            Some(known) => words(
                format!(
                    "{name} is {} in the ledger, not {}: something is installed there",
                    known.display(),
                    named.display()
                ),
                format!("leave --root {name}=… out; or restore first what is installed there"),
            ),
            None => words(
                format!("{} has none of the files that are installed in {name}", named.display()),
                format!("name the folder that has them with --root {name}=FOLDER, or add --adopt"),
            ),
        },
        OddLedger::NoKeptCopy { slot, copy, all } => words(
            match copy {
                Some(copy) => format!("no kept copy of {slot} begins with \"{copy}\""),
                None => format!("no copy of {slot} is kept"),
            },
            match all.as_slice() {
                [] => "`deft-needle status` shows all kept copies".to_owned(),
                all => format!("there are: {}", all.join(", ")),
            },
        ),
        OddLedger::KeptCopies { slot, all } => words(
            format!("{} copies of {slot} are kept: {}", all.len(), all.join(", ")),
            format!("choose one: --kept={}", all.last().map_or("", String::as_str)),
        ),
        OddLedger::StillInstalled { slot } => words(
            format!("{slot} has something installed over its original"),
            "restore that first, then the kept copy",
        ),
        OddLedger::NoSuchJob { job, jobs } => words(
            format!("no job {job} has installed anything here"),
            match jobs.as_slice() {
                [] => "`deft-needle status` shows what is installed".to_owned(),
                jobs => format!("there are: {}", jobs.join(", ")),
            },
        ),
        _ => words(format!("the ledger refuses: {why:?}"), ""),
    }
}

pub(super) fn odd_job(why: &OddJob) -> Words {
    match why {
        OddJob::NoRoot => words("the job has no root", "name it with --root"),
        OddJob::TooMuchBeside { most } => words(
            format!("the files next to slots take more than {}", Size(*most)),
            "use smaller files in the sheet's [[make]], or split the job",
        ),
        OddJob::RootUnsaid { job, target } => words(
            format!("{} does not say where {target} is", job.display()),
            "write root = 'FOLDER' in it, or name the folder with --root",
        ),
        OddJob::OtherRootUnsaid { name } => words(
            format!("the job does not say where the root {name} is"),
            format!("write roots = {{ …, {name} = 'FOLDER' }}"),
        ),
        OddJob::RootNotFolder { name, path } => words(
            format!("the {name} root {} is not a folder", shown(path)),
            "check the path in the job sheet; is the card in?",
        ),
        OddJob::NotInJob { slot, near } => words(
            format!("the job has no slot {slot}"),
            near_or(near, "`deft-needle check JOB` shows its slots"),
        ),
        OddJob::Incomplete { names } => words(
            format!(
                "no file for {} would be there: {}",
                counted(names.len(), "listed name"),
                some_of(names)
            ),
            "the target takes the set as a whole: add a clip for each",
        ),
        OddJob::UnknownRoot { name, target, roots } => words(
            format!("{target} has no root \"{name}\""),
            format!("there are: {}", roots.join(", ")),
        ),
        OddJob::NotRoot { root, target, marker } => words(
            format!("{} is not a root of {target}: it has no {marker}", shown(root)),
            "name the folder that has it with --root",
        ),
        OddJob::InNoRoot { slot, target, marker } => words(
            format!(
                "{} is in no root of {target}: no folder above it has {marker}",
                slot.display()
            ),
            "check the path, or name the root with --root",
        ),
        why => odd_work(why),
    }
}

/// What is wrong with what a job does.
fn odd_work(why: &OddJob) -> Words {
    match why {
        OddJob::NoClip { clip, near } => {
            words(format!("there is no clip {clip}"), near_or(near, "check the path"))
        }
        OddJob::NotFile => words("a finished file has to be a file", "name it in place of -"),
        OddJob::Commands { command, lines: 1 } => words(
            format!("this would run: {}", command.join(" ")),
            "add --allow-commands if you trust it",
        ),
        OddJob::Commands { command, lines } => words(
            format!("this would run for {lines} lines: {}", command.join(" ")),
            "add --allow-commands if you trust it",
        ),
        OddJob::BadCommand(odd) => odd_line(odd),
        OddJob::Variants { name, all, works } => {
            let works: Vec<String> = works.iter().map(ToString::to_string).collect();
            words(
                format!("{name}: there would be {all} variants, and {} work", works.join(", ")),
                "add or leave out variants",
            )
        }
        OddJob::BadName(invalid) => words(invalid, "rename it, if the target lets you"),
        _ => words(format!("the job is refused: {why:?}"), ""),
    }
}

pub(super) fn odd_pack(why: &OddPack) -> Words {
    const AGAIN: &str = "get the pack again from where it came from";
    match why {
        OddPack::NoRoot => {
            words("a pack brings no root", "say where the target is with --root FOLDER")
        }
        OddPack::NotPack { path, lacks } => words(
            format!("{} is not a pack: it has no {lacks}", shown(path)),
            "unpack it and write a job sheet: `deft-needle new` does that for a folder of clips",
        ),
        OddPack::Odd { path, what } => {
            words(format!("{}: its pack.toml is invalid: {what}", shown(path)), AGAIN)
        }
        OddPack::NoSheet { path } => words(
            format!("{} brings no sheet of its target", shown(path)),
            "name the target's sheet with --target SHEET",
        ),
        OddPack::Lacks { file } => words(format!("{file} is not in the pack"), AGAIN),
        OddPack::Differs { file } => words(format!("{file} is not what the pack says"), AGAIN),
        OddPack::Twice { name } => {
            words(format!("{name} would be in the pack twice"), "fix the sheet's [pack]")
        }
        OddPack::TooLarge { bytes, most } => words(
            format!("the pack takes {}, {} at most are taken", Size(*bytes), Size(*most)),
            "leave something out",
        ),
        OddPack::IconSize { size, most } => words(
            format!("the sheet asks for an icon of {size} × {size} pixels"),
            format!("an icon has 1 to {most} pixels each way"),
        ),
        OddPack::BadIcon { path, most } => words(
            format!("{} is neither a PNG nor a JPEG, or larger than {most} pixels", shown(path)),
            "give another picture, or none: one is drawn then",
        ),
        _ => words(format!("the pack is refused: {why:?}"), ""),
    }
}

/// The role of a command that speaks lines.
const VOICE: &str = "voice";

/// A command of the user's that failed.
pub fn outside(role: &str, program: &str, why: &OutsideFault) -> Words {
    let asks = match role == VOICE {
        true => "see what it asks for",
        false => "see what it asks for; --feed says what it gets",
    };
    let (how, help) = match why {
        OutsideFault::NotStarted { reason, looked } => {
            let help = match looked.as_slice() {
                [] => "check its path".to_owned(),
                [one] => format!("there is no {one}"),
                [one, other, ..] => format!("there is neither {one} nor {other}"),
            };
            return words(format!("the {role} {program} could not be started: {reason}"), help);
        }
        OutsideFault::TooSlow { limit } => (
            format!("was stopped: it took longer than {limit} s"),
            match role == VOICE {
                true => "give it more with seconds in [voice], or find out what it waits for",
                false => "give it more with --encoder-limit, or find out what it waits for",
            },
        ),
        OutsideFault::Lost { reason } => (format!("was lost: {reason}"), "try again"),
        OutsideFault::Failed { status, said } if said.is_empty() => {
            (format!("failed ({status})"), asks)
        }
        OutsideFault::Failed { status, said } => (format!("failed ({status}): {said}"), asks),
        OutsideFault::Silent => {
            ("made a silent file".to_owned(), "check its options and its input")
        }
        OutsideFault::OtherSound => (
            "made a file that sounds nothing like its input".to_owned(),
            "check which file it reads",
        ),
        OutsideFault::Length { made, fed } => {
            let [made, fed] = [made, fed].map(|ms| Duration(real(*ms) / 1000.0));
            (format!("made {made} of sound from {fed}"), "check its options")
        }
        OutsideFault::EmptyFile { said } => {
            (format!("left an empty file{}", and_said(said)), "check its options")
        }
        OutsideFault::NoFile { place, said } => {
            (format!("left no file at {place}{}", and_said(said)), "check its options")
        }
        OutsideFault::Unfit { slot, why } => {
            let what = format!("what the {role} made for {slot} fails: {}", unmet(why));
            return words(what, "check the encoder's options in the sheet");
        }
        _ => ("failed".to_owned(), ""),
    };
    words(format!("the {role} {program} {how}"), help)
}

/// What a command said, behind what it did.
fn and_said(said: &str) -> String {
    if said.is_empty() { String::new() } else { format!(": {said}") }
}
