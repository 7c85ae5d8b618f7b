//! WAV files written: every encoding into every other, headers and chunks, against an independent reader.

use crate::bench::{Folder, Riff, demand, samples};
use deft_needle_audio::Unmet;
use deft_needle_audio::measure::{Ask, survey};
use deft_needle_audio::observe::Unobserved;
use deft_needle_audio::plan::{Work, plan};
use deft_needle_audio::render::render;
use deft_needle_audio::spec::{Chunks, Header};
use deft_needle_audio::{Clip, Error, Facts};
use proptest::prelude::*;
use std::io::Cursor;

const ENCODINGS: [&str; 6] = ["pcm8", "pcm16", "pcm24", "pcm32", "f32", "f64"];

/// A clip that uses every part of the range, in some encoding.
fn noise(folder: &Folder, encoding: &str, channels: u16, frames: usize) -> Clip {
    let mut state = 1u64;
    let mut next = || {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
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
    let bits: u16 = encoding.trim_start_matches(|c: char| !c.is_ascii_digit()).parse().unwrap();
    let tag = if encoding.starts_with('f') { 3 } else { 1 };
    let riff = Riff::new().fmt(tag, channels, 44_100, bits).chunk(b"data", &data);
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
                let (_, _, facts) = folder.fit_to(&clip, &wish);
                assert_eq!((facts.frames, facts.header), (999, Some(header)), "{from} to {to}");
                let ours = samples(&Clip::open(&folder.path("out.wav")).unwrap());
                if to != "f64" {
                    assert_eq!(by_hound(&folder.path("out.wav")), ours, "{from} to {to}");
                }
                let bits = |name: &str| {
                    name.trim_matches(|c: char| !c.is_ascii_digit()).parse::<u32>().unwrap()
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
        hound::SampleFormat::Float => {
            reader.samples::<f32>().map(|s| f64::from(s.unwrap())).collect()
        }
        hound::SampleFormat::Int => {
            reader.samples::<i32>().map(|s| f64::from(s.unwrap()) / full).collect()
        }
    };
    let count = usize::from(spec.channels);
    (0..count).map(|c| flat.iter().skip(c).step_by(count).copied().collect()).collect()
}

#[test]
fn what_conforms_is_not_touched() {
    let folder = Folder::new();
    for encoding in ENCODINGS {
        let clip = noise(&folder, encoding, 1, 501);
        let bytes = std::fs::read(folder.path(&format!("{encoding}.wav"))).unwrap();
        let (same, work, _) = folder.fit_to(&clip, &demand(&format!("wav {encoding} any mono")));
        assert_eq!((work, same == bytes), (Work::Nothing, true), "{encoding}");
        // Another header alone leaves every bit of the samples: NaNs, 32-bit integers and all.
        let mut wish = demand("any any any any");
        wish.header = Some(Header::Extensible);
        let (other, work, _) = folder.fit_to(&clip, &wish);
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
    let mut smpl: Vec<u8> =
        [0u32, 0, 22_675, 0, 0, 0, 0, 1, 0].iter().flat_map(|w| w.to_le_bytes()).collect();
    smpl.extend([0u32, 0, 441, 881, 0, 3].iter().flat_map(|w| w.to_le_bytes()));
    let cue: Vec<u8> =
        [1u32, 9, 882, 0x6174_6164, 0, 0, 882].iter().flat_map(|w| w.to_le_bytes()).collect();
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
        (clip.facts().markers[0].frame, clip.facts().markers[0].name.as_str()),
        (882, "mark!")
    );
    let ids = |facts: &Facts| facts.beside_samples().join(" ");
    for (chunks, spec, expected) in [
        (Some(Chunks::Bare), "wav pcm16 44100 mono", ""),
        (Some(Chunks::Kept), "wav pcm24 44100 mono", "LIST INFO smpl cue LIST adtl"),
        (Some(Chunks::Loops), "wav pcm16 44100 mono", "smpl"),
        (None, "wav pcm16 22050 mono", "smpl cue LIST adtl"),
    ] {
        let mut wish = demand(spec);
        wish.chunks = chunks;
        let (bytes, _, facts) = folder.fit_to(&clip, &wish);
        assert_eq!(ids(&facts), expected, "{spec}");
        match chunks {
            Some(Chunks::Bare) => assert_eq!(bytes.len(), 44 + 4410),
            Some(_) => assert_eq!(facts.loops, clip.facts().loops),
            None => {
                let moved = facts.loops[0];
                assert_eq!((moved.range.start, moved.range.end, moved.plays), (221, 441, 3));
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
    let Error::CannotMeet(Unmet::FileTooLarge { gib, longest, .. }) = error else {
        panic!("{error}");
    };
    // 4 GiB of 8 bytes a frame at 44,100 Hz.
    assert!((gib - 8.0).abs() < 0.01 && (longest - 12_173.9).abs() < 0.1, "{gib} {longest}");
    assert!(plan(&facts, &demand("wav pcm8 44100 stereo")).is_ok());
}

#[test]
fn samples_that_are_no_numbers_become_silence_and_are_counted() {
    let folder = Folder::new();
    let values = [0.5f32, f32::NAN, f32::INFINITY, 2.0, -0.25];
    let data: Vec<u8> = values.iter().flat_map(|v| v.to_le_bytes()).collect();
    let clip = folder.open(&Riff::new().fmt(3, 1, 8000, 32).chunk(b"data", &data).bytes()).unwrap();
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
    let first = folder.fit_to(&clip, &wish).0;
    assert_eq!(first, folder.fit_to(&clip, &wish).0);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]

    /// Any sample of any encoding survives a trip through the widest one and back.
    #[test]
    fn round_trips_are_exact(
        encoding in proptest::sample::select(&ENCODINGS[..]),
        channels in 1u16..=32,
        frames in 0usize..300,
    ) {
        let folder = Folder::new();
        let clip = noise(&folder, encoding, channels, frames);
        folder.fit_to(&clip, &demand("wav f64 any any"));
        let wide = folder.path("wide.wav");
        std::fs::rename(folder.path("out.wav"), &wide).unwrap();
        // Floats do not say how many bits they use, so the way back is without dither only for them.
        let back = if encoding.starts_with('f') { format!("wav {encoding} any any") } else { "wav f64 any any".to_owned() };
        let wide = Clip::open(&wide).unwrap();
        folder.fit_to(&wide, &demand(&back));
        let back = Clip::open(&folder.path("out.wav")).unwrap();
        prop_assert_eq!(samples(&back), samples(&clip));
    }
}
