//! Samples to Vorbis packets, by the library behind vorbis_rs.

use crate::block::Block;
use crate::num::single;
use crate::read::ogg::page::{Assembler, Packet, Page};
use crate::spec::{Format, Quality, vorbis_order};
use std::io::{self, Write};
use std::num::{NonZeroU8, NonZeroU32};
use std::sync::{Arc, Mutex, PoisonError};
use vorbis_rs::{VorbisBitrateManagementStrategy as Strategy, VorbisEncoder, VorbisEncoderBuilder};

/// The quality where nothing is asked.
const USUAL_QUALITY: f32 = 0.5;

/// What the library writes, page by page.
#[derive(Clone, Default)]
struct Sink(Arc<Mutex<Vec<u8>>>);

impl Write for Sink {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        all.extend_from_slice(bytes);
        Ok(bytes.len())
    }
    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// Encodes packet after packet; the first three are headers.
pub struct Vorbis {
    encoder: Option<VorbisEncoder<Sink>>,
    sink: Sink,
    assembler: Assembler,
    planes: Vec<Vec<f32>>,
}

impl Vorbis {
    /// Prepares the encoder.
    ///
    /// # Errors
    /// What it refuses, in words.
    pub fn new(format: Format) -> Result<Self, String> {
        let sink = Sink::default();
        let refused = || "no such number of channels".to_owned();
        let channels = u8::try_from(format.channels.count()).map_err(|_| refused())?;
        let channels = NonZeroU8::new(channels).ok_or_else(refused)?;
        let rate = NonZeroU32::new(format.rate.hertz()).ok_or_else(refused)?;
        let strategy = match format.encoding.quality {
            Some(Quality::BitRate(kilobits) | Quality::Average(kilobits)) => Strategy::Abr {
                average_bitrate: NonZeroU32::new(1000 * u32::from(kilobits)).ok_or_else(refused)?,
            },
            Some(Quality::Scale(tenths)) => {
                Strategy::QualityVbr { target_quality: f32::from(tenths) / 100.0 }
            }
            None => Strategy::QualityVbr { target_quality: USUAL_QUALITY },
        };
        let encoder = VorbisEncoderBuilder::new_with_serial(rate, channels, sink.clone(), 1)
            .bitrate_management_strategy(strategy)
            .build()
            .map_err(|error| error.to_string())?;
        Ok(Self {
            encoder: Some(encoder),
            sink,
            assembler: Assembler::default(),
            planes: vec![Vec::new(); format.channels.count().into()],
        })
    }

    /// Takes frames in, channels in the order of WAV.
    ///
    /// # Errors
    /// What the encoder refuses, in words.
    pub fn encode(&mut self, block: &Block) -> Result<(), String> {
        let order = vorbis_order(self.planes.len());
        for (channel, at) in block.channels().iter().zip(order) {
            self.planes[*at].clear();
            self.planes[*at].extend(channel.iter().map(|s| single(*s)));
        }
        match &mut self.encoder {
            Some(encoder) => {
                encoder.encode_audio_block(&self.planes).map_err(|error| error.to_string())
            }
            None => Ok(()),
        }
    }

    /// Nothing more comes.
    ///
    /// # Errors
    /// What the encoder refuses, in words.
    pub fn finish(&mut self) -> Result<(), String> {
        match self.encoder.take() {
            Some(encoder) => encoder.finish().map(|_| ()).map_err(|error| error.to_string()),
            None => Ok(()),
        }
    }

    /// The next packet that is ready.
    pub fn next_packet(&mut self) -> Option<Packet> {
        let mut bytes = self.sink.0.lock().unwrap_or_else(PoisonError::into_inner);
        let mut at = 0;
        while let Some((page, length)) = Page::parse(&bytes[at..]) {
            self.assembler.take(&page);
            at += length;
        }
        bytes.drain(..at);
        self.assembler.next_packet()
    }
}
