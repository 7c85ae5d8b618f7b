//! Sheets, lists and archives come from strangers: whatever they hold, nothing panics, and no name
//! leads out.
#![allow(clippy::as_conversions, clippy::unwrap_used, missing_docs)]

use deft_needle_audio::observe::Unobserved;
use deft_needle_core::root::Roots;
use deft_needle_core::sheet::{Sheet, Within};
use deft_needle_core::slots::{Slots, from_csv};
use deft_needle_core::stock::Stock;
use proptest::prelude::*;
use std::io::{Cursor, Write};
use std::path::Path;
use zip::write::SimpleFileOptions;

/// A sound that any reader takes.
fn sound(frames: u32) -> Vec<u8> {
    let mut bytes = b"RIFF".to_vec();
    bytes.extend((36 + frames).to_le_bytes());
    bytes.extend(b"WAVEfmt \x10\0\0\0\x01\0\x01\0");
    bytes.extend(8000u32.to_le_bytes());
    bytes.extend(8000u32.to_le_bytes());
    bytes.extend(b"\x01\0\x08\0data");
    bytes.extend(frames.to_le_bytes());
    bytes.resize(bytes.len() + frames as usize, 0x80);
    bytes
}

fn zip_of(names: &[String]) -> Vec<u8> {
    let mut zip = zip::ZipWriter::new(Cursor::new(Vec::new()));
    for name in names {
        zip.start_file(name, SimpleFileOptions::default()).unwrap();
        zip.write_all(&sound(20)).unwrap();
    }
    zip.finish().unwrap().into_inner()
}

fn tar_of(names: &[String]) -> Vec<u8> {
    let mut tar = tar::Builder::new(Vec::new());
    for name in names {
        let mut header = tar::Header::new_ustar();
        let bytes = sound(20);
        header.set_size(bytes.len() as u64);
        tar.append_data(&mut header, name, bytes.as_slice()).unwrap();
    }
    tar.into_inner().unwrap()
}

#[test]
fn twenty_thousand_names_in_an_archive() {
    let folder = tempfile::tempdir().unwrap();
    let names: Vec<String> =
        (0..20_000).map(|n| format!("pack{:02}/snd_{n:05}.wav", n % 40)).collect();
    for (file, bytes) in [("big.zip", zip_of(&names)), ("big.tar", tar_of(&names))] {
        let path = folder.path().join(file);
        std::fs::write(&path, bytes).unwrap();
        let stock = Stock::open(&path).unwrap();
        let mut sorted = names.clone();
        sorted.sort();
        assert_eq!(stock.names().unwrap(), sorted, "{file}");
        let looked = stock.look(&|member| Ok((member.bytes, member.hash()?)), &Unobserved).unwrap();
        assert!(looked.found.len() == 20_000 && looked.left_out.is_empty());
        // As the names of a sheet, found by their folder.
        let sheet = format!(
            "name = 'x'\n[[slots]]\nin-root = '{file}'\n[[rule]]\nmatch = '**'\nspec = 'wav any any any'"
        );
        let sheet = Sheet::parse(&sheet, Path::new("x")).unwrap();
        let slots = Slots::of_sheet(&sheet, &Roots::main(Some(folder.path()))).unwrap();
        assert_eq!(slots.names().count(), 20_000);
    }
}

/// Pieces that sheets are made of, and some that they are not.
fn piece() -> impl Strategy<Value = String> {
    prop_oneof![
        prop::sample::select(vec![
            "name = 'x'",
            "[[rule]]",
            "match = '**'",
            "spec = 'wav pcm16 44100 mono'",
            "spec = ['ogg vorbis any any', 'opaque']",
            "[names]",
            "allowed = 'a-z'",
            "[[slots]]",
            "from = 'a.csv'",
            "find = '('",
            "make = '{9}'",
            "loop = 'required'",
            "loop-tags = { start = 'A', end = 'B' }",
            "longest = '-1s'",
            "longest = 1e9",
            "count = [1, -2]",
            "count = 3",
            "route = '99L'",
            "first-bytes = 'zz'",
            "[labels]",
            "'a' = 'b'",
            "encoder = {}",
            "roots = ['a', 'a']",
            "[[entry]]",
            "value = { a = [1, {}] }",
            "header = 'plain'",
            "budget = '1e400MiB'",
            "block-bytes = 99999999999",
        ])
        .prop_map(str::to_owned),
        "\\PC{0,12}",
    ]
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn any_sheet_is_read_or_refused(pieces in prop::collection::vec(piece(), 0..10)) {
        let text = pieces.join("\n");
        if let Err(error) = Sheet::parse(&text, Path::new("x")) {
            prop_assert!(!error.to_string().is_empty());
        }
    }

    #[test]
    fn any_list_is_read_or_refused(rows in "(name|a|,|\"|\n|\\.\\./|opaque|1|\\PC){0,40}") {
        let text = format!("name,spec,seconds,frames,lufs,loop,bytes,hash\n{rows}");
        for listed in from_csv(&text, Path::new("x")).unwrap_or_default() {
            prop_assert!(listed.name.parse::<Within>().is_ok());
        }
    }

    #[test]
    fn any_archive_is_read_or_refused(
        changes in prop::collection::vec((any::<prop::sample::Index>(), any::<u8>()), 0..12),
        cut in any::<prop::sample::Index>(), whole in any::<bool>(), tar in any::<bool>(),
    ) {
        let names: Vec<String> = ["a.wav", "sfx/b.wav", "sfx/c d.wav"].map(str::to_owned).to_vec();
        let mut bytes = if tar { tar_of(&names) } else { zip_of(&names) };
        for (at, value) in changes {
            let at = at.index(bytes.len());
            bytes[at] = value;
        }
        if !whole {
            bytes.truncate(cut.index(bytes.len()) + 1);
        }
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join(if tar { "x.tar" } else { "x.zip" });
        std::fs::write(&path, bytes).unwrap();
        if let Ok(stock) = Stock::open(&path) {
            for name in stock.names().unwrap_or_default() {
                prop_assert!(name.parse::<Within>().is_ok(), "{name}");
            }
            let _ = stock.look(&|member| Ok(member.clip(&Default::default()).is_ok()), &Unobserved);
        }
        prop_assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 1);
    }
}
