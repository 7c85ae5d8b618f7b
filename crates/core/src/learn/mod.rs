//! A target sheet from files that work today.

mod area;
mod by_name;
mod group;
mod habits;
mod sample;
mod text;

use crate::error::{Error, Result};
use crate::refusal::{OddJob, OddPath};
use crate::sheet::{Sheet, Within};
use crate::slots::Listed;
use crate::stock::{Member, Stock};
use deft_needle_audio::Observer;
use group::{Group, Named};
use habits::Habits;
use sample::{Sample, What};
use std::collections::BTreeMap;

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
    pub left_out: Vec<Error>,
}

/// What the list beside a sheet would say of every sound; a sheet that there is tells how loops are
/// named.
///
/// # Errors
/// Those of [`Stock::look`].
pub fn list(stock: &Stock, sheet: Option<&Sheet>, observer: &dyn Observer) -> Result<Vec<Listed>> {
    let of = |member: &Member| {
        let rule = sheet.and_then(|sheet| sheet.rule_for(&member.name));
        Sample::of(member, rule.and_then(|rule| rule.loop_tags.clone()))
    };
    let looked = stock.look(&of, observer)?;
    let heard = |sample: &Sample| !matches!(sample.what, What::Other);
    let samples = looked.found.into_iter().filter(heard);
    Ok(samples.map(|sample| sample.listed).collect())
}

/// Looks at every file of the stock; the sheet will name its list `list`.
///
/// # Errors
/// Those of [`Stock::look`]; [`Error::Refused`] where there is no sound at all.
pub fn learn(stock: &Stock, list: &str, observer: &dyn Observer) -> Result<Learnt> {
    let looked = stock.look(&look, observer)?;
    let (others, samples): (Vec<Sample>, Vec<Sample>) =
        looked.found.into_iter().partition(|sample| matches!(sample.what, What::Other));
    if samples.is_empty() {
        return Err(OddPath::NoSound.of(stock.path()));
    }
    let kinds = kinds(&samples);
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
    for (group, members) in groups.iter().zip(members(&groups, &samples)?) {
        let habits = Habits::of(&members);
        for sample in &members {
            let range = habits::loop_of(sample, habits.loop_tags.as_ref());
            loops.extend(range.map(|range| (sample.name().to_owned(), range)));
        }
        rules.push(text::Rule {
            specs: spec_lines(&kinds, &group.kinds),
            patterns: group.patterns.clone(),
            habits,
            first: first_bytes(&members),
        });
    }
    let names: Vec<&str> = samples.iter().map(Sample::name).collect();
    let other_names: Vec<&str> = others.iter().map(Sample::name).collect();
    let sheet = text::write(&text::Learning {
        stock: stock.path(),
        list,
        names: &names,
        others: &other_names,
        rules: &rules,
        left_out: looked.left_out.len(),
    });
    let opaque = samples.iter().filter(|s| s.sound().is_none()).count();
    Ok(Learnt {
        sheet,
        rules: rules.len(),
        sounds: samples.len() - opaque,
        opaque,
        others: others.len(),
        left_out: looked.left_out,
        list: samples
            .into_iter()
            .map(|sample| {
                let range = loops.get(sample.name());
                Listed { looped: range.map(|r| format!("{}..{}", r.start, r.end)), ..sample.listed }
            })
            .collect(),
    })
}

/// Looks at a file whose name a sheet can hold.
fn look(member: &Member) -> Result<Sample> {
    let name: Result<Within, String> = member.name.parse();
    name.map_err(|what| OddJob::BadName { what })?;
    Sample::of(member, None)
}

/// What rules tell apart: the spec line, or how a closed format begins.
fn kind_of(sample: &Sample) -> String {
    match &sample.what {
        What::Sound(sound) => sound.format.to_string(),
        What::Opaque(first) => {
            let bytes = crate::sheet::FirstBytes(first.to_vec());
            format!("opaque {bytes}")
        }
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
            pattern.parse::<crate::sheet::Pattern>().map_err(|what| OddJob::BadName { what }.into())
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

/// How all closed files of a group begin; `None` where they differ.
fn first_bytes(members: &[&Sample]) -> Option<[u8; 4]> {
    let mut firsts = members.iter().map(|sample| match sample.what {
        What::Opaque(first) => Some(first),
        _ => None,
    });
    let first = firsts.next()??;
    firsts.all(|other| other == Some(first)).then_some(first)
}
