//! MP3 as we write it: held against a checker of the bit stream made from the standard's text alone, and against a
//! decoder that is not ours.

use crate::bench::{Folder, made, noise_to_signal, samples};
use deft_needle_audio::clip::{Loop, Tag};
use deft_needle_audio::spec::Chunks;
use deft_needle_audio::units::FrameRange;

/// Reads bits from the most significant on.
struct Reader<'a>(&'a [u8], usize);

impl Reader<'_> {
    fn bits(&mut self, n: usize) -> usize {
        (0..n).fold(0, |sum, _| {
            let bit = self.0[self.1 / 8] >> (7 - self.1 % 8) & 1;
            self.1 += 1;
            sum << 1 | usize::from(bit)
        })
    }
}

/// What a stream turned out to be.
#[derive(Debug, Default)]
struct Checked {
    frames: usize,
    info_frames: usize,
    bytes: usize,
    kilobits: Vec<usize>,
    short: usize,
    mixed: usize,
    borrowed: usize,
}

/// Walks all frames (ISO/IEC 11172-3 and 13818-3, 2.4): their lengths, that main data begin where frames before have
/// left room, that parts fit into what there is, and that only tables and values are used that there are.
fn check(file: &[u8]) -> Checked {
    let mut found = Checked::default();
    let mut at = 0;
    if file.starts_with(b"ID3") {
        at = 10 + file[6..10].iter().fold(0, |sum, byte| sum << 7 | usize::from(*byte));
    }
    let mut left = 0;
    while at < file.len() {
        let head = &file[at..];
        assert_eq!((head[0], head[1] & 0xE7), (0xFF, 0xE3), "layer III without a checksum at {at}");
        let version = head[1] >> 3 & 3;
        let low = version != 3;
        let index = usize::from(head[2] >> 4) - 1;
        let kilobits = match low {
            false => [32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320][index],
            true => [8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160][index],
        };
        let base = [44_100, 48_000, 32_000][usize::from(head[2] >> 2 & 3)];
        let rate = base >> [2, 9, 1, 0][usize::from(version)];
        let padding = usize::from(head[2] >> 1 & 1);
        let length = if low { 72_000 } else { 144_000 } * kilobits / rate + padding;
        let mono = head[3] >> 6 == 3;
        let channels = if mono { 1 } else { 2 };
        let side = match (low, mono) {
            (false, false) => 32,
            (true, true) => 9,
            _ => 17,
        };
        assert!(at + length <= file.len(), "the frame at {at} is whole");
        if head[4 + side..].starts_with(b"Info") || head[4 + side..].starts_with(b"Xing") {
            assert_eq!(found.frames, 0, "an info frame is the first");
            let n = |at: usize| u32::from_be_bytes(head[at..at + 4].try_into().unwrap()) as usize;
            (found.info_frames, found.bytes) = (n(4 + side + 8), n(4 + side + 12));
            assert_eq!(found.bytes, file.len() - at);
            at += length;
            continue;
        }
        found.mixed += usize::from(head[3] >> 4 & 2 > 0);
        let mut r = Reader(&head[4..4 + side], 0);
        let begin = r.bits(if low { 8 } else { 9 });
        assert!(begin <= left, "main data at {at} begin {begin} bytes before, {left} are left");
        left = begin;
        found.borrowed += usize::from(begin > 0);
        r.bits(match (low, mono) {
            (false, true) => 5,
            (false, false) => 3,
            (true, true) => 1,
            (true, false) => 2,
        });
        if !low {
            r.bits(4 * channels);
        }
        let mut bits = 0;
        for _ in 0..channels * if low { 1 } else { 2 } {
            bits += r.bits(12);
            assert!(r.bits(9) <= 288);
            r.bits(8 + if low { 9 } else { 4 });
            let switched = r.bits(1) == 1;
            let tables = if switched {
                let kind = r.bits(2);
                assert!(kind > 0);
                found.short += usize::from(kind == 2);
                r.bits(1);
                2
            } else {
                3
            };
            assert!((0..tables).all(|_| ![4, 14].contains(&r.bits(5))));
            match switched {
                true => r.bits(9),
                false => {
                    let (first, second) = (r.bits(4), r.bits(3));
                    assert!(first + second + 2 <= 22, "regions end within the bands");
                    0
                }
            };
            r.bits(if low { 2 } else { 3 });
        }
        let own = length - 4 - side;
        assert!(bits.div_ceil(8) <= left + own, "{bits} bits fit");
        left = left + own - bits.div_ceil(8);
        found.kilobits.push(kilobits);
        found.frames += 1;
        at += length;
    }
    assert_eq!(found.frames, found.info_frames);
    found
}

/// A chord with sudden clicks, and silence in between.
fn sound(rate: u32, channels: usize, frames: usize) -> Vec<Vec<f64>> {
    let mut state = 1u32;
    let mut noise = move || {
        state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        f64::from(state >> 8) / f64::from(1u32 << 23) - 1.0
    };
    let beat = rate as usize / 3;
    let at = |channel: usize, at: usize| {
        let time = at as f64 / f64::from(rate);
        let tone = (at / beat) % 3 != 2;
        let chord: f64 = [220.0, 277.0, 331.0 + 9.0 * channel as f64]
            .iter()
            .map(|hertz| (std::f64::consts::TAU * hertz * time).sin())
            .sum();
        if tone { 0.15 * chord } else { 0.0 }
    };
    let mut planes: Vec<Vec<f64>> =
        (0..channels).map(|c| (0..frames).map(|n| at(c, n)).collect()).collect();
    for n in 0..frames {
        let click = 0.5 * noise() * (-((n % beat) as f64) / 150.0).exp();
        planes.iter_mut().enumerate().for_each(|(c, plane)| plane[n] += click / (1 + c) as f64);
    }
    planes
}

#[test]
fn every_rate_and_aim_is_a_sound_stream_that_others_decode_to_the_frame() {
    let folder = Folder::new();
    let rates = [8_000, 11_025, 12_000, 16_000, 22_050, 24_000, 32_000, 44_100, 48_000u32];
    for (number, rate) in rates.into_iter().enumerate() {
        for (quality, floor) in [("", -9.0), (":160k", -9.0), (":~64k", -4.0), (":q3", -4.0)] {
            let channels = 1 + number % 2;
            let frames = rate as usize * 2 + 77 * number;
            let layout = ["mono", "stereo"][channels - 1];
            let planes = sound(rate, channels, frames);
            let clip = folder.open(&made(&format!("wav f32 {rate} {layout}"), planes)).unwrap();
            let line = format!("mp3 mp3{quality} {rate} {layout}");
            let out = folder.fit(&clip, &line);
            assert_eq!(out.facts().frames, frames as u64, "{line}");
            let bytes = std::fs::read(out.input().path().unwrap()).unwrap();
            let found = check(&bytes);
            let constant = found.kilobits.windows(2).all(|pair| pair[0] == pair[1]);
            assert_eq!(constant, quality.is_empty() || quality == ":160k", "{line}");
            // The longest frames leave no room in what decoders must hold.
            let lends = rate > 8_000 || quality != ":160k";
            assert!(found.short > 0 && (found.borrowed > 0) == lends, "{line}: {found:?}");
            if quality == ":~64k" {
                let mean = bytes.len() as f64 * 8.0 / (frames as f64 / f64::from(rate)) / 1000.0;
                assert!((32.0..80.0).contains(&mean), "{line}: {mean}");
            }
            let (a, b) = (samples(&clip), samples(&out));
            for (a, b) in a.iter().zip(&b) {
                let noise = noise_to_signal(a, b);
                assert!(noise < floor, "{line}: {noise:.1} dB");
            }
            let again = folder.fit(&clip, &line);
            assert_eq!(std::fs::read(again.input().path().unwrap()).unwrap(), bytes);
        }
    }
}

/// Channels that are nearly alike are coded as sum and difference, others are not.
#[test]
fn alike_channels_are_joined() {
    let folder = Folder::new();
    let one = sound(44_100, 1, 60_000).remove(0);
    let other: Vec<f64> = one.iter().rev().copied().collect();
    for (second, joined) in [(&one, true), (&other, false)] {
        let planes = vec![one.clone(), second.clone()];
        let clip = folder.open(&made("wav f32 44100 stereo", planes)).unwrap();
        let out = folder.fit(&clip, "mp3 mp3:128k 44100 stereo");
        let found = check(&std::fs::read(out.input().path().unwrap()).unwrap());
        assert_eq!(found.mixed > found.frames / 2, joined, "{found:?}");
    }
}

/// Silence, full scale, one sample, impulses, what is not heard at all: nothing breaks, nothing is late.
#[test]
fn corners() {
    let folder = Folder::new();
    let cases: [(&str, Vec<f64>); 8] = [
        ("nothing", Vec::new()),
        ("one sample", vec![0.5]),
        ("silence", vec![0.0; 9_000]),
        (
            "a square of full scale",
            (0..20_000).map(|n| if n / 50 % 2 == 0 { 1.0 } else { -1.0 }).collect(),
        ),
        ("impulses", (0..20_000).map(|n| if n % 700 == 0 { 1.0 } else { 0.0 }).collect()),
        ("hardly anything", (0..20_000).map(|n| 1e-6 * f64::from(n).sin()).collect()),
        ("a constant", vec![0.7; 9_000]),
        ("far beyond full scale", (0..9_000).map(|n| 30.0 * f64::from(n % 7 - 3)).collect()),
    ];
    for (name, samples) in cases {
        for quality in [":32k", ":320k", ":q10"] {
            let length = samples.len() as u64;
            let clip = folder.open(&made("wav f32 44100 mono", vec![samples.clone()])).unwrap();
            let out = folder.fit(&clip, &format!("mp3 mp3{quality} 44100 mono"));
            assert_eq!(out.facts().frames, length, "{name} {quality}");
            check(&std::fs::read(out.input().path().unwrap()).unwrap());
        }
    }
}

/// Texts, the loop among them and pictures stay when only the tag is written anew; frames are copied.
#[test]
fn texts_are_rewritten_around_frames_that_stay() {
    let folder = Folder::new();
    let planes = sound(44_100, 2, 30_000);
    let clip = folder.open(&made("wav f32 44100 stereo", planes)).unwrap();
    let plain = folder.fit(&clip, "mp3 mp3:96k any any");
    let stream = std::fs::read(plain.input().path().unwrap()).unwrap();
    assert_eq!(stream[0], 0xFF, "no byte of a tag where nothing is to be said");
    // A tag as others write it: a title in UTF-16, texts under names of their own, a picture.
    let frame = |id: &[u8], contents: &[u8]| {
        [id, &(contents.len() as u32).to_be_bytes(), &[0, 0], contents].concat()
    };
    let title: Vec<u8> = "Kettle ü".encode_utf16().flat_map(u16::to_le_bytes).collect();
    let frames = [
        frame(b"TIT2", &[&[1, 0xFF, 0xFE][..], &title].concat()),
        frame(b"TXXX", b"\0LOOPSTART\x001000"),
        frame(b"TXXX", b"\0LOOPLENGTH\x002000"),
        frame(b"TXXX", b"\0Berth\0QUAY-7"),
        frame(b"COMM", b"\0eng\0steam"),
        frame(b"APIC", b"\0image/png\0\x03\0picture"),
    ]
    .concat();
    let size = frames.len() as u32;
    let head = [b"ID3\x03\0\0".as_slice(), &[0, 0, (size >> 7) as u8, (size & 0x7F) as u8]];
    let tagged = [head.concat(), frames, stream.clone()].concat();
    let own = folder.open(&tagged).unwrap();
    let looped = Loop::endless(FrameRange { start: 1000, end: 3000 });
    let texts =
        [Tag::new("TITLE", "Kettle ü"), Tag::new("Berth", "QUAY-7"), Tag::new("COMMENT", "steam")];
    assert_eq!((&own.facts().tags[..], &own.facts().loops[..]), (&texts[..], &[looped][..]));
    for (chunks, bytes) in [(Chunks::Kept, None), (Chunks::Bare, Some(&stream))] {
        let mut demand = crate::bench::demand("mp3 mp3 any any");
        demand.chunks = Some(chunks);
        let (written, _, facts) = folder.fit_to(&own, &demand);
        assert_eq!(facts.frames, 30_000);
        match bytes {
            Some(bytes) => assert!(written == *bytes, "the stream as it was"),
            None => {
                assert_eq!((&facts.tags[..], &facts.loops[..]), (&texts[..], &[looped][..]));
                assert!(written.ends_with(&stream[stream.len() / 2..]));
                assert!(written.windows(7).any(|part| part == b"picture"));
            }
        }
    }
}

/// Of clips as short as a block it can still be told that nothing moved.
#[test]
fn short_clips_are_proved_too() {
    let folder = Folder::new();
    for (frames, line) in
        [(200, "mp3 mp3"), (1_024, "mp3 mp3"), (1_024, "mp3 mp3:64k"), (1_500, "mp3 mp3:q5")]
    {
        let tone = |hertz: f64| -> Vec<f64> {
            let time = |n: u32| f64::from(n) / 22_050.0;
            let swell = |n: u32| 0.7 + 0.3 * (9.0 * time(n)).cos();
            (0..frames)
                .map(|n| 0.3 * (std::f64::consts::TAU * hertz * time(n)).sin() * swell(n))
                .collect()
        };
        for planes in [vec![tone(220.0)], vec![tone(220.0), tone(310.0)]] {
            let layout = ["mono", "stereo"][planes.len() - 1];
            let clip = folder.open(&made(&format!("wav f32 22050 {layout}"), planes)).unwrap();
            assert_eq!(
                folder.fit(&clip, &format!("{line} any any")).facts().frames,
                u64::from(frames)
            );
        }
    }
}
