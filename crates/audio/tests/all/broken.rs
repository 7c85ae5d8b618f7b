//! Files that were cut or changed.

use crate::bench::{Folder, WRITTEN, samples, signal};
use deft_needle_audio::block::Samples;
use deft_needle_audio::clip::{Loop, Note, Tag};
use deft_needle_audio::observe::Unobserved;
use deft_needle_audio::render::render_source;
use deft_needle_audio::shape::quantise::Dither;
use deft_needle_audio::spec::Format;
use deft_needle_audio::spec::Output;
use deft_needle_audio::units::FrameRange;
use proptest::prelude::*;
use std::io::Cursor;

#[test]
fn cut_files_are_read_as_far_as_they_go() {
    let folder = Folder::new();
    for spec in [
        "wav imaadpcm",
        "aiff pcm24",
        "aifc mulaw",
        "ogg vorbis",
        "flac flac16",
        "m4a aac",
        "m4a alac16",
        "qoa qoa",
    ] {
        let clip = folder.make("wav pcm16 44100 stereo", 60_000);
        let whole = folder.fit(&clip, &format!("{spec} any any"));
        let bytes = std::fs::read(whole.input().path().unwrap()).unwrap();
        let cut =
            folder.open(&bytes[..bytes.len() * 3 / 5]).unwrap_or_else(|e| panic!("{spec}: {e}"));
        let (frames, notes) = (cut.facts().frames, &cut.facts().notes);
        assert!(frames > 20_000 && frames < 60_000, "{spec}: {frames}");
        let told = |note: &Note| match note {
            Note::Truncated { promised, held } => *promised == 60_000 && *held == frames,
            note => note.to_string().contains("cut short"),
        };
        assert!(notes.iter().any(told), "{spec}: {notes:?}");
        assert!(notes.iter().any(|note| !note.is_harmless()), "{spec}: {notes:?}");
        let found = samples(&cut);
        assert_eq!(found[0].len() as u64, frames, "{spec}");
        let common = found[0].len() - 3000;
        assert_eq!(found[0][..common], samples(&whole)[0][..common], "{spec}");
    }
}

/// One small file of every kind that is written, with all that can lie beside the samples.
fn seeds() -> &'static [Vec<u8>] {
    static SEEDS: std::sync::OnceLock<Vec<Vec<u8>>> = std::sync::OnceLock::new();
    SEEDS.get_or_init(|| {
        let seed = |(spec, _): &(&str, Option<f64>)| {
            let rate = if spec.ends_with("opus") { 48_000 } else { 22_050 };
            let format: Format = format!("{spec} {rate} stereo").parse().unwrap();
            let output = Output {
                loops: vec![Loop::endless(FrameRange { start: 10, end: 500 })],
                tags: vec![Tag::new("TITLE", "x")],
                ..Output::plain(format, 3000)
            };
            let output = Output { block_bytes: spec.contains("adpcm").then_some(512), ..output };
            let mut bytes = Cursor::new(Vec::new());
            let source = Samples::new(format.rate, signal(format, 3000));
            render_source(source, &output, Dither::None, &mut bytes, &Unobserved).unwrap();
            bytes.into_inner()
        };
        let headed = WRITTEN.iter().filter(|(spec, _)| !spec.starts_with("raw"));
        headed.map(seed).collect()
    })
}

/// Blocks of ADPCM may be of any size that 16 bits tell.
#[test]
fn blocks_of_any_size_are_no_overflow() {
    let folder = Folder::new();
    let adpcm = |bytes: &&Vec<u8>| bytes.starts_with(b"RIFF") && [2, 0x11].contains(&bytes[20]);
    let mut tried = 0;
    for seed in seeds().iter().filter(adpcm) {
        for size in [0u16, 1, 8191, 8192, u16::MAX] {
            let mut bytes = seed.clone();
            bytes[32..34].copy_from_slice(&size.to_le_bytes());
            let told = folder.open(&bytes).map(|clip| clip.facts().format.encoding.codec);
            assert!(told.is_err() || size > 8, "{size}");
            tried += 1;
        }
    }
    assert!(tried >= 10, "{tried}");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(600))]

    /// Whatever is done to a file, it is read, or refused with an error.
    #[test]
    fn changed_files_never_panic(
        which in 0usize..1000,
        changes in prop::collection::vec((0usize..4000, any::<u8>()), 1..12),
        cut in prop::option::of(0usize..6000),
        near_start in any::<bool>(),
    ) {
        let seeds = seeds();
        let mut bytes = seeds[which % seeds.len()].clone();
        for (at, value) in changes {
            let reach = if near_start { bytes.len().min(400) } else { bytes.len() };
            bytes[at % reach] = value;
        }
        bytes.truncate(cut.unwrap_or(usize::MAX));
        let folder = Folder::new();
        if let Ok(clip) = folder.open(&bytes)
            && let Ok(mut frames) = clip.frames()
        {
            let mut block = deft_needle_audio::Block::default();
            let mut blocks = 0;
            while blocks < 200 && frames.next(&mut block).is_ok() && !block.is_empty() {
                blocks += 1;
            }
        }
    }
}
