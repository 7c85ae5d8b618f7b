//! Vorbis comments, as Ogg and FLAC carry them, and the loop tags among them.
//!
//! Source: "Ogg Vorbis I format specification: comment field and header specification" (Xiph.Org).

use super::Hints;
use super::bytes::le32;
use crate::clip::{Loop, Note, Tag};
use crate::num::size;
use crate::spec::{LoopTags, LoopUnit};
use crate::units::{FrameRange, SampleRate};

/// Comments beyond this many are left out.
const MOST: usize = 4096;

/// Names that players know for a loop's start, end and length, without regard to case, `_` and `-`.
const STARTS: &[&str] = &["LOOPSTART", "LOOPBEGIN"];
const ENDS: &[&str] = &["LOOPEND"];
const LENGTHS: &[&str] = &["LOOPLENGTH"];

/// The texts, without the vendor's name; what is broken ends the list.
pub fn parse(bytes: &[u8]) -> Vec<Tag> {
    let mut tags = Vec::new();
    let piece = |at: usize| {
        let length = size(le32(bytes, at)?.into());
        let end = at.checked_add(4)?.checked_add(length)?;
        Some((bytes.get(at + 4..end)?, end))
    };
    let Some((_, at)) = piece(0) else { return tags };
    let stated = le32(bytes, at).map_or(0, |n| size(n.into()));
    let mut at = at + 4;
    while tags.len() < stated.min(MOST) {
        let Some((comment, next)) = piece(at) else {
            break;
        };
        at = next;
        let comment = String::from_utf8_lossy(comment);
        if let Some((name, value)) = comment.split_once('=') {
            tags.push(Tag::new(name, value));
        }
    }
    tags
}

/// Takes the loop tags out of the texts and reads them; gives their names, too.
pub fn take_loop(
    tags: &mut Vec<Tag>,
    hints: &Hints,
    frames: u64,
    rate: SampleRate,
    notes: &mut Vec<Note>,
) -> Option<(Loop, Vec<String>)> {
    let mut found = Vec::new();
    let plain = |name: &str| name.to_uppercase().replace(['_', '-', ' '], "");
    let own = hints.loop_tags.as_ref();
    let mut find = |names: &[&str], own: Option<&str>| {
        let own = own.map(plain);
        let is = |tag: &Tag| {
            let name = plain(&tag.name);
            names.contains(&name.as_str()) || Some(name) == own
        };
        let value = |tag: &Tag| value(tag, own_unit(hints), rate);
        let at = tags.iter().position(|tag| is(tag) && value(tag).is_some())?;
        let tag = tags.remove(at);
        found.push(tag.name.clone());
        value(&tag)
    };
    let start = find(STARTS, own.map(|t| t.start.as_str()));
    let length = find(LENGTHS, own.and_then(|t| t.length()));
    let end = find(ENDS, own.and_then(|t| t.end()));
    if start.is_none() && length.is_none() && end.is_none() {
        return None;
    }
    let start = start.unwrap_or(0);
    let end = end.or(length.map(|length| start.saturating_add(length))).unwrap_or(frames);
    let range = FrameRange { start, end };
    if range.is_empty() || end > frames {
        notes.push(Note::Corrected {
            what: format!("a loop from frame {start} up to {end} lies outside the clip; left out"),
        });
        return None;
    }
    Some((Loop::endless(range), found))
}

fn own_unit(hints: &Hints) -> LoopUnit {
    hints.loop_tags.as_ref().map_or(LoopUnit::Frames, |tags: &LoopTags| tags.unit)
}

fn value(tag: &Tag, unit: LoopUnit, rate: SampleRate) -> Option<u64> {
    let text = tag.value.trim();
    match unit {
        LoopUnit::Frames => text.parse().ok(),
        LoopUnit::Seconds => {
            let seconds: f64 = text.parse().ok()?;
            (seconds >= 0.0 && seconds.is_finite()).then(|| rate.frames(seconds))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn loops_in_the_usual_spellings() {
        let rate = SampleRate::new(48_000).unwrap();
        let seconds: LoopTags = "start=FROM,end=TO,in=seconds".parse().unwrap();
        type Case<'a> = (&'a [(&'a str, &'a str)], Option<&'a LoopTags>, Option<(u64, u64)>);
        let cases: &[Case<'_>] = &[
            (&[("LOOPSTART", "100"), ("LOOPLENGTH", "400")], None, Some((100, 500))),
            (&[("loop_start", "100"), ("Loop-End", "500")], None, Some((100, 500))),
            (&[("LOOPSTART", "100")], None, Some((100, 1000))),
            (&[("LOOPLENGTH", "400")], None, Some((0, 400))),
            (&[("LOOPSTART", "soon")], None, None),
            (&[("LOOPSTART", "100"), ("LOOPEND", "2000")], None, None),
            (&[("FROM", "0.002"), ("TO", "0.0104")], Some(&seconds), Some((96, 499))),
        ];
        for (texts, own, want) in cases {
            let mut tags: Vec<Tag> = texts.iter().map(|(n, v)| Tag::new(n, *v)).collect();
            let hints = Hints { loop_tags: own.cloned(), ..Hints::default() };
            let found = take_loop(&mut tags, &hints, 1000, rate, &mut Vec::new());
            assert_eq!(found.map(|(l, _)| (l.range.start, l.range.end)), *want, "{texts:?}");
        }
    }
}
