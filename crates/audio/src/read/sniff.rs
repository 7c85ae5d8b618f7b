//! What a file is, by its first bytes.

use crate::error::{Error, Result};
use crate::spec::Container;
use std::io::{Read, Seek, SeekFrom};
use std::path::Path;

/// What the first bytes tell.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Sniffed {
    /// A container that is read here.
    Known {
        /// Which.
        container: Container,
        /// What it is, in words.
        about: &'static str,
    },
    /// Sound of a kind that is not read here.
    Named {
        /// What it is, in words.
        about: &'static str,
    },
    /// Nothing known.
    Unknown {
        /// What it looks like, in words.
        looks: String,
    },
}

impl Sniffed {
    /// The container, where it is read here; RF64 counts as WAV.
    pub fn container(&self) -> Option<Container> {
        match self {
            Self::Known { container, .. } => Some(*container),
            Self::Named { .. } | Self::Unknown { .. } => None,
        }
    }
}

/// A mark at an offset, and what it means.
struct Mark {
    at: usize,
    bytes: &'static [u8],
    container: Container,
    about: &'static str,
}

const fn mark(at: usize, bytes: &'static [u8], container: Container, about: &'static str) -> Mark {
    Mark { at, bytes, container, about }
}

/// Longer marks first where one begins like another.
const MARKS: &[Mark] = &[
    mark(8, b"AIFF", Container::Aiff, "AIFF"),
    mark(8, b"AIFC", Container::Aifc, "AIFF-C"),
    mark(28, b"\x01vorbis", Container::Ogg, "Ogg Vorbis"),
    mark(28, b"OpusHead", Container::Ogg, "Ogg Opus"),
    mark(28, b"\x7FFLAC", Container::Ogg, "Ogg FLAC"),
    mark(0, b"OggS", Container::Ogg, "Ogg"),
    mark(0, b"fLaC", Container::Flac, "FLAC"),
    mark(4, b"ftypM4A", Container::M4a, "MPEG-4 audio"),
    mark(4, b"ftyp", Container::Mp4, "MPEG-4 or QuickTime"),
    mark(0, b"qoaf", Container::Qoa, "QOA"),
    mark(0, b"caff", Container::Caf, "CAF"),
    mark(0, b".snd", Container::Au, "AU"),
    mark(0, b"\x1A\x45\xDF\xA3", Container::Mkv, "Matroska or WebM"),
];

/// Sound that is not read here: where its mark stands, the mark, and what it is.
const NAMED: &[(usize, &[u8], &str)] = &[
    (0, b"\x30\x26\xB2\x75\x8E\x66\xCF\x11", "Windows Media"),
    (0, b"#!AMR", "AMR"),
    (0, b"\x0B\x77", "AC-3"),
    (0, b"FLV\x01", "Flash video"),
    (0, b"RIFX", "a big-endian WAV (RIFX)"),
    (0, b"Extended Module: ", "an Extended Module (tracker notes with their samples)"),
    (0, b"IMPM", "an IT module (tracker notes with their samples)"),
    (44, b"SCRM", "an S3M module (tracker notes with their samples)"),
    (1080, b"M.K.", "a MOD module (tracker notes with their samples)"),
];

/// Files that people mistake for sounds.
const STRANGERS: &[(&[u8], &str)] = &[
    (b"PK\x03\x04", "a zip archive"),
    (b"\x1F\x8B", "gzip data"),
    (b"\x89PNG", "a PNG picture"),
    (b"\xFF\xD8\xFF", "a JPEG picture"),
    (b"%PDF", "a PDF document"),
    (b"<", "a page or other text with tags"),
    (b"MThd", "a MIDI file: notes, not audio"),
];

/// Bytes that tell what a file is, tags before it included.
pub const ENOUGH: u64 = 1 << 16;

/// Reads the first bytes of a file, and rewinds it.
///
/// # Errors
/// [`Error::Read`].
pub fn sniff(file: &mut (impl Read + Seek), path: &Path) -> Result<Sniffed> {
    let mut head = Vec::new();
    let mut read = || {
        file.seek(SeekFrom::Start(0))?;
        Read::take(&mut *file, ENOUGH).read_to_end(&mut head)?;
        file.seek(SeekFrom::Start(0))
    };
    read().map_err(|source| Error::Read { path: path.to_owned(), source })?;
    Ok(by_first_bytes(&head))
}

/// What a file is whose first bytes are these; 64 are enough where no tags come first.
pub fn by_first_bytes(head: &[u8]) -> Sniffed {
    let at = |offset: usize, bytes: &[u8]| head.get(offset..).is_some_and(|h| h.starts_with(bytes));
    if (at(0, b"RIFF") || at(0, b"RF64")) && at(8, b"WAVE") {
        return known(Container::Wav, "WAV");
    }
    if at(0, b"riff\x2E\x91\xCF\x11") && at(24, b"wave") {
        return known(Container::W64, "W64");
    }
    for mark in MARKS {
        let framed = mark.at != 8 || at(0, b"FORM");
        if framed && at(mark.at, mark.bytes) {
            return known(mark.container, mark.about);
        }
    }
    // Tags stand before MP3 and, by some writers' mistake, before FLAC.
    if let Some(length) = super::mp3::id3_bytes(head) {
        let behind = head.get(crate::num::size(length)..).unwrap_or_default();
        return match behind.starts_with(b"fLaC") {
            true => known(Container::Flac, "FLAC"),
            false => known(Container::Mp3, "MP3"),
        };
    }
    if let Some((.., about)) = NAMED.iter().find(|(offset, bytes, _)| at(*offset, bytes)) {
        return Sniffed::Named { about };
    }
    if is_adts(head) {
        return Sniffed::Named { about: "an AAC stream without a container (ADTS)" };
    }
    if super::mp3::Head::parse(head).is_some() {
        return known(Container::Mp3, "MP3");
    }
    let looks = match STRANGERS.iter().find(|(bytes, _)| at(0, bytes)) {
        Some((_, name)) => format!("it looks like {name}"),
        None if head.is_empty() => "it is empty".to_owned(),
        None if at(0, b"RIFF") => "it is a RIFF file, but not a WAV".to_owned(),
        None => {
            let bytes: Vec<_> = head.iter().take(8).map(|b| format!("{b:02X}")).collect();
            format!("it begins with the bytes {}", bytes.join(" "))
        }
    };
    Sniffed::Unknown { looks }
}

fn known(container: Container, about: &'static str) -> Sniffed {
    Sniffed::Known { container, about }
}

/// ISO/IEC 13818-7, 6.2: twelve set bits, layer 0, a sampling frequency that there is.
fn is_adts(head: &[u8]) -> bool {
    matches!(head, &[0xFF, second, third, ..] if second & 0xF6 == 0xF0 && third >> 2 & 15 < 13)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn content_decides() {
        let cases: &[(&[u8], Option<Container>)] = &[
            (b"RIFF\x24\0\0\0WAVEfmt ", Some(Container::Wav)),
            (b"RF64\xFF\xFF\xFF\xFFWAVEds64", Some(Container::Wav)),
            (
                b"riff\x2E\x91\xCF\x11\xA5\xD6\x28\xDB\x04\xC1\0\0\x88\0\0\0\0\0\0\0wave",
                Some(Container::W64),
            ),
            (b"FORM\0\0\0\x2EAIFFCOMM", Some(Container::Aiff)),
            (b"OggS\0\x02\0\0\0\0\0\0\0\0....\0\0\0\0....\x01\x1E\x01vorbis", Some(Container::Ogg)),
            (b"fLaC\0\0\0\x22", Some(Container::Flac)),
            (b"\0\0\0\x20ftypM4A ", Some(Container::M4a)),
            (b"ID3\x04\0\0\0\0\0\0", Some(Container::Mp3)),
            (b"\xFF\xFB\x90\x64", Some(Container::Mp3)),
            (b"\xFF\xFF\xFF\xFF", None),
            (b"RIFF\x24\0\0\0AVI LIST", None),
            (b"XXXX\0\0\0\x2EAIFFCOMM", None),
            (b"", None),
        ];
        for (head, want) in cases {
            assert_eq!(by_first_bytes(head).container(), *want, "{head:?}");
        }
    }

    #[test]
    fn what_is_not_read_is_named() {
        let at = |offset: usize, mark: &[u8]| [vec![b'x'; offset], mark.to_vec()].concat();
        for (head, part) in [
            (at(0, b"#!AMR\n"), "AMR"),
            (at(0, b"Extended Module: dawn"), "Extended Module"),
            (at(0, b"IMPMdawn"), "IT module"),
            (at(44, b"SCRM"), "S3M module"),
            (at(1080, b"M.K."), "MOD module"),
        ] {
            let found = by_first_bytes(&head);
            assert!(matches!(found, Sniffed::Named { about } if about.contains(part)), "{found:?}");
        }
        assert!(matches!(by_first_bytes(&at(1081, b"M.K.")), Sniffed::Unknown { .. }));
    }
}
