//! Reading a written file back, and holding it against the plan.
//!
//! Imports nothing from `write`: a mistake there must not hide itself here.

mod exact;

use crate::block::{BLOCK_FRAMES, Block, Source, each_block, fill};
use crate::digest::SampleDigest;
use crate::error::{Error, Result};
use crate::likeness::Likeness;
use crate::observe::Observer;
use crate::plan::Plan;
use crate::read::{Clip, Hints, Input};
use crate::render::{Outcome, Proof};
use crate::shape::blocks::BlockStep;
use crate::spec::{Codec, Container, Facts, Format, Output};
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
    compare_sound(&outcome.proof, &written, None, observer)?;
    Ok(written.facts().clone())
}

/// Whoever hears what is decoded here, so that it need not be decoded again: takes the clip's frames.
pub type Listener<'a> = &'a mut dyn FnMut(&Clip, &mut dyn Source) -> Result<()>;

/// Reads back the file at `path` and compares everything with the plan; gives its facts.
///
/// # Errors
/// [`Error::Verify`] naming what differs, or whatever keeps the file from being read; those of the listener.
pub fn verify(
    clip: &Clip,
    plan: &Plan,
    outcome: &Outcome,
    path: &Path,
    listener: Option<Listener<'_>>,
    observer: &dyn Observer,
) -> Result<Facts> {
    if outcome.proof == Proof::SameFile {
        let written = Input::file(path);
        same(clip.input().open()?, written.open()?)?;
        if let Some(listen) = listener {
            let written = open(plan, path)?;
            listen(&written, &mut *written.frames()?)?;
        }
        return Ok(clip.facts().clone());
    }
    let written = open(plan, path)?;
    compare_facts(written.facts(), plan)?;
    exact::compare(plan, &written)?;
    if outcome.proof == Proof::SameAudio {
        same(clip.audio_bytes()?, written.audio_bytes()?)?;
    }
    compare_sound(&outcome.proof, &written, listener, observer)?;
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
fn compare_sound(
    proof: &Proof,
    written: &Clip,
    listener: Option<Listener<'_>>,
    observer: &dyn Observer,
) -> Result<()> {
    let facts = written.facts();
    let mut found = match proof {
        Proof::SameFile | Proof::SameAudio => None,
        Proof::Samples(_) => {
            let digest = SampleDigest::new(facts.format.channels.count().into());
            Some(Found::Samples(digest, Signature::of(facts.format)))
        }
        Proof::Like(_) => Some(Found::Like(Likeness::new(facts.frames, facts.format))),
    };
    if found.is_none() && listener.is_none() {
        return Ok(());
    }
    let mut frames: Box<dyn Source + '_> = written.frames()?;
    if let Some(found) = &mut found {
        frames = Box::new(found.on(frames));
    }
    if let Some(listen) = listener {
        listen(written, &mut *frames)?;
    }
    each_block(&mut *frames, observer, |_| {})?;
    drop(frames);
    match (proof, found) {
        (Proof::Samples(expected), Some(Found::Samples(found, signature))) => {
            differ("samples", expected.frames(), found.frames())?;
            if *expected != found {
                let what = "a sample reads back as another value".to_owned();
                return Err(Error::Verify { what });
            }
            signature.map_or(Ok(()), |signature| signature.compare(written))
        }
        (Proof::Like(expected), Some(Found::Like(found))) => {
            expected.compare(&found).map_err(|what| Error::Verify { what })
        }
        _ => Ok(()),
    }
}

/// What is seen of a written file's sound.
enum Found {
    Samples(SampleDigest, Option<Signature>),
    Like(Likeness),
}

/// Looks at what passes.
impl BlockStep for &mut Found {
    fn work(&mut self, block: &mut Block) {
        match self {
            Found::Samples(digest, signature) => {
                digest.update(block);
                if let Some(signature) = signature {
                    signature.update(block);
                }
            }
            Found::Like(likeness) => likeness.update(block),
        }
    }
}

/// The MD5 signature of a FLAC's samples (RFC 9639, 8.2 "Streaminfo"): interleaved, whole bytes, least first.
struct Signature {
    md5: Md5,
    /// Bytes of a sample.
    bytes: u32,
    /// Where it stands in the file.
    offset: usize,
    /// What goes into it next.
    interleaved: Vec<u8>,
}

impl Signature {
    /// Of files that have one.
    fn of(format: Format) -> Option<Self> {
        // 18 bytes into STREAMINFO.
        let offset = match (format.container, format.encoding.codec) {
            (Container::Flac, _) => 8 + 18,
            (Container::Ogg, Codec::Flac16 | Codec::Flac24) => 45 + 18,
            _ => return None,
        };
        let bytes = format.encoding.codec.facts().decoded_bits.unwrap_or(16).div_ceil(8);
        Some(Self { md5: Md5::new(), bytes, offset, interleaved: Vec::new() })
    }

    fn update(&mut self, block: &Block) {
        let full = 2f64.powi(8 * self.bytes.cast_signed() - 1);
        let bytes = crate::num::size(self.bytes.into());
        self.interleaved.clear();
        for frame in 0..block.frames() {
            for channel in block.channels() {
                let sample = crate::num::nearest32(channel[frame] * full);
                self.interleaved.extend_from_slice(&sample.to_le_bytes()[..bytes]);
            }
        }
        self.md5.update(&self.interleaved);
    }

    fn compare(self, written: &Clip) -> Result<()> {
        let mut head = [0; 80];
        let read = written.input().open()?.read_exact(&mut head[..self.offset + 16]);
        read.map_err(|source| Error::Read { path: written.input().name().to_owned(), source })?;
        match head[self.offset..self.offset + 16] == self.md5.finalize()[..] {
            true => Ok(()),
            false => {
                Err(Error::Verify { what: "the signature is not that of the samples".to_owned() })
            }
        }
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
