//! Texts before an MP3 stream ("ID3 tag version 2.4.0", main structure and native frames; id3.org).

use super::Along;
use crate::clip::{ID3_FRAME, Tag};
use crate::num::count32;
use crate::spec::Output;

/// Texts are UTF-8.
const UTF_8: u8 = 3;

/// The whole tag; nothing where there is nothing to say.
pub fn tag(output: &Output, along: &Along) -> Vec<u8> {
    let mut frames = Vec::new();
    output.tags.iter().for_each(|tag| text(tag, &mut frames));
    for l in output.loops.iter().take(1) {
        for tag in output.loop_tags.texts(l, output.format.rate) {
            named(&tag, &mut frames);
        }
    }
    for (id, contents) in &along.chunks {
        if let Some(id) = id.strip_prefix(ID3_FRAME) {
            frame(id.as_bytes(), contents, &mut frames);
        }
    }
    if frames.is_empty() {
        return frames;
    }
    let head = [b"ID3\x04\0\0".as_slice(), &seven_bits(frames.len())].concat();
    [head, frames].concat()
}

/// A text in its frame: one of its own, or one that names it.
fn text(tag: &Tag, frames: &mut Vec<u8>) {
    let own = tag.names().map(|names| *names.id3[0]);
    let is_frame = |name: &[u8]| {
        name.starts_with(b"T") && name != b"TXXX" && name.iter().all(u8::is_ascii_uppercase)
    };
    let id = own.or_else(|| <[u8; 4]>::try_from(tag.name.as_bytes()).ok().filter(|n| is_frame(n)));
    match id.as_ref() {
        // A comment has a language, which nobody told, and a title, which is empty.
        Some(b"COMM") => {
            let contents = [&[UTF_8], b"und\0".as_slice(), tag.value.as_bytes()].concat();
            frame(b"COMM", &contents, frames);
        }
        Some(id) => frame(id, &[&[UTF_8], tag.value.as_bytes()].concat(), frames),
        None => named(tag, frames),
    }
}

/// A text under a name that has no frame of its own.
fn named(tag: &Tag, frames: &mut Vec<u8>) {
    let contents = [&[UTF_8], tag.name.as_bytes(), b"\0", tag.value.as_bytes()].concat();
    frame(b"TXXX", &contents, frames);
}

fn frame(id: &[u8], contents: &[u8], frames: &mut Vec<u8>) {
    frames.extend_from_slice(id);
    frames.extend_from_slice(&seven_bits(contents.len()));
    frames.extend_from_slice(&[0, 0]);
    frames.extend_from_slice(contents);
}

/// A number of 28 bits, seven in each byte.
fn seven_bits(n: usize) -> [u8; 4] {
    let n = count32(n);
    (n & 0x7F | (n << 1) & 0x7F00 | (n << 2) & 0x7F_0000 | (n << 3) & 0x7F00_0000).to_be_bytes()
}
