//! The containers that specs can name, in one table.

use super::Codec;
use std::fmt;

/// What wraps the audio.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[expect(missing_docs, reason = "the words are documented in the table")]
pub enum Container {
    Wav,
    Rf64,
    Aiff,
    Aifc,
    Ogg,
    M4a,
    Flac,
    Qoa,
    Raw,
    Mp3,
    Au,
    Caf,
    Mp4,
    Mkv,
}

/// One line of the table.
#[derive(Debug)]
pub struct ContainerFacts {
    /// Which container.
    pub container: Container,
    /// Its word in a spec line.
    pub word: &'static str,
    /// What it is, in a few words.
    pub about: &'static str,
    /// The usual file extensions, the first one first choice.
    pub extensions: &'static [&'static str],
    /// What is written into it here; the first where nothing tells. None: it is only read.
    pub writes: &'static [Codec],
}

const fn row(
    container: Container,
    word: &'static str,
    about: &'static str,
    extensions: &'static [&'static str],
    writes: &'static [Codec],
) -> ContainerFacts {
    ContainerFacts { container, word, about, extensions, writes }
}

/// Samples in units of one frame, in the order in which a clip of more bits finds its place.
const WAV: &[Codec] = &[
    Codec::Pcm16,
    Codec::Pcm8,
    Codec::Pcm24,
    Codec::Pcm32,
    Codec::F32,
    Codec::F64,
    Codec::MuLaw,
    Codec::ALaw,
    Codec::ImaAdpcm,
    Codec::MsAdpcm,
];
const AIFF: &[Codec] = &[Codec::Pcm16, Codec::Pcm8, Codec::Pcm24, Codec::Pcm32];
const AIFC: &[Codec] = &[
    Codec::Pcm16,
    Codec::Pcm8,
    Codec::Pcm24,
    Codec::Pcm32,
    Codec::F32,
    Codec::F64,
    Codec::MuLaw,
    Codec::ALaw,
];
#[cfg(feature = "aac")]
const M4A: &[Codec] = &[Codec::Aac, Codec::Alac16, Codec::Alac24];
#[cfg(not(feature = "aac"))]
const M4A: &[Codec] = &[Codec::Alac16, Codec::Alac24];

/// Every container that has a word.
pub const CONTAINERS: &[ContainerFacts] = &[
    row(Container::Wav, "wav", "RIFF WAVE", &["wav", "wave"], WAV),
    row(Container::Rf64, "rf64", "WAV with 64-bit sizes", &["rf64", "wav"], &[]),
    row(Container::Aiff, "aiff", "AIFF", &["aiff", "aif"], AIFF),
    row(Container::Aifc, "aifc", "AIFF-C", &["aifc", "aiff", "aif"], AIFC),
    row(Container::Ogg, "ogg", "Ogg", &["ogg", "oga", "opus"], &[Codec::Vorbis, Codec::Opus]),
    row(Container::M4a, "m4a", "MPEG-4 audio file", &["m4a", "m4b", "m4r", "mp4"], M4A),
    row(Container::Flac, "flac", "native FLAC", &["flac"], &[Codec::Flac16, Codec::Flac24]),
    row(Container::Qoa, "qoa", "QOA", &["qoa"], &[Codec::Qoa]),
    row(Container::Raw, "raw", "samples without a header", &["raw", "pcm"], AIFC),
    row(Container::Mp3, "mp3", "MPEG audio layer III stream", &["mp3"], &[Codec::Mp3]),
    row(Container::Au, "au", "AU", &["au", "snd"], AIFC),
    row(Container::Caf, "caf", "Core Audio format", &["caf"], &[]),
    row(Container::Mp4, "mp4", "MPEG-4 or QuickTime file", &["mp4", "mov", "m4a"], &[]),
    row(Container::Mkv, "mkv", "Matroska or WebM", &["mkv", "mka", "webm"], &[]),
];

impl Container {
    /// How many loops it holds, be it among texts.
    pub fn most_loops(self) -> usize {
        match self {
            Self::Wav | Self::Rf64 => usize::MAX,
            Self::Aiff | Self::Aifc => 2,
            Self::Ogg | Self::Flac | Self::Mp3 => 1,
            _ => 0,
        }
    }

    /// Whether it holds texts of any name, and a loop stands among them.
    pub fn holds_comments(self) -> bool {
        matches!(self, Self::Ogg | Self::Flac | Self::Mp3)
    }

    /// Its line in the table.
    pub fn facts(self) -> &'static ContainerFacts {
        CONTAINERS.iter().find(|row| row.container == self).unwrap_or(&CONTAINERS[0])
    }

    /// The container of that word, in any case.
    pub fn from_word(word: &str) -> Option<Self> {
        CONTAINERS.iter().find(|row| row.word.eq_ignore_ascii_case(word)).map(|row| row.container)
    }

    /// The first container that usually has this extension (without its dot), in any case.
    pub fn from_extension(extension: &str) -> Option<Self> {
        CONTAINERS.iter().find(|row| row.has_extension(extension)).map(|row| row.container)
    }
}

impl ContainerFacts {
    /// Whether files of this kind usually have this extension, in any case.
    pub fn has_extension(&self, extension: &str) -> bool {
        self.extensions.iter().any(|known| known.eq_ignore_ascii_case(extension))
    }
}

impl fmt::Display for Container {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.facts().word)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::HashSet;

    #[test]
    fn the_table_is_sane() {
        let words: HashSet<_> = CONTAINERS.iter().map(|row| row.word).collect();
        assert_eq!(words.len(), CONTAINERS.len());
        for row in CONTAINERS {
            assert_eq!(row.container.facts().word, row.word);
            assert!(!row.extensions.is_empty() && !row.about.is_empty());
            let twice = |codec| row.writes.iter().filter(|c| *c == codec).count() > 1;
            assert!(!row.writes.iter().any(twice), "{}", row.word);
        }
    }
}
