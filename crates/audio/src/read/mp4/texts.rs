//! Texts of MP4 files: the item list, and the gapless text among them.

use super::super::bytes::text;
use super::boxes::{boxes, find};
use crate::clip::Tag;

/// What `udta` holds.
#[derive(Debug, Default)]
pub struct Texts {
    /// The texts.
    pub tags: Vec<Tag>,
    /// The frames before the first, and how many follow.
    pub gapless: Option<(u64, u64)>,
    /// Whether there is more, such as a picture.
    pub more: bool,
}

/// Reads `meta`/`ilst` ("QuickTime File Format", metadata). `meta` is a full box in MP4 and none in
/// QuickTime.
pub fn read(udta: &[u8]) -> Texts {
    let mut texts = Texts::default();
    let Some(meta) = find(udta, b"meta") else {
        texts.more = !boxes(udta).is_empty();
        return texts;
    };
    let inner = match find(meta, b"hdlr") {
        Some(_) => meta,
        None => meta.get(4..).unwrap_or_default(),
    };
    for item in boxes(find(inner, b"ilst").unwrap_or_default()) {
        let value = find(item.contents, b"data").and_then(|data| data.get(8..));
        let kind = find(item.contents, b"data").and_then(|data| data.get(..4));
        match (&item.kind, value) {
            (b"----", Some(value)) => {
                let name = find(item.contents, b"name").and_then(|name| name.get(4..));
                match name {
                    Some(b"iTunSMPB") => texts.gapless = gapless(&text(value)),
                    _ => texts.more = true,
                }
            }
            (id, Some(value)) if kind == Some(&[0, 0, 0, 1]) => {
                texts.tags.push(Tag::of_mp4(id, text(value)));
            }
            _ => texts.more = true,
        }
    }
    texts
}

/// Four hexadecimal words at least: 0, frames before, frames behind, frames between.
fn gapless(text: &str) -> Option<(u64, u64)> {
    let words: Vec<u64> =
        text.split_whitespace().map_while(|word| u64::from_str_radix(word, 16).ok()).collect();
    match words.as_slice() {
        &[_, delay, _, frames, ..] if frames > 0 => Some((delay, frames)),
        _ => None,
    }
}
