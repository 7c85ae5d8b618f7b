//! Reading a written file back, and holding it against the plan.
//!
//! Imports nothing from `write`: a mistake there must not hide itself here.

use crate::block::{BLOCK_FRAMES, Block};
use crate::clip::Facts;
use crate::digest::SampleDigest;
use crate::error::{Error, Result};
use crate::observe::Observer;
use crate::plan::Plan;
use crate::read::Clip;
use crate::render::{Outcome, Proof, fill};
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
    let written = Clip::open(path)?;
    compare_facts(written.facts(), plan)?;
    if let Proof::Samples(expected) = &outcome.proof {
        compare_samples(expected, &written, observer)?;
    }
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
    let written = Clip::open(path)?;
    match &outcome.proof {
        Proof::SameFile => same(clip.input().open()?, written.input().open()?)?,
        Proof::SameAudio => {
            compare_facts(written.facts(), plan)?;
            same(clip.audio_bytes()?, written.audio_bytes()?)?;
        }
        Proof::Samples(expected) => {
            compare_facts(written.facts(), plan)?;
            compare_samples(expected, &written, observer)?;
        }
    }
    Ok(written.facts().clone())
}

fn compare_samples(expected: &SampleDigest, written: &Clip, observer: &dyn Observer) -> Result<()> {
    let found = digest(written, observer)?;
    differ("samples", expected.frames(), found.frames())?;
    if *expected != found {
        return Err(Error::Verify {
            what: "a sample reads back as another value".to_owned(),
        });
    }
    Ok(())
}

fn compare_facts(facts: &Facts, plan: &Plan) -> Result<()> {
    differ("format", plan.to.format, facts.format)?;
    differ("frames", plan.to.frames, facts.frames)?;
    if facts.header != plan.to.header {
        return Err(Error::Verify {
            what: "the header is of another kind".to_owned(),
        });
    }
    if facts.loops != plan.to.loops {
        return Err(Error::Verify {
            what: "the loop points are others".to_owned(),
        });
    }
    if let Some(note) = facts.notes.first() {
        return Err(Error::Verify {
            what: note.to_string(),
        });
    }
    let planned = plan.to.carried.iter().map(|c| c.extra.id.as_str());
    let found = facts.extras.iter().map(|e| e.id.as_str());
    let list = |ids: Vec<&str>| ids.join(" ");
    differ("chunks", list(planned.collect()), list(found.collect()))
}

fn differ<T: PartialEq + Display>(what: &str, expected: T, found: T) -> Result<()> {
    if expected == found {
        return Ok(());
    }
    Err(Error::Verify {
        what: format!("{what}: expected {expected}, found {found}"),
    })
}

fn digest(clip: &Clip, observer: &dyn Observer) -> Result<SampleDigest> {
    let mut frames = clip.frames()?;
    let mut digest = SampleDigest::new(frames.channels());
    let mut block = Block::new(frames.channels());
    loop {
        if observer.stopped() {
            return Err(Error::Stopped);
        }
        frames.next(&mut block)?;
        if block.is_empty() {
            return Ok(digest);
        }
        digest.update(&block);
    }
}

/// Whether two streams hold the same bytes.
fn same(mut expected: impl Read, mut found: impl Read) -> Result<()> {
    let mut pieces = [vec![0; 16 * BLOCK_FRAMES], vec![0; 16 * BLOCK_FRAMES]];
    loop {
        let [a, b] = &mut pieces;
        let lengths = fill(&mut expected, a).and_then(|n| Ok((n, fill(&mut found, b)?)));
        let (n, m) = lengths.map_err(|source| Error::Read {
            path: "the written file".into(),
            source,
        })?;
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
