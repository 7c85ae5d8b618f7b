//! Loops that small texts beside the sounds tell: `mill.ogg.loop`, `mill.tune`.

use super::sample::{Sample, What};
use crate::disk::read_input;
use crate::names::folder_of;
use crate::sheet::LoopFile;
use crate::stock::Stock;
use deft_needle_audio::units::{FrameRange, SampleRate};
use regex::Regex;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::LazyLock;

/// Bytes of a text that tells a loop.
const SHORT: u64 = 4096;
/// Numbers in such a text.
const NUMBERS: usize = 12;
/// So many sounds must have such a text.
const LEAST: usize = 2;
/// The shortest loop that is one, in seconds.
const SHORTEST: f64 = 0.05;

static NUMBER: LazyLock<Option<Regex>> = LazyLock::new(|| Regex::new(r"\d+(?:\.\d+)?").ok());

/// A sound with a text beside it.
struct Pair {
    at: usize,
    text: String,
    frames: u64,
    rate: SampleRate,
}

/// Finds such texts among the other files of a folder; the sounds that have one loop as it tells from then
/// on. Gives each kind with the names of its sounds.
pub fn find(
    stock: &Stock,
    samples: &mut [Sample],
    others: &[Sample],
) -> Vec<(LoopFile, BTreeSet<String>)> {
    let Some(folder) = stock.folder() else {
        return Vec::new();
    };
    let mut by_folder: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
    for other in others.iter().filter(|other| other.listed.bytes <= SHORT) {
        by_folder.entry(folder_of(other.name())).or_default().push(other.name());
    }
    let mut forms: BTreeMap<String, Vec<Pair>> = BTreeMap::new();
    for (at, sample) in samples.iter().enumerate() {
        let Some(sound) = sample.sound() else { continue };
        for other in by_folder.get(folder_of(sample.name())).into_iter().flatten() {
            let Some(form) = form(sample.name(), other) else { continue };
            let bytes = read_input(&folder.join(other), SHORT).unwrap_or_default();
            let Ok(text) = String::from_utf8(bytes) else { continue };
            let (frames, rate) = (sound.frames, sound.format.rate);
            forms.entry(form).or_default().push(Pair { at, text, frames, rate });
        }
    }
    let mut found = Vec::new();
    for (form, pairs) in forms.into_iter().filter(|(_, pairs)| pairs.len() >= LEAST) {
        let names = |pair: &Pair| samples[pair.at].name().to_owned();
        let Some(file) = text_of(&form, &pairs, &names) else { continue };
        found.push((file.clone(), pairs.iter().map(names).collect()));
        for pair in &pairs {
            let range = file.read(&pair.text, pair.rate);
            if let What::Sound(sound) = &mut samples[pair.at].what {
                sound.looped = range;
            }
        }
    }
    found
}

/// How a text's name is made of a sound's.
fn form(sound: &str, other: &str) -> Option<String> {
    if let Some(behind) = other.strip_prefix(sound) {
        return behind.starts_with('.').then(|| format!("{{slot}}{behind}"));
    }
    let (bare, _) = sound.rsplit_once('.')?;
    let behind = other.strip_prefix(bare).filter(|behind| behind.starts_with('.'))?;
    Some(format!("{{folder}}/{{stem}}{behind}"))
}

/// The template of which all texts are made, so that each tells a loop of its sound.
fn text_of(form: &str, pairs: &[Pair], name: &dyn Fn(&Pair) -> String) -> Option<LoopFile> {
    let first = pairs.first()?;
    let numbers: Vec<_> = NUMBER.as_ref()?.find_iter(&first.text).map(|m| m.range()).collect();
    if numbers.len() > NUMBERS {
        return None;
    }
    let slot = name(first);
    let file = slot.rsplit('/').next().unwrap_or(&slot);
    let stem = file.rsplit_once('.').map_or(file, |(stem, _)| stem);
    for unit in ["", "-seconds"] {
        for second in ["loop.end", "loop.length"] {
            for (at, start) in numbers.iter().enumerate() {
                for other in &numbers[at + 1..] {
                    let place = |name: &str| format!("{{{name}{unit}}}");
                    let plain = |text: &str| {
                        let text = text.replace('{', "{{").replace('}', "}}");
                        let text = text.replace(file, "{name}");
                        if stem.len() > 1 { text.replace(stem, "{stem}") } else { text }
                    };
                    let text = [
                        plain(&first.text[..start.start]),
                        place("loop.start"),
                        plain(&first.text[start.end..other.start]),
                        place(second),
                        plain(&first.text[other.end..]),
                    ];
                    let file = LoopFile { file: form.to_owned(), text: text.concat() };
                    if pairs.iter().all(|pair| tells(&file, pair, unit.is_empty())) {
                        return Some(file);
                    }
                }
            }
        }
    }
    None
}

/// Whether a text tells a loop that its sound may have.
fn tells(file: &LoopFile, pair: &Pair, in_frames: bool) -> bool {
    let least = f64::from(pair.rate.hertz()) * SHORTEST;
    let fits = |range: FrameRange| {
        range.end <= pair.frames && deft_needle_audio::num::real(range.len()) >= least
    };
    // Whole frames have no fraction.
    let fraction = in_frames && pair.text.contains('.') && pair.text.contains(".5");
    !fraction && file.read(&pair.text, pair.rate).is_some_and(fits)
}
