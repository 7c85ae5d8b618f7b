//! What templates know of a slot and its file.

use super::Run;
use super::line::{Line, Work};
use crate::digests;
use crate::error::Result;
use crate::names::Key;
use crate::notice::Notice;
use crate::sheet::{Entry, New, Way, When};
use crate::template::Names;
use deft_needle_audio::Clip;
use deft_needle_audio::units::{FrameRange, SampleRate};
use std::path::PathBuf;

/// What is known of a file that an entry names.
pub(super) struct FileFacts {
    pub frames: u64,
    pub rate: SampleRate,
    channels: u16,
    pub looped: Option<FrameRange>,
}

impl FileFacts {
    fn of(clip: &Clip) -> Self {
        let facts = clip.facts();
        Self {
            frames: facts.frames,
            rate: facts.format.rate,
            channels: facts.format.channels.count(),
            looped: facts.loops.first().map(|l| l.range),
        }
    }
}

/// The slots that an entry is made for, with what templates know of each; one without a pattern is
/// made once.
pub(super) fn speakers(
    run: &Run,
    entry: &Entry,
    lines: &[Line],
    notices: &mut Vec<Notice>,
) -> Result<Vec<(Option<Key>, Names)>> {
    if entry.patterns.0.is_empty() {
        return Ok(vec![(None, run.job.names())]);
    }
    let mut all = Vec::new();
    for line in lines {
        let matches = entry.patterns.0.iter().any(|pattern| pattern.matches(&line.slot));
        if !matches || !entry.when.holds(line.stock.is_none()) {
            // Somebody has put the file there by hand, and nothing tells of it.
            if matches && entry.when == When::New && line.is_unlisted(run) {
                let file = entry.file.0.clone();
                notices.push(Notice::NotNew { file });
            }
            continue;
        }
        let mut names = names_of(run, line)?;
        if let Some(find) = &entry.find {
            let Some(found) = find.captures(&line.slot) else {
                continue;
            };
            names.found(&found);
        }
        all.push((Some(line.key.clone()), names));
    }
    Ok(all)
}

/// What templates know of a slot and its file.
pub(crate) fn names_of(run: &Run, line: &Line) -> Result<Names> {
    let placement = run.dealt.placements.iter().find(|p| p.slot == line.slot);
    let values = placement.map(|placement| &placement.values);
    let mut names = run.job.names().with(values.into_iter().flatten());
    names.slot(&line.slot);
    if run.target.sheet.asks_for_digests() {
        set_digests(run, line, &mut names)?;
    }
    let Some(spoken) = spoken(run, line)? else {
        return Ok(names);
    };
    names.set("frames", spoken.frames);
    names.set("rate", spoken.rate.hertz());
    names.set("channels", spoken.channels);
    names.set("seconds", spoken.rate.seconds(spoken.frames));
    if let Some(range) = spoken.looped {
        names.looped(range, spoken.rate);
    }
    Ok(names)
}

/// The digests of a slot's file. Of one that is still to be made only the name is shown, where the file will
/// be made before the entries are.
fn set_digests(run: &Run, line: &Line, names: &mut Names) -> Result<()> {
    let digests = match (&line.digests, &line.work) {
        (Some(digests), _) => Some(digests.clone()),
        (None, Work::Unchanged { .. }) => {
            placed_at(run, line).map(|path| digests::of_file(&path)).transpose()?
        }
        (None, Work::AsIs { .. }) => line.input.stored_at().map(digests::of_file).transpose()?,
        (None, Work::Fit { .. } | Work::Encode { .. }) => None,
    };
    match digests {
        Some(digests) => {
            let named = digests::NAMES.into_iter().zip(digests);
            named.for_each(|(name, value)| names.set(name, value));
        }
        None if run.destination.way() != Way::Archive => {
            digests::NAMES.into_iter().for_each(|name| names.set(name, format!("{{{name}}}")));
        }
        None => {}
    }
    Ok(())
}

/// Where a slot's file lies.
fn placed_at(run: &Run, line: &Line) -> Option<PathBuf> {
    let root = run.root.as_ref()?;
    let other = line.key.root().and_then(|name| run.destination.others.get(name));
    Some(line.key.path(other.unwrap_or(&root.path)))
}

pub(super) fn spoken(run: &Run, line: &Line) -> Result<Option<FileFacts>> {
    Ok(match &line.work {
        Work::Fit { plan } => Some(FileFacts {
            frames: plan.to.frames,
            rate: plan.to.format.rate,
            channels: plan.to.format.channels.count(),
            looped: plan.to.looped().next().map(|l| l.range),
        }),
        Work::Unchanged { .. } => {
            let Some(path) = placed_at(run, line) else {
                return Ok(None);
            };
            let input = deft_needle_audio::read::Input::file(&path);
            // A closed format has no length that could be told.
            let clip = Clip::from_input(input, &line.hints()).ok();
            clip.map(|clip| FileFacts::of(&clip))
        }
        Work::AsIs { .. } => line.open().ok().map(|clip| FileFacts::of(&clip)),
        Work::Encode { .. } => None,
    })
}

impl Line {
    /// Whether its slot is none of the target's own, as far as its lists tell.
    fn is_unlisted(&self, run: &Run) -> bool {
        let rule = run.target.sheet.rule_for(&self.slot);
        rule.is_some_and(|rule| rule.new != New::Never) && !run.target.slots.is_listed(&self.slot)
    }
}
