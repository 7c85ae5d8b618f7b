//! What one file of the stock is.

use crate::error::{Error, Result};
use crate::sheet::FirstBytes;
use crate::slots::{Listed, thousandths};
use crate::stock::{Member, is_archive};
use deft_needle_audio::clip::Tag;
use deft_needle_audio::measure::{Ask, survey};
use deft_needle_audio::observe::Unobserved;
use deft_needle_audio::read::Hints;
use deft_needle_audio::read::sniff::Sniffed;
use deft_needle_audio::spec::{Chunks, Format, Header, Kind};
use deft_needle_audio::units::FrameRange;

/// A file, as far as a sheet can tell of it.
#[derive(Debug, Clone)]
pub struct Sample {
    /// What the list says of it.
    pub listed: Listed,
    /// What rules tell apart.
    pub what: What,
    /// Whether it is known to be sound, though it is not read here.
    pub named: bool,
    /// Whether it is an archive.
    pub archive: bool,
}

/// What a file is.
#[derive(Debug, Clone)]
pub enum What {
    /// A sound.
    Sound(Box<Sound>),
    /// A file of a format that is not read here, and how it begins.
    Opaque(FirstBytes),
    /// Text, a picture, an archive: nothing to hear.
    Other,
}

/// What its headers tell.
#[derive(Debug, Clone)]
pub struct Sound {
    /// Its length.
    pub frames: u64,
    /// Its format.
    pub format: Format,
    /// Its WAV header.
    pub header: Option<Header>,
    /// Bytes of an ADPCM block.
    pub block_bytes: Option<u32>,
    /// What stands beside the samples.
    pub chunks: Chunks,
    /// Its first loop.
    pub looped: Option<FrameRange>,
    /// Under which names its loop stands among texts.
    pub loop_names: Vec<String>,
    /// Its texts.
    pub tags: Vec<Tag>,
    /// Bits a second, of a lossy encoding.
    pub bit_rate: Option<u64>,
}

impl Sample {
    /// The slot.
    pub fn name(&self) -> &str {
        &self.listed.name
    }

    /// Its headers, where it is a sound.
    pub fn sound(&self) -> Option<&Sound> {
        match &self.what {
            What::Sound(sound) => Some(sound),
            What::Opaque(_) | What::Other => None,
        }
    }

    /// Looks at a file; `hints` are what its content cannot tell.
    ///
    /// # Errors
    /// A sound that cannot be read.
    pub fn of(member: &Member, hints: Hints) -> Result<Self> {
        let of = Self::of_content(member, &hints)?;
        Ok(Self { listed: Listed { link: member.link.clone(), ..of.listed }, ..of })
    }

    fn of_content(member: &Member, hints: &Hints) -> Result<Self> {
        let unread = || Listed::opaque(&member.name, member.bytes, crate::Hash::of(&[]));
        let what = match member.sniffed() {
            sniffed if hints.raw.is_some() || matches!(sniffed, Sniffed::Known { .. }) => {
                let clip = match member.clip(hints) {
                    Ok(clip) => clip,
                    // A container that we know, with something in it that we do not.
                    Err(Error::Audio(deft_needle_audio::Error::Unsupported { .. })) => {
                        return Self::opaque(member);
                    }
                    Err(error) => return Err(error),
                };
                let facts = clip.facts();
                let loudness = survey(&clip, Ask::LOUDNESS, &Unobserved)?.loudness.lufs;
                let lufs = loudness.is_finite().then(|| tenths(loudness));
                let lossy = facts.format.encoding.codec.kind() == Kind::Lossy;
                let sound = Sound {
                    frames: facts.frames,
                    format: facts.format,
                    header: facts.header,
                    block_bytes: facts.block_bytes,
                    chunks: Chunks::of(facts),
                    looped: facts.loops.first().map(|l| l.range),
                    loop_names: facts.loop_names.clone(),
                    tags: facts.tags.clone(),
                    bit_rate: lossy.then(|| facts.bit_rate()),
                };
                let listed =
                    Listed { lufs, ..Listed::of_sound(&member.name, facts, member.hash()?) };
                return Ok(Self {
                    listed,
                    what: What::Sound(Box::new(sound)),
                    named: true,
                    archive: false,
                });
            }
            Sniffed::Known { .. } | Sniffed::Named { .. } => return Self::opaque(member),
            Sniffed::Unknown { .. } if is_closed(&member.head) => return Self::opaque(member),
            Sniffed::Unknown { .. } => What::Other,
        };
        let archive = is_archive(&member.head);
        Ok(Self { listed: unread(), what, named: false, archive })
    }

    fn opaque(member: &Member) -> Result<Self> {
        Ok(Self {
            listed: Listed::opaque(&member.name, member.bytes, member.hash()?),
            what: What::Opaque(super::mark::of_head(&member.head)),
            named: !matches!(member.sniffed(), Sniffed::Unknown { .. }),
            archive: is_archive(&member.head),
        })
    }
}

fn tenths(value: f64) -> f64 {
    thousandths((value * 10.0).round() / 10.0)
}

/// First bytes of files that hold no audio, though they are no text: pictures, archives, programs,
/// fonts, documents, MIDI.
const STRANGERS: &[&[u8]] = &[
    b"\x89PNG",
    b"\xFF\xD8\xFF",
    b"GIF8",
    b"BM",
    b"DDS ",
    b"PK\x03\x04",
    b"PK\x05\x06",
    b"\x1F\x8B",
    b"7z\xBC\xAF",
    b"Rar!",
    b"MZ",
    b"\x7FELF",
    b"\xFE\xED\xFA",
    b"\xCF\xFA\xED\xFE",
    b"%PDF",
    b"OTTO",
    b"\0\x01\0\0\0",
    b"MThd",
    b"SQLite",
    b"bplist",
    b"\xFF\xFE",
    b"\xFE\xFF",
];

/// A binary file that is nothing known: it may hold sound in a closed format.
fn is_closed(head: &[u8]) -> bool {
    // Text of any character set has none but white space among the control characters.
    let odd = |byte: &u8| byte.is_ascii_control() && !matches!(byte, b'\t' | b'\n' | b'\r' | 0x0C);
    let binary = head.iter().take(512).any(odd);
    head.len() >= 4 && binary && !STRANGERS.iter().any(|mark| head.starts_with(mark))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn closed_formats_are_told_from_strangers() {
        for (head, closed) in [
            (b"LBX1\x80\xBB\0\0".as_slice(), true),
            (b"\x89PNG\r\n\x1A\n\0\0", false),
            (b"name = 'x'\r\n", false),
            ("möwe".as_bytes(), false),
            (b"\xE9lan, for\xEAt\r\n", false),
            (b"ab", false),
        ] {
            assert_eq!(is_closed(head), closed, "{head:?}");
        }
    }
}
