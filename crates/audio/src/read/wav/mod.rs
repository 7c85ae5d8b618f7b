//! RIFF WAVE and RF64.
//!
//! Sources: "Multimedia Programming Interface and Data Specifications 1.0" (IBM, Microsoft, 1991),
//! "Multiple Channel Audio Data and WAVE Files" (Microsoft, 2007), EBU Tech 3306 (RF64).

mod chunks;
mod extras;
mod fmt;
mod frames;

pub use frames::Frames;

use super::ReadSeek;
use crate::clip::{Extra, Facts, Note};
use crate::error::Result;
use crate::spec::{Container, Format};
use chunks::Walker;
use std::path::Path;

/// Where the samples lie in the file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Layout {
    /// The first byte of the samples.
    pub data_offset: u64,
    /// How many bytes of whole frames follow.
    pub data_bytes: u64,
    /// Bytes of one frame.
    pub frame_bytes: u16,
}

/// Reads all chunks but the samples.
///
/// # Errors
/// [`crate::Error::Read`]; [`crate::Error::Malformed`] where it lacks a sound `fmt ` or `data`
/// chunk; [`crate::Error::Unsupported`] for encodings that are not decoded here.
pub fn read_header(file: &mut dyn ReadSeek, path: &Path) -> Result<(Facts, Layout)> {
    let mut walker = Walker::start(file, path)?;
    let mut format = None;
    let mut data = None;
    let mut marks = extras::Marks::default();
    let mut extras = Vec::new();
    while let Some(chunk) = walker.next()? {
        match &chunk.id {
            b"fmt " if format.is_none() => {
                let bytes = walker.contents(&chunk)?;
                format = Some(fmt::parse(&bytes, chunk.offset, path)?);
            }
            b"data" if data.is_none() => data = Some(chunk),
            b"ds64" => {}
            id => {
                marks.take(id, &chunk, &mut walker)?;
                extras.push(Extra {
                    id: chunks::readable(id),
                    offset: chunk.offset,
                    bytes: chunk.bytes,
                });
            }
        }
    }
    let format = format.ok_or_else(|| walker.malformed("it has no \"fmt \" chunk", 12))?;
    let data = data.ok_or_else(|| walker.malformed("it has no \"data\" chunk", 12))?;
    let mut notes = walker.notes();
    notes.extend(format.corrected.map(|what| Note::Corrected { what }));

    let frame_bytes = u64::from(format.frame_bytes);
    let frames = data.held / frame_bytes;
    if data.held < data.bytes {
        let promised = data.bytes / frame_bytes;
        notes.push(Note::Truncated {
            promised,
            held: frames,
        });
    } else if !data.held.is_multiple_of(frame_bytes) {
        let rest = data.held % frame_bytes;
        notes.push(Note::Corrected {
            what: format!("the last {rest} bytes of the samples make no whole frame"),
        });
    }
    // A `fact` chunk belongs to every encoding but integer PCM.
    let is_integer = matches!(format.encoding.codec.kind(), crate::spec::Kind::Integer(_));
    extras.retain(|extra| is_integer || extra.id != "fact");

    let container = if walker.is_rf64() {
        Container::Rf64
    } else {
        Container::Wav
    };
    let facts = Facts {
        format: Format {
            container,
            encoding: format.encoding,
            rate: format.rate,
            channels: format.channels,
        },
        header: Some(format.header),
        frames,
        valid_bits: format.valid_bits,
        file_bytes: walker.file_bytes(),
        audio_bytes: frames * frame_bytes,
        loops: marks.loops(frames, &mut notes),
        markers: marks.markers(),
        extras,
        notes,
    };
    let layout = Layout {
        data_offset: data.offset,
        data_bytes: frames * frame_bytes,
        frame_bytes: format.frame_bytes,
    };
    Ok((facts, layout))
}
