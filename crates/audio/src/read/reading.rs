//! What every reader needs while it reads the headers of a file: bytes at places, errors that say where, notes of
//! what was odd. Nothing is allocated beyond what the file holds.

use super::input::Handle;
use super::{Body, Hints, Opened, comments};
use crate::clip::{Loop, Note, Tag};
use crate::error::{Error, Result};
use crate::num::{count, size};
use crate::spec::{Channels, Facts};
use crate::units::SampleRate;
use std::io::{self, Read, Seek, SeekFrom};
use std::path::Path;

/// A file whose headers are being read.
pub struct Reading<'a> {
    file: &'a mut Handle,
    path: &'a Path,
    hints: &'a Hints,
    format: &'static str,
    length: u64,
    /// What was odd so far.
    pub notes: Vec<Note>,
}

impl<'a> Reading<'a> {
    /// Measures the file.
    pub fn new(file: &'a mut Handle, path: &'a Path, hints: &'a Hints) -> Result<Self> {
        let format = "samples without a header";
        let mut reading = Self { file, path, hints, format, length: 0, notes: Vec::new() };
        reading.length = reading.io(|file| file.seek(SeekFrom::End(0)))?;
        Ok(reading)
    }

    /// As a file of this format, which is named in errors.
    #[must_use]
    pub fn of(self, format: &'static str) -> Self {
        Self { format, ..self }
    }

    /// The whole file, in bytes.
    pub fn length(&self) -> u64 {
        self.length
    }

    /// Leaves out what lies behind.
    pub fn ends_at(&mut self, length: u64) {
        self.length = self.length.min(length);
    }

    /// The file's name.
    pub fn path(&self) -> &'a Path {
        self.path
    }

    /// Up to `bytes` bytes from `offset`; fewer where the file ends.
    pub fn at(&mut self, offset: u64, bytes: u64) -> Result<Vec<u8>> {
        let bytes = bytes.min(self.length.saturating_sub(offset));
        let mut contents = vec![0; size(bytes)];
        let filled = self.io(|file| {
            file.seek(SeekFrom::Start(offset))?;
            let mut filled = 0;
            while filled < contents.len() {
                match file.read(&mut contents[filled..]) {
                    Ok(0) => break,
                    Ok(n) => filled += n,
                    Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                    Err(error) => return Err(error),
                }
            }
            Ok(count(filled))
        })?;
        contents.truncate(size(filled));
        Ok(contents)
    }

    /// The file once more, at its start. Both share one place: one at a time may be read.
    pub fn again(&mut self) -> Result<Handle> {
        self.io(|file| {
            file.seek(SeekFrom::Start(0))?;
            file.again()
        })
    }

    /// An error at a place of this file.
    pub fn malformed(&self, what: impl Into<String>, offset: u64) -> Error {
        let (path, format) = (self.path.to_owned(), self.format);
        Error::Malformed { path, format, what: what.into(), offset }
    }

    /// What is known, but not decoded here.
    pub fn unsupported(&self, what: impl Into<String>) -> Error {
        Error::Unsupported { path: self.path.to_owned(), what: what.into() }
    }

    /// The sample rate that stands at `offset`.
    pub fn rate(&self, hertz: u32, offset: u64) -> Result<SampleRate> {
        let beyond = || self.malformed("its sample rate is 0 or beyond 1.536 MHz", offset);
        SampleRate::new(hertz).ok_or_else(beyond)
    }

    /// The number of channels that stands at `offset`.
    pub fn channels(&self, stated: u32, offset: u64) -> Result<Channels> {
        let channels = u16::try_from(stated).ok().and_then(Channels::new);
        channels.ok_or_else(|| match stated {
            0 => self.malformed("it has 0 channels", offset),
            n => self.unsupported(format!("{n} channels (32 are the most)")),
        })
    }

    /// How much the header promises; what is held where it leaves that open, with a note.
    pub fn promised(&mut self, stated: Option<u64>, held: u64) -> u64 {
        stated.unwrap_or_else(|| {
            self.notes.push(Note::LengthLeftOpen);
            held
        })
    }

    /// Notes where the header promises more frames than the file holds.
    pub fn compare(&mut self, promised: u64, held: u64) {
        if held < promised {
            self.notes.push(Note::Truncated { promised, held });
        }
    }

    /// Notes something.
    pub fn note(&mut self, note: Note) {
        self.notes.push(note);
    }

    /// Notes what had to be put right.
    pub fn corrected(&mut self, what: impl Into<String>) {
        self.notes.push(Note::Corrected { what: what.into() });
    }

    /// Notes what the file holds and nobody reads.
    pub fn left_aside(&mut self, what: impl Into<String>) {
        self.notes.push(Note::LeftAside { what: what.into() });
    }

    /// Takes the loop tags out of the texts, and gives the loop and their names.
    pub fn take_loop(
        &mut self,
        tags: &mut Vec<Tag>,
        frames: u64,
        rate: SampleRate,
    ) -> (Vec<Loop>, Vec<String>) {
        let found = comments::take_loop(tags, self.hints, frames, rate, &mut self.notes);
        let (found, names) = found.unzip();
        (found.into_iter().collect(), names.unwrap_or_default())
    }

    /// What was found, with all notes.
    pub(super) fn opened(self, facts: Facts, body: impl Body + 'static) -> Opened {
        let facts = Facts { notes: self.notes, ..facts };
        Opened { facts, body: Box::new(body) }
    }

    /// Acts on the file itself.
    pub fn io<T>(&mut self, act: impl FnOnce(&mut Handle) -> io::Result<T>) -> Result<T> {
        act(self.file).map_err(|source| Error::Read { path: self.path.to_owned(), source })
    }
}
