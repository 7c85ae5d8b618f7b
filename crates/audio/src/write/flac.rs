//! Native FLAC (RFC 9639): metadata, then frames one by one.

use super::codec::flac::Flac;
use super::{Along, Out, Writer, all_came, comments};
use crate::block::Block;
use crate::error::{Error, Result};
use crate::num::count32;
use crate::spec::Output;
use std::io::SeekFrom;

/// Writes one file.
pub struct FlacWriter<'a> {
    out: &'a mut dyn Out,
    output: &'a Output,
    encoder: Flac,
    copied: bool,
}

impl<'a> FlacWriter<'a> {
    /// Writes the metadata; STREAMINFO is filled in at the end.
    ///
    /// # Errors
    /// [`Error::Write`].
    pub fn new(out: &'a mut dyn Out, output: &'a Output, along: Along) -> Result<Self> {
        let info = along.stream.and_then(|stream| stream.headers.into_iter().next());
        let copied = info.is_some();
        let mut blocks: Vec<(u8, Vec<u8>)> = vec![(0, info.unwrap_or_else(|| vec![0; 34]))];
        for (id, contents) in along.chunks {
            blocks.push((kind(&id), contents));
        }
        if !output.tags.is_empty() || !output.loops.is_empty() {
            blocks.push((4, comments::comments("Deft Needle", output)));
        }
        let mut head = b"fLaC".to_vec();
        let last = blocks.len() - 1;
        for (at, (kind, contents)) in blocks.iter().enumerate() {
            head.push(kind | if at == last { 0x80 } else { 0 });
            head.extend_from_slice(&count32(contents.len()).to_be_bytes()[1..]);
            head.extend_from_slice(contents);
        }
        out.write_all(&head).map_err(Error::write)?;
        Ok(Self { out, output, encoder: Flac::new(output.format), copied })
    }

    /// For what is played once: made quickly, and without a check sum of all samples.
    #[must_use]
    pub fn quick(self) -> Self {
        Self { encoder: self.encoder.quick(), ..self }
    }
}

/// RFC 9639, 8.1.
fn kind(id: &str) -> u8 {
    match id {
        "APPLICATION" => 2,
        "SEEKTABLE" => 3,
        "VORBIS_COMMENT" => 4,
        "CUESHEET" => 5,
        _ => 6,
    }
}

impl Writer for FlacWriter<'_> {
    fn write(&mut self, block: &Block) -> Result<()> {
        let Self { out, encoder, .. } = self;
        encoder.encode(block, |frame| out.write_all(&frame)).map_err(Error::write)
    }

    fn copy(&mut self, packet: &[u8]) -> Result<()> {
        self.out.write_all(packet).map_err(Error::write)
    }

    fn finish(&mut self) -> Result<()> {
        if self.copied {
            return Ok(());
        }
        all_came(self.output, self.encoder.taken)?;
        if let Some(frame) = self.encoder.finish() {
            self.out.write_all(&frame).map_err(Error::write)?;
        }
        let info = self.encoder.stream_info(self.output.frames);
        self.out.seek(SeekFrom::Start(8)).map_err(Error::write)?;
        self.out.write_all(&info).map_err(Error::write)?;
        self.out.seek(SeekFrom::End(0)).map_err(Error::write)?;
        Ok(())
    }
}
