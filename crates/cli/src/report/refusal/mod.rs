//! Refusals in words: what is wrong, and what to do next.

mod job;
#[cfg(test)]
mod tests;
mod text;

pub use job::outside;
pub use text::odd_text;

use crate::paths::shown;
use crate::report::check::name;
use deft_needle_core::names::{Near, did_you_mean, shell_word};
use deft_needle_core::refusal::{Above, OddArchive, OddCaches, OddPath, OddSlot, Refusal};
use deft_needle_core::sheet::Size;
use job::{odd_job, odd_ledger, odd_pack};
use std::fmt::Display;
use std::path::Path;

/// What is wrong, and what to do next; the latter is empty where the message says it.
pub struct Words(pub String, pub String);

fn words(what: impl Display, help: impl Display) -> Words {
    Words(what.to_string(), help.to_string())
}

/// `did you mean …?`, or something else where nothing is near.
fn near_or(near: &[Near], other: &str) -> String {
    did_you_mean(near).unwrap_or_else(|| other.to_owned())
}

/// A refusal in words.
pub fn refusal(refusal: &Refusal) -> Words {
    match refusal {
        Refusal::Path { path, why } => odd_path(path, *why),
        Refusal::OutsideRoot { path, root } => words(
            format!("{} is outside {}", shown(path), shown(root)),
            "name a file below the root, or another root with --root",
        ),
        Refusal::NotWithin { typed, why: None } => words(
            format!("\"{typed}\" is not the path of a file within a root"),
            "write folders and a name with / between them",
        ),
        Refusal::NotWithin { why: Some(why), .. } => words(why, "name a file below the root"),
        Refusal::Slot { slot, why } => odd_slot(slot, why),
        Refusal::Ledger(why) => odd_ledger(why),
        Refusal::Job(why) => odd_job(why),
        Refusal::Pack(why) => odd_pack(why),
        Refusal::Archive { path, why } => odd_archive(path, why),
        Refusal::Caches(why) => odd_caches(why),
        Refusal::Internal { what } => words(format!("internal error: {what}"), "please report it"),
        _ => words(format!("refused: {refusal:?}"), ""),
    }
}

fn odd_path(path: &Path, why: OddPath) -> Words {
    let path = shown(path);
    let (what, help) = match why {
        OddPath::Link => ("is a link", "name what it leads to: nothing is followed through links"),
        OddPath::LinkOut => (
            "is a link that leads out of the target",
            "replace it with the file itself, or name the folder that it leads to as a root",
        ),
        OddPath::LinkNotUnicode => {
            ("leads to a name that is not valid Unicode", "replace the link with the file itself")
        }
        OddPath::NotUnicode => ("has a name that is not valid Unicode", "rename it first"),
        OddPath::NotFolder => ("is not a folder", "check the path: a folder is needed here"),
        OddPath::Absent => {
            ("does not exist", "check the path; if it is on a card or a drive, insert it")
        }
        OddPath::Folder => (
            "is a folder",
            "name a file, or end the path of an output with / to put the clip into the folder",
        ),
        OddPath::Device => {
            ("is a pipe or a device", "name a regular file; - is standard input or output")
        }
        OddPath::OfLedger => ("belongs to a ledger", "name a file or a folder of the target's own"),
        OddPath::Exists { in_target: true } => {
            ("exists already", "it is in a target: use swap, which keeps the stock")
        }
        OddPath::Exists { in_target: false } => (
            "exists already",
            "choose another name, or add --overwrite (or use swap, which keeps what was there)",
        ),
        OddPath::IsClip => (
            "is the clip itself",
            "choose another output; --overwrite replaces the clip, which is then lost",
        ),
        OddPath::HoldsClip => (
            "holds the clip, and other things with it",
            "choose another output: replacing it would lose them",
        ),
        other => odd_contents(other),
    };
    words(format!("{path} {what}"), help)
}

/// What a path holds, and must not.
fn odd_contents(why: OddPath) -> (&'static str, &'static str) {
    match why {
        OddPath::Empty => ("is empty", "make it again"),
        OddPath::NotEmpty => ("is not empty", "name a new folder"),
        OddPath::ReadsBackOdd => (
            "does not read back as it was written",
            "check the disk; check that no other program writes to that file",
        ),
        OddPath::NotStock => (
            "is neither a folder nor a zip or tar",
            "name the folder or the archive that holds the target's files",
        ),
        OddPath::NoSound => {
            ("holds no audio file", "name the folder or archive that holds the target's sounds")
        }
        OddPath::NotOurLedger => (
            "is not what a ledger holds: this is not a ledger of ours",
            "name an empty or a new folder, or a ledger's own",
        ),
        OddPath::NoEntryFile => (
            "does not exist: there is no file for the entries to go into",
            "start the target once so that it makes the file, or check the root",
        ),
        OddPath::NoJobFolder => {
            ("does not exist", "make that folder, or correct the path in the job sheet")
        }
        OddPath::NoSpec => (
            "is new, and nothing says what it must be",
            "add --like FILE or --spec \"wav pcm16 24000 mono\"",
        ),
        OddPath::NotPicture => {
            ("exists already and is not a PNG picture", "choose another name for the picture")
        }
        OddPath::ClipIsSlot => {
            ("is both the clip and the slot", "name the clip first, then the file that it replaces")
        }
        _ => ("cannot be used", "name another one"),
    }
}

fn odd_slot(slot: &str, why: &OddSlot) -> Words {
    match why {
        OddSlot::Unknown { target, near } => words(
            format!("{target} has no slot {slot}"),
            near_or(near, "`deft-needle slots` lists and searches the names"),
        ),
        OddSlot::Unmatched { target, near } => words(
            format!("{target} has no slot that {slot} matches"),
            near_or(near, "`deft-needle slots` lists and searches the names"),
        ),
        OddSlot::NoFolder { folder, near, new } => words(
            format!("there is no folder {folder}"),
            match new {
                true => format!("{} Make it first if you mean a new one", near_or(near, "")),
                false => near_or(near, "check the path; --new makes a new file and its folder"),
            },
        ),
        OddSlot::Absent { near } => words(
            format!("there is no {slot}"),
            format!("{} (or add --new for a new file)", near_or(near, "check the name")),
        ),
        OddSlot::NoRule { sheet } => words(
            format!("no rule of {} matches {slot}", sheet.display()),
            "check the slot's folder, or add a [[rule]] that matches it",
        ),
        OddSlot::BadName { odd, right } => {
            words(format!("{slot} {}", name(odd, right.as_deref())), "")
        }
        OddSlot::NotInstalled { near } => words(
            format!("nothing is installed in {slot}"),
            near_or(near, "`deft-needle status` shows what is"),
        ),
        OddSlot::ChangedNow => words(
            format!("{slot} was changed by another program just now"),
            "close what writes to it and try again",
        ),
        OddSlot::MayBe { other } => words(
            format!("{slot} and {other} may be one file: they differ only in case or accents"),
            "leave one of them out",
        ),
        OddSlot::Spelt { other } => words(
            format!(
                "{slot} differs only in case or accents from {other}, which was replaced before"
            ),
            format!("write {other}, or restore that first"),
        ),
        other => odd_layer(slot, other),
    }
}

/// What lies over a slot, or in a file of entries.
fn odd_layer(slot: &str, why: &OddSlot) -> Words {
    let single = |job: &Option<String>| job.clone().unwrap_or_else(|| "a single swap".to_owned());
    match why {
        OddSlot::Covered { lower, upper, order } => words(
            match upper {
                Some(upper) => format!("{upper} was installed over {} in {slot}", single(lower)),
                None => format!("{slot} was swapped singly after {} was installed", single(lower)),
            },
            first_restore(order, upper.as_deref(), slot),
        ),
        OddSlot::Entry { what } => {
            words(format!("{slot}: {what}"), "fix the file, the job or the sheet's [[entry]]")
        }
        OddSlot::EntryStays { what } => words(
            format!("{slot}: {what}"),
            "fix the file, add --changed overwrite to restore the original file, or --changed keep",
        ),
        OddSlot::ArchiveThere => words(
            format!("{slot} is a file of the target's own, not an archive of additions"),
            "name a new file with the job's key archive",
        ),
        OddSlot::NameSays { says, holds } => words(
            format!("{slot} is named as {says} and would hold {holds}"),
            format!(
                "set a spec that begins with {says}, or add --name-anyway if the target takes it"
            ),
        ),
        OddSlot::EntryInSound { clip } => words(
            format!("{slot}: the job puts {clip} there, and the sheet makes an entry in it"),
            "an entry needs a text file: fix the job, or the sheet's [[entry]]",
        ),
        OddSlot::OtherExtension { clip } => words(
            format!("{clip} has another extension than {slot}"),
            "name the finished file as the target wants it, if it is the right one",
        ),
        _ => words(format!("{slot} cannot take it"), ""),
    }
}

/// What must go before a job that others lie over.
fn first_restore(order: &[Above], upper: Option<&str>, slot: &str) -> String {
    let word = |text: &str| shell_word(Path::new(text));
    let command = |above: &Above| match above {
        Above::Job(job) => format!("deft-needle restore ROOT --job {}", word(job)),
        Above::Swap(slot) => format!("deft-needle restore ROOT {}", word(slot.as_str())),
    };
    let commands: Vec<String> = order.iter().map(command).collect();
    match (commands.as_slice(), upper) {
        ([_, _, ..], _) => {
            format!("restore what lies over it first, in this order: {}", commands.join(", then "))
        }
        (_, Some(upper)) => {
            format!("restore {upper} first: deft-needle restore ROOT --job {}", word(upper))
        }
        (_, None) => {
            format!("restore that slot first: deft-needle restore ROOT {}", word(slot))
        }
    }
}

fn odd_archive(path: &Path, why: &OddArchive) -> Words {
    const UNTRUSTED: &str =
        "nothing was taken from it; unpack it yourself if you trust it, and name the folder";
    let path = shown(path);
    match why {
        OddArchive::EntryTooLarge { name, most } => words(
            format!("{path}: its entry {name} would take more than {}", Size(*most)),
            "if that is meant, unpack it yourself and name the folder",
        ),
        OddArchive::OddEntry { name, what } => {
            words(format!("{path}: its entry \"{name}\" {what}"), UNTRUSTED)
        }
        OddArchive::UnsafeName(why) => {
            words(format!("{path}: an entry is not safe: {why}"), UNTRUSTED)
        }
        OddArchive::HoldAll(archives) => {
            let told = archives.iter().map(|(name, sounds)| format!("{name} holds {sounds}"));
            let first = archives.first().map_or("", |(name, _)| name);
            words(
                format!(
                    "{path} has its sounds in archives: {}",
                    told.collect::<Vec<_>>().join(", ")
                ),
                format!("name the archive: {}", shell_word(&Path::new(&path).join(first))),
            )
        }
        OddArchive::NoEntry { name, near } => words(
            format!("{path} has no {name}"),
            near_or(near, "`deft-needle slots` lists the names in an archive"),
        ),
        OddArchive::NoLink { number, links } => words(
            format!("{path} has no clip {number}"),
            match links {
                1 => "it holds one clip: name the file alone".to_owned(),
                links => format!("it holds {links}: {path}#1 to {path}#{links}"),
            },
        ),
        OddArchive::TooMany { most } => words(
            format!("{path} has more than {most} entries"),
            "unpack it yourself and name the folder",
        ),
        _ => words(format!("{path} is not a usable archive"), UNTRUSTED),
    }
}

fn odd_caches(why: &OddCaches) -> Words {
    const AGAIN: &str = "install the job again with a correct sheet";
    match why {
        OddCaches::Pattern(invalid) => words(invalid, AGAIN),
        OddCaches::TooMany { most } => words(
            format!("the cache patterns find more than {most} files"),
            "narrow the sheet's key clear",
        ),
        _ => words(format!("the caches are refused: {why:?}"), ""),
    }
}
