//! Which chunks come along from the clip, and what changes in them.

use super::Decision;
use super::beside::Known;
use crate::clip::{Extra, Loop};
use crate::num::scaled;
use crate::spec::{Chunks, Container};
use crate::units::{FrameRange, SampleRate};
use serde::Serialize;

/// A chunk that comes along.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Carried {
    /// Which chunk of the clip.
    pub extra: Extra,
    /// What changes in it.
    pub patch: Patch,
}

/// What changes in a chunk.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Patch {
    /// Nothing.
    Same,
    /// The loops of a `smpl` chunk move.
    Loops {
        /// The rate that it names.
        rate: SampleRate,
        /// Where its loops lie.
        ranges: Vec<FrameRange>,
    },
    /// The points of a `cue ` chunk move.
    Cues {
        /// So many frames …
        from: u64,
        /// … are so many now.
        to: u64,
    },
}

/// Chunks of a WAV that mark places in the samples, and the names of those places.
const PLACES: &[&str] = &["smpl", "cue ", "LIST adtl"];
/// Chunks that hold texts, which are read and written anew where they change.
const TEXTS: &[&str] =
    &["LIST INFO", "VORBIS_COMMENT", "comments", "udta", "NAME", "AUTH", "ANNO", "(c) ", "info"];
/// Chunks that hold nothing, or what is made anew or no longer true.
const DROPPED: &[&str] = &["JUNK", "junk", "PAD ", "FLLR", "fact", "PEAK"];
/// What is carried of one chunk at most, so that memory stays bounded.
const LARGEST: u64 = 4 << 20;

/// Whether chunks of one container make sense in the other.
fn kin(from: Container, to: Container) -> bool {
    let family = |container| match container {
        Container::Rf64 => Container::Wav,
        Container::Aifc => Container::Aiff,
        Container::Mp4 => Container::M4a,
        other => other,
    };
    family(from) == family(to)
}

/// Chooses; `places` and `texts` say whether those come along in whatever form.
pub fn choose(
    known: &Known<'_>,
    loops: &[Loop],
    places: bool,
    texts: bool,
) -> (Vec<Carried>, Option<Decision>) {
    let facts = known.facts;
    let (from, to) = known.places.ratio();
    let patch = |id: &str| match id {
        "smpl" if facts.loops != loops || from != to => {
            Patch::Loops { rate: known.to.rate, ranges: loops.iter().map(|l| l.range).collect() }
        }
        "cue " if from != to => Patch::Cues { from, to },
        _ => Patch::Same,
    };
    let same = kin(facts.format.container, known.to.container);
    // Ogg's texts are a packet that is always made anew; so are those of AIFF and FLAC.
    let raw_texts = matches!(known.to.container, Container::Wav | Container::M4a);
    let comes = |extra: &Extra| {
        let id = extra.id.as_str();
        let fits = same && extra.bytes <= LARGEST && !DROPPED.contains(&id);
        match id {
            _ if !fits => false,
            "SEEKTABLE" => texts && !known.changed,
            // Loops that were set here are written anew.
            "smpl" if known.asked.is_some() || loops.len() != facts.loops.len() => false,
            _ if PLACES.contains(&id) => places && known.places.plain,
            _ if TEXTS.contains(&id) => texts && raw_texts && known.set.is_empty(),
            _ => texts,
        }
    };
    let (carried, left): (Vec<&Extra>, Vec<&Extra>) = facts.extras.iter().partition(|e| comes(e));
    // What comes along in another form is not left out.
    let told = |extra: &&&Extra| match extra.id.as_str() {
        id if PLACES.contains(&id) => !places,
        id if TEXTS.contains(&id) || id == "ID3" => !texts || facts.tags.is_empty(),
        _ => true,
    };
    let names: Vec<_> = left.iter().filter(told).map(|e| e.id.trim_end()).collect();
    let decision = (!names.is_empty()).then(|| Decision {
        about: "chunks",
        what: format!("left out: {}", names.join(", ")),
        why: match known.wanted {
            Some(Chunks::Bare) => "nothing beside the samples is wanted".to_owned(),
            Some(Chunks::Loops) => "nothing but loop points is wanted".to_owned(),
            _ if !same => format!("they belong to {}", facts.format.container),
            Some(Chunks::Kept) => "they are fillers, made anew, or larger than 4 MiB".to_owned(),
            None if !known.places.plain => "they describe the clip as it was".to_owned(),
            None => "they describe the clip as it was; --tags keep takes them along".to_owned(),
        },
    });
    let carried = carried
        .into_iter()
        .map(|extra| Carried { patch: patch(&extra.id), extra: extra.clone() })
        .collect();
    (carried, decision)
}

impl Patch {
    /// The chunk's contents with the change made.
    #[must_use]
    pub fn apply(&self, mut bytes: Vec<u8>) -> Vec<u8> {
        match self {
            Self::Same => {}
            Self::Loops { rate, ranges } => {
                // RIFF 1.0 "Sampler Chunk": the third word is the sample period in nanoseconds.
                put(&mut bytes, 8, |_| scaled(1_000_000_000, 1, rate.hertz().into()));
                for (record, range) in records(bytes.len(), 36).zip(ranges) {
                    put(&mut bytes, record + 8, |_| range.start);
                    // The stored end is the last frame played.
                    put(&mut bytes, record + 12, |_| range.end.saturating_sub(1));
                }
            }
            Self::Cues { from, to } => {
                for record in records(bytes.len(), 4) {
                    for field in [4, 20] {
                        put(&mut bytes, record + field, |frame| scaled(frame, *to, *from));
                    }
                }
            }
        }
        bytes
    }
}

/// Where records of 24 bytes begin.
fn records(length: usize, first: usize) -> impl Iterator<Item = usize> {
    (first..length).step_by(24)
}

fn put(bytes: &mut [u8], at: usize, change: impl Fn(u64) -> u64) {
    if let Some(field) = bytes.get_mut(at..at + 4)
        && let &mut [a, b, c, d] = field
    {
        let new = change(u32::from_le_bytes([a, b, c, d]).into());
        field.copy_from_slice(&u32::try_from(new).unwrap_or(u32::MAX).to_le_bytes());
    }
}
