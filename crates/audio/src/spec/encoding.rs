//! The encodings that specs can name, in one table.

use std::fmt;

/// How samples become bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[expect(missing_docs, reason = "the words are documented in the table")]
pub enum Codec {
    Pcm8,
    Pcm16,
    Pcm24,
    Pcm32,
    F32,
    F64,
    MuLaw,
    ALaw,
    ImaAdpcm,
    MsAdpcm,
    Gsm,
    G722,
    G726At16,
    G726At24,
    G726At32,
    G726At40,
    Vorbis,
    Opus,
    Aac,
    Alac16,
    Alac24,
    Flac16,
    Flac24,
    Qoa,
    Mp3,
}

/// What a codec keeps of the samples.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// Integers of this many bits.
    Integer(u32),
    /// Floating point of this many bits.
    Float(u32),
    /// Not the samples themselves.
    Lossy,
}

/// One line of the table.
#[derive(Debug)]
pub struct CodecFacts {
    /// Which codec.
    pub codec: Codec,
    /// Its word in a spec line.
    pub word: &'static str,
    /// What it is, in a few words.
    pub about: &'static str,
    /// What it keeps.
    pub kind: Kind,
    /// How much of what it gives counts, in bits, where that is known.
    pub decoded_bits: Option<u32>,
    /// In which order it has the places of its channels, where that is its own.
    pub order: Option<&'static str>,
    /// What its word may say, and what it cannot carry.
    pub limits: &'static str,
}

const fn row(
    codec: Codec,
    word: &'static str,
    about: &'static str,
    kind: Kind,
    decoded_bits: Option<u32>,
    limits: &'static str,
) -> CodecFacts {
    CodecFacts { codec, word, about, kind, decoded_bits, order: None, limits }
}

const fn integer(
    codec: Codec,
    word: &'static str,
    about: &'static str,
    bits: u32,
    limits: &'static str,
) -> CodecFacts {
    row(codec, word, about, Kind::Integer(bits), Some(bits), limits)
}

const fn float(codec: Codec, word: &'static str, about: &'static str, bits: u32) -> CodecFacts {
    row(codec, word, about, Kind::Float(bits), None, PLAIN)
}

const fn lossy(
    codec: Codec,
    word: &'static str,
    about: &'static str,
    limits: &'static str,
) -> CodecFacts {
    row(codec, word, about, Kind::Lossy, None, limits)
}

/// Lossy, though what comes out are whole numbers of 16 bits.
const fn sixteen(
    codec: Codec,
    word: &'static str,
    about: &'static str,
    limits: &'static str,
) -> CodecFacts {
    row(codec, word, about, Kind::Lossy, Some(16), limits)
}

impl CodecFacts {
    const fn ordered(self, order: &'static str) -> Self {
        Self { order: Some(order), ..self }
    }
}

const PLAIN: &str = "1 to 32 channels";
const IMA: &str = "1 or 2 channels written, up to 8 read. In WAV blocks of 256 bytes a channel, doubled from 22,050, \
     44,100 and 88,200 Hz on, unless another size is asked for. Elsewhere packets of 64 frames";
const MS: &str = "1 or 2 channels written, up to 8 read; blocks as for `imaadpcm`, the best of seven pairs of \
     coefficients for each";
const G726: &str = "mono; the bit rate is that of 8,000 Hz. Without a header or in AU; the first code in the lowest bits";
const FLAC: &str =
    "1 to 8 channels, up to 655,350 Hz; fewer bits are read as the next of these, 32 are not";
const ALAC: &str = "1 to 8 channels";
const VORBIS: &str = "`vorbis:q-1` to `q10`, `vorbis:128k` for an average bit rate; `q5` by default. 1 to 8 channels, \
     up to 200,000 Hz; average bit rates by tables for each rate: what there is not is refused with the nearest. Six \
     and eight channels only with places";
const OPUS: &str = "48,000 Hz alone. `opus:64k` for packets of one size, `opus:~64k` for an average, `opus:q0` to `q10` \
     for 24 to 160 kbit/s a channel; 64 kbit/s a channel by default. 1 to 8 channels, with places or, as `6ch`, without; \
     6k to 256k a channel";
const AAC: &str = "`aac:8k` to `512k`, or `q1` to `q5`; 1.5 bits a sample by default. 1 or 2 channels written, at the \
     twelve rates from 8,000 to 96,000 Hz; HE-AAC and more channels are read";
const MP3: &str = "`mp3:128k` for frames of one bit rate, `mp3:~128k` for an average, `mp3:q0` to `q10` for a quality; \
     two bits a sample by default. 1 or 2 channels, the nine rates from 8,000 to 48,000 Hz; 32k to 320k from 32,000 Hz \
     on, 8k to 160k below";
/// The order of Vorbis and Opus (4.3.9 of the one, RFC 7845, 5.1.1.2 of the other).
const CENTRE_SECOND: &str =
    "left, centre, right, surrounds, low frequencies last; undone in reading";
const CENTRE_FIRST: &str =
    "centre, left, right, surrounds, low frequencies last; undone in reading";

/// Every encoding that has a word.
pub const ENCODINGS: &[CodecFacts] = &[
    integer(Codec::Pcm8, "pcm8", "8-bit PCM, unsigned in WAV and raw, else signed", 8, PLAIN),
    integer(Codec::Pcm16, "pcm16", "16-bit PCM", 16, PLAIN),
    integer(Codec::Pcm24, "pcm24", "24-bit PCM", 24, PLAIN),
    integer(Codec::Pcm32, "pcm32", "32-bit PCM", 32, PLAIN),
    float(Codec::F32, "f32", "32-bit floating point", 32),
    float(Codec::F64, "f64", "64-bit floating point", 64),
    sixteen(Codec::MuLaw, "mulaw", "G.711 mu-law", PLAIN),
    sixteen(Codec::ALaw, "alaw", "G.711 A-law", PLAIN),
    sixteen(Codec::ImaAdpcm, "imaadpcm", "IMA ADPCM", IMA),
    sixteen(Codec::MsAdpcm, "msadpcm", "MS ADPCM", MS),
    sixteen(
        Codec::Gsm,
        "gsm",
        "GSM 06.10 at full rate",
        "mono; 160 frames in 33 bytes, in WAV 320 in 65",
    ),
    sixteen(Codec::G722, "g722", "G.722 at 64 kbit/s", "mono, 16,000 Hz"),
    sixteen(Codec::G726At16, "g726-16", "G.726 at 16 kbit/s", G726),
    sixteen(Codec::G726At24, "g726-24", "G.726 at 24 kbit/s", G726),
    sixteen(Codec::G726At32, "g726-32", "G.726 at 32 kbit/s", G726),
    sixteen(Codec::G726At40, "g726-40", "G.726 at 40 kbit/s", G726),
    lossy(Codec::Vorbis, "vorbis", "Vorbis", VORBIS).ordered(CENTRE_SECOND),
    lossy(Codec::Opus, "opus", "Opus", OPUS).ordered(CENTRE_SECOND),
    lossy(Codec::Aac, "aac", "AAC", AAC).ordered(CENTRE_FIRST),
    integer(Codec::Alac16, "alac16", "16-bit ALAC", 16, ALAC).ordered(CENTRE_FIRST),
    integer(Codec::Alac24, "alac24", "24-bit ALAC", 24, ALAC).ordered(CENTRE_FIRST),
    integer(Codec::Flac16, "flac16", "16-bit FLAC", 16, FLAC),
    integer(Codec::Flac24, "flac24", "24-bit FLAC", 24, FLAC),
    sixteen(Codec::Qoa, "qoa", "QOA", "1 to 8 channels"),
    lossy(Codec::Mp3, "mp3", "MPEG audio layer III", MP3),
];

impl Codec {
    /// Its line in the table.
    pub fn facts(self) -> &'static CodecFacts {
        ENCODINGS.iter().find(|row| row.codec == self).unwrap_or(&ENCODINGS[0])
    }

    /// What it keeps of the samples.
    pub fn kind(self) -> Kind {
        self.facts().kind
    }

    /// The grid that samples must lie on before they are encoded: encoders that count in 16 bits get
    /// just those.
    pub fn grid(self) -> Kind {
        match self {
            Self::MuLaw
            | Self::ALaw
            | Self::ImaAdpcm
            | Self::MsAdpcm
            | Self::Gsm
            | Self::G722
            | Self::G726At16
            | Self::G726At24
            | Self::G726At32
            | Self::G726At40
            | Self::Qoa
            | Self::Aac
            | Self::Opus => Kind::Integer(16),
            other if other.kind() == Kind::Lossy => Kind::Float(32),
            other => other.kind(),
        }
    }

    /// Whether it is encoded here, in whatever container.
    pub fn is_written(self) -> bool {
        super::CONTAINERS.iter().any(|row| row.writes.contains(&self))
    }

    /// Bytes of one sample where every sample takes the same.
    pub fn sample_bytes(self) -> Option<u16> {
        match self {
            Self::Pcm8 | Self::MuLaw | Self::ALaw => Some(1),
            Self::Pcm16 => Some(2),
            Self::Pcm24 => Some(3),
            Self::Pcm32 | Self::F32 => Some(4),
            Self::F64 => Some(8),
            _ => None,
        }
    }

    /// Bits of one code of G.726, at 8 kHz a thousandth of its bit rate.
    pub const fn g726_bits(self) -> Option<u32> {
        match self {
            Self::G726At16 => Some(2),
            Self::G726At24 => Some(3),
            Self::G726At32 => Some(4),
            Self::G726At40 => Some(5),
            _ => None,
        }
    }

    /// Bytes of the smallest whole number of codes, and their frames, where a decoder goes on from one to the next:
    /// the codecs of telephones.
    pub const fn running_unit(self) -> Option<(u64, u64)> {
        match self {
            Self::Gsm => Some((33, 160)),
            Self::G722 => Some((1, 2)),
            Self::G726At16 => Some((1, 4)),
            Self::G726At24 => Some((3, 8)),
            Self::G726At32 => Some((1, 2)),
            Self::G726At40 => Some((5, 8)),
            _ => None,
        }
    }
}

/// Which byte of a sample comes first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum ByteOrder {
    /// The least significant one.
    Little,
    /// The most significant one.
    Big,
}

/// How much a lossy encoding may lose.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Quality {
    /// The codec's own scale, in tenths: `q5` is 50.
    Scale(i16),
    /// Thousands of bits a second: `128k`.
    BitRate(u16),
    /// So many on average, where that is another thing: `~128k`.
    Average(u16),
}

/// One encoding word: a codec, and where stated its byte order or quality.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Encoding {
    /// How samples become bytes.
    pub codec: Codec,
    /// The byte order where the container leaves it open.
    pub order: Option<ByteOrder>,
    /// How much may be lost.
    pub quality: Option<Quality>,
}

impl Encoding {
    /// The codec with nothing else stated.
    pub const fn plain(codec: Codec) -> Self {
        Self { codec, order: None, quality: None }
    }

    /// Reads a word such as `pcm16`, `pcm24be`, `vorbis:q5` or `aac:128k`.
    pub fn from_word(word: &str) -> Option<Self> {
        let lower = word.to_ascii_lowercase();
        let (name, quality) = match lower.split_once(':') {
            Some((name, quality)) => (name, Some(Quality::from_word(quality)?)),
            None => (lower.as_str(), None),
        };
        // What people say of whole numbers: `16bit`, `16-bit`.
        let said = name.strip_suffix("bit").map(|bits| bits.trim_end_matches('-'));
        let said = said.filter(|bits| bits.bytes().all(|byte| byte.is_ascii_digit()));
        let plain = said.map(|bits| format!("pcm{bits}"));
        let name = plain.as_deref().unwrap_or(name);
        let find = |name: &str| ENCODINGS.iter().find(|row| row.word == name);
        let (row, order) = if let Some(row) = find(name) {
            (row, None)
        } else if let Some(base) = name.strip_suffix("le") {
            (find(base)?, Some(ByteOrder::Little))
        } else {
            (find(name.strip_suffix("be")?)?, Some(ByteOrder::Big))
        };
        let ordered = order.is_none() || row.codec.sample_bytes().is_some_and(|bytes| bytes > 1);
        let graded = quality.is_none() || row.decoded_bits.is_none() && row.kind == Kind::Lossy;
        // Bit rates of AAC are constant.
        let known = !matches!((row.codec, quality), (Codec::Aac, Some(Quality::Average(_))));
        (ordered && graded && known).then_some(Self { codec: row.codec, order, quality })
    }

    /// Whether a file of encoding `have` satisfies a wish for this one.
    pub fn accepts(self, have: Self) -> bool {
        self.codec == have.codec && (self.order.is_none() || self.order == have.order)
    }
}

impl Quality {
    fn from_word(word: &str) -> Option<Self> {
        if let Some(scale) = word.strip_prefix('q') {
            let value: f64 = scale.parse().ok().filter(|v: &f64| v.abs() <= 100.0)?;
            return i16::try_from(crate::num::rounded_signed(value * 10.0)).ok().map(Self::Scale);
        }
        let (word, kind): (_, fn(u16) -> Self) = match word.strip_prefix('~') {
            Some(word) => (word, Self::Average),
            None => (word, Self::BitRate),
        };
        let rate: u16 = word.strip_suffix('k')?.parse().ok()?;
        (rate > 0).then(|| kind(rate))
    }
}

impl fmt::Display for Encoding {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.codec.facts().word)?;
        match self.order {
            Some(ByteOrder::Little) => f.write_str("le")?,
            Some(ByteOrder::Big) => f.write_str("be")?,
            None => {}
        }
        match self.quality {
            Some(Quality::Scale(tenths)) if tenths % 10 == 0 => write!(f, ":q{}", tenths / 10),
            Some(Quality::Scale(tenths)) => write!(f, ":q{:.1}", f64::from(tenths) / 10.0),
            Some(Quality::BitRate(rate)) => write!(f, ":{rate}k"),
            Some(Quality::Average(rate)) => write!(f, ":~{rate}k"),
            None => Ok(()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::HashSet;

    #[test]
    fn the_table_is_sane() {
        let words: HashSet<_> = ENCODINGS.iter().map(|row| row.word).collect();
        assert_eq!(words.len(), ENCODINGS.len());
        for row in ENCODINGS {
            assert_eq!(row.codec.facts().word, row.word);
            assert_eq!(Encoding::from_word(row.word).unwrap().codec, row.codec);
        }
    }

    #[test]
    fn words_come_back_as_they_went() {
        for word in [
            "pcm16",
            "pcm24be",
            "f32le",
            "vorbis:q5",
            "vorbis:q-1",
            "aac:128k",
            "mp3:~96k",
            "vorbis:q5.5",
        ] {
            assert_eq!(Encoding::from_word(word).unwrap().to_string(), word);
        }
        for word in [
            "pcm12",
            "pcm8be",
            "pcm16:q5",
            "vorbis:q",
            "mulaw:q5",
            "vorbis:0k",
            "aac:k",
            "vorbis:qnan",
        ] {
            assert_eq!(Encoding::from_word(word), None, "{word}");
        }
    }
}
