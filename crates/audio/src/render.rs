//! Carrying out a plan: blocks are pulled through its steps into a writer.

use crate::block::{BLOCK_FRAMES, Block, Source, fill};
use crate::digest::SampleDigest;
use crate::error::{Error, Result};
use crate::likeness::Likeness;
use crate::num::{count, scaled, size};
use crate::observe::Observer;
use crate::plan::{Plan, Work};
use crate::read::Clip;
use crate::shape::blocks::BlockStep;
use crate::shape::limit::Limited;
use crate::shape::quantise::{Dither, Quantiser};
use crate::shape::{Counts, begin, chain};
use crate::spec::{Kind, Output};
use crate::write::flac::FlacWriter;
use crate::write::{Along, Out, Writer, writer};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use std::sync::atomic::Ordering;

/// What only rendering knows.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct Outcome {
    /// Samples beyond full scale, held there since integers cannot go beyond.
    pub overs: u64,
    /// Samples that were not numbers and became silence.
    pub not_numbers: u64,
    /// What the limiter did.
    pub limited: Limited,
    /// How alike the channels of a mono fold are: 1 is equal, −1 opposite. `None` where none is made.
    pub correlation: Option<f64>,
    /// What the written samples must read back as.
    #[serde(skip)]
    pub proof: Proof,
}

/// What the written file is held against.
#[derive(Debug, Clone, Default, PartialEq)]
pub enum Proof {
    /// The clip's own bytes.
    #[default]
    SameFile,
    /// The clip's own encoded samples.
    SameAudio,
    /// These samples.
    Samples(SampleDigest),
    /// What a lossy encoding makes of this.
    Like(Likeness),
}

/// Writes what the plan says to `out`.
///
/// # Errors
/// [`Error::Read`], [`Error::Write`], and [`Error::Stopped`] where the observer says so.
pub fn render(
    clip: &Clip,
    plan: &Plan,
    out: &mut dyn Out,
    observer: &dyn Observer,
) -> Result<Outcome> {
    let counts = Counts::default();
    let proof = match &plan.work {
        Work::Nothing => {
            copy_file(clip, out, observer)?;
            Proof::SameFile
        }
        Work::Rewrap => {
            let along =
                Along { stream: Some(clip.stream()), ..Along::load(clip, &plan.to.carried)? };
            copy_packets(clip, &mut *writer(out, &plan.to, along)?, observer)?;
            Proof::SameAudio
        }
        Work::Render(steps) => {
            let along = Along::load(clip, &plan.to.carried)?;
            let textured = match plan.texture() {
                Some(texture) => Some(texture.of(clip, observer)?),
                None => None,
            };
            let clip = textured.as_ref().unwrap_or(clip);
            let mut chain = chain(begin(clip, steps)?, steps, &counts);
            encode(&mut *chain, &plan.to, along, out, observer)?
        }
    };
    Ok(Outcome::of(&counts, proof))
}

/// Writes what a source gives, rounded to what the output's encoding holds.
///
/// # Errors
/// As [`render`].
pub fn render_source(
    source: impl Source,
    output: &Output,
    dither: Dither,
    out: &mut dyn Out,
    observer: &dyn Observer,
) -> Result<Outcome> {
    let counts = Counts::default();
    let kind = output.format.encoding.codec.grid();
    let overs = Arc::clone(&counts.overs);
    let mut source = Quantiser::new(kind, dither, overs).on(source);
    let proof = encode(&mut source, output, Along::default(), out, observer)?;
    Ok(Outcome::of(&counts, proof))
}

/// Writes what a source gives as FLAC, quickly, for what is played and thrown away: by fixed predictions alone, and without
/// a check sum of all samples. Nothing is lost that the output's bits hold.
///
/// # Errors
/// As [`render`].
pub fn render_to_play(
    source: &mut dyn Source,
    output: &Output,
    out: &mut dyn Out,
    observer: &dyn Observer,
) -> Result<()> {
    let mut writer = FlacWriter::new(out, output, Along::default())?.quick();
    pour(source, &mut writer, observer, |_| {})
}

/// Pulls all blocks of a source into a writer, and keeps what proves them.
fn encode(
    source: &mut dyn Source,
    output: &Output,
    along: Along,
    out: &mut dyn Out,
    observer: &dyn Observer,
) -> Result<Proof> {
    let mut proof = match output.format.encoding.codec.kind() {
        Kind::Lossy => Proof::Like(Likeness::new(output.frames, output.format)),
        _ => Proof::Samples(SampleDigest::new(source.channels())),
    };
    // What lies before and beyond is for the encoder alone.
    let (mut before, mut left) = (output.before, output.frames);
    let mut writer = writer(out, output, along)?;
    pour(source, &mut *writer, observer, |block| {
        let hidden = before.min(count(block.frames()));
        before -= hidden;
        block.skip(size(hidden));
        block.truncate(size(left));
        left -= count(block.frames());
        match &mut proof {
            Proof::Samples(digest) => digest.update(block),
            Proof::Like(likeness) => likeness.update(block),
            Proof::SameFile | Proof::SameAudio => {}
        }
    })?;
    // What an encoder knows that it has lost need not be guessed.
    Ok(writer.made().map_or(proof, Proof::Samples))
}

/// Pulls all blocks of a source into a writer; `written` sees each.
fn pour(
    source: &mut dyn Source,
    writer: &mut dyn Writer,
    observer: &dyn Observer,
    mut written: impl FnMut(&mut Block),
) -> Result<()> {
    let mut block = Block::new(source.channels());
    loop {
        if observer.stopped() {
            return Err(Error::Stopped);
        }
        source.next(&mut block)?;
        if block.is_empty() {
            return writer.finish();
        }
        writer.write(&block)?;
        observer.advance(count(block.frames()));
        written(&mut block);
    }
}

impl Outcome {
    fn of(counts: &Counts, proof: Proof) -> Self {
        Self {
            overs: counts.overs.load(Ordering::Relaxed),
            not_numbers: counts.not_numbers.load(Ordering::Relaxed),
            limited: counts.limited.lock().map(|done| *done).unwrap_or_default(),
            correlation: counts.phase.lock().ok().and_then(|phase| phase.correlation()),
            proof,
        }
    }
}

/// The clip's own bytes.
fn copy_file(clip: &Clip, out: &mut dyn Out, observer: &dyn Observer) -> Result<()> {
    let mut bytes = clip.input().open()?;
    let facts = clip.facts();
    let mut piece = vec![0; 16 * BLOCK_FRAMES];
    let mut copied = 0;
    loop {
        if observer.stopped() {
            return Err(Error::Stopped);
        }
        let filled = fill(&mut bytes, &mut piece)
            .map_err(|source| Error::Read { path: clip.input().name().to_owned(), source })?;
        if filled == 0 {
            return Ok(());
        }
        out.write_all(&piece[..filled]).map_err(Error::write)?;
        let before = scaled(facts.frames, copied, facts.file_bytes);
        copied += count(filled);
        observer.advance(scaled(facts.frames, copied, facts.file_bytes).saturating_sub(before));
    }
}

/// The clip's own packets.
fn copy_packets(clip: &Clip, writer: &mut dyn Writer, observer: &dyn Observer) -> Result<()> {
    let mut packets = clip.packets()?;
    let facts = clip.facts();
    let (mut packet, mut copied) = (Vec::new(), 0);
    while packets.next(&mut packet)? {
        if observer.stopped() {
            return Err(Error::Stopped);
        }
        writer.copy(&packet)?;
        let before = scaled(facts.frames, copied, facts.audio_bytes);
        copied += count(packet.len());
        observer.advance(scaled(facts.frames, copied, facts.audio_bytes).saturating_sub(before));
    }
    writer.finish()
}
