//! What the files of a group have in common.

use super::sample::{Sample, Sound};
use crate::names::{Case, Form, NameRules};
use crate::sheet::CharSet;
use crate::slots::families;
use deft_needle_audio::clip::Tag;
use deft_needle_audio::num::common_divisor;
use deft_needle_audio::spec::{Chunks, Header, LoopTags, LoopUnit, Second};
use deft_needle_audio::units::FrameRange;
use std::collections::{BTreeMap, BTreeSet};

/// The habits of a group.
#[derive(Debug, Clone, Default)]
pub struct Habits {
    /// How many files.
    pub files: usize,
    /// The shortest and the longest, in seconds.
    pub seconds: Option<(f64, f64)>,
    /// The quietest and the loudest, in LUFS.
    pub lufs: Option<(f64, f64)>,
    /// The least and the greatest bit rate of lossy files.
    pub bit_rate: Option<(u64, u64)>,
    /// The WAV header of all.
    pub header: Option<Header>,
    /// The block size of all.
    pub block_bytes: Option<u32>,
    /// Whether none has anything but samples and loop.
    pub stripped: bool,
    /// How many loop.
    pub loops: usize,
    /// Under which names, where loops stand among texts.
    pub loop_tags: Option<LoopTags>,
    /// What all loop starts and lengths are multiples of, from 16 on.
    pub loop_multiple: Option<u64>,
    /// Extensions that are not those of the container.
    pub odd_extensions: Vec<String>,
    /// Families of variants and how many members each has.
    pub families: Vec<(String, usize)>,
    /// The size of the largest file.
    pub largest: u64,
}

impl Habits {
    /// Of some files.
    pub fn of(samples: &[&Sample]) -> Self {
        let sounds: Vec<&Sound> = samples.iter().filter_map(|s| s.sound()).collect();
        let loop_tags = loop_tags(&sounds);
        let loops: Vec<FrameRange> =
            samples.iter().filter_map(|s| loop_of(s, loop_tags.as_ref())).collect();
        let range = |values: &mut dyn Iterator<Item = f64>| {
            values.fold(None, |range: Option<(f64, f64)>, v| match range {
                Some((a, b)) => Some((a.min(v), b.max(v))),
                None => Some((v, v)),
            })
        };
        let rates = sounds.iter().filter_map(|s| s.bit_rate);
        let groups = families(samples.iter().map(|s| s.name()));
        Self {
            files: samples.len(),
            seconds: range(&mut samples.iter().filter_map(|s| s.listed.seconds)),
            lufs: range(&mut samples.iter().filter_map(|s| s.listed.lufs)),
            bit_rate: rates.clone().min().zip(rates.max()),
            header: same(sounds.iter().map(|s| s.header)).flatten(),
            block_bytes: same(sounds.iter().map(|s| s.block_bytes)).flatten(),
            // What is not written here is copied with all that is in it.
            stripped: !sounds.is_empty()
                && sounds.iter().all(|s| !s.format.container.facts().writes.is_empty())
                && sounds.iter().all(|s| is_stripped(s, loop_tags.as_ref())),
            loops: loops.len(),
            loop_multiple: multiple(&loops),
            loop_tags,
            odd_extensions: odd_extensions(samples),
            families: groups
                .into_iter()
                .filter(|group| group.slots.len() > 1)
                .map(|group| (group.name, group.slots.len()))
                .collect(),
            largest: samples.iter().map(|s| s.listed.bytes).max().unwrap_or(0),
        }
    }
}

/// The value that all have.
fn same<T: PartialEq>(mut values: impl Iterator<Item = T>) -> Option<T> {
    let first = values.next()?;
    values.all(|value| value == first).then_some(first)
}

/// A file's loop, be it under names that only its neighbours tell.
pub fn loop_of(sample: &Sample, tags: Option<&LoopTags>) -> Option<FrameRange> {
    let sound = sample.sound()?;
    sound.looped.or_else(|| {
        let tags = tags?;
        let value = |name: &str| {
            let tag = sound.tags.iter().find(|tag| tag.name == name)?;
            tag.value.trim().parse::<u64>().ok()
        };
        let [first, second] = tags.names();
        let (start, other) = (value(first)?, value(second)?);
        let end = match tags.second {
            Second::Length(_) => start.checked_add(other)?,
            Second::End(_) => other,
        };
        Some(FrameRange { start, end })
    })
}

fn is_stripped(sound: &Sound, tags: Option<&LoopTags>) -> bool {
    let is_loop = |tag: &Tag| tags.is_some_and(|tags| tags.names().contains(&tag.name.as_str()));
    let texts_alone = !sound.tags.is_empty() && sound.tags.iter().all(is_loop);
    sound.chunks != Chunks::Kept || texts_alone
}

/// Names under which loops stand among texts: usual ones, or a pair that every file has and whose
/// numbers lie in it as a start and a length, or an end, would.
fn loop_tags(sounds: &[&Sound]) -> Option<LoopTags> {
    let named = |start: &str, second: &str, is_end: bool| LoopTags {
        start: start.to_owned(),
        second: match is_end {
            true => Second::End(second.to_owned()),
            false => Second::Length(second.to_owned()),
        },
        unit: LoopUnit::Frames,
    };
    let usual = sounds.iter().find(|sound| sound.loop_names.len() == 2);
    if let Some(sound) = usual {
        let [start, second] = sound.loop_names.as_slice() else {
            return None;
        };
        let is_end = second.to_uppercase().contains("END");
        return Some(named(start, second, is_end));
    }
    let first = sounds.first()?;
    let number = |sound: &Sound, name: &str| -> Option<u64> {
        let tag = sound.tags.iter().find(|tag| tag.name == name)?;
        tag.value.trim().parse().ok()
    };
    let names: Vec<&str> = first.tags.iter().map(|tag| tag.name.as_str()).collect();
    let numbers = |name: &&str| sounds.iter().all(|sound| number(sound, name).is_some());
    let names: Vec<&str> = names.into_iter().filter(numbers).collect();
    let fits = |start: &str, second: &str, is_end: bool| {
        sounds.iter().all(|sound| {
            let (Some(a), Some(b)) = (number(sound, start), number(sound, second)) else {
                return false;
            };
            let end = if is_end { b } else { a.saturating_add(b) };
            a < end && end <= sound.frames && end - a >= sound.frames / 8
        })
    };
    let pairs = names.iter().flat_map(|a| names.iter().map(move |b| (*a, *b)));
    let pairs: Vec<(&str, &str)> = pairs.filter(|(a, b)| a != b).collect();
    let found = |is_end: bool| {
        pairs.iter().find(|(a, b)| fits(a, b, is_end)).map(|(a, b)| named(a, b, is_end))
    };
    // A length is told from an end by the file where both cannot be true.
    found(false).or_else(|| found(true))
}

/// What all starts and lengths are multiples of, where that is more than chance.
fn multiple(loops: &[FrameRange]) -> Option<u64> {
    let values = loops.iter().flat_map(|range| [range.start, range.len()]);
    let divisor = values.fold(0, common_divisor);
    (divisor >= 16 && loops.len() > 1).then_some(divisor)
}

/// All extensions, the most frequent first, where one is not what such files usually have.
fn odd_extensions(samples: &[&Sample]) -> Vec<String> {
    let mut all: BTreeMap<&str, usize> = BTreeMap::new();
    let mut odd = false;
    for sample in samples {
        let file = sample.name().rsplit('/').next().unwrap_or_default();
        let Some((_, extension)) = file.rsplit_once('.') else {
            continue;
        };
        let usual = |s: &Sound| s.format.container.facts().has_extension(extension);
        odd |= !sample.sound().is_some_and(usual);
        *all.entry(extension).or_default() += 1;
    }
    let mut all: Vec<(&str, usize)> = all.into_iter().filter(|_| odd).collect();
    all.sort_by_key(|(_, count)| std::cmp::Reverse(*count));
    all.into_iter().map(|(extension, _)| extension.to_owned()).collect()
}

/// How files are named.
pub struct NameHabits {
    /// As rules.
    pub rules: NameRules,
    /// A name with the longest stem.
    pub longest: String,
    /// How many names have a stem of that length.
    pub at_limit: usize,
    /// Whether the longest stem is a limit: many names reach it.
    pub limited: bool,
    /// Whether there are enough names to tell the case.
    pub many: bool,
    /// Whether there are enough names to tell the letters.
    pub very_many: bool,
}

/// Fewer names tell nothing of case.
const MANY_NAMES: usize = 32;
/// Fewer names tell nothing of letters, and of lengths.
const VERY_MANY_NAMES: usize = 200;
/// Names, numbers aside, that reach a length before it counts as a limit.
const AT_LIMIT: usize = 10;

/// How files are named.
pub fn names_of(names: &[&str]) -> NameHabits {
    let names = names.iter().copied();
    fn stem(name: &str) -> &str {
        let file = name.rsplit('/').next().unwrap_or(name);
        file.rsplit_once('.').map_or(file, |(stem, _)| stem)
    }
    let longest = names.clone().max_by_key(|name| stem(name).chars().count());
    let letters: BTreeSet<char> = names.clone().flat_map(|name| stem(name).chars()).collect();
    // Who has seen an m and a 3 has seen letters and digits.
    let mut wide = letters.clone();
    for (seen, all) in [
        (letters.iter().any(char::is_ascii_lowercase), 'a'..='z'),
        (letters.iter().any(char::is_ascii_uppercase), 'A'..='Z'),
        (letters.iter().any(char::is_ascii_digit), '0'..='9'),
    ] {
        if seen {
            wide.extend(all);
        }
    }
    let any = |test: fn(char) -> bool| names.clone().any(|name| name.chars().any(test));
    let case = match (any(char::is_uppercase), any(char::is_lowercase)) {
        (false, true) => Some(Case::Lower),
        (true, false) => Some(Case::Upper),
        _ => None,
    };
    let short = NameRules { form: Some(Form::EightThree), ..NameRules::default() };
    let is_short =
        case == Some(Case::Upper) && names.clone().all(|name| short.faults(name, &[]).is_empty());
    let most = longest.map(|name| stem(name).chars().count());
    // A series of numbered names is one name.
    let word = |name: &str| stem(name).trim_end_matches(|c: char| c.is_ascii_digit()).to_owned();
    let longest_ones = names.clone().filter(|name| Some(stem(name).chars().count()) == most);
    let at_limit = longest_ones.map(word).collect::<BTreeSet<_>>().len();
    let all = names.clone().count();
    let many = all >= MANY_NAMES;
    let rules = NameRules {
        stem_longest: most,
        allowed: Some(CharSet::of(wide)).filter(|set| !set.is_empty()),
        case,
        form: is_short.then_some(Form::EightThree),
    };
    let very_many = all >= VERY_MANY_NAMES;
    let limited = very_many && at_limit >= AT_LIMIT;
    let longest = longest.unwrap_or_default().to_owned();
    NameHabits { rules, longest, at_limit, limited, many, very_many }
}

/// How many files there are of each extension.
pub fn by_extension<'a>(names: impl Iterator<Item = &'a str>) -> BTreeMap<&'a str, usize> {
    let mut counts = BTreeMap::new();
    for name in names {
        let file = name.rsplit('/').next().unwrap_or(name);
        let extension = file.rsplit_once('.').map_or("", |(_, extension)| extension);
        *counts.entry(extension).or_default() += 1;
    }
    counts
}
