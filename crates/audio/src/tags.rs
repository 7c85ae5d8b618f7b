//! Texts about a clip under one set of names, and what each container calls them.

use crate::clip::Tag;

/// One text, by its name in each kind of file.
#[derive(Debug)]
pub struct TagNames {
    /// As Vorbis comments have it ("Ogg Vorbis I format specification: comment field", field names).
    pub name: &'static str,
    /// The chunk of a RIFF INFO list (RIFF 1.0, "INFO List Chunk").
    pub info: &'static [u8; 4],
    /// The frame of ID3v2.3 and 2.4; two letters may differ between them.
    pub id3: &'static [&'static [u8; 4]],
    /// The box of an MP4 item list.
    pub mp4: &'static [u8; 4],
    /// The text chunk of AIFF.
    pub aiff: Option<&'static [u8; 4]>,
}

/// All texts that have a name everywhere.
pub const TAGS: &[TagNames] = &[
    row("TITLE", b"INAM", &[b"TIT2"], b"\xA9nam", Some(b"NAME")),
    row("ARTIST", b"IART", &[b"TPE1"], b"\xA9ART", Some(b"AUTH")),
    row("ALBUM", b"IPRD", &[b"TALB"], b"\xA9alb", None),
    row("DATE", b"ICRD", &[b"TDRC", b"TYER"], b"\xA9day", None),
    row("GENRE", b"IGNR", &[b"TCON"], b"\xA9gen", None),
    row("COMMENT", b"ICMT", &[b"COMM"], b"\xA9cmt", Some(b"ANNO")),
    row("COPYRIGHT", b"ICOP", &[b"TCOP"], b"cprt", Some(b"(c) ")),
    row("ENCODER", b"ISFT", &[b"TSSE"], b"\xA9too", None),
    row("TRACKNUMBER", b"ITRK", &[b"TRCK"], b"\xA9trk", None),
];

const fn row(
    name: &'static str,
    info: &'static [u8; 4],
    id3: &'static [&'static [u8; 4]],
    mp4: &'static [u8; 4],
    aiff: Option<&'static [u8; 4]>,
) -> TagNames {
    TagNames { name, info, id3, mp4, aiff }
}

impl Tag {
    /// A text under a name as Vorbis comments have it.
    pub fn new(name: &str, value: impl Into<String>) -> Self {
        Self { name: name.to_owned(), value: value.into() }
    }

    /// What a guide says of itself, so that it is known again wherever it is put.
    pub fn guide() -> Self {
        Self::new("COMMENT", "a guide, not the clip")
    }

    fn by(id: &[u8], value: String, is: impl Fn(&TagNames) -> bool) -> Self {
        let known = TAGS.iter().find(|row| is(row));
        let own = || id.escape_ascii().to_string();
        Self { name: known.map_or_else(own, |row| row.name.to_owned()), value }
    }

    /// From a RIFF INFO list.
    pub fn of_info(id: &[u8], value: String) -> Self {
        Self::by(id, value, |row| row.info == id)
    }

    /// From an MP4 item list.
    pub fn of_mp4(id: &[u8], value: String) -> Self {
        Self::by(id, value, |row| row.mp4 == id)
    }

    /// From an AIFF text chunk.
    pub fn of_aiff(id: &[u8], value: String) -> Self {
        Self::by(id, value, |row| row.aiff.is_some_and(|a| a == id))
    }

    /// From an ID3v2 text frame.
    pub fn of_id3(id: &[u8], value: String) -> Self {
        Self::by(id, value, |row| row.id3.iter().any(|a| *a == id))
    }

    /// The chunk of a RIFF INFO list that it goes to: a known one, or its own name of four letters.
    pub fn info_id(&self) -> Option<[u8; 4]> {
        match self.names() {
            Some(names) => Some(*names.info),
            None => <[u8; 4]>::try_from(self.name.as_bytes()).ok(),
        }
    }

    /// Its line in the table, where it has one.
    pub fn names(&self) -> Option<&'static TagNames> {
        TAGS.iter().find(|row| row.name.eq_ignore_ascii_case(&self.name))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::HashSet;

    #[test]
    fn every_name_leads_back() {
        let names: HashSet<_> = TAGS.iter().map(|row| row.name).collect();
        assert_eq!(names.len(), TAGS.len());
        for row in TAGS {
            let ways = [
                Tag::of_info(row.info, String::new()),
                Tag::of_mp4(row.mp4, String::new()),
                Tag::of_id3(row.id3[0], String::new()),
            ];
            assert!(ways.iter().all(|tag| tag.name == row.name), "{}", row.name);
        }
        assert_eq!(Tag::of_info(b"ISRF", String::new()).name, "ISRF");
    }
}
