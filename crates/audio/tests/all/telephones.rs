//! The codecs of telephones, against what programs that are not ours make of the same.

use crate::bench::{Folder, demand, noise_to_signal, samples};
use deft_needle_audio::Clip;
use deft_needle_audio::plan::plan;
use deft_needle_audio::read::{Hints, Input};

/// FNV-1a of 64 bits, to hold a table of figures in one number.
fn sum(bytes: impl IntoIterator<Item = u8>) -> u64 {
    bytes.into_iter().fold(0xCBF2_9CE4_8422_2325, |sum, byte| {
        (sum ^ u64::from(byte)).wrapping_mul(0x100_0000_01B3)
    })
}

fn sum_of(clip: &Clip) -> u64 {
    let all = samples(clip);
    let whole = all[0].iter().map(|s| (s * 32_768.0) as i16);
    sum(whole.flat_map(i16::to_le_bytes))
}

fn read_as(folder: &Folder, bytes: &[u8], line: &str) -> Clip {
    let hints = Hints { raw: Some(line.parse().unwrap()), ..Hints::default() };
    Clip::from_input(Input::file(&folder.put("raw", bytes)), &hints).unwrap()
}

/// Codes that no encoder would send, decoded by libsndfile (GSM), by the library that the Python package G722 is made of, and by
/// a model of G.726 that was written from its text (`scripts/witness.py`, which also holds it against libsndfile).
#[test]
fn any_codes_give_what_others_make_of_them() {
    let folder = Folder::new();
    let codes: Vec<u8> = (0..660u32).map(|k| (k * k * 31 + k * 7 + 3) as u8).collect();
    let frames = codes.chunks(33).flat_map(|frame| {
        let first = frame[0] & 15 | 0xD0;
        std::iter::once(first).chain(frame[1..].iter().copied())
    });
    let frames: Vec<u8> = frames.collect();
    for (line, bytes, length, want) in [
        ("raw gsm 8000 mono", &frames, 3200, 0x6486_F92F_9E0E_2FEB),
        ("raw g722 16000 mono", &codes, 1320, 0xE3A7_A659_4691_3BAB),
        ("raw g726-16 8000 mono", &codes, 2640, 0xEA97_DD9B_3768_E705),
        ("raw g726-24 8000 mono", &codes, 1760, 0x3E76_56BF_9390_1435),
        ("raw g726-32 8000 mono", &codes, 1320, 0x7B29_9A23_DE51_CE5A),
        ("raw g726-40 8000 mono", &codes, 1056, 0x8680_E47A_2A43_4477),
    ] {
        let clip = read_as(&folder, bytes, line);
        assert_eq!((clip.facts().frames, clip.facts().notes.len()), (length, 0), "{line}");
        assert_eq!(sum_of(&clip), want, "{line}");
    }
    // Half a unit at the end is told and left out.
    let short = read_as(&folder, &frames[..659], "raw gsm 8000 mono");
    assert_eq!((short.facts().frames, short.facts().notes.len()), (3040, 1));
}

/// GSM bit for bit as libsndfile encodes it: single frames, and pairs as WAV has them.
#[test]
fn gsm_is_encoded_as_its_standard_asks() {
    let folder = Folder::new();
    let wave = (0..960i32).map(|n| f64::from((n * n % 4001 - 2000) * 4) / 32_768.0);
    let wave = vec![wave.collect::<Vec<f64>>()];
    let clip = folder.open(&crate::bench::made("wav pcm16 8000 mono", wave)).unwrap();
    for (line, from, want) in [
        ("raw gsm any any", 0, 0xACB5_48F8_D905_A75B),
        ("wav gsm any any", 60, 0xA3CA_4FA2_3BE8_5F2C),
    ] {
        let plan = plan(clip.facts(), &demand(line)).unwrap();
        let (_, bytes) = folder.carry_out(&clip, &plan);
        let codes = &bytes[from..(from + 198).min(from + if from > 0 { 195 } else { 198 })];
        assert_eq!(sum(codes.iter().copied()), want, "{line}");
    }
}

/// Length and place are exact wherever the file can say so; else the clip is filled up to whole codes.
#[test]
fn lengths_and_places() {
    let folder = Folder::new();
    for (line, rate, unit, floor) in [
        ("wav gsm", 8000, 1, -8.0),
        ("wav gsm", 11_025, 1, -8.0),
        ("raw gsm", 8000, 160, -8.0),
        ("raw g722", 16_000, 2, -18.0),
        ("au g722", 16_000, 2, -18.0),
        ("raw g726-16", 8000, 4, -8.0),
        ("raw g726-24", 8000, 8, -16.0),
        ("au g726-24", 8000, 8, -16.0),
        ("au g726-32", 8000, 2, -22.0),
        ("au g726-40", 8000, 8, -27.0),
        ("aifc imaadpcm", 22_050, 64, -28.0),
    ] {
        for frames in [1, 33, 160, 20_011] {
            let clip = folder.make(&format!("wav f32 {rate} mono"), frames);
            let out = folder.fit(&clip, &format!("{line} any any"));
            let found = samples(&out);
            assert_eq!(found[0].len(), frames.next_multiple_of(unit), "{line} {frames}");
            if frames > 1000 {
                let noise = noise_to_signal(&samples(&clip)[0], &found[0][..frames]);
                assert!(noise < floor, "{line} {rate}: {noise:.1} dB");
            }
        }
    }
    let stereo = folder.make("wav f32 8000 stereo", 100);
    assert!(plan(stereo.facts(), &demand("wav gsm 8000 stereo")).is_err());
    assert!(plan(stereo.facts(), &demand("raw g722 8000 mono")).is_err());
}
