//! Vorbis comments: texts, and the loop among them ("Ogg Vorbis I format specification: comment field
//! and header specification").

use crate::clip::Tag;
use crate::num::count32;
use crate::spec::Output;

/// Vendor, number, and each text as `NAME=value`, all counted.
pub fn comments(vendor: &str, output: &Output) -> Vec<u8> {
    let mut texts: Vec<Tag> = output.tags.clone();
    for l in output.loops.iter().take(1) {
        texts.extend(output.loop_tags.texts(l, output.format.rate));
    }
    let mut bytes = Vec::new();
    let mut counted = |text: &str| {
        bytes.extend_from_slice(&count32(text.len()).to_le_bytes());
        bytes.extend_from_slice(text.as_bytes());
    };
    counted(vendor);
    let number = count32(texts.len());
    let mut list = number.to_le_bytes().to_vec();
    for tag in &texts {
        let text = format!("{}={}", tag.name, tag.value);
        list.extend_from_slice(&count32(text.len()).to_le_bytes());
        list.extend_from_slice(text.as_bytes());
    }
    bytes.extend_from_slice(&list);
    bytes
}
