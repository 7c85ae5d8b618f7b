//! Notices in words.

use deft_needle_audio::edit::Overruled;
use deft_needle_audio::seam::Judgement;
use deft_needle_audio::units::Duration;
use deft_needle_core::run::Notice;

/// A notice, in a sentence without its full stop.
pub fn words(notice: &Notice) -> String {
    match notice {
        Notice::Overruled(Overruled { option, asked, ruled }) => {
            format!("--{option} {asked} instead of the sheet's {ruled}")
        }
        Notice::NoStockLevel => {
            "level unchanged: there is no stock to match the level of".to_owned()
        }
        Notice::ChangedSince { kept } => format!(
            "the file was changed since it was installed; it counts as the stock now, and all {kept} generations are kept"
        ),
        Notice::VariantsLeft { family, replaced, all, left } => {
            format!(
                "{replaced} of {all} variants of {family} replaced; left unchanged: {}",
                some_of(left)
            )
        }
        Notice::SlotsLeft { of, replaced, all, left } => {
            let of = if of.is_empty() { "the root" } else { of };
            let left = some_of(left);
            format!("{replaced} of {all} slots of {of} replaced; left unchanged: {left}")
        }
        Notice::Uneven { slots, dealt, pieces, to } => {
            let what = if *pieces { "segments" } else { "clips" };
            format!("{}: {dealt} {what} for {to} slots; some are used twice", slots.join(", "))
        }
        Notice::NoPrompt { slots } => format!(
            "the list has no line for {} {}: {}",
            slots.len(),
            if slots.len() == 1 { "slot" } else { "slots" },
            some_of(slots)
        ),
        Notice::Room { takes, budget } => format!("all slots together: about {takes} of {budget}"),
        Notice::EntriesLeft { files, caches } => entries_left(files, caches),
        Notice::EntriesNotPacked { files } => format!(
            "not in it: what {} must be told; who installs it tells that by hand",
            some_of(files)
        ),
        Notice::OtherFormat { stock, made } => {
            format!("{made} instead of the stock's {stock}, as the sheet's rule asks")
        }
        Notice::NotNew { file } => {
            format!("no entry in {file}: the file is there already, so it does not count as new")
        }
        Notice::SetTwice { file, at } => {
            format!("{file}: {at} is set more than once; the last value stays")
        }
        Notice::Silent => "the file is silent".to_owned(),
        Notice::LoopsNotHeld { container, holders } => format!(
            "the clip's loop points are lost: {container} has no place for them; {} have",
            holders.join(", ")
        ),
        Notice::LoopLost => "the stock loops, this clip has no loop points".to_owned(),
        Notice::Level { by } if *by > 0.0 => format!("{by:.1} LU louder than the stock"),
        Notice::Level { by } => format!("{:.1} LU quieter than the stock", by.abs()),
        Notice::Long { times } => format!("{times:.1} times as long as the stock"),
        Notice::NotNumbers { samples } => {
            format!("{samples} NaN or infinite samples became silence")
        }
        Notice::Cancels { correlation } => format!(
            "left and right are opposed (correlation {correlation:.2}) and cancel in mono: --route L takes the left channel alone"
        ),
        Notice::Seam { judged, crossfaded } => seam(judged, *crossfaded),
        Notice::Limited { most, seconds, distortion } => limited(*most, *seconds, *distortion),
        Notice::Overs { samples } => {
            format!("{samples} samples clipped at full scale: lower the clip's level")
        }
        notice => of_files(notice),
    }
}

/// What is to be known of links and of files beside slots.
fn of_files(notice: &Notice) -> String {
    match notice {
        Notice::CompanionStale { file } => {
            format!("{file} still belongs to the stock: no such file lies beside the clip")
        }
        Notice::LinkReplaced { to } => {
            let to = to.as_ref().map_or(String::new(), |to| format!(" to {to}"));
            format!(
                "the slot is a link{to}: a file takes its place, and restore brings the link back"
            )
        }
        Notice::LinkFollowed { link } => format!("{link} is a link to this file"),
        Notice::LinkedBy { links } => format!("also changes what links to it: {}", some_of(links)),
        _ => "this version has no words for a notice".to_owned(),
    }
}

/// A few names, and how many more there are.
pub fn some_of(names: &[String]) -> String {
    const MOST: usize = 6;
    match names.len() {
        0..=MOST => names.join(", "),
        all => format!("{} and {} more", names[..MOST - 1].join(", "), all + 1 - MOST),
    }
}

fn entries_left(files: &[String], caches: &[String]) -> String {
    let mut left = Vec::new();
    if !files.is_empty() {
        left.push(format!("entries in {} not made", files.join(", ")));
    }
    if !caches.is_empty() {
        left.push(format!("caches {} not cleared", caches.join(", ")));
    }
    format!("{}: add --entries to do what the sheet asks", left.join(", "))
}

/// Reductions above this change a sound so much that its level may be a mistake, in dB.
const MUCH: f64 = 12.0;

fn limited(most: f64, seconds: f64, distortion: f64) -> String {
    let help = if most > MUCH { ": lower --level or --gain" } else { "" };
    format!(
        "limiter: up to {most:.1} dB of gain reduction over {}, distortion {:.1} %{help}",
        Duration(seconds),
        100.0 * distortion
    )
}

fn seam(judged: &Judgement, crossfaded: bool) -> String {
    let Judgement { verdict, click_db, level_db, spectrum_db, .. } = judged;
    let help = match crossfaded {
        true => "`seam` finds a better loop, a longer --crossfade may smooth it",
        false => "`seam` finds a better loop, --crossfade smooths this one",
    };
    format!(
        "the seam is {} (click {click_db:.0} dB, level {level_db:+.0} dB, spectrum {spectrum_db:.0} dB): {help}",
        verdict.word()
    )
}
