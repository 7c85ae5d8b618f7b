//! The containers that specs can name, in one table.

use super::Codec;
use crate::clip::Direction;
use std::fmt;

/// What wraps the audio.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[expect(missing_docs, reason = "the words are documented in the table")]
pub enum Container {
    Wav,
    Rf64,
    W64,
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
    /// How many loops it holds, be it among texts, and where.
    pub loops: (usize, &'static str),
    /// Where it holds markers; empty where it holds none.
    pub markers: &'static str,
    /// Where it holds texts; empty where it holds none.
    pub texts: &'static str,
    /// In which order its channels lie, by itself or by what it holds.
    pub order: &'static str,
}

const fn row(
    container: Container,
    word: &'static str,
    about: &'static str,
    extensions: &'static [&'static str],
    writes: &'static [Codec],
) -> ContainerFacts {
    ContainerFacts {
        container,
        word,
        about,
        extensions,
        writes,
        loops: (0, ""),
        markers: "",
        texts: "",
        order: "that of WAV",
    }
}

const ANY: usize = usize::MAX;
const BY_CODEC: &str = "that of the codec";

impl ContainerFacts {
    const fn looped(self, most: usize, place: &'static str) -> Self {
        Self { loops: (most, place), ..self }
    }

    const fn marked(self, markers: &'static str) -> Self {
        Self { markers, ..self }
    }

    const fn told(self, texts: &'static str) -> Self {
        Self { texts, ..self }
    }

    const fn ordered(self, order: &'static str) -> Self {
        Self { order, ..self }
    }
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
    Codec::Gsm,
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
    Codec::ImaAdpcm,
];
const RAW: &[Codec] = &[
    Codec::Pcm16,
    Codec::Pcm8,
    Codec::Pcm24,
    Codec::Pcm32,
    Codec::F32,
    Codec::F64,
    Codec::MuLaw,
    Codec::ALaw,
    Codec::Gsm,
    Codec::G722,
    Codec::G726At16,
    Codec::G726At24,
    Codec::G726At32,
    Codec::G726At40,
];
const AU: &[Codec] = &[
    Codec::Pcm16,
    Codec::Pcm8,
    Codec::Pcm24,
    Codec::Pcm32,
    Codec::F32,
    Codec::F64,
    Codec::MuLaw,
    Codec::ALaw,
    Codec::G722,
    Codec::G726At24,
    Codec::G726At32,
    Codec::G726At40,
];
const CAF: &[Codec] = &[
    Codec::Pcm16,
    Codec::Pcm8,
    Codec::Pcm24,
    Codec::Pcm32,
    Codec::F32,
    Codec::F64,
    Codec::MuLaw,
    Codec::ALaw,
    Codec::ImaAdpcm,
    Codec::Alac16,
    Codec::Alac24,
    #[cfg(feature = "aac")]
    Codec::Aac,
];
const OGG: &[Codec] = &[Codec::Vorbis, Codec::Opus, Codec::Flac16, Codec::Flac24];
#[cfg(feature = "aac")]
const M4A: &[Codec] = &[Codec::Aac, Codec::Alac16, Codec::Alac24];
#[cfg(not(feature = "aac"))]
const M4A: &[Codec] = &[Codec::Alac16, Codec::Alac24];

/// Every container that has a word.
pub const CONTAINERS: &[ContainerFacts] = &[
    row(Container::Wav, "wav", "RIFF WAVE, plain or extensible header", &["wav", "wave"], WAV)
        .looped(ANY, "`smpl`")
        .marked("`cue `, `LIST adtl`")
        .told("`LIST INFO`")
        .ordered("that of WAV; which places, the mask says"),
    row(Container::Rf64, "rf64", "WAV with 64-bit sizes", &["rf64", "wav"], WAV)
        .looped(ANY, "`smpl`")
        .marked("`cue `, `LIST adtl`")
        .told("`LIST INFO`")
        .ordered("that of WAV; which places, the mask says"),
    row(
        Container::W64,
        "w64",
        "WAV in chunks with 64-bit sizes and names of 16 bytes",
        &["w64"],
        WAV,
    )
    .ordered("that of WAV; which places, the mask says"),
    row(Container::Aiff, "aiff", "AIFF", &["aiff", "aif"], AIFF)
        .looped(2, "`MARK`, `INST`")
        .marked("`MARK`")
        .told("`NAME AUTH ANNO (c)`"),
    row(Container::Aifc, "aifc", "AIFF-C", &["aifc", "aiff", "aif"], AIFC)
        .looped(2, "`MARK`, `INST`")
        .marked("`MARK`")
        .told("`NAME AUTH ANNO (c)`"),
    row(Container::Ogg, "ogg", "Ogg", &["ogg", "oga", "opus"], OGG)
        .looped(1, "comments")
        .told("comments")
        .ordered(BY_CODEC),
    row(Container::M4a, "m4a", "MPEG-4 file with sound alone", &["m4a", "m4b", "m4r", "mp4"], M4A)
        .told("item list")
        .ordered(BY_CODEC),
    row(Container::Flac, "flac", "native FLAC", &["flac"], &[Codec::Flac16, Codec::Flac24])
        .looped(1, "comments")
        .told("comments"),
    row(Container::Qoa, "qoa", "QOA", &["qoa"], &[Codec::Qoa]),
    row(
        Container::Raw,
        "raw",
        "samples without a header",
        &["raw", "pcm", "gsm", "g722", "g726"],
        RAW,
    ),
    row(Container::Mp3, "mp3", "MPEG audio layer III stream", &["mp3"], &[Codec::Mp3])
        .looped(1, "texts of their own")
        .told("ID3v2.4"),
    row(Container::Au, "au", "AU", &["au", "snd"], AU),
    row(Container::Caf, "caf", "Core Audio format", &["caf"], CAF)
        .looped(64, "`regn`")
        .marked("`mark`, `strg`")
        .told("`info`")
        .ordered("that of WAV, `chan` says which places; of ALAC and AAC their own"),
    row(
        Container::Mp4,
        "mp4",
        "MPEG-4 or QuickTime with more than sound",
        &["mp4", "mov", "m4a"],
        &[],
    )
    .told("item list")
    .ordered(BY_CODEC),
    row(Container::Mkv, "mkv", "Matroska or WebM", &["mkv", "mka", "webm"], &[]).ordered(BY_CODEC),
];

impl Container {
    /// Whether it is built as WAV is.
    pub const fn is_wave(self) -> bool {
        matches!(self, Self::Wav | Self::Rf64 | Self::W64)
    }

    /// How many loops it holds, be it among texts.
    pub fn most_loops(self) -> usize {
        self.facts().loops.0
    }

    /// Which ways a loop may play that it holds.
    pub fn directions(self) -> &'static [Direction] {
        match self {
            Self::Wav | Self::Rf64 | Self::Caf => {
                &[Direction::Forward, Direction::PingPong, Direction::Backward]
            }
            Self::Aiff | Self::Aifc => &[Direction::Forward, Direction::PingPong],
            _ => &[Direction::Forward],
        }
    }

    /// Whether it tells the loop that sustains from the one for the release; it holds one of each then.
    pub fn tells_release(self) -> bool {
        matches!(self, Self::Aiff | Self::Aifc)
    }

    /// Whether it holds texts of any name, and a loop stands among them.
    pub fn holds_comments(self) -> bool {
        self.most_loops() == 1
    }

    /// Whether it holds markers.
    pub fn holds_markers(self) -> bool {
        !self.facts().markers.is_empty()
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
