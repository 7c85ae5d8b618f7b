//! Every container and encoding, written and read back frame for frame.

use crate::bench::{Folder, WRITTEN, demand, made, noise_to_signal, samples, signal};
use deft_needle_audio::block::{Block, Source as _};
use deft_needle_audio::plan::plan;
use deft_needle_audio::read::{Hints, Input};
use deft_needle_audio::spec::{Chunks, Container, Demand, Kind};
use deft_needle_audio::{Clip, Error, Unmet};
use proptest::prelude::*;

#[test]
fn everything_written_is_read_back_frame_for_frame() {
    let folder = Folder::new();
    for (spec, floor) in WRITTEN {
        for channels in ["mono", "stereo", "5.1"] {
            let two_at_most = ["imaadpcm", "msadpcm", "aac", "mp3"];
            if channels == "5.1" && two_at_most.iter().any(|word| spec.ends_with(word)) {
                continue;
            }
            for (rate, frames) in
                [(8000, 1), (22_050, 31), (44_100, 4096), (48_000, 4097), (96_000, 30_001)]
            {
                // Not every encoding has all rates.
                let has = match *spec {
                    "mp3 mp3" => rate <= 48_000,
                    "ogg opus" => rate == 48_000,
                    _ => true,
                };
                if !has {
                    continue;
                }
                let clip = folder.make(&format!("wav f64 {rate} {channels}"), frames);
                let out = folder.fit(&clip, &format!("{spec} {rate} any"));
                assert_eq!(out.facts().frames, frames as u64, "{spec}");
                if (rate, channels) == (48_000, "stereo") {
                    from_memory(&out);
                }
                let (a, b) = (samples(&clip), samples(&out));
                assert_eq!(
                    (a.len(), a[0].len()),
                    (b.len(), b[0].len()),
                    "{spec} {rate} {channels}"
                );
                let bits = match out.facts().format.encoding.codec.kind() {
                    Kind::Integer(bits) => f64::from(bits),
                    _ => 24.0,
                };
                // One step of dither and half a step of rounding.
                let step = 2.1 * 2f64.powf(1.0 - bits);
                for (channel, (a, b)) in a.iter().zip(&b).enumerate() {
                    let worst =
                        a.iter().zip(b).fold(0.0f64, |most, (a, b)| most.max((a - b).abs()));
                    match floor {
                        // 8 bits move their noise up, which makes it larger.
                        None => assert!(
                            worst < if bits < 9.0 { 0.1 } else { step },
                            "{spec} {channels}: {worst}"
                        ),
                        // Vorbis takes the upper half of an LFE channel away.
                        Some(_) if spec.starts_with("ogg") && channel == 3 => {}
                        Some(floor) if frames > 4000 => {
                            let noise = noise_to_signal(a, b);
                            assert!(noise < *floor, "{spec} {rate} {channels}: {noise:.1} dB");
                        }
                        Some(_) => {}
                    }
                }
            }
        }
    }
}

/// Out of an archive a clip is the same as on the disk.
fn from_memory(clip: &Clip) {
    let path = clip.input().path().unwrap();
    let bytes = std::fs::read(path).unwrap().into();
    let hints = Hints {
        raw: (clip.facts().format.container == Container::Raw).then_some(clip.facts().format),
        ..Hints::default()
    };
    let again = Clip::from_input(Input::memory(path, bytes), &hints).unwrap();
    assert_eq!(again.facts(), clip.facts());
    assert!(samples(&again) == samples(clip), "{}", path.display());
}

#[test]
fn vorbis_channels_come_back_in_their_places() {
    let folder = Folder::new();
    // Seven channels have no word for their places, and one of them is low-passed.
    for channels in [3, 4, 5, 6, 8] {
        let clip = folder.make(&format!("wav f32 48000 {channels}ch"), 20_000);
        let out = folder.fit(&clip, "ogg vorbis:q8 any any");
        for (at, (a, b)) in samples(&clip).iter().zip(&samples(&out)).enumerate() {
            let lfe = channels >= 6 && at == 3;
            assert!(lfe || noise_to_signal(a, b) < -10.0, "{channels} channels, number {at}");
        }
    }
}

/// Channels without places keep all that they hold, in their order: Opus has a family for them, Vorbis has not.
#[test]
fn channels_that_are_asked_for_by_number_are_never_taken_for_loudspeakers() {
    let folder = Folder::new();
    for count in [3, 6, 8] {
        let planes = (0..count).map(|channel| {
            let hertz = 300.0 + 190.0 * f64::from(channel);
            (0..30_000).map(|n| 0.4 * (0.000_130_9 * hertz * f64::from(n)).sin()).collect()
        });
        let line = format!("wav f32 48000 {count}ch");
        let clip = folder.open(&made(&line, planes.collect())).unwrap();
        let out = folder.fit(&clip, &format!("ogg opus:q5 48000 {count}ch"));
        assert_eq!(out.facts().format.channels.layout(), None);
        for (at, (a, b)) in samples(&clip).iter().zip(&samples(&out)).enumerate() {
            let noise = noise_to_signal(a, b);
            assert!(noise < -15.0, "{count} channels, number {at}: {noise:.1} dB");
        }
        let vorbis = plan(clip.facts(), &demand(&format!("ogg vorbis 48000 {count}ch")));
        match (count, vorbis) {
            (3, Ok(_)) => {}
            (_, Err(Error::CannotMeet(Unmet::NoPlainChannels { .. }))) => {}
            (_, other) => panic!("{count}: {other:?}"),
        }
    }
}

/// Opus: the end and the start to the frame, any length, copied as it is, one rate inside whatever went in.
#[test]
fn opus_is_exact_at_both_ends() {
    let folder = Folder::new();
    for (frames, line) in
        [(1, "ogg opus"), (959, "ogg opus:64k"), (960, "ogg opus:q0"), (100_000, "ogg opus:~96k")]
    {
        let clip = folder.make("wav f32 48000 stereo", frames);
        let out = folder.fit(&clip, &format!("{line} any any"));
        assert_eq!(out.facts().frames, frames as u64, "{line}");
        let bare = Demand { chunks: Some(Chunks::Bare), ..demand("ogg opus any any") };
        let (bytes, work, facts) = folder.fit_to(&out, &bare);
        assert_eq!(facts.frames, frames as u64, "{line}");
        let own = std::fs::read(out.input().path().unwrap()).unwrap();
        assert!(bytes == own, "{line}: {work:?}");
    }
    let slower = folder.fit(&folder.make("wav f32 44100 mono", 44_100), "ogg opus any any");
    assert_eq!((slower.facts().format.rate.hertz(), slower.facts().frames), (48_000, 48_000));
    // Its header says what it was made of (RFC 7845, 5.1).
    assert_eq!(slower.stream().headers[0][12..16], 44_100u32.to_le_bytes());
}

/// Signals that tempt lossless codecs into their corners.
fn corner(kind: u8, frames: usize, seed: u32, peak: f64) -> Vec<f64> {
    let mut state = seed;
    let mut random = || {
        state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        f64::from(state.cast_signed()) / 2f64.powi(31)
    };
    (0..frames)
        .map(|n| match kind {
            0 => random() * peak,
            1 => {
                if random() > 0.99 {
                    random()
                } else {
                    0.0
                }
            }
            2 => {
                if n / 7 % 2 == 0 {
                    1.0
                } else {
                    -1.0
                }
            }
            3 => (n as f64 * 0.03).sin() * peak,
            4 => ((n % 50) as f64 / 25.0 - 1.0) * peak,
            _ => peak,
        })
        .collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(600))]

    /// Whatever the signal, every sample comes back.
    #[test]
    fn lossless_is_lossless(
        kinds in prop::collection::vec(0u8..6, 1..3),
        frames in 1usize..9000,
        seed in any::<u32>(),
        power in 0i32..20,
        which in 0usize..6,
    ) {
        let folder = Folder::new();
        let channels: Vec<Vec<f64>> = kinds
            .iter()
            .zip(seed..)
            .map(|(kind, seed)| corner(*kind, frames, seed, 2f64.powi(-power)))
            .collect();
        let line = ["flac flac16", "flac flac24", "m4a alac16", "m4a alac24", "aiff pcm24", "raw pcm32be"][which];
        let source = made(&format!("wav f64 32000 {}ch", kinds.len()), channels);
        let clip = folder.open(&source).unwrap();
        // Verified sample by sample within.
        let out = folder.fit(&clip, &format!("{line} any any"));
        prop_assert_eq!(out.facts().frames, frames as u64);
    }
}

/// A decoder that waits for the next file of the same headers brings nothing along of the one before.
#[test]
fn what_was_decoded_before_leaves_nothing_behind() {
    let folder = Folder::new();
    let format = "ogg vorbis:q5 44100 stereo";
    let [loud, soft] = [0.9, 0.01].map(|gain| {
        let mut sides = signal("wav f64 44100 stereo".parse().unwrap(), 20_000);
        sides.iter_mut().flatten().for_each(|sample| *sample *= gain);
        Clip::open(&folder.put(&format!("{gain}.ogg"), &made(format, sides))).unwrap()
    });
    let alone = std::thread::scope(|scope| scope.spawn(|| samples(&soft)).join().unwrap());
    let mut block = Block::new(2);
    for blocks in [1, 3] {
        let mut part = loud.frames().unwrap();
        (0..blocks).for_each(|_| part.next(&mut block).unwrap());
        drop(part);
        assert_eq!(samples(&soft), alone, "after {blocks}");
    }
    let _both = (loud.frames().unwrap(), samples(&loud));
    assert_eq!(samples(&soft), alone);
}
