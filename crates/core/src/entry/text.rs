//! Texts of targets as they are stored: their encoding and line endings stay as they were.

use std::fmt;

/// How a text is stored.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Encoding {
    Utf8,
    Utf16Le,
    Utf16Be,
    /// One byte a letter, of which only the first 128 are known (ASCII).
    Bytes,
}

/// A text and how it is stored.
#[derive(Debug, Clone)]
pub struct Stored {
    /// The text, without its byte order mark.
    pub text: String,
    encoding: Encoding,
    mark: bool,
    /// How many letters beyond ASCII it had, where their code page is unknown.
    foreign: usize,
}

/// A letter that a file's encoding has no place for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NoSuchLetter;

impl fmt::Display for NoSuchLetter {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(
            "the file is in an old 8-bit encoding, and only plain letters (ASCII) can be put there",
        )
    }
}

fn foreign(text: &str) -> usize {
    text.chars().filter(|c| !c.is_ascii()).count()
}

impl Stored {
    /// Reads bytes by their mark, else by their form (RFC 3629, RFC 2781).
    ///
    /// # Errors
    /// UTF-16 with half letters in it.
    pub fn read(bytes: &[u8]) -> Result<Self, String> {
        let utf16 = |bytes: &[u8], encoding, mark| {
            let unit = |pair: &[u8]| match encoding {
                Encoding::Utf16Be => u16::from_be_bytes([pair[0], pair[1]]),
                _ => u16::from_le_bytes([pair[0], pair[1]]),
            };
            let units: Vec<u16> = bytes.chunks_exact(2).map(unit).collect();
            let text = String::from_utf16(&units).map_err(|_| "invalid UTF-16".to_owned());
            match bytes.len() % 2 {
                0 => text.map(|text| Self { text, encoding, mark, foreign: 0 }),
                _ => Err("invalid UTF-16: it ends within a letter".to_owned()),
            }
        };
        match bytes {
            [0xFF, 0xFE, rest @ ..] => return utf16(rest, Encoding::Utf16Le, true),
            [0xFE, 0xFF, rest @ ..] => return utf16(rest, Encoding::Utf16Be, true),
            [1..=0x7F, 0, 1..=0x7F, 0, ..] => return utf16(bytes, Encoding::Utf16Le, false),
            [0, 1..=0x7F, 0, 1..=0x7F, ..] => return utf16(bytes, Encoding::Utf16Be, false),
            _ => {}
        }
        let plain = bytes.strip_prefix(b"\xEF\xBB\xBF").unwrap_or(bytes);
        let mark = plain.len() != bytes.len();
        let (text, encoding) = match std::str::from_utf8(plain) {
            Ok(text) => (text.to_owned(), Encoding::Utf8),
            Err(_) => (bytes.iter().copied().map(char::from).collect(), Encoding::Bytes),
        };
        Ok(Self {
            mark: mark && encoding == Encoding::Utf8,
            foreign: foreign(&text),
            text,
            encoding,
        })
    }

    /// As it was stored.
    ///
    /// # Errors
    /// [`NoSuchLetter`].
    pub fn bytes(&self) -> Result<Vec<u8>, NoSuchLetter> {
        let mut bytes = Vec::new();
        if self.mark {
            bytes.extend_from_slice(match self.encoding {
                Encoding::Utf16Le => &[0xFF, 0xFE],
                Encoding::Utf16Be => &[0xFE, 0xFF],
                _ => b"\xEF\xBB\xBF",
            });
        }
        match self.encoding {
            Encoding::Utf8 => bytes.extend_from_slice(self.text.as_bytes()),
            Encoding::Utf16Le => bytes.extend(self.text.encode_utf16().flat_map(u16::to_le_bytes)),
            Encoding::Utf16Be => bytes.extend(self.text.encode_utf16().flat_map(u16::to_be_bytes)),
            Encoding::Bytes => {
                if foreign(&self.text) > self.foreign {
                    return Err(NoSuchLetter);
                }
                let letters = self.text.chars().map(u8::try_from);
                let letters: Result<Vec<u8>, _> = letters.collect();
                bytes.extend(letters.map_err(|_| NoSuchLetter)?);
            }
        }
        Ok(bytes)
    }
}

/// How most lines of a text end.
pub fn line_end(text: &str) -> &'static str {
    let all = text.matches('\n').count();
    match text.matches("\r\n").count() * 2 > all {
        true => "\r\n",
        false => "\n",
    }
}

/// The lines of a text with where each begins, their ends left out.
pub fn lines(text: &str) -> impl Iterator<Item = (usize, &str)> {
    let mut at = 0;
    text.split_inclusive('\n').map(move |line| {
        let start = at;
        at += line.len();
        (start, line.trim_end_matches(['\n', '\r']))
    })
}

/// Where the line of the byte at `at` ends, its end included.
pub fn behind_line(text: &str, at: usize) -> usize {
    let rest = &text.as_bytes()[at..];
    rest.iter().position(|byte| *byte == b'\n').map_or(text.len(), |end| at + end + 1)
}

/// Puts a line at a place where a line begins, or behind a last line that has no end.
pub fn put_line(text: &mut String, at: usize, line: &str) {
    let end = line_end(text);
    match at > 0 && !text[..at].ends_with('\n') {
        true => text.insert_str(at, &format!("{end}{line}")),
        false => text.insert_str(at, &format!("{line}{end}")),
    }
}

/// Takes a line away; `start` is where it begins. A last line without an end takes that of the line
/// before.
pub fn take_line(text: &mut String, start: usize) {
    let end = behind_line(text, start);
    let last = !text[start..end].ends_with('\n');
    let kept = text[..start].trim_end_matches('\n');
    let from = match last && start > 0 {
        true => kept.strip_suffix('\r').unwrap_or(kept).len(),
        false => start,
    };
    text.replace_range(from..end, "");
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_encoding_comes_back() {
        let utf16: Vec<u8> = "a=ä\r\n".encode_utf16().flat_map(u16::to_le_bytes).collect();
        let marked = [&[0xFF, 0xFE][..], &utf16].concat();
        for (bytes, text) in [
            (&b"a=\xC3\xA4\n"[..], "a=ä\n"),
            (b"\xEF\xBB\xBFa", "a"),
            (&marked, "a=ä\r\n"),
            (&utf16, "a=ä\r\n"),
            (b"\xFE\xFF\0a", "a"),
            (b"a=\xE4\r\n", "a=ä\r\n"),
            (b"", ""),
        ] {
            let stored = Stored::read(bytes).unwrap();
            assert_eq!(stored.text, text);
            assert_eq!(stored.bytes().unwrap(), bytes);
        }
        let mut old = Stored::read(b"a=\xE4").unwrap();
        old.text += "ö";
        assert_eq!(old.bytes(), Err(NoSuchLetter));
        assert!(Stored::read(b"\xFF\xFE\0").is_err());
    }

    #[test]
    fn a_line_put_and_taken_leaves_nothing() {
        for text in ["", "a\n", "a\nb", "a\r\nb\r\n", "a\r\nb", "\n"] {
            let starts: Vec<usize> = lines(text).map(|(at, _)| at).chain([text.len()]).collect();
            for at in starts {
                let mut edited = text.to_owned();
                put_line(&mut edited, at, "new");
                let (start, _) = lines(&edited).find(|(_, line)| *line == "new").unwrap();
                take_line(&mut edited, start);
                assert_eq!(edited, text, "{text:?} at {at}");
            }
        }
    }
}
