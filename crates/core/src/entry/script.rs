//! Scripts that are plain text to us: a part that stands there just once is replaced, or lines are put before or
//! behind it, and taken back without a look at the rest.

use super::ini::plain;
use super::text::{Stored, behind_line, line_end};
use super::{Done, Format, Made, NewEntry};
use crate::limits;
use regex::RegexBuilder;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::ops::Range;

/// What becomes of the part that is found.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Put {
    /// The value stands in its place.
    #[default]
    Instead,
    /// The value stands in lines before its own.
    Before,
    /// The value stands in lines behind its own.
    After,
}

/// The one place that an expression finds.
fn find(at: &str, text: &str) -> Result<Option<Range<usize>>, String> {
    let built = RegexBuilder::new(at)
        .multi_line(true)
        .size_limit(limits::PATTERN)
        .dfa_size_limit(limits::PATTERN)
        .build()
        .map_err(|error| error.to_string())?;
    let mut found = built.find_iter(text).map(|found| found.range());
    match (found.next(), found.next()) {
        (Some(_), Some(_)) => Err(format!("several places match {at}; one is meant")),
        (found, _) => Ok(found),
    }
}

/// Makes an entry.
///
/// # Errors
/// No place, or several.
pub fn make(wanted: &NewEntry, value: &Value, bytes: &[u8]) -> Result<Made, String> {
    let mut stored = Stored::read(bytes)?;
    let (text, end) = (stored.text.as_str(), line_end(&stored.text));
    let value = plain(value).replace("\r\n", "\n").replace('\n', end);
    let place = find(&wanted.at, text)?;
    let (range, put) = match (place, wanted.put) {
        (None, Put::Instead) if text.matches(&value).count() == 1 => return Ok(Made::Already),
        (None, _) => return Err(format!("no place matches {}", wanted.at)),
        (Some(own), Put::Instead) if text[own.clone()] == value => return Ok(Made::Already),
        (Some(own), Put::Instead) => (own, value),
        (Some(own), Put::Before) => {
            let start = text[..own.start].rfind('\n').map_or(0, |at| at + 1);
            let lines = format!("{}{end}", value.trim_end_matches(['\r', '\n']));
            if text[..start].ends_with(&lines) {
                return Ok(Made::Already);
            }
            (start..start, lines)
        }
        (Some(own), Put::After) => {
            let behind = behind_line(text, own.end.max(own.start + 1) - 1);
            let lines = value.trim_end_matches(['\r', '\n']);
            let next = text[behind..].strip_prefix(lines);
            if next.is_some_and(|next| next.is_empty() || next.starts_with(end)) {
                return Ok(Made::Already);
            }
            // The last line of a file may lack its end, and keeps lacking it.
            let lines = match text[..behind].ends_with('\n') {
                true => format!("{lines}{end}"),
                false => format!("{end}{lines}"),
            };
            (behind..behind, lines)
        }
    };
    let before = Some(text[range.clone()].to_owned()).filter(|before| !before.is_empty());
    let offset = deft_needle_audio::num::count(range.start);
    let around = around(text, &range);
    stored.text.replace_range(range, &put);
    let done = Done {
        format: Format::Script,
        at: wanted.at.clone(),
        value: Value::from(put),
        separator: None,
        member: wanted.put != Put::Instead,
        made: false,
        before,
        offset: Some(offset),
        around: Some(around),
    };
    Ok(Made::New(stored.bytes().map_err(|error| error.to_string())?, Box::new(done)))
}

/// Bytes of what stands around a part that are remembered, on each side.
const AROUND: usize = 48;

/// What stands before and behind a part.
fn around(text: &str, part: &Range<usize>) -> [String; 2] {
    let mut from = part.start.saturating_sub(AROUND);
    while !text.is_char_boundary(from) {
        from += 1;
    }
    let mut to = (part.end + AROUND).min(text.len());
    while !text.is_char_boundary(to) {
        to -= 1;
    }
    [text[from..part.start].to_owned(), text[part.end..to].to_owned()]
}

/// Where a part stands that was put in: between what stood around it then. One of its neighbours may have changed since,
/// but where both have, an equal text is somebody else's. A part that is empty needs both.
fn find_put(done: &Done, put: &str, text: &str) -> Option<usize> {
    let was = deft_needle_audio::num::size(done.offset.unwrap_or_default());
    let Some([left, right]) = &done.around else {
        // Earlier versions did not remember what stood around it.
        let places = text.match_indices(put).map(|(at, _)| at);
        return places.min_by_key(|at| at.abs_diff(was)).filter(|_| !put.is_empty());
    };
    let known = |at: &usize| {
        let sides = [text[..*at].ends_with(left), text[*at + put.len()..].starts_with(right)];
        let known = sides.into_iter().filter(|known| *known).count();
        (known > usize::from(put.is_empty())).then_some(known)
    };
    let places: Vec<usize> = match put {
        "" => text.match_indices(left).map(|(at, _)| at + left.len()).collect(),
        put => text.match_indices(put).map(|(at, _)| at).collect(),
    };
    let places = places.into_iter().filter_map(|at| Some((known(&at)?, at)));
    let best = places.max_by_key(|(known, at)| (*known, std::cmp::Reverse(at.abs_diff(was))))?;
    Some(best.1)
}

/// Takes it back where it stands; `None` where it does not.
///
/// # Errors
/// What is wrong with the file.
pub fn undo(done: &Done, bytes: &[u8]) -> Result<Option<Vec<u8>>, String> {
    let mut stored = Stored::read(bytes)?;
    let put = plain(&done.value);
    let Some(at) = find_put(done, &put, &stored.text) else {
        return Ok(None);
    };
    let before = done.before.as_deref().unwrap_or_default();
    stored.text.replace_range(at..at + put.len(), before);
    stored.bytes().map(Some).map_err(|error| error.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::entry::Order;

    fn entry(at: &str, value: &str, put: Put) -> NewEntry {
        NewEntry {
            format: Format::Script,
            at: at.to_owned(),
            value: Some(Value::from(value)),
            expect: None,
            separator: None,
            order: Order::End,
            ignore_case: false,
            put,
        }
    }

    const SCRIPT: &str = "noise \"hill thud\" {\r\n\tgroup 2\r\n\tplay \"snd/hit.wav\"\r\n}\r\nnoise \"hill hits\" {\r\n\tone-of {\r\n\t\t\"snd/hit1.wav\"\r\n\t}\r\n}";

    #[test]
    fn parts_are_replaced_and_lines_put_in_and_taken_back() {
        for (at, value, put, want) in [
            ("group 2", "group 7", Put::Instead, "\tgroup 7\r\n\tplay"),
            (
                r#"^\t\t"snd/hit1\.wav""#,
                "\t\t\"snd/mine.wav\"",
                Put::After,
                "hit1.wav\"\r\n\t\t\"snd/mine.wav\"\r\n\t}",
            ),
            (
                r#"^noise "hill hits""#,
                "noise \"new\" {\n}\n",
                Put::Before,
                "}\r\nnoise \"new\" {\r\n}\r\nnoise \"hill hits\"",
            ),
            (r#"hit1\.wav"\s+\}\s+\}"#, "# the end", Put::After, "}\r\n}\r\n# the end"),
        ] {
            let wanted = entry(at, value, put);
            let Ok(Made::New(bytes, done)) = wanted.make(SCRIPT.as_bytes()) else {
                panic!("{at}: {:?}", wanted.make(SCRIPT.as_bytes()));
            };
            let text = String::from_utf8(bytes.clone()).unwrap();
            assert!(text.contains(want), "{at}: {text}");
            assert_eq!(wanted.make(&bytes), Ok(Made::Already), "{at}");
            assert_eq!(done.undo(&bytes).unwrap().unwrap(), SCRIPT.as_bytes(), "{at}");
            // What others have written since stays.
            let more = format!("// theirs\r\n{text}\r\n// more");
            let back = done.undo(more.as_bytes()).unwrap().unwrap();
            assert_eq!(
                String::from_utf8(back).unwrap(),
                format!("// theirs\r\n{SCRIPT}\r\n// more")
            );
        }
        // What takes text out, and what stands in somebody else's line as well.
        let Ok(Made::New(bytes, done)) =
            entry("\tgroup 2\n", "", Put::Instead).make(SCRIPT.replace('\r', "").as_bytes())
        else {
            panic!("nothing was taken out");
        };
        let edited = format!("// theirs\n{}// more\n", String::from_utf8(bytes).unwrap());
        let back = String::from_utf8(done.undo(edited.as_bytes()).unwrap().unwrap()).unwrap();
        assert_eq!(back, format!("// theirs\n{}// more\n", SCRIPT.replace('\r', "")));
        let Ok(Made::New(bytes, done)) =
            entry("group 2", "7", Put::Instead).make(SCRIPT.as_bytes())
        else {
            panic!("nothing was put in");
        };
        let text = String::from_utf8(bytes).unwrap();
        let theirs = text.replace("\t7\r\n", "\tgroup 2\r\n\tvolume 7 or more\r\n");
        assert_eq!(done.undo(theirs.as_bytes()), Ok(None));
        // A match that ends in a letter of several bytes.
        let wide = "noise \"été\nnext\n";
        assert!(matches!(entry("été", "x", Put::After).make(wide.as_bytes()), Ok(Made::New(..))));
        for (at, part) in [("hill", "several places"), ("valley", "no place"), ("(", "unclosed")] {
            let error = entry(at, "x", Put::Instead).make(SCRIPT.as_bytes()).unwrap_err();
            assert!(error.contains(part), "{at}: {error}");
        }
    }
}
