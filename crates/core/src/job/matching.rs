//! Which slot a clip is named after: by its whole path, by the end of it, by its name alone, by a label, by
//! the family that its folder is named after.

use crate::names::{did_you_mean, folded, natural, nearest};
use crate::sheet::{New, Pattern};
use crate::slots::Group;
use crate::target::Target;
use std::cmp::Reverse;
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::fmt;

/// A clip that a slot is looked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Take {
    /// Its path in the folder of clips, with `/` between folders.
    pub within: String,
    /// Its path as a job sheet should write it.
    pub written: String,
}

/// Where the clips of a folder go.
#[derive(Debug, Default)]
pub struct Matched<'a> {
    /// Slots, or families, with their clips.
    pub lines: Vec<(String, Vec<&'a str>)>,
    /// New slots, each with its clip.
    pub new: Vec<(String, &'a str)>,
    /// Clips that stay without a slot, and why.
    pub left: Vec<(&'a str, Left)>,
    /// The groups that got a clip, by their names.
    pub touched: HashSet<String>,
}

/// Why a clip got no slot.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Left {
    /// No name is like it; those that are spelt alike.
    Unlike(Option<String>),
    /// Several slots have its name.
    Shared(Vec<String>),
    /// Slots have its name, but the target has a folder named like the clip's, and there they are not.
    Elsewhere(String, Vec<String>),
    /// Another clip goes to its slot.
    Taken(String, String),
    /// Its family has no more slots.
    Full(String, usize),
}

impl fmt::Display for Left {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let some = |names: &[String]| {
            let shown = names.iter().take(3).map(String::as_str).collect::<Vec<_>>().join(", ");
            match names.len().saturating_sub(3) {
                0 => shown,
                more => format!("{shown} and {more} more"),
            }
        };
        match self {
            Self::Unlike(None) => Ok(()),
            Self::Unlike(Some(question)) => f.write_str(question),
            Self::Shared(slots) => write!(f, "one of {}", some(slots)),
            Self::Elsewhere(folder, slots) => {
                write!(f, "not in {folder}; that name is in {}", some(slots))
            }
            Self::Taken(slot, clip) => write!(f, "{slot} gets {clip}"),
            Self::Full(family, slots) => write!(f, "{family} has {slots} slots"),
        }
    }
}

/// A path as names are compared: letters and digits of each folder and of the stem, in small letters.
fn parts(path: &str) -> Vec<String> {
    let path = folded(&path.replace('\\', "/"));
    let (folders, file) = path.rsplit_once('/').unwrap_or(("", &path));
    let stem = file.rsplit_once('.').map_or(file, |(stem, _)| stem);
    let folders = folders.split('/').filter(|folder| !folder.is_empty());
    let plain = |part: &str| {
        let plain: String = part.chars().filter(|c| c.is_alphanumeric()).collect();
        if plain.is_empty() { part.to_owned() } else { plain }
    };
    folders.chain([stem]).map(plain).collect()
}

fn extension(path: &str) -> String {
    path.rsplit_once('.').map_or(String::new(), |(_, extension)| folded(extension))
}

/// How a clip's path is like a slot's; the greatest is nearest.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
struct Likeness {
    /// Whether one path is the end of the other.
    agrees: bool,
    /// How many parts are the same, from the end.
    same: usize,
    /// How many folders of either are left over.
    rest: Reverse<usize>,
}

/// Names by their last part.
#[derive(Debug, Default)]
struct Index<'a>(HashMap<String, Vec<(Vec<String>, &'a str)>>);

impl<'a> Index<'a> {
    fn of(names: impl Iterator<Item = &'a str>) -> Self {
        let mut index = Self::default();
        for name in names {
            let parts = parts(name);
            let last = parts.last().cloned().unwrap_or_default();
            index.0.entry(last).or_default().push((parts, name));
        }
        index
    }

    /// The names that are most like a path; of several, those with its extension.
    fn like(&self, path: &[String], extended: &str) -> (Option<Likeness>, Vec<&'a str>) {
        let mut best: (Option<Likeness>, Vec<&'a str>) = (None, Vec::new());
        for (parts, name) in path.last().and_then(|last| self.0.get(last)).into_iter().flatten() {
            let pairs = parts.iter().rev().zip(path.iter().rev());
            let same = pairs.take_while(|(a, b)| a == b).count();
            let like = Likeness {
                agrees: same == parts.len().min(path.len()),
                same,
                rest: Reverse(match same == parts.len() && same == path.len() {
                    true => 0,
                    false => 1,
                }),
            };
            match best.0.cmp(&Some(like)) {
                std::cmp::Ordering::Less => best = (Some(like), vec![*name]),
                std::cmp::Ordering::Equal => best.1.push(*name),
                std::cmp::Ordering::Greater => {}
            }
        }
        let alike = best.1.iter().filter(|name| extension(name) == extended).count();
        if alike > 0 {
            best.1.retain(|name| extension(name) == extended);
        }
        best
    }
}

/// A slot or a family that a clip goes to.
enum Aim<'a> {
    Slot(&'a str),
    Family(&'a str),
}

/// The names of a target's slots, ready to be matched.
pub struct Matching<'a> {
    target: &'a Target,
    groups: BTreeMap<&'a str, &'a Group>,
    slots: Index<'a>,
    families: Index<'a>,
    labels: HashMap<String, Vec<&'a str>>,
    folders: HashSet<String>,
}

impl<'a> Matching<'a> {
    /// Of a target, with its slots in their groups.
    pub fn new(target: &'a Target, groups: &'a [Group]) -> Self {
        let slots = || groups.iter().flat_map(|group| group.slots.iter().map(String::as_str));
        let many = groups.iter().filter(|group| group.slots.len() > 1);
        let mut labels: HashMap<String, Vec<&str>> = HashMap::new();
        for slot in slots() {
            if let Some(label) = target.sheet.label(slot) {
                labels.entry(parts(label).concat()).or_default().push(slot);
            }
        }
        Self {
            target,
            groups: groups.iter().map(|group| (group.name.as_str(), group)).collect(),
            slots: Index::of(slots()),
            families: Index::of(many.map(|group| group.name.as_str())),
            labels,
            folders: slots().flat_map(folders_of).collect(),
        }
    }

    /// Where every clip goes.
    pub fn all<'t>(&self, takes: &'t [Take]) -> Matched<'t> {
        let mut takes: Vec<&Take> = takes.iter().collect();
        takes.sort_by(|a, b| natural(&a.within, &b.within));
        let mut matched = Matched::default();
        let mut slots: BTreeMap<&str, &'t str> = BTreeMap::new();
        let mut dealt: BTreeMap<&str, Vec<&'t str>> = BTreeMap::new();
        for take in takes {
            let clip = take.written.as_str();
            match self.aim(take) {
                Ok(Aim::Family(family)) => dealt.entry(family).or_default().push(clip),
                Ok(Aim::Slot(slot)) => match slots.get(slot) {
                    Some(other) => {
                        let why = Left::Taken(slot.to_owned(), (*other).to_owned());
                        matched.left.push((clip, why));
                    }
                    None => drop(slots.insert(slot, clip)),
                },
                Err(why) => match self.new_slot(take, &matched.new) {
                    Some(slot) => matched.new.push((slot, clip)),
                    None => matched.left.push((clip, why)),
                },
            }
        }
        for (name, group) in &self.groups {
            let own: Vec<(&str, &str)> = group
                .slots
                .iter()
                .filter_map(|slot| Some((slot.as_str(), *slots.get(slot.as_str())?)))
                .collect();
            let clips = dealt.remove(name).unwrap_or_default();
            if !own.is_empty() || !clips.is_empty() {
                matched.touched.insert((*name).to_owned());
                deal(group, &own, clips, &mut matched);
            }
        }
        matched
    }

    /// The slot or the family that a clip is named after.
    fn aim(&self, take: &Take) -> Result<Aim<'a>, Left> {
        let path = parts(&take.within);
        let extended = extension(&take.within);
        let (like, slots) = self.slots.like(&path, &extended);
        if let Some(like) = like {
            let names = |slots: &[&str]| slots.iter().map(|slot| (*slot).to_owned()).collect();
            let folder = path.iter().nth_back(like.same).filter(|f| self.folders.contains(*f));
            return match (slots.as_slice(), folder) {
                ([_], Some(folder)) if !like.agrees => {
                    Err(Left::Elsewhere(folder.clone(), names(&slots)))
                }
                ([slot], _) => Ok(Aim::Slot(slot)),
                (many, _) => Err(Left::Shared(names(many))),
            };
        }
        let last = path.last().cloned().unwrap_or_default();
        let bare = last.trim_end_matches(|c: char| c.is_ascii_digit()).to_owned();
        let (folders, file) = path.split_at(path.len() - 1);
        let bare_path = [folders, &[bare]].concat();
        for path in [path.as_slice(), &bare_path] {
            if let Some(family) = self.family(path, &extended) {
                return Ok(Aim::Family(family));
            }
        }
        if let Some([slot]) = self.labels.get(&file.concat()).map(Vec::as_slice) {
            return Ok(Aim::Slot(slot));
        }
        if let Some(family) = self.family(folders, &extended) {
            return Ok(Aim::Family(family));
        }
        let stem = |name: &'a str| name.rsplit('/').next().unwrap_or(name);
        let near = nearest(stem_of(&take.within), self.groups.keys().map(|name| stem(name)), 1);
        Err(Left::Unlike(did_you_mean(&near)))
    }

    fn family(&self, path: &[String], extended: &str) -> Option<&'a str> {
        let (like, found) = self.families.like(path, extended);
        let folder = path.iter().nth_back(like?.same);
        let elsewhere = !like?.agrees && folder.is_some_and(|f| self.folders.contains(f));
        match found.as_slice() {
            [family] if !elsewhere => Some(family),
            _ => None,
        }
    }

    /// A slot that a rule for new ones takes, named like the clip.
    fn new_slot(&self, take: &Take, before: &[(String, &str)]) -> Option<String> {
        let sheet = &self.target.sheet;
        let any = || sheet.rules.iter().filter(|rule| rule.new == New::Any);
        let takes = |slot: &str| {
            sheet.rule_for(slot).is_some_and(|rule| rule.new == New::Any)
                && self.target.name_faults(slot).0.is_empty()
                && before.iter().all(|(other, _)| other != slot)
        };
        let (stem, file) = (stem_of(&take.within), take.within.rsplit('/').next()?);
        let bare = take.within.rsplit_once('.').map_or(take.within.as_str(), |(bare, _)| bare);
        let mut extensions: Vec<String> = any().flat_map(|rule| rule.extensions()).collect();
        extensions.insert(0, extension(&take.within));
        // Its own path first, then the folder that a rule is about.
        let own = extensions.iter().map(|extension| format!("{bare}.{extension}"));
        let fixed = any().flat_map(|rule| rule.patterns.get_ref().0.iter().map(Pattern::text));
        let fixed = fixed.filter_map(|text| text.rsplit_once('/').map(|(folder, _)| folder));
        let fixed: BTreeSet<&str> = fixed.filter(|f| !f.contains(['*', '?', '#', '['])).collect();
        // A folder is only chosen where there is but one.
        let fixed = fixed.iter().filter(|_| fixed.len() == 1);
        let below = fixed.flat_map(|folder| {
            let extended = extensions.iter().map(move |e| format!("{folder}/{stem}.{e}"));
            [format!("{folder}/{file}")].into_iter().chain(extended)
        });
        own.chain(below).find(|slot| takes(slot))
    }
}

/// The folders on the way to a slot, as names are compared.
fn folders_of(slot: &str) -> Vec<String> {
    let mut parts = parts(slot);
    parts.pop();
    parts
}

fn stem_of(path: &str) -> &str {
    let file = path.rsplit(['/', '\\']).next().unwrap_or(path);
    file.rsplit_once('.').map_or(file, |(stem, _)| stem)
}

/// The clips of one group: those that are named like a slot go there, the others take the rest in order.
fn deal<'t>(
    group: &Group,
    own: &[(&str, &'t str)],
    mut clips: Vec<&'t str>,
    matched: &mut Matched<'t>,
) {
    let taken: HashSet<&str> = own.iter().map(|(slot, _)| *slot).collect();
    let free: Vec<&String> =
        group.slots.iter().filter(|slot| !taken.contains(slot.as_str())).collect();
    for clip in clips.split_off(clips.len().min(free.len())) {
        matched.left.push((clip, Left::Full(group.name.clone(), group.slots.len())));
    }
    if own.is_empty() && !clips.is_empty() {
        return matched.lines.push((group.name.clone(), clips));
    }
    if own.len() == group.slots.len() && own.len() > 1 {
        let clips = own.iter().map(|(_, clip)| *clip).collect();
        return matched.lines.push((group.name.clone(), clips));
    }
    for (slot, clip) in own {
        matched.lines.push(((*slot).to_owned(), vec![*clip]));
    }
    for (slot, clip) in free.into_iter().zip(clips) {
        matched.lines.push((slot.clone(), vec![clip]));
    }
}
