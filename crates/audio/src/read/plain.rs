//! Samples that lie in units of equal size, one after another: PCM frames, ADPCM blocks, QOA frames.

use super::codec::g722::G722;
use super::codec::g726::{self, Law, State};
use super::codec::gsm::Gsm;
use super::codec::{adpcm, g711, pcm, qoa};
use super::{Body, Packets};
use crate::block::fill;
use crate::block::{BLOCK_FRAMES, Block, Source};
use crate::error::{Error, Result};
use crate::num::{count, size};
use crate::read::input::Handle;
use crate::spec::Facts;
use crate::spec::{ByteOrder, Codec, Format};
use crate::units::SampleRate;
use std::io::{Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};

/// Where the units lie, and what they hold.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Plain {
    /// The first byte of the samples.
    pub offset: u64,
    /// How many bytes of them there are.
    pub bytes: u64,
    /// Bytes of one unit; only the last may be shorter.
    pub unit_bytes: u64,
    /// Frames of one whole unit, at least 1.
    pub unit_frames: u64,
    /// How they are decoded.
    pub coding: Coding,
}

/// How units become frames.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Coding {
    /// PCM or floating point of this byte order.
    Pcm(ByteOrder),
    /// G.711, the codec says which.
    Companded,
    /// IMA ADPCM.
    Ima,
    /// IMA ADPCM in packets of 64 frames.
    Ima4,
    /// Microsoft's ADPCM with these pairs of coefficients.
    Ms(Vec<(i16, i16)>),
    /// QOA.
    Qoa,
    /// A decoder that goes on from one unit to the next, the codec says which.
    Running,
}

/// Takes one unit after another, and appends its frames.
type Running = Box<dyn FnMut(&[u8], &mut Block) + Send>;

/// A decoder that goes on.
fn running(plain: &Plain, codec: Codec) -> Running {
    match codec {
        Codec::Gsm => {
            let mut gsm = Gsm::new(plain.unit_frames > 160);
            Box::new(move |unit, block| gsm.decode(unit, block))
        }
        Codec::G722 => {
            let mut g722 = G722::default();
            Box::new(move |unit, block| g722.decode(unit, block))
        }
        codec => {
            let mut state = State::new(Law::of(codec));
            Box::new(move |unit, block| g726::decode(&mut state, unit, block))
        }
    }
}

impl Plain {
    /// Whole frames of fixed size: PCM, floating point, G.711; or whole units of codes of telephones.
    pub fn samples(offset: u64, bytes: u64, format: Format, order: ByteOrder) -> Self {
        let codec = format.encoding.codec;
        if let Some((unit_bytes, unit_frames)) = format.unit() {
            let coding = match codec {
                Codec::ImaAdpcm => Coding::Ima4,
                _ => Coding::Running,
            };
            return Self { offset, bytes, unit_bytes, unit_frames, coding };
        }
        let sample = u64::from(codec.sample_bytes().unwrap_or(1));
        let coding = match codec {
            Codec::MuLaw | Codec::ALaw => Coding::Companded,
            _ => Coding::Pcm(order),
        };
        Self {
            offset,
            bytes,
            unit_bytes: sample * u64::from(format.channels.count()),
            unit_frames: 1,
            coding,
        }
    }
}

impl Body for Plain {
    fn frames(&self, file: Handle, path: &Path, facts: &Facts) -> Result<Box<dyn Source>> {
        Ok(Box::new(Frames {
            pieces: Pieces::new(file, path, self)?,
            units: Units::new(self.clone(), facts.format),
            left: facts.frames,
            bytes: Vec::new(),
        }))
    }

    fn packets(&self, file: Handle, path: &Path) -> Result<Box<dyn Packets>> {
        Ok(Box::new(Pieces::new(file, path, self)?))
    }
}

/// Reads many units at a time.
struct Pieces {
    file: Handle,
    path: PathBuf,
    left: u64,
    piece: u64,
}

impl Pieces {
    fn new(mut file: Handle, path: &Path, plain: &Plain) -> Result<Self> {
        file.seek(SeekFrom::Start(plain.offset))
            .map_err(|source| Error::Read { path: path.to_owned(), source })?;
        let units = (count(BLOCK_FRAMES) / plain.unit_frames).max(1);
        Ok(Self { file, path: path.to_owned(), left: plain.bytes, piece: units * plain.unit_bytes })
    }
}

impl Packets for Pieces {
    fn next(&mut self, packet: &mut Vec<u8>) -> Result<bool> {
        let wanted = self.left.min(self.piece);
        packet.resize(size(wanted), 0);
        let filled = fill(&mut Read::by_ref(&mut self.file), packet).and_then(|n| match n {
            n if n == packet.len() => Ok(()),
            _ => Err(std::io::ErrorKind::UnexpectedEof.into()),
        });
        filled.map_err(|source| Error::Read { path: self.path.clone(), source })?;
        self.left -= wanted;
        Ok(wanted > 0)
    }
}

/// Decodes units, wherever their bytes come from.
pub(crate) struct Units {
    plain: Plain,
    format: Format,
    running: Running,
}

impl Units {
    /// For the units of this format.
    pub fn new(plain: Plain, format: Format) -> Self {
        let running = running(&plain, format.encoding.codec);
        Self { plain, format, running }
    }

    /// Bytes of one.
    pub fn bytes(&self) -> usize {
        size(self.plain.unit_bytes).max(1)
    }

    /// The frames of these units, one after another.
    pub fn decode(&mut self, bytes: &[u8], block: &mut Block) {
        let codec = self.format.encoding.codec;
        let channels = usize::from(self.format.channels.count());
        let frames = bytes.len() / self.bytes();
        match &self.plain.coding {
            Coding::Pcm(order) => {
                block.shape(channels, frames);
                pcm::decode(codec, *order, bytes, block);
            }
            Coding::Companded => {
                block.shape(channels, frames);
                let value = match codec {
                    Codec::ALaw => g711::from_a_law,
                    _ => g711::from_mu_law,
                };
                g711::decode(bytes, block, value);
            }
            units => {
                block.shape(channels, 0);
                for unit in bytes.chunks(self.bytes()) {
                    match units {
                        Coding::Ima => adpcm::decode_ima(unit, block),
                        Coding::Ima4 => adpcm::decode_ima4(unit, block),
                        Coding::Ms(pairs) => adpcm::decode_ms(unit, pairs, block),
                        Coding::Running => (self.running)(unit, block),
                        _ => qoa::decode(unit, block),
                    }
                }
            }
        }
    }
}

/// Decodes unit after unit of a file.
struct Frames {
    pieces: Pieces,
    units: Units,
    left: u64,
    bytes: Vec<u8>,
}

impl Source for Frames {
    fn rate(&self) -> SampleRate {
        self.units.format.rate
    }

    fn channels(&self) -> usize {
        self.units.format.channels.count().into()
    }

    fn next(&mut self, block: &mut Block) -> Result<()> {
        if self.left == 0 || !self.pieces.next(&mut self.bytes)? {
            block.clear();
            return Ok(());
        }
        self.units.decode(&self.bytes, block);
        let plain = &self.units.plain;
        let held = count(self.bytes.len() / self.units.bytes()) * plain.unit_frames;
        if count(block.frames()) < self.left.min(held) {
            // A block that contradicts its file's header decodes to nothing.
            let come = plain.bytes - self.pieces.left - count(self.bytes.len());
            return Err(Error::Malformed {
                path: self.pieces.path.clone(),
                format: self.units.format.container.facts().word,
                what: "a block of samples is damaged".to_owned(),
                offset: plain.offset + come,
            });
        }
        block.truncate(size(self.left));
        self.left -= count(block.frames());
        Ok(())
    }
}
