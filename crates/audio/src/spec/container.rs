//! The containers that specs can name, in one table.

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
    /// Whether it is read here.
    pub read: bool,
    /// Whether it is written here.
    pub written: bool,
}

const fn row(
    container: Container,
    word: &'static str,
    about: &'static str,
    extensions: &'static [&'static str],
    (read, written): (bool, bool),
) -> ContainerFacts {
    ContainerFacts {
        container,
        word,
        about,
        extensions,
        read,
        written,
    }
}

const BOTH: (bool, bool) = (true, true);
const READ: (bool, bool) = (true, false);
const NAMED: (bool, bool) = (false, false);

/// Every container that has a word.
pub const CONTAINERS: &[ContainerFacts] = &[
    row(Container::Wav, "wav", "RIFF WAVE", &["wav", "wave"], BOTH),
    row(
        Container::Rf64,
        "rf64",
        "WAV with 64-bit sizes",
        &["rf64", "wav"],
        READ,
    ),
    row(Container::Aiff, "aiff", "AIFF", &["aiff", "aif"], NAMED),
    row(
        Container::Aifc,
        "aifc",
        "AIFF-C",
        &["aifc", "aiff", "aif"],
        NAMED,
    ),
    row(Container::Ogg, "ogg", "Ogg", &["ogg", "oga", "opus"], NAMED),
    row(
        Container::M4a,
        "m4a",
        "MPEG-4 audio file",
        &["m4a", "m4b", "m4r"],
        NAMED,
    ),
    row(Container::Flac, "flac", "native FLAC", &["flac"], NAMED),
    row(Container::Qoa, "qoa", "QOA", &["qoa"], NAMED),
    row(
        Container::Raw,
        "raw",
        "samples without a header",
        &["raw", "pcm"],
        NAMED,
    ),
    row(
        Container::Mp3,
        "mp3",
        "MPEG audio layer III stream",
        &["mp3"],
        NAMED,
    ),
    row(Container::Au, "au", "AU", &["au", "snd"], NAMED),
    row(Container::Caf, "caf", "Core Audio format", &["caf"], NAMED),
    row(
        Container::Mp4,
        "mp4",
        "MPEG-4 or QuickTime file",
        &["mp4", "mov"],
        NAMED,
    ),
    row(
        Container::Mkv,
        "mkv",
        "Matroska or WebM",
        &["mkv", "mka", "webm"],
        NAMED,
    ),
];

impl Container {
    /// Its line in the table.
    pub fn facts(self) -> &'static ContainerFacts {
        CONTAINERS
            .iter()
            .find(|row| row.container == self)
            .unwrap_or(&CONTAINERS[0])
    }

    /// The container of that word, in any case.
    pub fn from_word(word: &str) -> Option<Self> {
        CONTAINERS
            .iter()
            .find(|row| row.word.eq_ignore_ascii_case(word))
            .map(|row| row.container)
    }

    /// The first container that usually has this extension (without its dot), in any case.
    pub fn from_extension(extension: &str) -> Option<Self> {
        CONTAINERS
            .iter()
            .find(|row| row.has_extension(extension))
            .map(|row| row.container)
    }
}

impl ContainerFacts {
    /// Whether files of this kind usually have this extension, in any case.
    pub fn has_extension(&self, extension: &str) -> bool {
        self.extensions
            .iter()
            .any(|known| known.eq_ignore_ascii_case(extension))
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
            assert!(row.read || !row.written, "{} is written unread", row.word);
        }
    }
}
