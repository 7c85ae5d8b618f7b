//! RIFF WAVE, RF64 and W64.
//!
//! Sources: "Multimedia Programming Interface and Data Specifications 1.0" (IBM, Microsoft, 1991),
//! "Multimedia Data Standards Update" (Microsoft, 1994), "Multiple Channel Audio Data and WAVE Files"
//! (Microsoft, 2007), EBU Tech 3306 (RF64), "Wave64 File Format" (2003).

mod extras;
mod fmt;

use super::Opened;
use super::bytes::{le32, le64};
use super::chunks::{Chunk, Walker, readable};
use super::mp3;
use super::plain::{Coding, Plain};
use super::reading::Reading;
use crate::clip::{Extra, Note};
use crate::error::Result;
use crate::spec::Facts;
use crate::spec::{ByteOrder, Codec, Container, Format, Kind};
use fmt::WavFormat;
pub(super) use fmt::layout_of_mask;

/// Reads all chunks but the samples.
///
/// # Errors
/// [`crate::Error::Read`]; [`crate::Error::Malformed`] where it lacks a sound `fmt ` or `data`
/// chunk; [`crate::Error::Unsupported`] for encodings that are not decoded here.
pub(super) fn open(file: Reading<'_>) -> Result<Opened> {
    let mut walker = Walker::start(file, ByteOrder::Little)?;
    let Chunks { format, stream, data, fact, mut marks, mut extras } = chunks(&mut walker)?;
    let container = match (walker.is_rf64(), walker.is_w64()) {
        (true, _) => Container::Rf64,
        (_, true) => Container::W64,
        _ => Container::Wav,
    };
    let mut file = walker.file;
    if let Some(data) = data.filter(|_| stream) {
        return of_stream(file, container, &data, (marks, extras));
    }
    let format = format.ok_or_else(|| file.malformed("it has no \"fmt \" chunk", 12))?;
    let data = data.ok_or_else(|| file.malformed("it has no \"data\" chunk", 12))?;
    if let Some(what) = &format.corrected {
        file.corrected(what);
    }
    let (frames, plain) = samples(&format, &data, fact, &mut file.notes);
    // A `fact` chunk belongs to every encoding but integer PCM.
    let is_integer = matches!(format.encoding.codec.kind(), Kind::Integer(_));
    extras.retain(|extra| is_integer || extra.id != "fact");

    let spec = Format {
        container,
        encoding: format.encoding,
        rate: format.rate,
        channels: format.channels,
    };
    let blocks = matches!(format.encoding.codec, Codec::ImaAdpcm | Codec::MsAdpcm);
    let facts = Facts {
        header: Some(format.header),
        frames,
        valid_bits: format.valid_bits,
        audio_bytes: plain.bytes,
        block_bytes: blocks.then(|| format.unit_bytes.into()),
        loops: marks.loops(frames, &mut file.notes),
        markers: marks.markers(),
        tags: marks.tags(),
        extras,
        ..Facts::new(spec, file.length())
    };
    Ok(file.opened(facts, plain))
}

/// Around a stream of MPEG audio layer III, whose frames say all about it.
fn of_stream(
    mut file: Reading<'_>,
    container: Container,
    data: &Chunk,
    (mut marks, mut extras): (extras::Marks, Vec<Extra>),
) -> Result<Opened> {
    let length = file.length();
    file.ends_at(data.offset + data.held);
    let mut opened = mp3::within(file, data.offset, container)?;
    let facts = &mut opened.facts;
    facts.file_bytes = length;
    extras.retain(|extra| extra.id != "fact");
    facts.extras.extend(extras);
    facts.tags.extend(marks.tags());
    facts.markers = marks.markers();
    facts.loops.extend(marks.loops(facts.frames, &mut facts.notes));
    Ok(opened)
}

/// What the chunks say, before they are held against one another.
#[derive(Default)]
struct Chunks {
    format: Option<WavFormat>,
    /// Whether the samples are a stream of MPEG audio.
    stream: bool,
    data: Option<Chunk>,
    fact: Option<u64>,
    marks: extras::Marks,
    extras: Vec<Extra>,
}

fn chunks(walker: &mut Walker<'_>) -> Result<Chunks> {
    let mut all = Chunks::default();
    while let Some(chunk) = walker.next()? {
        match &chunk.id {
            b"fmt " if all.format.is_none() && !all.stream => {
                let bytes = walker.contents(&chunk)?;
                if fmt::is_stream(&bytes) {
                    all.stream = true;
                    continue;
                }
                all.format = Some(fmt::parse(&bytes, chunk.offset, &walker.file)?);
            }
            b"data" if all.data.is_none() => all.data = Some(chunk),
            b"ds64" => {}
            id => {
                if id == b"fact" {
                    let contents = walker.contents(&chunk)?;
                    let wide = le64(&contents, 0).filter(|_| walker.is_w64());
                    all.fact = wide.or(le32(&contents, 0).map(u64::from));
                }
                all.marks.take(id, &chunk, walker)?;
                let id = named(id, &chunk, walker)?;
                all.extras.push(Extra { id, offset: chunk.offset, bytes: chunk.bytes });
            }
        }
    }
    Ok(all)
}

/// A chunk's identifier, and what a list is a list of.
fn named(id: &[u8; 4], chunk: &Chunk, walker: &mut Walker<'_>) -> Result<String> {
    let kind = match id {
        b"LIST" => super::bytes::four(&walker.some(chunk, 4)?, 0),
        _ => None,
    };
    Ok(match kind {
        Some(kind) => format!("LIST {}", readable(&kind)),
        None => readable(id),
    })
}

/// How many frames there are, and where. The `fact` chunk holds the true length where blocks would
/// leave it open, as long as the blocks reach that far.
fn samples(
    format: &WavFormat,
    data: &Chunk,
    fact: Option<u64>,
    notes: &mut Vec<Note>,
) -> (u64, Plain) {
    let unit = u64::from(format.unit_bytes);
    let in_bytes = |bytes: u64| {
        let rest = match format.coding {
            Coding::Ima | Coding::Ms(_) => {
                format.frames_of_block((bytes % unit).try_into().unwrap_or(0))
            }
            _ => 0,
        };
        // Sizes of 64 bits may be any.
        (bytes / unit).saturating_mul(format.unit_frames).saturating_add(rest)
    };
    let (held, mut promised) = (in_bytes(data.held), in_bytes(data.bytes));
    let blocks = format.unit_frames > 1;
    if let (true, Some(fact)) = (blocks, fact) {
        // Off by a whole block, it is no length but a mistake.
        if fact <= promised && fact.saturating_add(format.unit_frames) > promised {
            promised = fact;
        } else {
            notes.push(Note::Corrected {
                what: format!(
                    "its \"fact\" chunk says {fact} frames, its blocks hold {promised}; taken for {promised}"
                ),
            });
        }
    }
    let frames = held.min(promised);
    let whole = match blocks {
        true => data.held,
        false => frames * unit,
    };
    if frames < promised {
        notes.push(Note::Truncated { promised, held: frames });
    } else if !blocks && !data.held.is_multiple_of(unit) {
        let rest = data.held % unit;
        notes.push(Note::Corrected {
            what: format!("the last {rest} bytes of the samples make no whole frame"),
        });
    }
    let plain = Plain {
        offset: data.offset,
        bytes: whole,
        unit_bytes: unit,
        unit_frames: format.unit_frames,
        coding: format.coding.clone(),
    };
    (frames, plain)
}
