//! A target sheet from files that work today.

mod area;
mod by_name;
mod group;
mod habits;
mod index;
mod loop_files;
mod mark;
mod sample;
mod text;

use crate::error::Result;
use crate::refusal::{OddArchive, OddJob, OddPath};
use crate::sheet::{FirstBytes, LoopFile, Rule, Sheet, Within};
use crate::slots::{Listed, is_named_like_sound};
use crate::stock::{LeftOut, Member, Stock};
use deft_needle_audio::read::Hints;
use deft_needle_audio::spec::Container;
use deft_needle_audio::units::FrameRange;
use deft_needle_audio::{Invalid, Observer};
use group::{Group, Named};
use habits::Habits;
use mark::Ear;
pub(crate) use mark::of_one as mark_of;
use sample::{Sample, What};
use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

/// A sheet that was learnt.
#[derive(Debug)]
pub struct Learnt {
    /// The sheet's text.
    pub sheet: String,
    /// The list beside it.
    pub list: Vec<Listed>,
    /// How many rules it has.
    pub rules: usize,
    /// How many sounds were read.
    pub sounds: usize,
    /// How many files of closed formats there are.
    pub opaque: usize,
    /// How many files hold nothing to hear.
    pub others: usize,
    /// Files that could not be looked at, and why.
    pub left_out: Vec<LeftOut>,
    /// Archives among the files, each with how many sounds its names tell of.
    pub archives: Vec<(String, usize)>,
}

/// What the list beside a sheet would say of every sound; a sheet that there is tells how loops are
/// named.
///
/// # Errors
/// Those of [`Stock::look`].
pub fn list(stock: &Stock, sheet: Option<&Sheet>, observer: &dyn Observer) -> Result<Vec<Listed>> {
    let of = |member: &Member| {
        let rule = sheet.and_then(|sheet| sheet.rule_for(&member.name));
        Sample::of(member, rule.map(Rule::hints).unwrap_or_default())
    };
    let looked = stock.look(&of, observer)?;
    let (samples, _) = heard(looked.found);
    Ok(samples.into_iter().map(|sample| sample.listed).collect())
}

/// What is likely to be heard, and all else, in their order.
fn heard(all: Vec<Sample>) -> (Vec<Sample>, Vec<Sample>) {
    let is_other = |sample: &Sample| matches!(sample.what, What::Other);
    let ear = Ear::of(&all);
    let heard: Vec<bool> = all.iter().map(|one| !is_other(one) && ear.hears(one)).collect();
    let mut heard = heard.into_iter();
    all.into_iter().partition(|_| heard.next().unwrap_or_default())
}

/// Looks at every file of the stock; the sheet will name its list `list`.
///
/// # Errors
/// Those of [`Stock::look`]; [`Error::Refused`] where nothing audible is found.
pub fn learn(stock: &Stock, list: &str, observer: &dyn Observer) -> Result<Learnt> {
    let index = index::find(stock);
    let named = index.as_ref().map(|index| stock.clone().renamed(&index.names));
    let mut looked = named.as_ref().unwrap_or(stock).look(&look, observer)?;
    let archives = archives(stock, &looked.found);
    let (mut samples, others) = heard(looked.found);
    let loop_files = loop_files::find(stock, &mut samples, &others);
    if samples.is_empty() {
        // What kept the only sounds from being read says more than that there are none.
        let first = looked.left_out.drain(..).next();
        let none = || match archives.is_empty() {
            true => OddPath::NoSound.of(stock.path()),
            false => OddArchive::HoldAll(archives).of(stock.path()),
        };
        return Err(first.map_or_else(none, |left| left.error));
    }
    let (rules, loops) = rules(&samples, &loop_files)?;
    let names: Vec<&str> = samples.iter().map(Sample::name).collect();
    let other_names: Vec<&str> = others.iter().map(Sample::name).collect();
    let left_out: Vec<&str> = looked.left_out.iter().map(|left| left.name.as_str()).collect();
    let sheet = write(text::Learning {
        stock: stock.path(),
        list,
        names: &names,
        others: &other_names,
        rules: &rules,
        left_out: &left_out,
        index: index.as_ref(),
    })?;
    let opaque = samples.iter().filter(|s| s.sound().is_none()).count();
    Ok(Learnt {
        sheet,
        rules: rules.len(),
        sounds: samples.len() - opaque,
        opaque,
        others: others.len(),
        left_out: looked.left_out,
        archives,
        list: samples.into_iter().map(|sample| listed(sample, &loops)).collect(),
    })
}

/// The rules of all sounds, and their loops by their names.
fn rules(
    samples: &[Sample],
    loop_files: &[(LoopFile, BTreeSet<String>)],
) -> Result<(Vec<text::Rule>, BTreeMap<String, FrameRange>)> {
    let marks = mark::of_extensions(samples);
    let kinds = kinds(samples);
    let named: Vec<Named<'_>> = samples
        .iter()
        .map(|sample| Named {
            name: sample.name(),
            kind: kinds[&kind_of(sample)],
            closed: sample.sound().is_none(),
        })
        .collect();
    let groups = group::groups(&named);
    let mut rules = Vec::new();
    let mut loops = BTreeMap::new();
    for (group, members) in groups.iter().zip(members(&groups, samples)?) {
        let habits = Habits::of(&members);
        for sample in &members {
            let range = habits::loop_of(sample, habits.loop_tags.as_ref());
            loops.extend(range.map(|range| (sample.name().to_owned(), range)));
        }
        let has = |names: &BTreeSet<String>| {
            members.iter().filter(|member| names.contains(member.name())).count()
        };
        let told = loop_files.iter().filter(|(_, names)| has(names) * 2 >= members.len());
        rules.push(text::Rule {
            loop_files: told.map(|(file, _)| file.clone()).collect(),
            specs: spec_lines(&kinds, &group.kinds),
            patterns: group.patterns.clone(),
            habits,
            first: first_bytes(&members, &marks),
        });
    }
    Ok((rules, loops))
}

/// The archives of a folder with sounds in them.
fn archives(stock: &Stock, all: &[Sample]) -> Vec<(String, usize)> {
    let Some(folder) = stock.folder() else {
        return Vec::new();
    };
    let sounds = |sample: &Sample| {
        let names = Stock::open(&folder.join(sample.name())).ok()?.names().ok()?;
        let extension = |name: &String| mark::extension(name);
        let sound = |name: &&String| Container::from_extension(&extension(name)).is_some();
        let count = names.iter().filter(sound).count();
        (count > 0).then(|| (sample.name().to_owned(), count))
    };
    all.iter().filter(|sample| sample.archive).filter_map(sounds).collect()
}

/// A sample's row of the list, with its loop.
fn listed(sample: Sample, loops: &BTreeMap<String, FrameRange>) -> Listed {
    let range = loops.get(sample.name());
    Listed { looped: range.map(|r| format!("{}..{}", r.start, r.end)), ..sample.listed }
}

/// The sheet's text. What is left aside here and would be taken for a slot by the rules is left aside by
/// them, too.
fn write(told: text::Learning<'_>) -> Result<String> {
    let sheet = Sheet::parse(&text::write(&told), Path::new(told.list))?;
    let taken = told.others.iter().filter(|name| is_named_like_sound(&sheet, name));
    let left_out: Vec<&str> = told.left_out.iter().chain(taken).copied().collect();
    Ok(text::write(&text::Learning { left_out: &left_out, ..told }))
}

/// Looks at a file whose name a sheet can hold.
fn look(member: &Member) -> Result<Sample> {
    let name: Result<Within, Invalid> = member.name.parse();
    name.map_err(OddJob::BadName)?;
    Sample::of(member, Hints::default())
}

/// What rules tell apart: the spec line, or how a closed format begins.
fn kind_of(sample: &Sample) -> String {
    match &sample.what {
        What::Sound(sound) => sound.format.to_string(),
        What::Opaque(_) => format!("opaque {}", mark::extension(sample.name())),
        What::Other => String::new(),
    }
}

fn kinds(samples: &[Sample]) -> BTreeMap<String, usize> {
    let mut kinds = BTreeMap::new();
    for sample in samples {
        let next = kinds.len();
        kinds.entry(kind_of(sample)).or_insert(next);
    }
    kinds
}

fn name_of(kinds: &BTreeMap<String, usize>, kind: usize) -> String {
    let found = kinds.iter().find(|(_, number)| **number == kind);
    let name = found.map_or("", |(name, _)| name);
    name.split_once(' ')
        .filter(|(first, _)| *first == "opaque")
        .map_or(name, |(first, _)| first)
        .to_owned()
}

/// The spec lines of some kinds; closed formats are one, however their files begin.
fn spec_lines(kinds: &BTreeMap<String, usize>, of: &[usize]) -> Vec<String> {
    let mut lines: Vec<String> = of.iter().map(|kind| name_of(kinds, *kind)).collect();
    lines.dedup();
    lines
}

/// The files that each group's rule counts for.
fn members<'a>(groups: &[Group], samples: &'a [Sample]) -> Result<Vec<Vec<&'a Sample>>> {
    let mut patterns = Vec::new();
    for group in groups {
        let parsed = group.patterns.iter().map(|pattern| {
            pattern.parse::<crate::sheet::Pattern>().map_err(|bad| OddJob::BadName(bad).into())
        });
        patterns.push(parsed.collect::<Result<Vec<_>>>()?);
    }
    let mut members: Vec<Vec<&Sample>> = vec![Vec::new(); groups.len()];
    for sample in samples {
        let counts =
            patterns.iter().position(|patterns| patterns.iter().any(|p| p.matches(sample.name())));
        if let Some(at) = counts {
            members[at].push(sample);
        }
    }
    Ok(members)
}

/// How the closed files of a group begin, one of these ways; none where that is not known of all.
fn first_bytes(members: &[&Sample], marks: &BTreeMap<String, Vec<FirstBytes>>) -> Vec<FirstBytes> {
    let mut firsts = members.iter().map(|sample| match sample.what {
        What::Opaque(_) => marks.get(&mark::extension(sample.name())),
        _ => None,
    });
    let Some(Some(first)) = firsts.next() else {
        return Vec::new();
    };
    match firsts.all(|other| other == Some(first)) {
        true => first.clone(),
        false => Vec::new(),
    }
}
