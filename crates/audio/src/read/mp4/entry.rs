//! The sample description of a sound track: which codec, and what its decoder must know.
//!
//! Sources: ISO/IEC 14496-12, 12.2.3; 14496-14, 5.6; 14496-3, 1.6 (AudioSpecificConfig); "QuickTime
//! File Format", sound sample descriptions; "ALAC magic cookie description".

use super::super::bytes::{be16, be32};
use super::super::codec::opus::Mapping;
use super::super::ogg::opus_head;
use super::boxes::{boxes, find};
use crate::spec::{ByteOrder, Codec};

/// What packets hold.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Coded {
    /// AAC with its AudioSpecificConfig.
    Aac(AacConfig),
    /// ALAC with its ALACSpecificConfig.
    Alac(Vec<u8>),
    /// MP3.
    Mp3,
    /// Opus: how its streams make channels, and the frames that come before the first.
    Opus(Mapping, u64),
    /// FLAC with its STREAMINFO.
    Flac(Vec<u8>),
    /// PCM, floating point or G.711; a packet is a frame.
    Plain(Codec, ByteOrder),
}

/// An AudioSpecificConfig, as far as it is needed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AacConfig {
    /// As it stands in the file.
    pub bytes: Vec<u8>,
    /// The audio object type; 2 is low complexity.
    pub object: u32,
    /// The rate of the core.
    pub rate: u32,
    /// Channels; 0 where the stream itself says.
    pub channels: u16,
    /// Whether spectral band replication is stated.
    pub replicated: bool,
    /// 960 instead of 1,024 frames.
    pub short: bool,
}

/// One description.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// The codec.
    pub coded: Coded,
    /// As the description itself says; codecs know better.
    pub rate: u32,
    /// As the description itself says.
    pub channels: u16,
    /// Bits a sample, as it says.
    pub bits: u16,
}

/// Formats that are met and not decoded here.
const NAMED: &[(&[u8; 4], &str)] = &[
    (b"enca", "protected sound"),
    (b"drms", "protected AAC"),
    (b"ac-3", "AC-3"),
    (b"ec-3", "E-AC-3"),
    (b"ima4", "IMA ADPCM in packets (ima4)"),
    (b"samr", "AMR"),
    (b"sawb", "AMR-WB"),
];

/// Rates by their index (14496-3, table 1.18).
pub const RATES: [u32; 13] = [
    96_000, 88_200, 64_000, 48_000, 44_100, 32_000, 24_000, 22_050, 16_000, 12_000, 11_025, 8_000,
    7_350,
];

/// Reads the first description of an `stsd` box. The error is either malformed or unsupported.
pub fn parse(stsd: &[u8]) -> Result<Entry, (bool, String)> {
    let bad = |what: &str| (false, what.to_owned());
    let all = boxes(stsd.get(8..).unwrap_or_default());
    let entry = all.first().ok_or_else(|| bad("its sound track has no sample description"))?;
    let bytes = entry.contents;
    let half =
        |at: usize| be16(bytes, at).ok_or_else(|| bad("its sample description is too short"));
    let version = half(8)?;
    let (mut channels, mut bits) = (half(16)?, half(18)?);
    let mut rate = u32::from(half(24)?);
    // QuickTime's versions 1 and 2 are longer; ISO files may say 1 and be as short as 0.
    let mut rest = match version {
        1 if half(26).is_ok() && find(bytes.get(28..).unwrap_or_default(), b"esds").is_none() => 44,
        2 => 64,
        _ => 28,
    };
    if version == 2 {
        let seconds = f64::from_bits(super::super::bytes::be64(bytes, 32).unwrap_or_default());
        rate = u32::try_from(crate::num::rounded(seconds)).unwrap_or(0);
        channels = be32(bytes, 40).and_then(|n| u16::try_from(n).ok()).unwrap_or(0);
        bits = be32(bytes, 48).and_then(|n| u16::try_from(n).ok()).unwrap_or(0);
    }
    rest = rest.min(bytes.len());
    let inner = &bytes[rest..];
    let wave = find(inner, b"wave");
    let within =
        |kind: &[u8; 4]| find(inner, kind).or_else(|| wave.and_then(|wave| find(wave, kind)));
    let big = match within(b"enda").and_then(|enda| be16(enda, 0)) {
        Some(1) => ByteOrder::Little,
        _ => ByteOrder::Big,
    };
    let plain = |codec, order| Ok(Coded::Plain(codec, order));
    let coded = match &entry.kind {
        b"mp4a" => esds(within(b"esds").ok_or_else(|| bad("its AAC lacks \"esds\""))?),
        b"alac" => {
            let config = within(b"alac").and_then(|b| b.get(4..28)).map(<[u8]>::to_vec);
            config.map(Coded::Alac).ok_or_else(|| bad("its ALAC lacks a configuration"))
        }
        b".mp3" => Ok(Coded::Mp3),
        b"Opus" => within(b"dOps").and_then(opus).ok_or_else(|| bad("its Opus lacks \"dOps\"")),
        b"fLaC" => {
            // A box with version and flags, then blocks as a file of FLAC has them, STREAMINFO first.
            let info = within(b"dfLa").and_then(|b| b.get(8..42)).map(<[u8]>::to_vec);
            info.map(Coded::Flac).ok_or_else(|| bad("its FLAC lacks a STREAMINFO"))
        }
        b"sowt" => plain(pcm(bits).unwrap_or(Codec::Pcm16), ByteOrder::Little),
        b"twos" => plain(pcm(bits).unwrap_or(Codec::Pcm16), ByteOrder::Big),
        b"raw " => plain(Codec::Pcm8, ByteOrder::Little),
        b"in24" => plain(Codec::Pcm24, big),
        b"in32" => plain(Codec::Pcm32, big),
        b"fl32" => plain(Codec::F32, big),
        b"fl64" => plain(Codec::F64, big),
        b"ulaw" => plain(Codec::MuLaw, ByteOrder::Big),
        b"alaw" => plain(Codec::ALaw, ByteOrder::Big),
        b"lpcm" if version == 2 => lpcm(bits, be32(bytes, 52).unwrap_or_default()),
        kind => Err((
            true,
            match NAMED.iter().find(|row| row.0 == kind) {
                Some((_, name)) => (*name).to_owned(),
                None => format!("sound of type \"{}\"", kind.escape_ascii()),
            },
        )),
    }?;
    Ok(Entry { coded, rate, channels, bits })
}

/// The head of a stream as Ogg has it, most significant bytes first ("Encapsulation of Opus in ISO Base Media File
/// Format" 0.8, 4.3.2).
fn opus(specific: &[u8]) -> Option<Coded> {
    let (fixed, table) = specific.split_at_checked(10)?;
    let mut head = b"OpusHead\x01".to_vec();
    let swapped = [&[1][..], &[3, 2], &[7, 6, 5, 4], &[9, 8]].concat();
    head.extend(swapped.iter().map(|at| fixed[*at]));
    head.extend_from_slice(table);
    let (mapping, delay) = opus_head(&head).ok()?;
    Some(Coded::Opus(mapping, delay))
}

fn pcm(bits: u16) -> Option<Codec> {
    match bits {
        8 => Some(Codec::Pcm8),
        16 => Some(Codec::Pcm16),
        24 => Some(Codec::Pcm24),
        32 => Some(Codec::Pcm32),
        _ => None,
    }
}

/// QuickTime's flags: 1 floating point, 2 big-endian.
fn lpcm(bits: u16, flags: u32) -> Result<Coded, (bool, String)> {
    let order = if flags & 2 == 0 { ByteOrder::Little } else { ByteOrder::Big };
    let codec = match (flags & 1, bits) {
        (1, 32) => Some(Codec::F32),
        (1, 64) => Some(Codec::F64),
        _ => pcm(bits),
    };
    codec
        .map(|codec| Coded::Plain(codec, order))
        .ok_or_else(|| (true, format!("PCM of {bits} bits")))
}

/// What an `esds` box says.
fn esds(bytes: &[u8]) -> Result<Coded, (bool, String)> {
    let bad = || (false, "its \"esds\" box is not sound".to_owned());
    let (kind, config) = bytes.get(4..).and_then(stream).ok_or_else(bad)?;
    match kind {
        // MPEG-4 AAC, and MPEG-2's profiles.
        0x40 | 0x66..=0x68 => config.and_then(AacConfig::parse).map(Coded::Aac).ok_or_else(bad),
        0x69 | 0x6B => Ok(Coded::Mp3),
        kind => Err((true, format!("MPEG-4 sound of object type 0x{kind:02X}"))),
    }
}

/// The kind of a stream and its decoder's configuration (14496-1, 7.2.6): descriptors within one another; 3 the stream,
/// 4 the decoder, 5 its configuration.
pub fn stream(bytes: &[u8]) -> Option<(u8, Option<&[u8]>)> {
    let stream = descriptor(bytes, 3)?;
    let flags = *stream.get(2)?;
    let mut at = 3;
    at += if flags & 0x80 != 0 { 2 } else { 0 };
    at += match stream.get(at) {
        Some(length) if flags & 0x40 != 0 => 1 + usize::from(*length),
        _ => 0,
    };
    at += if flags & 0x20 != 0 { 2 } else { 0 };
    let decoder = descriptor(stream.get(at..)?, 4)?;
    let config = decoder.get(13..).and_then(|rest| descriptor(rest, 5));
    Some((*decoder.first()?, config))
}

/// The contents of a descriptor of this tag; its length is in up to four groups of seven bits.
fn descriptor(bytes: &[u8], tag: u8) -> Option<&[u8]> {
    if *bytes.first()? != tag {
        return None;
    }
    let (mut length, mut at) = (0usize, 1);
    for _ in 0..4 {
        let byte = *bytes.get(at)?;
        at += 1;
        length = length << 7 | usize::from(byte & 0x7F);
        if byte & 0x80 == 0 {
            break;
        }
    }
    let end = at.saturating_add(length).min(bytes.len());
    bytes.get(at..end)
}

impl AacConfig {
    /// Whether it is plain AAC-LC of one or two channels.
    pub const fn is_simple(&self) -> bool {
        let plain = self.object == 2 && !self.replicated && !self.short;
        plain && matches!(self.channels, 1 | 2)
    }

    /// 14496-3, 1.6.2.1.
    pub fn parse(bytes: &[u8]) -> Option<Self> {
        let mut at = 0;
        let mut take = |bits: usize| {
            let mut value = 0u32;
            for _ in 0..bits {
                value = value << 1 | u32::from(bytes.get(at / 8)? >> (7 - at % 8) & 1);
                at += 1;
            }
            Some(value)
        };
        let mut object = match take(5)? {
            31 => 32 + take(6)?,
            object => object,
        };
        let rate = |take: &mut dyn FnMut(usize) -> Option<u32>| match take(4)? {
            15 => take(24),
            index => RATES.get(crate::num::size(index.into())).copied(),
        };
        let core = rate(&mut take)?;
        let channels = take(4)?;
        let replicated = object == 5 || object == 29;
        if replicated {
            rate(&mut take)?;
            object = match take(5)? {
                31 => 32 + take(6)?,
                object => object,
            };
        }
        let short = take(1)? == 1;
        let channels = match channels {
            7 => 8,
            n @ 0..=6 => u16::try_from(n).ok()?,
            _ => return None,
        };
        Some(Self { bytes: bytes.to_vec(), object, rate: core, channels, replicated, short })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn audio_specific_configs() {
        // Low complexity, 44,100 Hz, stereo; the same of 24,000 Hz with replication stated.
        let plain = AacConfig::parse(&[0x12, 0x10]).unwrap();
        assert_eq!(
            (plain.object, plain.rate, plain.channels, plain.replicated),
            (2, 44_100, 2, false)
        );
        let wide = AacConfig::parse(&[0x2B, 0x11, 0x88, 0x00]).unwrap();
        assert_eq!((wide.object, wide.rate, wide.channels, wide.replicated), (2, 24_000, 2, true));
        assert_eq!(AacConfig::parse(&[0x12]), None);
    }
}
