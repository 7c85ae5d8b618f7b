//! WAV files in and out, against files made by hand and an independent reader.
#![allow(clippy::as_conversions, clippy::unwrap_used, missing_docs)]

use deft_needle_audio::block::collect;
use deft_needle_audio::clip::Note;
use deft_needle_audio::observe::Unobserved;
use deft_needle_audio::plan::{Work, plan};
use deft_needle_audio::render::render;
use deft_needle_audio::spec::{Chunks, Demand, Header};
use deft_needle_audio::survey::{Ask, survey};
use deft_needle_audio::verify::verify;
use deft_needle_audio::{Clip, Error, Facts, Spec};
use proptest::prelude::*;
use std::io::Cursor;
use std::path::PathBuf;
use tempfile::TempDir;

/// Identifier, stated size where it lies, contents, and whether an odd one is padded.
type Chunk = (Vec<u8>, Option<u32>, Vec<u8>, bool);

/// A RIFF file put together chunk by chunk.
struct Riff {
    form: &'static [u8; 4],
    size: Option<u32>,
    chunks: Vec<Chunk>,
}

impl Riff {
    fn new() -> Self {
        Self {
            form: b"RIFF",
            size: None,
            chunks: Vec::new(),
        }
    }
    fn chunk(mut self, id: &[u8; 4], bytes: &[u8]) -> Self {
        self.chunks.push((id.to_vec(), None, bytes.to_vec(), true));
        self
    }
    /// A chunk that states another size than it has.
    fn lying(mut self, id: &[u8; 4], stated: u32, bytes: &[u8]) -> Self {
        self.chunks
            .push((id.to_vec(), Some(stated), bytes.to_vec(), true));
        self
    }
    fn unpadded(mut self, id: &[u8; 4], bytes: &[u8]) -> Self {
        self.chunks.push((id.to_vec(), None, bytes.to_vec(), false));
        self
    }
    fn fmt(self, tag: u16, channels: u16, rate: u32, bits: u16) -> Self {
        self.chunk(b"fmt ", &fmt(tag, channels, rate, bits))
    }
    fn bytes(&self) -> Vec<u8> {
        let mut body = b"WAVE".to_vec();
        for (id, stated, bytes, padded) in &self.chunks {
            body.extend(id);
            body.extend(stated.unwrap_or(bytes.len() as u32).to_le_bytes());
            body.extend(bytes);
            if bytes.len() % 2 == 1 && *padded {
                body.push(0);
            }
        }
        let size = self.size.unwrap_or(body.len() as u32);
        [self.form.as_slice(), &size.to_le_bytes(), &body].concat()
    }
}

fn fmt(tag: u16, channels: u16, rate: u32, bits: u16) -> Vec<u8> {
    let frame = channels * bits.div_ceil(8);
    let mut bytes = Vec::new();
    bytes.extend(tag.to_le_bytes());
    bytes.extend(channels.to_le_bytes());
    bytes.extend(rate.to_le_bytes());
    bytes.extend((rate * u32::from(frame)).to_le_bytes());
    bytes.extend(frame.to_le_bytes());
    bytes.extend(bits.to_le_bytes());
    bytes
}

fn extensible(tag: u16, channels: u16, rate: u32, bits: u16, valid: u16, mask: u32) -> Vec<u8> {
    let mut bytes = fmt(0xFFFE, channels, rate, bits);
    bytes.extend(22u16.to_le_bytes());
    bytes.extend(valid.to_le_bytes());
    bytes.extend(mask.to_le_bytes());
    bytes.extend(tag.to_le_bytes());
    bytes.extend(b"\0\0\0\0\x10\0\x80\0\0\xAA\0\x38\x9B\x71");
    bytes
}

struct Folder(TempDir);

impl Folder {
    fn new() -> Self {
        Self(tempfile::tempdir().unwrap())
    }
    fn path(&self, name: &str) -> PathBuf {
        self.0.path().join(name)
    }
    fn put(&self, name: &str, bytes: &[u8]) -> PathBuf {
        std::fs::write(self.path(name), bytes).unwrap();
        self.path(name)
    }
    fn open(&self, bytes: &[u8]) -> Result<Clip, Error> {
        Clip::open(&self.put("clip.wav", bytes))
    }
    /// Fits a file to a demand, verified; gives its bytes.
    fn fit(&self, clip: &Clip, demand: &Demand) -> (Vec<u8>, Work, Facts) {
        let plan = plan(clip.facts(), demand).unwrap();
        let mut bytes = Cursor::new(Vec::new());
        let outcome = render(clip, &plan, &mut bytes, &Unobserved).unwrap();
        let bytes = bytes.into_inner();
        let out = self.put("out.wav", &bytes);
        let facts = verify(clip, &plan, &outcome, &out, &Unobserved).unwrap();
        (bytes, plan.work, facts)
    }
}

fn demand(spec: &str) -> Demand {
    spec.parse::<Spec>().unwrap().into()
}

fn samples(clip: &Clip) -> Vec<Vec<f64>> {
    collect(&mut *clip.frames().unwrap()).unwrap()
}

#[test]
fn every_form_of_header_is_read_for_what_it_is() {
    let data = [0u8; 48];
    let ds64: Vec<u8> = [[0u8; 8].as_slice(), &48u64.to_le_bytes(), &[0; 12]].concat();
    let rf64 = Riff {
        form: b"RF64",
        size: Some(u32::MAX),
        ..Riff::new()
    };
    let smpl = {
        let mut words = vec![0u32; 9];
        words[7] = 1;
        words.extend([0, 0, 4, 11, 0, 0]);
        words
            .iter()
            .flat_map(|w| w.to_le_bytes())
            .collect::<Vec<u8>>()
    };
    let cases: Vec<(&str, Riff, &str, u64)> = vec![
        (
            "8 bit",
            Riff::new().fmt(1, 1, 8000, 8).chunk(b"data", &data),
            "wav pcm8 8000 mono",
            48,
        ),
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
        (
            "f64",
            Riff::new().fmt(3, 2, 1000, 64).chunk(b"data", &data),
            "wav f64 1000 stereo",
            3,
        ),
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
            Riff::new()
                .chunk(b"fmt ", &extensible(1, 1, 48_000, 32, 24, 4))
                .chunk(b"data", &data),
            "wav pcm32 48000 mono",
            12,
        ),
        (
            "rf64",
            rf64.chunk(b"ds64", &ds64)
                .fmt(1, 1, 48_000, 16)
                .lying(b"data", u32::MAX, &data),
            "rf64 pcm16 48000 mono",
            24,
        ),
        (
            "junk before",
            Riff::new()
                .chunk(b"JUNK", &[1; 7])
                .fmt(1, 1, 8000, 8)
                .chunk(b"data", &data),
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
            Riff::new()
                .fmt(1, 1, 8000, 8)
                .chunk(b"data", &data)
                .chunk(b"smpl", &smpl),
            "wav pcm8 8000 mono",
            48,
        ),
        (
            "streamed 0",
            Riff {
                size: Some(0),
                ..Riff::new()
            }
            .fmt(1, 1, 8000, 8)
            .lying(b"data", 0, &data),
            "wav pcm8 8000 mono",
            48,
        ),
        (
            "streamed -1",
            Riff {
                size: Some(u32::MAX),
                ..Riff::new()
            }
            .fmt(1, 1, 8000, 8)
            .lying(b"data", u32::MAX, &data),
            "wav pcm8 8000 mono",
            48,
        ),
        (
            "truly empty",
            Riff::new()
                .fmt(1, 1, 8000, 8)
                .chunk(b"data", b"")
                .chunk(b"LIST", b"INFO"),
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
            Riff::new()
                .unpadded(b"bext", b"abc")
                .fmt(1, 1, 8000, 8)
                .chunk(b"data", &data),
            "wav pcm8 8000 mono",
            48,
        ),
    ];
    let folder = Folder::new();
    for (name, riff, is, frames) in &cases {
        let clip = folder
            .open(&riff.bytes())
            .unwrap_or_else(|e| panic!("{name}: {e}"));
        let facts = clip.facts();
        assert_eq!(
            (facts.format.to_string().as_str(), facts.frames),
            (*is, *frames),
            "{name}"
        );
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
            assert_eq!(
                (facts.loops[0].range.start, facts.loops[0].range.end),
                (4, 12)
            );
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
        (
            Riff::new().fmt(1, 0, 8000, 8).chunk(b"data", &data).bytes(),
            "0 channels",
        ),
        (
            Riff::new().fmt(1, 1, 0, 8).chunk(b"data", &data).bytes(),
            "sample rate is 0",
        ),
        (
            Riff::new()
                .fmt(1, 33, 8000, 8)
                .chunk(b"data", &data)
                .bytes(),
            "33 channels",
        ),
        (
            Riff::new()
                .fmt(1, 1, 8000, 48)
                .chunk(b"data", &data)
                .bytes(),
            "48 bits",
        ),
        (
            Riff::new()
                .fmt(0x31, 1, 8000, 4)
                .chunk(b"data", &data)
                .bytes(),
            "GSM 6.10",
        ),
        (
            Riff::new()
                .chunk(b"fmt ", b"\x01\0")
                .chunk(b"data", &data)
                .bytes(),
            "only 2 bytes",
        ),
        (b"RIFF\x04\0\0\0WAVE".to_vec(), "no \"fmt \""),
        (b"FORM\0\0\0\x04AIFF".to_vec(), "no \"COMM\""),
        (b"hello, this is text".to_vec(), "68 65 6C"),
        (Vec::new(), "empty"),
    ] {
        let error = folder
            .open(&bytes)
            .err()
            .map(|e| e.to_string())
            .unwrap_or_default();
        assert!(error.contains(part), "{part}: {error}");
    }
    assert!(matches!(
        Clip::open(folder.0.path()),
        Err(Error::Read { .. })
    ));
}

const ENCODINGS: [&str; 6] = ["pcm8", "pcm16", "pcm24", "pcm32", "f32", "f64"];

/// A clip that uses every part of the range, in some encoding.
fn noise(folder: &Folder, encoding: &str, channels: u16, frames: usize) -> Clip {
    let mut state = 1u64;
    let mut next = || {
        state = state
            .wrapping_mul(6_364_136_223_846_793_005)
            .wrapping_add(1);
        state
    };
    let mut data = Vec::new();
    for _ in 0..frames * usize::from(channels) {
        let bits = next();
        let real = (bits >> 11) as f64 / (1u64 << 52) as f64 - 1.0;
        match encoding {
            "f32" => data.extend((real as f32).to_le_bytes()),
            "f64" => data.extend(real.to_le_bytes()),
            name => {
                let bytes = name[3..].parse::<usize>().unwrap() / 8;
                data.extend(&bits.to_le_bytes()[8 - bytes..]);
            }
        }
    }
    let bits: u16 = encoding
        .trim_start_matches(|c: char| !c.is_ascii_digit())
        .parse()
        .unwrap();
    let tag = if encoding.starts_with('f') { 3 } else { 1 };
    let riff = Riff::new()
        .fmt(tag, channels, 44_100, bits)
        .chunk(b"data", &data);
    Clip::open(&folder.put(&format!("{encoding}.wav"), &riff.bytes())).unwrap()
}

/// Every encoding into every other: an independent reader finds what we find, in the right number,
/// and nothing is lost where the target can hold it.
#[test]
fn every_encoding_becomes_every_other() {
    let folder = Folder::new();
    for from in ENCODINGS {
        let clip = noise(&folder, from, 2, 999);
        let original = samples(&clip);
        for to in ENCODINGS {
            for header in [Header::Plain, Header::Extensible] {
                let mut wish = demand(&format!("wav {to} 44100 stereo"));
                wish.header = Some(header);
                let (_, _, facts) = folder.fit(&clip, &wish);
                assert_eq!(
                    (facts.frames, facts.header),
                    (999, Some(header)),
                    "{from} to {to}"
                );
                let ours = samples(&Clip::open(&folder.path("out.wav")).unwrap());
                if to != "f64" {
                    assert_eq!(by_hound(&folder.path("out.wav")), ours, "{from} to {to}");
                }
                let bits = |name: &str| {
                    name.trim_matches(|c: char| !c.is_ascii_digit())
                        .parse::<u32>()
                        .unwrap()
                };
                let step = 2f64.powi(1 - bits(to) as i32);
                let widens =
                    !to.starts_with('f') && !from.starts_with('f') && bits(to) >= bits(from);
                let exact =
                    from == to || to == "f64" || widens || (to == "f32" && bits(from) <= 24);
                for (a, b) in original.iter().flatten().zip(ours.iter().flatten()) {
                    let error = (a - b).abs();
                    let allowed = if exact {
                        0.0
                    } else if to == "f32" {
                        1e-7
                    } else {
                        16.0 * step
                    };
                    assert!(error <= allowed, "{from} to {to}: {a} became {b}");
                }
            }
        }
    }
}

fn by_hound(path: &std::path::Path) -> Vec<Vec<f64>> {
    let mut reader = hound::WavReader::open(path).unwrap();
    let spec = reader.spec();
    let full = 2f64.powi(i32::from(spec.bits_per_sample) - 1);
    let flat: Vec<f64> = match spec.sample_format {
        hound::SampleFormat::Float => reader
            .samples::<f32>()
            .map(|s| f64::from(s.unwrap()))
            .collect(),
        hound::SampleFormat::Int => reader
            .samples::<i32>()
            .map(|s| f64::from(s.unwrap()) / full)
            .collect(),
    };
    let count = usize::from(spec.channels);
    (0..count)
        .map(|c| flat.iter().skip(c).step_by(count).copied().collect())
        .collect()
}

#[test]
fn what_conforms_is_not_touched() {
    let folder = Folder::new();
    for encoding in ENCODINGS {
        let clip = noise(&folder, encoding, 1, 501);
        let bytes = std::fs::read(folder.path(&format!("{encoding}.wav"))).unwrap();
        let (same, work, _) = folder.fit(&clip, &demand(&format!("wav {encoding} any mono")));
        assert_eq!((work, same == bytes), (Work::Nothing, true), "{encoding}");
        // Another header alone leaves every bit of the samples: NaNs, 32-bit integers and all.
        let mut wish = demand("any any any any");
        wish.header = Some(Header::Extensible);
        let (other, work, _) = folder.fit(&clip, &wish);
        assert_eq!(work, Work::Rewrap, "{encoding}");
        let audio = clip.facts().audio_bytes as usize;
        let find = |bytes: &[u8]| bytes.windows(4).position(|w| w == b"data").unwrap() + 8;
        let (a, b) = (find(&bytes), find(&other));
        assert_eq!(bytes[a..a + audio], other[b..b + audio], "{encoding}");
    }
}

#[test]
fn chunks_go_or_come_along_as_asked() {
    let folder = Folder::new();
    let mut smpl: Vec<u8> = [0u32, 0, 22_675, 0, 0, 0, 0, 1, 0]
        .iter()
        .flat_map(|w| w.to_le_bytes())
        .collect();
    smpl.extend(
        [0u32, 0, 441, 881, 0, 3]
            .iter()
            .flat_map(|w| w.to_le_bytes()),
    );
    let cue: Vec<u8> = [1u32, 9, 882, 0x6174_6164, 0, 0, 882]
        .iter()
        .flat_map(|w| w.to_le_bytes())
        .collect();
    let riff = Riff::new()
        .fmt(1, 1, 44_100, 16)
        .chunk(b"LIST", b"INFOINAM\x06\0\0\0Gull!\0")
        .chunk(b"data", &vec![0; 4410])
        .chunk(b"smpl", &smpl)
        .chunk(b"cue ", &cue)
        .chunk(b"LIST", b"adtllabl\x0A\0\0\0\x09\0\0\0mark!\0")
        .chunk(b"JUNK", &[0; 5]);
    let clip = folder.open(&riff.bytes()).unwrap();
    assert_eq!(
        (
            clip.facts().markers[0].frame,
            clip.facts().markers[0].name.as_str()
        ),
        (882, "mark!")
    );
    let ids = |facts: &Facts| facts.beside_samples().join(" ");
    for (chunks, spec, expected) in [
        (Some(Chunks::Bare), "wav pcm16 44100 mono", ""),
        (
            Some(Chunks::Kept),
            "wav pcm24 44100 mono",
            "LIST INFO smpl cue LIST adtl",
        ),
        (None, "wav pcm16 22050 mono", "smpl cue LIST adtl"),
    ] {
        let mut wish = demand(spec);
        wish.chunks = chunks;
        let (bytes, _, facts) = folder.fit(&clip, &wish);
        assert_eq!(ids(&facts), expected, "{spec}");
        match chunks {
            Some(Chunks::Bare) => assert_eq!(bytes.len(), 44 + 4410),
            Some(Chunks::Kept) => assert_eq!(facts.loops, clip.facts().loops),
            None => {
                let moved = facts.loops[0];
                assert_eq!(
                    (moved.range.start, moved.range.end, moved.plays),
                    (221, 441, 3)
                );
                assert_eq!(facts.markers[0].frame, 441);
            }
        }
    }
}

#[test]
fn a_wav_beyond_four_gigabytes_is_refused_with_what_would_fit() {
    let folder = Folder::new();
    let clip = noise(&folder, "pcm16", 2, 100);
    let mut facts = clip.facts().clone();
    facts.frames = 1 << 30;
    let error = plan(&facts, &demand("wav pcm32 44100 stereo")).unwrap_err();
    assert!(matches!(&error, Error::CannotMeet { .. }));
    assert!(error.to_string().contains("8.00 GiB"), "{error}");
    assert!(error.remedy().contains("3:22:53"), "{}", error.remedy());
    assert!(plan(&facts, &demand("wav pcm8 44100 stereo")).is_ok());
}

#[test]
fn samples_that_are_no_numbers_become_silence_and_are_counted() {
    let folder = Folder::new();
    let values = [0.5f32, f32::NAN, f32::INFINITY, 2.0, -0.25];
    let data: Vec<u8> = values.iter().flat_map(|v| v.to_le_bytes()).collect();
    let clip = folder
        .open(
            &Riff::new()
                .fmt(3, 1, 8000, 32)
                .chunk(b"data", &data)
                .bytes(),
        )
        .unwrap();
    assert_eq!(survey(&clip, Ask::ALL, &Unobserved).unwrap().not_numbers, 2);
    let plan = plan(clip.facts(), &demand("wav pcm16 8000 mono")).unwrap();
    let mut bytes = Cursor::new(Vec::new());
    let outcome = render(&clip, &plan, &mut bytes, &Unobserved).unwrap();
    assert_eq!((outcome.not_numbers, outcome.overs), (2, 1));
}

/// What is written is the same whatever else happens, so two runs are held against each other.
#[test]
fn same_clip_same_bytes() {
    let folder = Folder::new();
    let clip = noise(&folder, "f32", 2, 30_000);
    let wish = demand("wav pcm8 18900 mono");
    let first = folder.fit(&clip, &wish).0;
    assert_eq!(first, folder.fit(&clip, &wish).0);
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

    /// Any sample of any encoding survives a trip through the widest one and back.
    #[test]
    fn round_trips_are_exact(
        encoding in proptest::sample::select(&ENCODINGS[..]),
        channels in 1u16..=32,
        frames in 0usize..300,
    ) {
        let folder = Folder::new();
        let clip = noise(&folder, encoding, channels, frames);
        folder.fit(&clip, &demand("wav f64 any any"));
        let wide = folder.path("wide.wav");
        std::fs::rename(folder.path("out.wav"), &wide).unwrap();
        // Floats do not say how many bits they use, so the way back is without dither only for them.
        let back = if encoding.starts_with('f') { format!("wav {encoding} any any") } else { "wav f64 any any".to_owned() };
        let wide = Clip::open(&wide).unwrap();
        folder.fit(&wide, &demand(&back));
        let back = Clip::open(&folder.path("out.wav")).unwrap();
        prop_assert_eq!(samples(&back), samples(&clip));
    }
}

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
    let note = Note::Truncated {
        promised: 2,
        held: 1,
    };
    assert!(note.to_string().contains("promises 2"));
}
