//! Which chunks come along from the clip, and what changes in them.

use super::beside::Known;
use super::{Decision, LeftOut};
use crate::clip::{Extra, ID3_FRAME, Loop};
use crate::spec::{Carried, Chunks, Container, Patch};

/// Chunks of a WAV or CAF that mark places in the samples, and the names of those places.
const PLACES: &[&str] = &["smpl", "cue ", "LIST adtl", "regn", "mark", "strg"];
/// Chunks that hold texts, which are read and rewritten where they change.
const TEXTS: &[&str] =
    &["LIST INFO", "VORBIS_COMMENT", "comments", "udta", "NAME", "AUTH", "ANNO", "(c) ", "info"];
/// Chunks that hold nothing, or what is rebuilt or no longer true.
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
    // Ogg's texts are a packet that is always rebuilt; so are those of AIFF and FLAC.
    let container = known.to.container;
    let raw_texts = container.is_wave() || container == Container::M4a;
    let comes = |extra: &Extra| {
        let id = extra.id.as_str();
        // Tags of MP3 are always rebuilt; what is no text in them comes along frame by frame.
        let rebuilt = known.to.container == Container::Mp3 && !id.starts_with(ID3_FRAME);
        let fits = same && !rebuilt && extra.bytes <= LARGEST && !DROPPED.contains(&id);
        match id {
            _ if !fits => false,
            "SEEKTABLE" => texts && !known.changed,
            // Loops that were set here are rewritten.
            "smpl" if known.asked.is_some() || known.direction.is_some() => false,
            "smpl" if loops.len() != facts.loops.len() => false,
            // Those of CAF are always rebuilt.
            "regn" | "mark" | "strg" => false,
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
    let ids: Vec<String> =
        left.iter().filter(told).map(|extra| extra.id.trim_end().to_owned()).collect();
    let decision = (!ids.is_empty()).then(|| Decision::ChunksLeftOut {
        ids,
        reason: match known.wanted {
            Some(Chunks::Bare) => LeftOut::OnlySamples,
            Some(Chunks::Loops) => LeftOut::OnlyLoops,
            _ if !same => LeftOut::Foreign { container: facts.format.container.to_string() },
            Some(Chunks::Kept) => LeftOut::Filler,
            None => LeftOut::Outdated { keeps: known.places.plain },
        },
    });
    let carried = carried
        .into_iter()
        .map(|extra| Carried { patch: patch(&extra.id), extra: extra.clone() })
        .collect();
    (carried, decision)
}
