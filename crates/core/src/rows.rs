//! Lists that people keep as text, and the rows of those that are tables (RFC 4180, read kindly): any delimiter,
//! comments, lines of any length, quotes where there are some.

use crate::error::{Error, Result};
use crate::limits;
use crate::refusal::{Many, OddList, OddText, Written};
use crate::sheet::{Column, Fault};
use crate::stock::bytes_at;
use deft_needle_audio::num::count;
use std::path::Path;

/// A row of a table.
#[derive(Debug, PartialEq, Eq)]
pub struct Row {
    /// Where it begins, in lines from 1.
    pub line: u64,
    /// What its columns hold, without the blanks around it.
    pub cells: Vec<String>,
}

/// A list's text: UTF-8, or UTF-16 with its mark. It may lie in an archive.
///
/// # Errors
/// As [`bytes_at`]; a list of more than [`limits::LIST`] bytes, or of no text.
pub fn text_of(path: &Path) -> Result<String> {
    let bytes = match bytes_at(path, limits::LIST) {
        Err(Error::Read { source, .. }) if source.kind() == std::io::ErrorKind::FileTooLarge => {
            let odd = OddText::TooLarge(Written::List, limits::LIST);
            return Err(Fault::whole(path, odd).into());
        }
        other => other?,
    };
    let wide = |pair: fn([u8; 2]) -> u16| {
        let units: Vec<u16> = bytes[2..].chunks_exact(2).map(|c| pair([c[0], c[1]])).collect();
        String::from_utf16(&units).ok()
    };
    let text = match bytes.as_slice() {
        [0xFF, 0xFE, ..] => wide(u16::from_le_bytes),
        [0xFE, 0xFF, ..] => wide(u16::from_be_bytes),
        [0xEF, 0xBB, 0xBF, rest @ ..] => std::str::from_utf8(rest).ok().map(str::to_owned),
        all => std::str::from_utf8(all).ok().map(str::to_owned),
    };
    text.ok_or_else(|| Fault::whole(path, OddText::NotText).into())
}

/// `# spare`, `// spare`: a name may begin with such a sign, but is not parted from it.
pub fn is_comment(text: &str) -> bool {
    text == "#" || text.starts_with("# ") || text.starts_with("//")
}

/// What parts the columns of a table, as its name or its first line tells.
pub fn usual_delimiter(path: &Path, text: &str) -> char {
    if path.extension().is_some_and(|extension| extension.eq_ignore_ascii_case("tsv")) {
        return '\t';
    }
    let first = text.lines().find(|line| !line.trim().is_empty() && !is_comment(line.trim()));
    let bare: String = first.unwrap_or_default().split('"').step_by(2).collect();
    let often = |c: &char| bare.matches(*c).count();
    [',', ';', '\t'].into_iter().rev().max_by_key(often).unwrap_or(',')
}

/// The rows of a table, but for empty ones and comments. The first lines may be none of its.
///
/// # Errors
/// A delimiter that is none, a quote without its end.
pub fn rows(path: &Path, text: &str, delimiter: char, skip: usize) -> Result<Vec<Row>> {
    let delimiter =
        u8::try_from(delimiter).map_err(|_| Fault::whole(path, OddList::Delimiter(delimiter)))?;
    let skipped: usize = text.split_inclusive('\n').take(skip).map(str::len).sum();
    let table = &text[skipped..];
    let mut reader = csv::ReaderBuilder::new()
        .delimiter(delimiter)
        .has_headers(false)
        .flexible(true)
        .from_reader(table.as_bytes());
    let (mut line, mut counted) = (count(skip) + 1, 0);
    let mut all = Vec::new();
    let mut row = csv::StringRecord::new();
    let wrong = |error: csv::Error| Fault::whole(path, OddText::Grammar(error.to_string()));
    while reader.read_record(&mut row).map_err(wrong)? {
        let at = |place: &csv::Position| usize::try_from(place.byte()).unwrap_or(table.len());
        let end = at(reader.position());
        // The reader tells where the line ends behind the row before begin.
        let written = table[row.position().map_or(0, at)..end].trim_start_matches(['\r', '\n']);
        let begin = end - written.len();
        line += count(table[counted..begin].matches('\n').count());
        counted = begin;
        // One that does not end would take all lines behind it.
        if row.iter().any(|cell| cell.contains('\n')) && written.matches('"').count() % 2 == 1 {
            let at = skipped + begin;
            let first = written.lines().next().unwrap_or_default().len();
            return Err(Fault::at(path, text, &(at..at + first), OddList::Quote).into());
        }
        let cells: Vec<String> = row.iter().map(|cell| cell.trim().to_owned()).collect();
        if !is_comment(&cells[0]) && cells.iter().any(|cell| !cell.is_empty()) {
            all.push(Row { line, cells });
            if all.len() > limits::NAMES {
                let odd = OddText::TooMany(Many::Names, limits::NAMES);
                return Err(Fault::whole(path, odd).into());
            }
        }
    }
    Ok(all)
}

/// Where a column stands, from 0: by its number, or by its heading.
pub fn place_of(column: &Column, heads: &[String]) -> Option<usize> {
    match column {
        Column::Numbered(number) => number.checked_sub(1),
        Column::Named(name) => heads.iter().position(|head| head == name),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rows_as_people_leave_them() {
        let path = Path::new("list.csv");
        let read = |text: &str| -> Vec<(u64, String)> {
            let rows = rows(path, text, usual_delimiter(path, text), 0).unwrap();
            rows.into_iter().map(|row| (row.line, row.cells.join("|"))).collect()
        };
        for (text, want) in [
            ("a,b\r\n\r\nc , d\r\n", vec![(1, "a|b"), (3, "c|d")]),
            (
                "# spare, one\na;\"b; \"\"c\"\"\"\n// x\n#hash;d",
                vec![(2, "a|b; \"c\""), (4, "#hash|d")],
            ),
            ("a;\"two\nlines\"\nb;c\n", vec![(1, "a|two\nlines"), (3, "b|c")]),
            ("pipe;5\" wide\nb;c\n", vec![(1, "pipe|5\" wide"), (2, "b|c")]),
            (";\n ; \n", vec![]),
        ] {
            let want: Vec<(u64, String)> =
                want.into_iter().map(|(l, c)| (l, c.to_owned())).collect();
            assert_eq!(read(text), want, "{text:?}");
        }
        let Err(Error::Sheet(fault)) = rows(path, "x\n\na;\"b\nc;d\n", ';', 1) else { panic!() };
        assert_eq!((fault.spot.unwrap().line, fault.because), (3, OddList::Quote.into()));
    }
}
