//! The `fmt ` chunk: tag, channels, rate, bits, and the extensible form.

use super::super::bytes::{le16, le32};
use super::super::codec::adpcm::{MS_COEFFICIENTS, ima_frames, ms_frames};
use super::super::plain::Coding;
use super::super::reading::Reading;
use crate::error::{Error, Result};
use crate::spec::{ByteOrder, Channels, Codec, Encoding, Header, Kind, Layout};
use crate::units::SampleRate;

/// What the chunk says.
#[derive(Debug)]
pub struct WavFormat {
    pub header: Header,
    pub encoding: Encoding,
    pub rate: SampleRate,
    pub channels: Channels,
    /// Bytes of a frame, or of a block.
    pub unit_bytes: u16,
    /// Frames of a block; else 1.
    pub unit_frames: u64,
    pub coding: Coding,
    pub valid_bits: Option<u16>,
    pub corrected: Option<String>,
}

impl WavFormat {
    /// How many frames a block of this many bytes holds.
    pub fn frames_of_block(&self, bytes: u16) -> u64 {
        let channels = self.channels.count().into();
        match self.coding {
            Coding::Ms(_) => ms_frames(bytes.into(), channels),
            _ => ima_frames(bytes.into(), channels),
        }
    }
}

const TAG_PCM: u16 = 1;
const TAG_MS_ADPCM: u16 = 2;
const TAG_FLOAT: u16 = 3;
const TAG_A_LAW: u16 = 6;
const TAG_MU_LAW: u16 = 7;
const TAG_IMA_ADPCM: u16 = 0x11;
const TAG_GSM: u16 = 0x31;
const TAG_MP3: u16 = 0x55;
const TAG_EXTENSIBLE: u16 = 0xFFFE;

/// Tags of encodings that have a name but no decoder here.
const NAMED_TAGS: &[(u16, &str)] = &[
    (0x0050, "MPEG audio layer I or II"),
    (0x00FF, "AAC (aac)"),
    (0x0161, "Windows Media audio"),
    (0x674F, "Vorbis in WAV"),
];

/// The end of every GUID whose first two bytes are a plain tag (`KSDATAFORMAT_SUBTYPE_…`).
const GUID_END: [u8; 14] =
    [0x00, 0x00, 0x00, 0x00, 0x10, 0x00, 0x80, 0x00, 0x00, 0xAA, 0x00, 0x38, 0x9B, 0x71];

/// Channel masks that have a name; the surround channels may be stated as side or as back.
const MASKS: &[(u32, Layout)] = &[
    (0x4, Layout::Mono),
    (0x3, Layout::Stereo),
    (0x33, Layout::Quad),
    (0x603, Layout::Quad),
    (0x3F, Layout::Surround51),
    (0x60F, Layout::Surround51),
    (0x63F, Layout::Surround71),
    (0xFF, Layout::Surround71),
];

/// The layout whose loudspeakers these bits are.
pub fn layout_of_mask(mask: u32) -> Option<Layout> {
    MASKS.iter().find(|row| row.0 == mask).map(|row| row.1)
}

/// The fields that every form of the chunk has.
struct Fields {
    tag: u16,
    channels: u16,
    rate: u32,
    frame_bytes: u16,
    bits: u16,
}

impl Fields {
    /// The fields, with what the extensible form adds to them: header, valid bits and channel mask.
    fn parse(bytes: &[u8], offset: u64, file: &Reading<'_>) -> Result<(Self, Extended)> {
        let short = || {
            let found = format!("its \"fmt \" chunk has only {} bytes", bytes.len());
            file.malformed(found, offset)
        };
        let half = |at: usize| le16(bytes, at).ok_or_else(short);
        let word = |at: usize| le32(bytes, at).ok_or_else(short);
        let mut fields = Self {
            tag: half(0)?,
            channels: half(2)?,
            rate: word(4)?,
            frame_bytes: half(12)?,
            bits: half(14)?,
        };
        let mut more = Extended { header: Header::Plain, valid_bits: None, mask: 0 };
        if fields.tag == TAG_EXTENSIBLE {
            let valid_bits = Some(half(18)?).filter(|&bits| bits != 0 && bits != fields.bits);
            more = Extended { header: Header::Extensible, valid_bits, mask: word(20)? };
            fields.tag = half(24)?;
            if bytes.get(26..40).ok_or_else(short)? != GUID_END {
                return Err(file.unsupported("WAV with an encoding that only its maker knows"));
            }
        }
        Ok((fields, more))
    }
}

/// What only the extensible form says.
struct Extended {
    header: Header,
    valid_bits: Option<u16>,
    mask: u32,
}

/// Whether the chunk says that the samples are a stream of MPEG audio layer III.
pub fn is_stream(bytes: &[u8]) -> bool {
    le16(bytes, 0) == Some(TAG_MP3)
}

/// Reads the chunk's contents, which lie at `offset`.
pub fn parse(bytes: &[u8], offset: u64, file: &Reading<'_>) -> Result<WavFormat> {
    let (fields, Extended { header, mut valid_bits, mask }) = Fields::parse(bytes, offset, file)?;
    let malformed = |what: String| file.malformed(what, offset);
    let rate = file.rate(fields.rate, offset)?;
    let plain = file.channels(fields.channels.into(), offset)?;
    let channels = layout_of_mask(mask)
        .map(Channels::of)
        .filter(|named| named.count() == fields.channels)
        .unwrap_or(plain);
    let (codec, unit_bytes, corrected) = codec_of(&fields, file, malformed)?;
    let (coding, unit_frames) = coding_of(codec, &fields, bytes, malformed)?;
    // Of PCM a few bytes; other encodings have units of any size, whose bits nobody asks for.
    let stored_bits = (unit_bytes / fields.channels).saturating_mul(8);
    let is_pcm = matches!(codec.kind(), Kind::Integer(_));
    if is_pcm && valid_bits.is_none() && fields.bits < stored_bits {
        valid_bits = Some(fields.bits);
    }
    Ok(WavFormat {
        header,
        encoding: Encoding::plain(codec),
        rate,
        channels,
        unit_bytes,
        unit_frames,
        coding,
        valid_bits: valid_bits.filter(|_| is_pcm),
        corrected,
    })
}

/// How the units are decoded, and how many frames they hold. What ADPCM says of its frames in a block
/// follows from the block's size, and is only believed where it is less.
fn coding_of(
    codec: Codec,
    fields: &Fields,
    bytes: &[u8],
    malformed: impl Fn(String) -> Error,
) -> Result<(Coding, u64)> {
    let (block, channels) = (u64::from(fields.frame_bytes), u64::from(fields.channels));
    let stated = le16(bytes, 18).map_or(0, u64::from);
    let (coding, frames) = match codec {
        Codec::MuLaw | Codec::ALaw => return Ok((Coding::Companded, 1)),
        Codec::ImaAdpcm => (Coding::Ima, ima_frames(block, channels)),
        Codec::MsAdpcm => (Coding::Ms(coefficients(bytes)), ms_frames(block, channels)),
        Codec::Gsm if block == 65 && channels == 1 => return Ok((Coding::Running, 320)),
        Codec::Gsm => return Err(malformed(format!("its blocks of {block} bytes hold no GSM"))),
        _ => return Ok((Coding::Pcm(ByteOrder::Little), 1)),
    };
    if frames < 2 || channels > 8 {
        return Err(malformed(format!(
            "its blocks of {block} bytes are too small for {channels} channels of ADPCM"
        )));
    }
    if stated > 1 && stated < frames && codec == Codec::ImaAdpcm {
        return Err(malformed(format!(
            "it says {stated} frames a block where {block} bytes hold {frames}"
        )));
    }
    Ok((coding, frames))
}

/// Microsoft's ADPCM lists its coefficients; the seven that everybody knows where it does not.
fn coefficients(bytes: &[u8]) -> Vec<(i16, i16)> {
    let pair =
        |at: usize| Some((le16(bytes, at)?.cast_signed(), le16(bytes, at + 2)?.cast_signed()));
    let stated = usize::from(le16(bytes, 20).unwrap_or_default()).min(256);
    let listed: Vec<_> = (0..stated).map_while(|n| pair(22 + 4 * n)).collect();
    match listed.len() {
        0 => MS_COEFFICIENTS.to_vec(),
        _ => listed,
    }
}

/// The codec, the bytes of a frame, and what had to be corrected. Samples of, say, 20 bits lie in
/// the upper bits of the next whole number of bytes; the frame size may ask for more bytes still.
fn codec_of(
    fields: &Fields,
    file: &Reading<'_>,
    malformed: impl Fn(String) -> Error,
) -> Result<(Codec, u16, Option<String>)> {
    let is_float = match fields.tag {
        TAG_PCM => false,
        TAG_FLOAT => true,
        TAG_A_LAW => return Ok((Codec::ALaw, fields.channels, None)),
        TAG_MU_LAW => return Ok((Codec::MuLaw, fields.channels, None)),
        TAG_IMA_ADPCM => return Ok((Codec::ImaAdpcm, fields.frame_bytes, None)),
        TAG_MS_ADPCM => return Ok((Codec::MsAdpcm, fields.frame_bytes, None)),
        TAG_GSM => return Ok((Codec::Gsm, 65, None)),
        tag => {
            let known = NAMED_TAGS.iter().find(|row| row.0 == tag);
            let codec = match known {
                Some((_, name)) => format!("WAV with {name}"),
                None => format!("WAV with codec 0x{tag:04X}"),
            };
            let (rate, count) = (fields.rate, fields.channels);
            let channels = Channels::usual(count).map_or(format!("{count}ch"), |c| c.to_string());
            return Err(file.unsupported(format!("{codec}, {rate} Hz {channels}")));
        }
    };
    let by_bits = fields.bits.div_ceil(8);
    let by_frame = fields.frame_bytes / fields.channels;
    let whole = fields.frame_bytes.is_multiple_of(fields.channels);
    let roomy = whole && !is_float && by_frame >= by_bits && by_frame <= 4 && by_bits > 0;
    let sample_bytes = if roomy { by_frame } else { by_bits };
    let codec = match (is_float, sample_bytes) {
        (false, 1) => Codec::Pcm8,
        (false, 2) => Codec::Pcm16,
        (false, 3) => Codec::Pcm24,
        (false, 4) => Codec::Pcm32,
        (true, 4) => Codec::F32,
        (true, 8) => Codec::F64,
        _ => return Err(malformed(format!("it says {} bits a sample", fields.bits))),
    };
    let frame_bytes = sample_bytes * fields.channels;
    let corrected = (frame_bytes != fields.frame_bytes).then(|| {
        format!("the header says {} bytes a frame; taken for {frame_bytes}", fields.frame_bytes)
    });
    Ok((codec, frame_bytes, corrected))
}
