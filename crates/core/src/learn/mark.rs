//! How files of closed formats begin: what counts as a mark of the format, and what is audio data already.

use super::sample::{Sample, What};
use crate::sheet::FirstBytes;
use deft_needle_audio::spec::Container;
use std::collections::{BTreeMap, BTreeSet};

/// Bytes that are a mark where all files of an extension have them.
const BYTES: usize = 4;
/// Containers of many formats, which tell nothing without their type: IFF 85 and its relatives.
const FORMS: [&[u8]; 4] = [b"RIFF", b"RIFX", b"FORM", b"RF64"];
/// Where a type stands in them.
const TYPE: usize = 8;
/// Where the tag of an encoding stands in the usual WAV: behind `fmt ` and its length.
const TAG: usize = 20;
/// Longer texts at the beginning of a file, as trackers and banks have them.
const MOST: usize = 16;

/// How a file begins, as far as that may be a mark.
pub fn of_head(head: &[u8]) -> FirstBytes {
    let at = |from: usize, to: usize| head.get(from..to).unwrap_or_default();
    let form = FORMS.contains(&at(0, BYTES)) && head.len() >= TYPE + BYTES;
    let known = |range: std::ops::Range<usize>| at(range.start, range.end).iter().map(|b| Some(*b));
    let mut mark: Vec<Option<u8>> = Vec::new();
    match form {
        true => {
            mark.extend(known(0..BYTES));
            mark.extend([None; BYTES]);
            mark.extend(known(TYPE..TYPE + BYTES));
            if at(12, 16) == b"fmt " && head.len() >= TAG + 2 {
                mark.extend(known(12..16));
                mark.extend([None; BYTES]);
                mark.extend(known(TAG..TAG + 2));
            }
        }
        // A text that is printable further on is one mark as a whole.
        false => {
            let printable = |byte: &&u8| byte.is_ascii_graphic() || **byte == b' ';
            let text = head.iter().take(MOST).take_while(printable).count();
            mark.extend(known(0..text.max(BYTES).min(head.len())));
        }
    }
    FirstBytes(mark)
}

/// How another file of the same format would begin, as one alone tells: what follows its first bytes may be
/// its own.
pub fn of_one(head: &[u8]) -> FirstBytes {
    let whole = of_head(head);
    match whole.0.iter().any(Option::is_none) {
        true => whole,
        false => FirstBytes(whole.0.into_iter().take(BYTES).collect()),
    }
}

/// Formats that are kept apart within one extension, at most.
const FORMATS: usize = 4;

/// The marks of closed formats, by extension in small letters; none where files of one extension begin in
/// different ways. Those of containers may be several, since each is sure by itself.
pub fn of_extensions(samples: &[Sample]) -> BTreeMap<String, Vec<FirstBytes>> {
    let mut all: BTreeMap<String, Vec<&FirstBytes>> = BTreeMap::new();
    for sample in samples {
        if let What::Opaque(mark) = &sample.what {
            all.entry(extension(sample.name())).or_default().push(mark);
        }
    }
    all.into_iter().map(|(extension, marks)| (extension, of_files(&marks))).collect()
}

fn of_files(marks: &[&FirstBytes]) -> Vec<FirstBytes> {
    if let Some(mark) = common(marks) {
        return vec![mark];
    }
    let mut distinct: Vec<FirstBytes> = Vec::new();
    for mark in marks {
        if !is_form(mark) {
            return Vec::new();
        }
        if !distinct.contains(mark) {
            distinct.push((*mark).clone());
        }
    }
    if distinct.len() > FORMATS { Vec::new() } else { distinct }
}

/// Whether a file's container has a type of its own.
fn is_form(mark: &FirstBytes) -> bool {
    FORMS.iter().any(|form| FirstBytes::of(form).0 == mark.0.get(..BYTES).unwrap_or_default())
}

/// What all of them have, where that can be a mark.
fn common(marks: &[&FirstBytes]) -> Option<FirstBytes> {
    let (first, others) = marks.split_first()?;
    let same = |at: usize, byte: u8| others.iter().all(|mark| mark.0.get(at) == Some(&Some(byte)));
    let mut bytes: Vec<Option<u8>> =
        first.0.iter().enumerate().map(|(at, byte)| byte.filter(|byte| same(at, *byte))).collect();
    while bytes.last() == Some(&None) {
        bytes.pop();
    }
    let known: Vec<u8> = bytes.iter().copied().flatten().collect();
    let starts = bytes.iter().take_while(|byte| byte.is_some()).count();
    let typed = |mark: &FirstBytes| mark.0.get(TYPE).copied().flatten().is_some();
    let bytes = FirstBytes(bytes);
    let enough = starts >= BYTES && (!is_form(&bytes) || typed(&bytes));
    // Silence is data, and so are the first samples of a single file.
    let even = known.iter().all(|byte| Some(byte) == known.first());
    let printable = known.iter().take(BYTES).filter(|b| b.is_ascii_graphic()).count() >= BYTES - 1;
    (enough && !even && (printable || others.len() > 1)).then_some(bytes)
}

/// A name's extension, in small letters.
pub fn extension(name: &str) -> String {
    let file = name.rsplit('/').next().unwrap_or(name);
    file.rsplit_once('.').map_or(String::new(), |(_, extension)| extension.to_lowercase())
}

/// Files that are neither sound nor text in games and devices, by their extension.
const SILENT: &[&str] = &[
    "anim", "cache", "cfg", "class", "cur", "db", "dds", "dll", "dylib", "exe", "fnt", "fon", "fx",
    "glb", "gltf", "hdr", "ico", "idx", "ktx", "lib", "mat", "mesh", "mo", "obj", "otf", "pak",
    "pal", "pcx", "pdb", "pyc", "sav", "save", "shader", "so", "spv", "sqlite", "tex", "tga",
    "tif", "tiff", "ttc", "ttf", "woff", "woff2",
];
/// Parts of folder names that stand for sound.
const HEARD: &[&str] = &[
    "alarm", "alert", "ambien", "audio", "bgm", "bgs", "chime", "drum", "music", "noise", "prompt",
    "ring", "sample", "score", "sfx", "snd", "sound", "speech", "song", "tone", "tune", "voice",
];

/// Files of an extension that are slots wherever they lie, at most.
const FEW: usize = 8;

/// Tells closed files that are likely to be heard from textures, models and all else.
#[derive(Default)]
pub struct Ear<'a> {
    /// Folders with sounds that are read here.
    folders: BTreeSet<&'a str>,
    /// Extensions of such sounds.
    extensions: BTreeSet<String>,
    /// How many closed files there are of each extension.
    counts: BTreeMap<String, usize>,
}

impl<'a> Ear<'a> {
    /// For all files of a stock.
    pub fn of(samples: &'a [Sample]) -> Self {
        let mut all = Self::default();
        for sample in samples {
            match sample.what {
                What::Sound(_) => {
                    all.folders.insert(folder(sample.name()));
                    all.extensions.insert(extension(sample.name()));
                }
                What::Other => {}
                What::Opaque(_) => *all.counts.entry(extension(sample.name())).or_default() += 1,
            }
        }
        all
    }

    /// Whether a file is likely to be heard: sound itself; named as sound is, or having its container; beside
    /// sounds, in a folder named for sound, or one of few, where its extension is none of a silent kind.
    pub fn hears(&self, sample: &Sample) -> bool {
        let What::Opaque(mark) = &sample.what else {
            return true;
        };
        let (extension, folder) = (extension(sample.name()), folder(sample.name()));
        let of_sound = mark.0.get(TYPE..TYPE + BYTES) == Some(&b"WAVE".map(Some));
        let of_name =
            self.extensions.contains(&extension) || Container::from_extension(&extension).is_some();
        if of_sound || sample.named || of_name {
            return true;
        }
        let lower = folder.to_lowercase();
        let named = HEARD.iter().any(|part| lower.contains(part));
        let few = self.counts.get(&extension).is_some_and(|count| *count <= FEW);
        !SILENT.contains(&extension.as_str()) && (named || few || self.folders.contains(folder))
    }
}

/// The folder of a slot.
pub fn folder(name: &str) -> &str {
    name.rsplit_once('/').map_or("", |(folder, _)| folder)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn mark(heads: &[&[u8]]) -> Vec<String> {
        let marks: Vec<FirstBytes> = heads.iter().map(|head| of_head(head)).collect();
        let found = of_files(&marks.iter().collect::<Vec<_>>());
        found.iter().map(ToString::to_string).collect()
    }

    #[test]
    fn data_is_no_mark() {
        let wave =
            |tag: u8| [b"RIFF\x10\0\0\0WAVEfmt \x10\0\0\0".as_slice(), &[tag, 1, 2, 0]].concat();
        let tagged = wave(0x61);
        let other = [b"RIFF\x99\x02\0\0WAVEfmt \x12\0\0\0".as_slice(), &[0x61, 1, 2, 0]].concat();
        for (heads, want) in [
            (vec![b"LBX1\x80\xBB\0\0".as_slice()], vec!["4C 42 58 31"]),
            (vec![b"Long Text: one", b"Long Text: two"], vec!["4C 6F 6E 67 20 54 65 78 74 3A 20"]),
            // The first samples of headerless audio, silence, and what only one of two has.
            (vec![b"\xD7\x5A\x26\x9F\x01"], vec![]),
            (vec![b"\xD7\x5A\x26\x9F\x01", b"\xD2\x6A\x0F\xB2\x01"], vec![]),
            (vec![b"\0\0\0\0\x01", b"\0\0\0\0\x02", b"\0\0\0\0\x03"], vec![]),
            (vec![b"LBX1\x80", b"WBNK\x01"], vec![]),
            (
                vec![tagged.as_slice(), &other],
                vec!["52 49 46 46 ?? ?? ?? ?? 57 41 56 45 66 6D 74 20 ?? ?? ?? ?? 61 01"],
            ),
            // Each type of container is a mark by itself; what they share is none.
            (
                vec![&tagged, b"RIFF\x10\0\0\0XWMAfmt \x10\0\0\0\x66\x01"],
                vec![
                    "52 49 46 46 ?? ?? ?? ?? 57 41 56 45 66 6D 74 20 ?? ?? ?? ?? 61 01",
                    "52 49 46 46 ?? ?? ?? ?? 58 57 4D 41 66 6D 74 20 ?? ?? ?? ?? 66 01",
                ],
            ),
        ] {
            assert_eq!(mark(&heads), want, "{heads:?}");
        }
    }
}
