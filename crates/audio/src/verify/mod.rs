//! Reading a written file back, and holding it against the plan.
//!
//! Imports nothing from `write`: a mistake there must not hide itself here.

mod exact;

use crate::block::{BLOCK_FRAMES, each_block, fill};
use crate::digest::SampleDigest;
use crate::error::{Error, Result};
use crate::likeness::Likeness;
use crate::observe::Observer;
use crate::plan::Plan;
use crate::read::{Clip, Hints, Input};
use crate::render::{Outcome, Proof};
use crate::spec::{Codec, Container, Facts, Output};
use md5::{Digest as _, Md5};
use std::fmt::Display;
use std::io::Read;
use std::path::Path;

/// Reads back a file that was made of no single clip; otherwise as [`verify`].
///
/// # Errors
/// As [`verify`].
pub fn verify_made(
    plan: &Plan,
    outcome: &Outcome,
    path: &Path,
    observer: &dyn Observer,
) -> Result<Facts> {
    let written = open(plan, path)?;
    compare_facts(written.facts(), plan)?;
    exact::compare(plan, &written)?;
    compare_sound(&outcome.proof, &written, observer)?;
    Ok(written.facts().clone())
}

/// Reads back the file at `path` and compares everything with the plan; gives its facts.
///
/// # Errors
/// [`Error::Verify`] naming what differs, or whatever keeps the file from being read.
pub fn verify(
    clip: &Clip,
    plan: &Plan,
    outcome: &Outcome,
    path: &Path,
    observer: &dyn Observer,
) -> Result<Facts> {
    if outcome.proof == Proof::SameFile {
        let written = Input::file(path);
        same(clip.input().open()?, written.open()?)?;
        return Ok(clip.facts().clone());
    }
    let written = open(plan, path)?;
    compare_facts(written.facts(), plan)?;
    exact::compare(plan, &written)?;
    if outcome.proof == Proof::SameAudio {
        same(clip.audio_bytes()?, written.audio_bytes()?)?;
    }
    compare_sound(&outcome.proof, &written, observer)?;
    Ok(written.facts().clone())
}

/// Opens what was written, told only what its content cannot tell.
fn open(plan: &Plan, path: &Path) -> Result<Clip> {
    let hints = Hints {
        raw: (plan.to.format.container == Container::Raw).then_some(plan.to.format),
        loop_tags: Some(plan.to.loop_tags.clone()),
        ..Hints::default()
    };
    Clip::from_input(Input::file(path), &hints)
}

/// Decodes what was written and holds it against what was meant.
fn compare_sound(proof: &Proof, written: &Clip, observer: &dyn Observer) -> Result<()> {
    match proof {
        Proof::SameFile | Proof::SameAudio => Ok(()),
        Proof::Samples(expected) => compare_samples(expected, written, observer),
        Proof::Like(expected) => {
            let mut found = Likeness::new(written.facts().frames);
            each_block(&mut *written.frames()?, observer, |block| found.update(block))?;
            expected.compare(&found).map_err(|what| Error::Verify { what })
        }
    }
}

fn compare_samples(expected: &SampleDigest, written: &Clip, observer: &dyn Observer) -> Result<()> {
    let found = digest(written, observer)?;
    differ("samples", expected.frames(), found.frames())?;
    if *expected != found {
        return Err(Error::Verify { what: "a sample reads back as another value".to_owned() });
    }
    // Where STREAMINFO begins.
    let format = written.facts().format;
    match (format.container, format.encoding.codec) {
        (Container::Flac, _) => compare_signature(written, 8, observer),
        (Container::Ogg, Codec::Flac16 | Codec::Flac24) => compare_signature(written, 45, observer),
        _ => Ok(()),
    }
}

/// The MD5 signature of a FLAC's samples (RFC 9639, 8.2 "Streaminfo"): interleaved, whole bytes, least first.
fn compare_signature(written: &Clip, start: usize, observer: &dyn Observer) -> Result<()> {
    let bytes =
        written.facts().format.encoding.codec.facts().decoded_bits.unwrap_or(16).div_ceil(8);
    let full = 2f64.powi(8 * bytes.cast_signed() - 1);
    let mut md5 = Md5::new();
    each_block(&mut *written.frames()?, observer, |block| {
        for frame in 0..block.frames() {
            for channel in block.channels() {
                let sample = crate::num::rounded_signed(channel[frame] * full);
                md5.update(&sample.to_le_bytes()[..crate::num::size(bytes.into())]);
            }
        }
    })?;
    let (found, mut head) = (md5.finalize(), [0; 80]);
    let read = written.input().open()?.read_exact(&mut head[..start + 34]);
    read.map_err(|source| Error::Read { path: written.input().name().to_owned(), source })?;
    match head[start + 18..start + 34] == found[..] {
        true => Ok(()),
        false => Err(Error::Verify { what: "the signature is not that of the samples".to_owned() }),
    }
}

fn compare_facts(facts: &Facts, plan: &Plan) -> Result<()> {
    let to = &plan.to;
    // How much a codec was to lose cannot be read back.
    let mut format = to.format;
    format.encoding.quality = None;
    differ("format", format, facts.format)?;
    differ("frames", to.frames, facts.frames)?;
    let odd = |what: &str| Error::Verify { what: what.to_owned() };
    if facts.header != to.header {
        return Err(odd("the header is of another kind"));
    }
    if facts.valid_bits.is_some() {
        return Err(odd("the header says that fewer bits count"));
    }
    if facts.block_bytes != to.block_bytes {
        return Err(odd("the blocks are of another size"));
    }
    if facts.loops != to.loops {
        return Err(odd("the loop points are others"));
    }
    if facts.markers != to.markers {
        return Err(odd("the markers are others"));
    }
    if facts.tags != to.tags {
        return Err(odd("the texts are others"));
    }
    if let Some(note) = facts.notes.first() {
        return Err(odd(&note.to_string()));
    }
    compare_chunks(facts, to)
}

/// What stands beside the samples: all that was meant, and nothing else.
fn compare_chunks(facts: &Facts, to: &Output) -> Result<()> {
    let odd = |what: String| Error::Verify { what };
    let lacks = to.carried.iter().find(|c| !facts.extras.iter().any(|e| e.id == c.extra.id));
    if let Some(lacks) = lacks {
        return Err(odd(format!("the chunk {} is missing", lacks.extra.id)));
    }
    // Nothing may be there that nobody asked for.
    let nothing = to.carried.is_empty() && to.tags.is_empty() && to.markers.is_empty();
    let allowed = |id: &str| matches!(id, "smpl" | "regn") && !to.loops.is_empty();
    match facts.extras.iter().find(|extra| nothing && !allowed(&extra.id)) {
        Some(extra) => Err(odd(format!("the chunk {} was not requested", extra.id))),
        None => Ok(()),
    }
}

fn differ<T: PartialEq + Display>(what: &str, expected: T, found: T) -> Result<()> {
    if expected == found {
        return Ok(());
    }
    Err(Error::Verify { what: format!("{what}: expected {expected}, found {found}") })
}

fn digest(clip: &Clip, observer: &dyn Observer) -> Result<SampleDigest> {
    let mut digest = SampleDigest::new(clip.facts().format.channels.count().into());
    each_block(&mut *clip.frames()?, observer, |block| digest.update(block))?;
    Ok(digest)
}

/// Whether two streams hold the same bytes.
fn same(mut expected: impl Read, mut found: impl Read) -> Result<()> {
    let mut pieces = [vec![0; 16 * BLOCK_FRAMES], vec![0; 16 * BLOCK_FRAMES]];
    loop {
        let [a, b] = &mut pieces;
        let lengths = fill(&mut expected, a).and_then(|n| Ok((n, fill(&mut found, b)?)));
        let (n, m) =
            lengths.map_err(|source| Error::Read { path: "the written file".into(), source })?;
        if a[..n] != b[..m] {
            return Err(Error::Verify {
                what: "a byte that was copied reads back as another".to_owned(),
            });
        }
        if n == 0 {
            return Ok(());
        }
    }
}
