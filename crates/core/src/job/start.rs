//! Job sheets to start from: out of a folder of clips, or out of single swaps.

use super::Making;
use crate::ledger::record::Installed;
use crate::ledger::state::State;
use crate::names::{did_you_mean, folded, nearest};
use crate::sheet::quoted;
use crate::slots::{Group, families};
use crate::target::Target;
use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;
use std::path::Path;

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

/// Letters and digits alone, in small letters: what names are compared by.
fn plain(name: &str) -> String {
    folded(name).chars().filter(|c| c.is_alphanumeric()).collect()
}

/// The stem of a path's last part, without the number that tells variants apart.
fn stem(name: &str) -> &str {
    let file = name.rsplit(['/', '\\']).next().unwrap_or(name);
    file.rsplit_once('.').map_or(file, |(stem, _)| stem)
}

/// The group of slots that a clip is named after: by its stem, or by the label of one of them.
fn group_of<'g>(clip: &str, groups: &'g [Group], target: &Target) -> Option<&'g Group> {
    let wanted = plain(stem(clip));
    let bare = wanted.trim_end_matches(|c: char| c.is_ascii_digit());
    let by = |test: &dyn Fn(&Group) -> bool| groups.iter().find(|group| test(group));
    let named = |group: &Group| plain(stem(&group.name)) == wanted;
    let family = |group: &Group| {
        group.slots.len() > 1 && !bare.is_empty() && plain(stem(&group.name)) == bare
    };
    let labelled = |group: &Group| {
        let labels = group.slots.iter().filter_map(|slot| target.sheet.label(slot));
        labels.into_iter().any(|label| plain(label) == wanted)
    };
    let member = |group: &Group| group.slots.iter().any(|slot| plain(stem(slot)) == wanted);
    by(&member).or_else(|| by(&named)).or_else(|| by(&labelled)).or_else(|| by(&family))
}

/// Writes a job sheet: clips that are named like slots or their labels are matched, all else stands in
/// comments. `sheet` and `clips` are as they should be written.
pub fn from_clips(target: &Target, sheet: &Path, root: Option<&Path>, clips: &[String]) -> Started {
    let groups = families(target.slots.names());
    let mut matched: BTreeMap<&str, Vec<(String, &String)>> = BTreeMap::new();
    let mut unmatched = Vec::new();
    for clip in clips {
        match group_of(clip, &groups, target) {
            None => unmatched.push(clip),
            Some(group) => {
                // A clip that is named like one variant goes to that one alone.
                let one = group.slots.iter().find(|slot| plain(stem(slot)) == plain(stem(clip)));
                let slot = one.cloned().unwrap_or_else(|| group.name.clone());
                matched.entry(&group.name).or_default().push((slot, clip));
            }
        }
    }
    let mut text = header(target, sheet, root);
    let count = clips.len() - unmatched.len();
    for group in &groups {
        let Some(clips) = matched.get_mut(group.name.as_str()) else {
            continue;
        };
        // Clips are dealt in the order of the variants.
        clips.sort_by_key(|(slot, _)| group.slots.iter().position(|own| own == slot));
        let mut distinct: Vec<&String> = clips.iter().map(|(slot, _)| slot).collect();
        distinct.dedup();
        let each = distinct.len() == group.slots.len() && clips.len() == distinct.len();
        let all = clips.iter().all(|(slot, _)| *slot == group.name);
        match all || each {
            true => {
                let names: Vec<&String> = clips.iter().map(|(_, clip)| *clip).collect();
                replace(&mut text, target, &group.name, &names);
            }
            false => {
                clips.iter().for_each(|(slot, clip)| replace(&mut text, target, slot, &[clip]))
            }
        }
    }
    if !unmatched.is_empty() {
        text += "\n# Clips that no slot is named like:\n";
        for clip in &unmatched {
            let near = nearest(stem(clip), groups.iter().map(|group| stem(&group.name)), 1);
            let question = did_you_mean(&near).map_or(String::new(), |q| format!("  # {q}"));
            let _ = writeln!(
                text,
                "#\n# [[replace]]\n# slot = ''\n# clip = {}{question}",
                quoted(clip)
            );
        }
    }
    let left: Vec<&Group> =
        groups.iter().filter(|g| !matched.contains_key(g.name.as_str())).collect();
    if !left.is_empty() {
        text += "\n# Slots that stay stock:\n";
        for group in left {
            let label = label(target, group).map_or(String::new(), |label| format!("  ({label})"));
            let _ = writeln!(text, "#   {}{label}", group.name);
        }
    }
    Started { text, matched: count, unmatched: unmatched.len() }
}

fn label<'t>(target: &'t Target, group: &Group) -> Option<&'t str> {
    group.slots.iter().find_map(|slot| target.sheet.label(slot))
}

fn header(target: &Target, sheet: &Path, root: Option<&Path>) -> String {
    let mut text = format!("target = {}\n", quoted(&sheet.to_string_lossy()));
    let root = root.map(|root| quoted(&root.to_string_lossy()));
    let names = &target.sheet.roots;
    let _ = match (names.as_slice(), root) {
        ([] | [_], Some(root)) => writeln!(text, "root = {root}"),
        ([] | [_], None) => {
            writeln!(text, "# root = 'FOLDER'        # where {} is", target.sheet.name)
        }
        (names, root) => {
            let main = root.unwrap_or_else(|| "'FOLDER'".to_owned());
            let rest: Vec<String> =
                names[1..].iter().map(|name| format!("{name} = 'FOLDER'")).collect();
            writeln!(text, "# roots = {{ {} = {main}, {} }}", names[0], rest.join(", "))
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
            if plain && !name.is_empty() && !OWN.contains(&name) && !name.starts_with("loop.") {
                all.insert(name.to_owned());
            }
        }
    }
    all
}

fn replace(text: &mut String, target: &Target, slot: &str, clips: &[&String]) {
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
        Some(Making::AsIs) => text.push_str("as-is = true\n"),
        Some(Making::Encoder(encoder)) => {
            let words: Vec<String> = encoder.command.iter().map(|word| quoted(word)).collect();
            let _ = writeln!(
                text,
                "encoder = {{ command = [{}], feed = {}, seconds = {} }}",
                words.join(", "),
                quoted(&encoder.feed),
                encoder.seconds
            );
        }
        Some(Making::Fit) | None => {}
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
