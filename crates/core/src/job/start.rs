//! Job sheets to start from: out of a folder of clips, or out of single swaps.

use super::matching::{Matching, Take};
use crate::ledger::record::Installed;
use crate::ledger::state::State;
use crate::root::Roots;
use crate::sheet::Method;
use crate::sheet::quoted;
use crate::slots::{Group, families};
use crate::target::Target;
use std::collections::BTreeSet;
use std::fmt::Write as _;
use std::path::{Path, PathBuf};

/// A job sheet out of a folder of clips, and how much of it was matched.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Started {
    /// The text.
    pub text: String,
    /// How many clips found their slots.
    pub matched: usize,
    /// How many did not.
    pub unmatched: usize,
}

/// Writes a job sheet: clips that are named like slots or their labels are matched, all else stands in
/// comments. `sheet` and `root` are as they should be written.
pub fn from_clips(target: &Target, sheet: &Path, roots: &Roots, takes: &[Take]) -> Started {
    let groups = families(target.slots.names());
    let matched = Matching::new(target, &groups).all(takes);
    let mut text = header(target, sheet, roots);
    for (slot, clips) in &matched.lines {
        replace(&mut text, target, slot, clips);
    }
    for (slot, clip) in &matched.new {
        text += "\n# A new slot, which the target takes as an addition:";
        replace(&mut text, target, slot, &[clip]);
    }
    if !matched.left.is_empty() {
        text += "\n# Clips without a slot:\n";
        for (clip, why) in &matched.left {
            let why = why.to_string();
            let why = if why.is_empty() { why } else { format!("  # {why}") };
            let _ = writeln!(text, "#\n# [[replace]]\n# slot = ''\n# clip = {}{why}", quoted(clip));
        }
    }
    let left: Vec<&Group> =
        groups.iter().filter(|group| !matched.touched.contains(&group.name)).collect();
    if !left.is_empty() {
        text += "\n# Slots that stay stock:\n";
        for group in left {
            let label = label(target, group).map_or(String::new(), |label| format!("  ({label})"));
            let _ = writeln!(text, "#   {}{label}", group.name);
        }
    }
    Started { text, matched: takes.len() - matched.left.len(), unmatched: matched.left.len() }
}

fn label<'t>(target: &'t Target, group: &Group) -> Option<&'t str> {
    group.slots.iter().find_map(|slot| target.sheet.label(slot))
}

fn header(target: &Target, sheet: &Path, roots: &Roots) -> String {
    let mut text = format!("target = {}\n", quoted(&sheet.to_string_lossy()));
    let written = |root: &PathBuf| quoted(&root.to_string_lossy());
    let root = roots.main.as_ref().map(written);
    let names = &target.sheet.roots;
    let _ = match (names.as_slice(), root) {
        ([] | [_], Some(root)) => writeln!(text, "root = {root}"),
        ([] | [_], None) => {
            writeln!(text, "# root = 'FOLDER'        # where {} is", target.sheet.name)
        }
        (names, main) => {
            let others = names[1..].iter().map(|name| roots.others.get(name).map(written));
            let all: Vec<Option<String>> = [main].into_iter().chain(others).collect();
            let sign = if all.iter().all(Option::is_some) { "" } else { "# " };
            let all = names.iter().zip(all).map(|(name, root)| {
                format!("{name} = {}", root.unwrap_or_else(|| "'FOLDER'".to_owned()))
            });
            writeln!(text, "{sign}roots = {{ {} }}", all.collect::<Vec<_>>().join(", "))
        }
    };
    let values = placeholders(target);
    if !values.is_empty() {
        text += "\n[values]\n";
        values.iter().for_each(|name| text += &format!("{name} = ''\n"));
    }
    text
}

/// Values that the sheet's entries ask of a job.
fn placeholders(target: &Target) -> BTreeSet<String> {
    const OWN: &[&str] = &[
        "slot",
        "stem",
        "name",
        "folder",
        "extension",
        "frames",
        "seconds",
        "rate",
        "channels",
        "job",
    ];
    let mut all = BTreeSet::new();
    for entry in &target.sheet.entries {
        let entry = entry.get_ref();
        let text = format!("{} {:?} {:?} {:?}", entry.file.0, entry.at, entry.value, entry.expect);
        for place in text.split('{').skip(1).filter_map(|rest| rest.split_once('}')) {
            let name = place.0.split(['*', '/', '|']).next().unwrap_or_default().trim();
            let plain = name.chars().all(|c| c.is_alphanumeric() || matches!(c, '-' | '_'));
            if plain
                && !name.is_empty()
                && !OWN.contains(&name)
                && !crate::digests::NAMES.contains(&name)
                && !name.starts_with("loop.")
            {
                all.insert(name.to_owned());
            }
        }
    }
    all
}

fn replace(text: &mut String, target: &Target, slot: &str, clips: &[&str]) {
    let told = target.sheet.label(slot).map_or(String::new(), |label| format!("  # {label}"));
    let _ = write!(text, "\n[[replace]]{told}\nslot = {}\n", quoted(slot));
    let quoted: Vec<String> = clips.iter().map(|clip| quoted(clip)).collect();
    let _ = match quoted.as_slice() {
        [one] => writeln!(text, "clip = {one}"),
        many => writeln!(text, "clips = [{}]", many.join(", ")),
    };
}

/// A job sheet out of single swaps; `target` and `root` are as they should be written.
pub fn from_swaps(state: &State, target: Option<&Path>, root: &Path) -> (String, usize) {
    let mut text = match target {
        Some(target) => format!("target = {}\n", quoted(&target.to_string_lossy())),
        None => "target = ''              # the target's sheet: `learn` writes one\n".to_owned(),
    };
    let _ = writeln!(text, "root = {}", quoted(&root.to_string_lossy()));
    let mut count = 0;
    for (slot, known) in &state.slots {
        let by_hand = known.top().filter(|top| top.installed.job.is_none());
        if let Some(top) = by_hand {
            swapped(&mut text, slot.as_str(), &top.installed);
            count += 1;
        }
    }
    (text, count)
}

/// What stands in a job sheet of one slot.
pub fn lines_of(slot: &str, installed: &Installed) -> String {
    let mut text = String::new();
    swapped(&mut text, slot, installed);
    text.trim_start().to_owned()
}

fn swapped(text: &mut String, slot: &str, installed: &Installed) {
    let _ = write!(text, "\n[[replace]]\nslot = {}\n", quoted(slot));
    match &installed.clip_path {
        Some(clip) => {
            let _ = writeln!(text, "clip = {}", quoted(clip));
        }
        None => {
            let _ = writeln!(text, "clip = ''  # it was {}, which is not a file", installed.clip);
        }
    }
    match &installed.making {
        Some(Method::AsIs) => text.push_str("as-is = true\n"),
        Some(Method::Encoder(encoder)) => {
            let words: Vec<String> = encoder.command.iter().map(|word| quoted(word)).collect();
            let _ = writeln!(
                text,
                "encoder = {{ command = [{}], feed = {}, seconds = {} }}",
                words.join(", "),
                quoted(&encoder.feed),
                encoder.seconds
            );
        }
        Some(Method::Fit) | None => {}
    }
    for (key, values) in &installed.options {
        let value = match (key.as_str(), values.as_slice()) {
            ("tag", many) => {
                let many: Vec<String> = many.iter().map(|value| quoted(value)).collect();
                format!("[{}]", many.join(", "))
            }
            (_, [one]) if one == "true" => one.clone(),
            (_, values) => quoted(values.last().map_or("", String::as_str)),
        };
        let _ = match deft_needle_audio::edit::option(key).is_some() {
            true => writeln!(text, "{key} = {value}"),
            false => writeln!(text, "# {key} = {value}   (no key of a job sheet)"),
        };
    }
}
