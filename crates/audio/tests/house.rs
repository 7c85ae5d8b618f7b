//! What the parts of the crate may not know of one another.
#![allow(clippy::as_conversions, clippy::unwrap_used, missing_docs)]

use deft_needle_audio::clip::Note;
use std::path::PathBuf;

/// The proof must not share code with what it proves.
#[test]
fn reading_and_verifying_import_nothing_from_writing() {
    let source = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("src");
    let mut looked_at = 0;
    let mut folders = vec![source.join("read"), source.join("verify")];
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                folders.push(path);
                continue;
            }
            let text = std::fs::read_to_string(&path).unwrap();
            assert!(!text.contains("write::"), "{}", path.display());
            looked_at += 1;
        }
    }
    assert!(looked_at >= 8);
    let note = Note::Truncated { promised: 2, held: 1 };
    assert!(note.to_string().contains("promises 2"));
}
