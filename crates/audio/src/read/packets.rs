//! Encoded packets, one after another, and their frames.

use super::Packets;
use crate::block::{Block, Source};
use crate::error::{Error, Result};
use crate::num::{count, size};
use crate::read::input::Handle;
use crate::spec::Facts;
use crate::spec::Format;
use crate::units::SampleRate;
use std::io::{self, BufReader, Read};
use std::path::{Path, PathBuf};

/// Turns packets into frames.
pub trait Decoder: Send {
    /// Appends the frames of one packet to `block`.
    ///
    /// # Errors
    /// What is wrong with the packet, in words.
    fn decode(&mut self, packet: &[u8], block: &mut Block) -> Result<(), String>;
}

/// Packets decoded, with the frames at both ends taken off that only the codec needs.
pub struct Decoded {
    packets: Box<dyn Packets>,
    decoder: Box<dyn Decoder>,
    path: PathBuf,
    format: Format,
    /// Frames before the first that counts.
    skip: u64,
    /// Frames still to come.
    left: u64,
    promised: u64,
    packet: Vec<u8>,
    /// Packets at the start that may reach back to others that are not in the file, and the frames
    /// that each stands for.
    run_up: (u32, u64),
}

/// Such packets at most; MP3 frames reach back over no more than nine.
const RUN_UP: u32 = 10;

impl Decoded {
    /// Gives `facts.frames` frames after the first `skip`.
    pub fn new(
        packets: Box<dyn Packets>,
        decoder: Box<dyn Decoder>,
        path: &Path,
        facts: &Facts,
        skip: u64,
    ) -> Self {
        Self {
            packets,
            decoder,
            path: path.to_owned(),
            format: facts.format,
            skip,
            left: facts.frames,
            promised: facts.frames,
            packet: Vec::new(),
            run_up: (0, 0),
        }
    }

    /// Packets at the start that cannot be decoded alone count as silence of this many frames.
    #[must_use]
    pub fn silent_run_up(mut self, frames: u64) -> Self {
        self.run_up = (RUN_UP, frames);
        self
    }

    fn broken(&self, what: String) -> Error {
        Error::Malformed {
            path: self.path.clone(),
            format: self.format.encoding.codec.facts().about,
            what,
            offset: 0,
        }
    }
}

impl Source for Decoded {
    fn rate(&self) -> SampleRate {
        self.format.rate
    }

    fn channels(&self) -> usize {
        self.format.channels.count().into()
    }

    fn next(&mut self, block: &mut Block) -> Result<()> {
        loop {
            block.clear();
            block.shape(self.channels(), 0);
            if self.left == 0 {
                return Ok(());
            }
            if !self.packets.next(&mut self.packet)? {
                let come = self.promised - self.left;
                return Err(self.broken(format!(
                    "its headers promise {} frames, decoding gave {come}",
                    self.promised
                )));
            }
            match self.decoder.decode(&self.packet, block) {
                Ok(()) => self.run_up.0 = self.run_up.0.saturating_sub(1),
                Err(_) if self.run_up.0 > 0 => {
                    self.run_up.0 -= 1;
                    block.shape(self.channels(), 0);
                    block.shape(self.channels(), size(self.run_up.1));
                }
                Err(what) => {
                    let at = self.format.rate.seconds(self.promised - self.left);
                    return Err(self.broken(format!("{what}, {at:.3} s from the start")));
                }
            }
            let skipped = self.skip.min(count(block.frames()));
            block.skip(size(skipped));
            self.skip -= skipped;
            block.truncate(size(self.left));
            self.left -= count(block.frames());
            if !block.is_empty() {
                return Ok(());
            }
        }
    }
}

/// Packets at known places of a file, such as MP4 samples.
pub struct PacketsAt<I> {
    file: BufReader<Handle>,
    path: PathBuf,
    places: I,
    at: u64,
}

impl<I: Iterator<Item = (u64, u32)> + Send> PacketsAt<I> {
    /// Reads each place, an offset and a number of bytes, in turn; `file` stands at its start.
    pub fn new(file: Handle, path: &Path, places: I) -> Self {
        Self { file: BufReader::new(file), path: path.to_owned(), places, at: 0 }
    }
}

impl<I: Iterator<Item = (u64, u32)> + Send> Packets for PacketsAt<I> {
    fn next(&mut self, packet: &mut Vec<u8>) -> Result<bool> {
        let Some((offset, bytes)) = self.places.next() else {
            return Ok(false);
        };
        let wrap = |source: io::Error| Error::Read { path: self.path.clone(), source };
        let ahead = offset.cast_signed() - self.at.cast_signed();
        self.file.seek_relative(ahead).map_err(wrap)?;
        packet.resize(size(bytes.into()), 0);
        self.file.read_exact(packet).map_err(wrap)?;
        self.at = offset + u64::from(bytes);
        Ok(true)
    }
}

/// All packets behind one another, to compare and to copy.
pub struct Joined {
    packets: Box<dyn Packets>,
    packet: Vec<u8>,
    at: usize,
}

impl Joined {
    /// From the first packet on.
    pub fn new(packets: Box<dyn Packets>) -> Self {
        Self { packets, packet: Vec::new(), at: 0 }
    }
}

impl Read for Joined {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        while self.at == self.packet.len() {
            self.at = 0;
            if !self.packets.next(&mut self.packet).map_err(io::Error::other)? {
                self.packet.clear();
                return Ok(0);
            }
        }
        let some = buffer.len().min(self.packet.len() - self.at);
        buffer[..some].copy_from_slice(&self.packet[self.at..self.at + some]);
        self.at += some;
        Ok(some)
    }
}
