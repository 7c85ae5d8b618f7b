//! WAV files made by hand, chunk by chunk: what each form is read for, and what is refused.

use crate::bench::{Folder, Riff, extensible, samples};
use deft_needle_audio::measure::{Ask, survey};
use deft_needle_audio::observe::Unobserved;
use deft_needle_audio::spec::Header;
use deft_needle_audio::{Clip, Error};
use proptest::prelude::*;

#[test]
fn every_form_of_header_is_read_for_what_it_is() {
    let data = [0u8; 48];
    let ds64: Vec<u8> = [[0u8; 8].as_slice(), &48u64.to_le_bytes(), &[0; 12]].concat();
    let rf64 = Riff { form: b"RF64", size: Some(u32::MAX), ..Riff::new() };
    let smpl = {
        let mut words = vec![0u32; 9];
        words[7] = 1;
        words.extend([0, 0, 4, 11, 0, 0]);
        words.iter().flat_map(|w| w.to_le_bytes()).collect::<Vec<u8>>()
    };
    let cases: Vec<(&str, Riff, &str, u64)> = vec![
        ("8 bit", Riff::new().fmt(1, 1, 8000, 8).chunk(b"data", &data), "wav pcm8 8000 mono", 48),
        (
            "16 bit",
            Riff::new().fmt(1, 2, 44_100, 16).chunk(b"data", &data),
            "wav pcm16 44100 stereo",
            12,
        ),
        (
            "20 bit",
            Riff::new().fmt(1, 1, 44_100, 20).chunk(b"data", &data),
            "wav pcm24 44100 mono",
            16,
        ),
        (
            "32 bit",
            Riff::new().fmt(1, 4, 96_000, 32).chunk(b"data", &data),
            "wav pcm32 96000 4ch",
            3,
        ),
        (
            "f32",
            Riff::new().fmt(3, 1, 384_000, 32).chunk(b"data", &data),
            "wav f32 384000 mono",
            12,
        ),
        ("f64", Riff::new().fmt(3, 2, 1000, 64).chunk(b"data", &data), "wav f64 1000 stereo", 3),
        (
            "5.1",
            Riff::new()
                .chunk(b"fmt ", &extensible(1, 6, 48_000, 16, 16, 0x3F))
                .chunk(b"data", &data),
            "wav pcm16 48000 5.1",
            4,
        ),
        (
            "5.1 by side",
            Riff::new()
                .chunk(b"fmt ", &extensible(1, 6, 48_000, 16, 16, 0x60F))
                .chunk(b"data", &data),
            "wav pcm16 48000 5.1",
            4,
        ),
        (
            "24 in 32",
            Riff::new().chunk(b"fmt ", &extensible(1, 1, 48_000, 32, 24, 4)).chunk(b"data", &data),
            "wav pcm32 48000 mono",
            12,
        ),
        (
            "rf64",
            rf64.chunk(b"ds64", &ds64).fmt(1, 1, 48_000, 16).lying(b"data", u32::MAX, &data),
            "rf64 pcm16 48000 mono",
            24,
        ),
        (
            "junk before",
            Riff::new().chunk(b"JUNK", &[1; 7]).fmt(1, 1, 8000, 8).chunk(b"data", &data),
            "wav pcm8 8000 mono",
            48,
        ),
        (
            "data before fmt",
            Riff::new().chunk(b"data", &data).fmt(1, 1, 8000, 8),
            "wav pcm8 8000 mono",
            48,
        ),
        (
            "loops",
            Riff::new().fmt(1, 1, 8000, 8).chunk(b"data", &data).chunk(b"smpl", &smpl),
            "wav pcm8 8000 mono",
            48,
        ),
        (
            "streamed 0",
            Riff { size: Some(0), ..Riff::new() }.fmt(1, 1, 8000, 8).lying(b"data", 0, &data),
            "wav pcm8 8000 mono",
            48,
        ),
        (
            "streamed -1",
            Riff { size: Some(u32::MAX), ..Riff::new() }.fmt(1, 1, 8000, 8).lying(
                b"data",
                u32::MAX,
                &data,
            ),
            "wav pcm8 8000 mono",
            48,
        ),
        (
            "truly empty",
            Riff::new().fmt(1, 1, 8000, 8).chunk(b"data", b"").chunk(b"LIST", b"INFO"),
            "wav pcm8 8000 mono",
            0,
        ),
        (
            "cut short",
            Riff::new().fmt(1, 1, 8000, 16).lying(b"data", 1000, &data),
            "wav pcm16 8000 mono",
            24,
        ),
        (
            "no pad",
            Riff::new().unpadded(b"bext", b"abc").fmt(1, 1, 8000, 8).chunk(b"data", &data),
            "wav pcm8 8000 mono",
            48,
        ),
    ];
    let folder = Folder::new();
    for (name, riff, is, frames) in &cases {
        let clip = folder.open(&riff.bytes()).unwrap_or_else(|e| panic!("{name}: {e}"));
        let facts = clip.facts();
        assert_eq!((facts.format.to_string().as_str(), facts.frames), (*is, *frames), "{name}");
        assert_eq!(samples(&clip)[0].len() as u64, *frames, "{name}");
        let extended = riff.bytes().windows(2).any(|w| w == [0xFE, 0xFF]);
        assert_eq!(facts.header == Some(Header::Extensible), extended, "{name}");
        let notes = format!("{:?}", facts.notes);
        let expected = match *name {
            "streamed 0" | "streamed -1" => "LengthLeftOpen",
            "cut short" => "promised: 500, held: 24",
            "no pad" => "MissingPad",
            _ => "[]",
        };
        assert!(notes.contains(expected), "{name}: {notes}");
        if *name == "loops" {
            // The stored end, 11, is the last frame played.
            assert_eq!((facts.loops[0].range.start, facts.loops[0].range.end), (4, 12));
        }
    }
}

#[test]
fn what_is_no_sound_wav_is_refused_with_its_reason() {
    let folder = Folder::new();
    let data = [0u8; 8];
    for (bytes, part) in [
        (Riff::new().chunk(b"data", &data).bytes(), "no \"fmt \""),
        (Riff::new().fmt(1, 1, 8000, 8).bytes(), "no \"data\""),
        (Riff::new().fmt(1, 0, 8000, 8).chunk(b"data", &data).bytes(), "0 channels"),
        (Riff::new().fmt(1, 1, 0, 8).chunk(b"data", &data).bytes(), "sample rate is 0"),
        (Riff::new().fmt(1, 33, 8000, 8).chunk(b"data", &data).bytes(), "33 channels"),
        (Riff::new().fmt(1, 1, 8000, 48).chunk(b"data", &data).bytes(), "48 bits"),
        (Riff::new().fmt(0x31, 1, 8000, 4).chunk(b"data", &data).bytes(), "hold no GSM"),
        (Riff::new().chunk(b"fmt ", b"\x01\0").chunk(b"data", &data).bytes(), "only 2 bytes"),
        (b"RIFF\x04\0\0\0WAVE".to_vec(), "no \"fmt \""),
        (b"FORM\0\0\0\x04AIFF".to_vec(), "no \"COMM\""),
        (b"hello, this is text".to_vec(), "68 65 6C"),
        (Vec::new(), "empty"),
    ] {
        let error = folder.open(&bytes).err().map(|e| e.to_string()).unwrap_or_default();
        assert!(error.contains(part), "{part}: {error}");
    }
    assert!(matches!(Clip::open(folder.0.path()), Err(Error::Read { .. })));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]

    /// Any change of some bytes gives a clip or an error: no panic, no endless loop, no huge memory.
    #[test]
    fn damaged_files_never_panic(
        changes in proptest::collection::vec((0usize..200, any::<u8>()), 1..12),
        cut in 0usize..220,
    ) {
        let smpl = [0u8; 60];
        let mut bytes = Riff::new()
            .chunk(b"fmt ", &extensible(1, 2, 44_100, 16, 16, 3))
            .chunk(b"cue ", &[1; 28])
            .chunk(b"smpl", &smpl)
            .chunk(b"LIST", b"adtllabl\x06\0\0\0\x01\0\0\0x\0")
            .chunk(b"data", &[7; 33])
            .bytes();
        for (at, byte) in changes {
            let length = bytes.len();
            bytes[at % length] = byte;
        }
        bytes.truncate(cut.max(1));
        let folder = Folder::new();
        if let Ok(clip) = folder.open(&bytes) {
            prop_assert!(clip.facts().audio_bytes <= bytes.len() as u64);
            prop_assert_eq!(samples(&clip)[0].len() as u64, clip.facts().frames);
            survey(&clip, Ask::ALL, &Unobserved).unwrap();
        }
    }
}
