//! What is learnt of a tree holds for that tree: whatever it holds, checking it against its own sheet passes, and each of
//! its slots is made as its own stock is.
#![allow(clippy::as_conversions, clippy::unwrap_used, missing_docs)]

use deft_needle_audio::observe::Unobserved;
use deft_needle_core::learn::learn;
use deft_needle_core::root::Roots;
use deft_needle_core::sheet::Sheet;
use deft_needle_core::slots::to_csv;
use deft_needle_core::stock::Stock;
use deft_needle_core::target::Target;
use proptest::prelude::*;
use std::fs;
use std::path::Path;

/// A WAV of this many frames.
fn wav(rate: u32, channels: u16, bits: u16, frames: u32) -> Vec<u8> {
    let unit = channels * bits / 8;
    let bytes = frames * u32::from(unit);
    let mut file = b"RIFF".to_vec();
    file.extend((36 + bytes).to_le_bytes());
    file.extend(b"WAVEfmt \x10\0\0\0\x01\0");
    file.extend(channels.to_le_bytes());
    file.extend(rate.to_le_bytes());
    file.extend((rate * u32::from(unit)).to_le_bytes());
    file.extend(unit.to_le_bytes());
    file.extend(bits.to_le_bytes());
    file.extend(b"data");
    file.extend(bytes.to_le_bytes());
    file.extend((0..bytes).map(|n| if bits == 8 { 0x70 + (n % 32) as u8 } else { (n % 7) as u8 }));
    file
}

/// What may lie in a tree.
#[derive(Debug, Clone)]
enum Kind {
    Wav(u32, u16, u16),
    /// A closed format: a mark, and what differs from file to file.
    Closed(u8),
    /// Samples without a header.
    Data(u8),
    /// A container of sound with an encoding that is not read here.
    Riff(u8),
    Text,
    /// In a character set of one byte.
    Latin,
    Picture,
    Empty,
}

impl Kind {
    fn bytes(&self, n: usize) -> Vec<u8> {
        match self {
            Self::Wav(rate, channels, bits) => wav(*rate, *channels, *bits, 200 + 10 * n as u32),
            Self::Closed(mark) => [b"LB", &[*mark, 1, 0xFF, n as u8][..], &[0x80; 40]].concat(),
            Self::Data(seed) => {
                let step = u32::from(*seed) * 2 + 1;
                (0..400u32).map(|at| ((at * at + step * at + n as u32) % 251) as u8).collect()
            }
            Self::Riff(tag) => {
                let mut file = wav(44_100, 2, 16, 20 + n as u32);
                file[20..22].copy_from_slice(&[*tag, 1]);
                file
            }
            Self::Latin => {
                format!("no {n}: ").into_bytes().into_iter().chain(*b"\xE9lan\r\n").collect()
            }
            Self::Text => format!("recorded at the quay, take {n}\n").into_bytes(),
            Self::Picture => [&b"\x89PNG\r\n\x1a\n"[..], &[n as u8; 30]].concat(),
            Self::Empty => Vec::new(),
        }
    }
}

fn kind() -> impl Strategy<Value = Kind> {
    let rate = prop::sample::select(vec![8_000u32, 22_050, 44_100]);
    prop_oneof![
        6 => (rate, 1u16..3, prop::sample::select(vec![8u16, 16])).prop_map(|(r, c, b)| Kind::Wav(r, c, b)),
        2 => (65u8..68).prop_map(Kind::Closed),
        2 => (0u8..4).prop_map(Kind::Data),
        1 => (0x61u8..0x63).prop_map(Kind::Riff),
        1 => Just(Kind::Text),
        1 => Just(Kind::Latin),
        1 => Just(Kind::Picture),
        1 => Just(Kind::Empty),
    ]
}

/// Folders with files that are alike, as trees have them, and some that are not.
fn tree() -> impl Strategy<Value = Vec<(String, Kind)>> {
    let folder =
        prop::sample::select(vec!["", "sfx/", "music/", "sfx/deck/", "Voices/en/", "a b/"]);
    let stem = prop::sample::select(vec![
        "gull_1", "gull_2", "bell", "Step (1)", "trk_04", "x", "kettle-a", "ö",
    ]);
    let extension = prop::sample::select(vec![
        ".wav", ".wav", ".wav", ".prm", ".dat", ".txt", ".raw", ".ogg", "",
    ]);
    let file =
        (folder, stem, extension, kind()).prop_map(|(f, s, e, kind)| (format!("{f}{s}{e}"), kind));
    prop::collection::vec(file, 1..14)
}

/// Learns a tree, and gives its target; nothing where the tree holds nothing audible.
fn learnt(folder: &Path) -> Option<(Target, Stock, String)> {
    let stock = Stock::open(&folder.join("game")).unwrap();
    let learnt = learn(&stock, "game.slots.csv", &Unobserved).ok()?;
    fs::write(folder.join("game.slots.csv"), to_csv(&learnt.list).unwrap()).unwrap();
    let path = folder.join("game.toml");
    fs::write(&path, &learnt.sheet).unwrap();
    let sheet = Sheet::load(&path).unwrap_or_else(|e| panic!("{e}\n{}", learnt.sheet));
    let target = Target::new(sheet, Roots::main(Some(&folder.join("game")))).unwrap();
    Some((target, stock, learnt.sheet))
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 250, max_shrink_iters: 400, ..ProptestConfig::default() })]

    #[test]
    fn any_tree_passes_its_own_sheet(files in tree()) {
        let folder = tempfile::tempdir().unwrap();
        for (n, (name, kind)) in files.iter().enumerate() {
            let path = folder.path().join("game").join(name);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, kind.bytes(n)).unwrap();
        }
        let Some((target, stock, sheet)) = learnt(folder.path()) else { return Ok(()) };
        let report = target.check(&stock, "", true, &Unobserved).unwrap();
        for file in &report.files {
            prop_assert!(file.shortfalls.is_empty(), "{}: {:?}\n{sheet}", file.slot, file.shortfalls);
        }
        prop_assert!(report.whole.is_empty(), "{:?}\n{sheet}", report.whole);
        prop_assert!(target.remarks().is_empty(), "{:?}\n{sheet}", target.remarks());
        // Every sound of the tree is a slot with a rule.
        for (name, kind) in &files {
            let last = files.iter().rfind(|(other, _)| other == name).unwrap();
            if matches!(kind, Kind::Wav(..)) && std::ptr::eq(last, files.iter().rfind(|f| f.0 == *name).unwrap())
                && matches!(last.1, Kind::Wav(..))
            {
                prop_assert!(target.aim(name).is_ok(), "{name}\n{sheet}");
            }
        }
    }
}
