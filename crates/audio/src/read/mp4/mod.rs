//! MP4, M4A and QuickTime: the first sound track, with its edit list.
//!
//! Sources: ISO/IEC 14496-12 (boxes, tables, edit lists); "QuickTime File Format" (Apple).

pub(crate) mod boxes;
pub mod entry;
mod fragments;
mod movie;
mod table;
mod texts;

use super::bytes::{be32, four};
use super::codec::opus::Opus;
use super::codec::symphonia::{Setup, Symphonia};
use super::codec::{g711, pcm};
use super::packets::{Decoded, Decoder, PacketsAt};
use super::reading::Reading;
use super::{Body, Opened, Packets, Stream, flac};
use crate::block::{Block, Source};
use crate::clip::Extra;
use crate::error::{Error, Result};
use crate::num::{count, scaled, size};
use crate::read::input::Handle;
use crate::spec::Facts;
use crate::spec::{ByteOrder, Channels, Codec, Container, Encoding, Format};
use crate::units::SampleRate;
use boxes::{boxes, find, find_path};
use entry::{AacConfig, Coded, Entry};
use fragments::{Fragments, track_id};
use movie::{Movie, clock, edit, movie};
use std::path::Path;
use std::sync::Arc;
use table::Tables;

/// One sound track.
#[derive(Debug)]
struct Track {
    coded: Coded,
    tables: Arc<Tables>,
    /// Packets that are wholly in the file.
    whole: u64,
    skip: u64,
    packet_frames: u32,
    /// The `stsd` box, to put the packets into another file.
    description: Vec<u8>,
    #[cfg(feature = "aac")]
    fdk: bool,
}

/// Finds `moov` and reads the first sound track.
pub(super) fn open(mut file: Reading<'_>) -> Result<Opened> {
    let Movie { moov, at: moov_at, late, fragments } = movie(&mut file)?;
    let tracks: Vec<&[u8]> =
        boxes(&moov).iter().filter(|b| &b.kind == b"trak").map(|b| b.contents).collect();
    let sounds: Vec<&[u8]> = tracks.iter().copied().filter(|track| is_sound(track)).collect();
    let Some(&track) = sounds.first() else {
        return Err(file.unsupported("MPEG-4 without a sound track"));
    };
    if sounds.len() > 1 {
        file.left_aside(format!("it holds {} sound tracks; the first is read", sounds.len()));
    }
    let Described { entry, description, clock, mut tables } = describe(track, moov_at, &file)?;
    if let Some(mvex) = find(&moov, b"mvex").filter(|_| !fragments.is_empty()) {
        let id = track_id(track).unwrap_or(1);
        let mut all = Fragments::new(id, mvex, file.length());
        for (start, moof) in &fragments {
            all.take(moof, *start).map_err(|what| file.malformed(what, *start))?;
        }
        tables = Arc::new(Tables::of_runs(&all.runs));
    }
    let length = file.length();
    let in_file = |&(at, bytes): &(u64, u32)| u64::saturating_add(at, bytes.into()) <= length;
    let whole = count(Arc::clone(&tables).places().take_while(in_file).count());
    let sound = sound_of(&entry, &tables, &mut file)?;
    let udta = find(&moov, b"udta").unwrap_or_default();
    let texts = texts::read(udta);
    let movie_clock = find(&moov, b"mvhd").and_then(self::clock).unwrap_or(clock).max(1);
    let clocks = Clocks { track: clock, movie: movie_clock, rate: sound.rate };
    let (mut skip, wanted) = played(track, texts.gapless, clocks, &mut file);
    if let (Coded::Opus(_, delay), None) = (&entry.coded, find_path(track, &[b"edts"])) {
        skip = *delay;
    }
    let in_table = clocks.frames(tables.duration(tables.packets())).saturating_sub(skip);
    let promised = wanted.map_or(in_table, |wanted| wanted.min(in_table));
    let held = clocks.frames(tables.duration(whole)).saturating_sub(skip);
    file.compare(promised, held);
    let alone = sounds.len() == tracks.len() && four(&file.at(8, 4)?, 0) != Some(*b"qt  ");
    let format = Format {
        container: if alone { Container::M4a } else { Container::Mp4 },
        encoding: sound.encoding,
        rate: sound.rate,
        channels: sound.channels,
    };
    let places = Arc::clone(&tables).places().take(size(whole));
    let extras = (!texts.tags.is_empty() || texts.more).then(|| Extra {
        id: "udta".to_owned(),
        offset: moov_at + offset_in(&moov, udta),
        bytes: count(udta.len()),
    });
    let facts = Facts {
        frames: promised.min(held),
        audio_bytes: places.map(|(_, bytes)| u64::from(bytes)).sum(),
        tags: texts.tags,
        extras: extras.into_iter().collect(),
        described_late: late || !fragments.is_empty(),
        ..Facts::new(format, length)
    };
    let body = Track {
        coded: entry.coded,
        packet_frames: u32::try_from(clocks.frames(tables.first_duration().into())).unwrap_or(0),
        tables,
        whole,
        skip,
        description,
        #[cfg(feature = "aac")]
        fdk: sound.fdk,
    };
    Ok(file.opened(facts, body))
}

/// Whether a track's handler says that it is sound.
fn is_sound(track: &[u8]) -> bool {
    find_path(track, &[b"mdia", b"hdlr"]).and_then(|hdlr| hdlr.get(8..12)) == Some(b"soun")
}

/// What the tables of a track say.
struct Described {
    entry: Entry,
    /// The `stsd` box.
    description: Vec<u8>,
    /// Ticks of the track a second.
    clock: u32,
    tables: Arc<Tables>,
}

fn describe(track: &[u8], moov_at: u64, file: &Reading<'_>) -> Result<Described> {
    let malformed = |what: String| file.malformed(what, moov_at);
    let lacks = |name: &str| malformed(format!("its sound track lacks \"{name}\""));
    let stbl = find_path(track, &[b"mdia", b"minf", b"stbl"]).ok_or_else(|| lacks("stbl"))?;
    let stsd = find(stbl, b"stsd").ok_or_else(|| lacks("stsd"))?;
    let entry = entry::parse(stsd).map_err(|(unsupported, what)| match unsupported {
        true => file.unsupported(what),
        false => malformed(what),
    })?;
    let clock = find_path(track, &[b"mdia", b"mdhd"]).and_then(clock).filter(|clock| *clock > 0);
    Ok(Described {
        entry,
        description: stsd.to_vec(),
        clock: clock.ok_or_else(|| lacks("mdhd"))?,
        tables: Arc::new(Tables::parse(stbl, file.length()).map_err(malformed)?),
    })
}

/// In what the boxes count: ticks of the track and of the film a second, and the sound's own frames.
#[derive(Clone, Copy)]
struct Clocks {
    track: u32,
    movie: u32,
    rate: SampleRate,
}

impl Clocks {
    /// Ticks of the track as frames.
    fn frames(self, ticks: u64) -> u64 {
        scaled(ticks, self.rate.hertz().into(), self.track.into())
    }
}

/// How many decoded frames are not played, and how many are, where that is said.
fn played(
    track: &[u8],
    gapless: Option<(u64, u64)>,
    clocks: Clocks,
    file: &mut Reading<'_>,
) -> (u64, Option<u64>) {
    match (edit(track, file), gapless) {
        // The gapless text counts in frames, the edit list often only in the film's coarser clock.
        (_, Some((delay, frames))) => (delay, Some(frames)),
        (Some((start, length)), None) => {
            let stated = scaled(length, clocks.rate.hertz().into(), clocks.movie.into());
            (clocks.frames(start), (length > 0).then_some(stated))
        }
        (None, None) => (0, None),
    }
}

/// Where a part of a slice begins in it.
fn offset_in(whole: &[u8], part: &[u8]) -> u64 {
    let (a, b) = (whole.as_ptr().addr(), part.as_ptr().addr());
    count(b.saturating_sub(a).min(whole.len()))
}

/// What a track sounds like once it is decoded.
struct Sound {
    encoding: Encoding,
    rate: SampleRate,
    channels: Channels,
    #[cfg_attr(not(feature = "aac"), expect(dead_code, reason = "there is one decoder then"))]
    fdk: bool,
}

fn sound_of(entry: &Entry, tables: &Arc<Tables>, file: &mut Reading<'_>) -> Result<Sound> {
    let plain = Encoding::plain;
    let (encoding, rate, count, fdk) = match &entry.coded {
        Coded::Aac(config) => {
            let places = Arc::clone(tables).places();
            let (rate, count, fdk) = aac(config, entry.channels, places, file)?;
            (plain(Codec::Aac), rate, count, fdk)
        }
        Coded::Alac(config) => {
            let bits = config.get(5).copied().unwrap_or(16);
            let codec = if bits <= 16 { Codec::Alac16 } else { Codec::Alac24 };
            if !matches!(bits, 16 | 20 | 24) {
                return Err(file.unsupported(format!("ALAC of {bits} bits")));
            }
            let count = config.get(9).copied().unwrap_or(0).into();
            (plain(codec), be32(config, 20).unwrap_or(0), count, false)
        }
        Coded::Mp3 => (plain(Codec::Mp3), entry.rate, entry.channels, false),
        Coded::Opus(mapping, _) => {
            let count = u16::try_from(mapping.channels.len()).unwrap_or(0);
            (plain(Codec::Opus), SampleRate::STUDIO.hertz(), count, false)
        }
        Coded::Flac(info) => {
            let (format, ..) = flac::read_info(info, file)?;
            let count = format.channels.count();
            (format.encoding, format.rate.hertz(), count, false)
        }
        Coded::Plain(codec, order) => {
            let wide = codec.sample_bytes().is_some_and(|bytes| bytes > 1);
            let encoding = Encoding { order: wide.then_some(*order), ..plain(*codec) };
            (encoding, entry.rate, entry.channels, false)
        }
    };
    let rate = file.rate(rate, 0)?;
    let channels = match count {
        4 => Channels::new(4),
        n => Channels::usual(n),
    };
    let channels = channels.ok_or_else(|| file.malformed("it has no channels, or too many", 0))?;
    Ok(Sound { encoding, rate, channels, fdk })
}

/// Rate, channels, and whether the FDK library decodes it. Low rates are listened to first: spectral
/// band replication need not be stated, and without it only the dull core would be heard.
pub(super) fn aac(
    config: &AacConfig,
    stated: u16,
    places: impl Iterator<Item = (u64, u32)>,
    file: &mut Reading<'_>,
) -> Result<(u32, u16, bool)> {
    let channels = if config.channels == 0 { stated } else { config.channels };
    let simple = config.is_simple();
    if simple && config.rate > 24_000 {
        return Ok((config.rate, channels, false));
    }
    #[cfg(feature = "aac")]
    {
        let mut probe = super::codec::aac::FdkAac::new(&config.bytes)
            .map_err(|what| file.unsupported(format!("AAC of an unusual kind ({what})")))?;
        for (at, length) in places.take(4) {
            let packet = file.at(at, length.into())?;
            let (rate, found) = probe.listen(&packet);
            if rate > 0 && found > 0 {
                let is_core = simple && rate == config.rate && found == channels;
                return Ok((rate, found, !is_core));
            }
        }
        Ok((config.rate, channels, !simple))
    }
    #[cfg(not(feature = "aac"))]
    {
        drop(places);
        match simple {
            true => Ok((config.rate, channels, false)),
            false => Err(file.unsupported("HE-AAC, or AAC of more than two channels".to_owned())),
        }
    }
}

impl Body for Track {
    fn frames(&self, file: Handle, path: &Path, facts: &Facts) -> Result<Box<dyn Source>> {
        let broken = |what: String| Error::Unsupported {
            path: path.to_owned(),
            what: format!("{} ({what})", facts.format.encoding),
        };
        let decoder: Box<dyn Decoder> = match &self.coded {
            #[cfg(feature = "aac")]
            Coded::Aac(config) if self.fdk => {
                Box::new(super::codec::aac::FdkAac::new(&config.bytes).map_err(broken)?)
            }
            Coded::Aac(config) => {
                Box::new(Symphonia::new(Setup::Aac(config.bytes.clone())).map_err(broken)?)
            }
            Coded::Alac(config) => {
                Box::new(Symphonia::new(Setup::Alac(config.clone())).map_err(broken)?)
            }
            Coded::Mp3 => Box::new(Symphonia::new(Setup::Mp3).map_err(broken)?),
            Coded::Opus(mapping, _) => Box::new(Opus::new(mapping).map_err(broken)?),
            Coded::Flac(info) => {
                Box::new(Symphonia::new(Setup::Flac(info.clone())).map_err(broken)?)
            }
            Coded::Plain(codec, order) => Box::new(PlainFrames {
                codec: *codec,
                order: *order,
                frame: Block::new(facts.format.channels.count().into()),
            }),
        };
        let packets = self.packets(file, path)?;
        Ok(Box::new(Decoded::new(packets, decoder, path, facts, self.skip)))
    }

    fn packets(&self, file: Handle, path: &Path) -> Result<Box<dyn Packets>> {
        let places = Arc::clone(&self.tables).places().take(size(self.whole));
        Ok(Box::new(PacketsAt::new(file, path, places)))
    }

    fn stream(&self) -> Stream {
        Stream {
            headers: vec![self.description.clone()],
            delay: self.skip,
            packet_frames: self.packet_frames,
            packets: self.whole,
            ..Stream::default()
        }
    }
}

/// Packets that are frames as they stand.
struct PlainFrames {
    codec: Codec,
    order: ByteOrder,
    frame: Block,
}

impl Decoder for PlainFrames {
    fn decode(&mut self, packet: &[u8], block: &mut Block) -> Result<(), String> {
        let channels = block.channels().len();
        let width = usize::from(self.codec.sample_bytes().unwrap_or(1)) * channels;
        self.frame.shape(channels, packet.len() / width.max(1));
        match self.codec {
            Codec::MuLaw => g711::decode(packet, &mut self.frame, g711::from_mu_law),
            Codec::ALaw => g711::decode(packet, &mut self.frame, g711::from_a_law),
            codec => pcm::decode(codec, self.order, packet, &mut self.frame),
        }
        for (to, from) in block.channels_mut().iter_mut().zip(self.frame.channels()) {
            to.extend_from_slice(from);
        }
        Ok(())
    }
}
