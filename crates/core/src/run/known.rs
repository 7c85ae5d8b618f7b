//! What templates know of a slot and its file.

use super::Run;
use super::line::{Line, Work};
use crate::error::Result;
use crate::names::Key;
use crate::sheet::Entry;
use crate::template::Names;
use deft_needle_audio::Clip;
use deft_needle_audio::units::FrameRange;

/// What is known of a file that an entry names.
struct Spoken {
    frames: u64,
    rate: u32,
    channels: u16,
    looped: Option<FrameRange>,
}

impl Spoken {
    fn of(clip: &Clip) -> Self {
        let facts = clip.facts();
        Self {
            frames: facts.frames,
            rate: facts.format.rate.hertz(),
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
) -> Result<Vec<(Option<Key>, Names)>> {
    if entry.patterns.0.is_empty() {
        return Ok(vec![(None, run.job.names())]);
    }
    let mut all = Vec::new();
    for line in lines {
        if !entry.patterns.0.iter().any(|pattern| pattern.matches(&line.slot)) {
            continue;
        }
        let mut names = names_of(run, line)?;
        if let Some(find) = &entry.find {
            let Some(found) = find.captures(&line.slot) else {
                continue;
            };
            for (number, part) in found.iter().enumerate().skip(1) {
                let part = part.map_or("", |part| part.as_str());
                names.set(&number.to_string(), part);
            }
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
    let (folder, file) = line.slot.rsplit_once('/').unwrap_or(("", &line.slot));
    let (stem, extension) = file.rsplit_once('.').unwrap_or((file, ""));
    names.set("slot", line.slot.as_str());
    names.set("folder", folder);
    names.set("name", file);
    names.set("stem", stem);
    names.set("extension", extension);
    let Some(spoken) = spoken(run, line)? else {
        return Ok(names);
    };
    names.set("frames", spoken.frames);
    names.set("rate", spoken.rate);
    names.set("channels", spoken.channels);
    let seconds = deft_needle_audio::num::real(spoken.frames) / f64::from(spoken.rate);
    names.set("seconds", seconds);
    if let Some(range) = spoken.looped {
        names.set("loop.start", range.start);
        names.set("loop.end", range.end);
        names.set("loop.length", range.len());
    }
    Ok(names)
}

fn spoken(run: &Run, line: &Line) -> Result<Option<Spoken>> {
    Ok(match &line.work {
        Work::Fit { plan } => Some(Spoken {
            frames: plan.to.frames,
            rate: plan.to.format.rate.hertz(),
            channels: plan.to.format.channels.count(),
            looped: plan.to.loops.first().map(|l| l.range),
        }),
        Work::Unchanged { .. } => {
            let Some(root) = &run.root else {
                return Ok(None);
            };
            let other = line.key.root().and_then(|name| run.destination.others.get(name));
            let path = line.key.path(other.unwrap_or(&root.path));
            let input = deft_needle_audio::read::Input::file(&path);
            // A closed format has no length that could be told.
            let clip = Clip::from_input(input, &line.hints()).ok();
            clip.map(|clip| Spoken::of(&clip))
        }
        Work::AsIs { .. } => line.open().ok().map(|clip| Spoken::of(&clip)),
        Work::Encode { .. } => None,
    })
}
