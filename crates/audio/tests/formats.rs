//! Every container and encoding, written and read back; what travels beside the samples; bad input.
#![allow(clippy::as_conversions, clippy::unwrap_used, missing_docs)]

use deft_needle_audio::block::{Samples, collect};
use deft_needle_audio::clip::{Loop, Marker, Note, Tag};
use deft_needle_audio::observe::Unobserved;
use deft_needle_audio::plan::{Output, Plan, Reference, Work, plan, plan_clip};
use deft_needle_audio::read::{Hints, Input, Stream};
use deft_needle_audio::render::{render, render_source};
use deft_needle_audio::shape::quantise::Dither;
use deft_needle_audio::spec::{Chunks, Demand, Format, Kind};
use deft_needle_audio::units::FrameRange;
use deft_needle_audio::verify::verify;
use deft_needle_audio::write::{Along, writer};
use deft_needle_audio::{Clip, Edits, Error, Facts, Spec};
use proptest::prelude::*;
use std::io::{Cursor, Read};
use std::path::PathBuf;
use tempfile::TempDir;

struct Folder(TempDir);

impl Folder {
    fn new() -> Self {
        Self(tempfile::tempdir().unwrap())
    }
    fn put(&self, name: &str, bytes: &[u8]) -> PathBuf {
        let path = self.0.path().join(name);
        std::fs::write(&path, bytes).unwrap();
        path
    }
    fn open(&self, bytes: &[u8]) -> Result<Clip, Error> {
        Clip::open(&self.put("clip", bytes))
    }
    /// A file of this format that holds `signal`.
    fn make(&self, line: &str, frames: usize) -> Clip {
        let format: Format = line.parse().unwrap();
        self.open(&made(line, signal(format, frames))).unwrap()
    }
    /// Carries a plan out, verified.
    fn carry_out(&self, clip: &Clip, plan: &Plan) -> (Clip, Vec<u8>) {
        let mut bytes = Cursor::new(Vec::new());
        let outcome = render(clip, plan, &mut bytes, &Unobserved).unwrap();
        let out = self.put("out", bytes.get_ref());
        verify(clip, plan, &outcome, &out, &Unobserved).unwrap_or_else(|e| panic!("{plan}: {e}"));
        let hints = Hints {
            raw: Some(plan.to.format).filter(|f| f.container.facts().word == "raw"),
            loop_tags: Some(plan.to.loop_tags.clone()),
        };
        let clip = Clip::from_input(Input::file(&out), &hints).unwrap();
        (clip, bytes.into_inner())
    }
    fn fit(&self, clip: &Clip, line: &str) -> Clip {
        self.carry_out(clip, &plan(clip.facts(), &demand(line)).unwrap())
            .0
    }
}

fn demand(line: &str) -> Demand {
    line.parse::<Spec>().unwrap().into()
}

/// A tone of its own for every channel, with a little noise.
fn signal(format: Format, frames: usize) -> Vec<Vec<f64>> {
    let mut state = 9u32;
    let mut noise = || {
        state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        f64::from(state.cast_signed()) / 2f64.powi(31)
    };
    let tone = |channel: usize| 200.0 + 130.0 * channel as f64;
    let rate = format.rate.real();
    (0..usize::from(format.channels.count()))
        .map(|channel| {
            let at = |n: usize| (std::f64::consts::TAU * tone(channel) * n as f64 / rate).sin();
            (0..frames).map(|n| 0.4 * at(n) + 0.003 * noise()).collect()
        })
        .collect()
}

fn made(line: &str, samples: Vec<Vec<f64>>) -> Vec<u8> {
    let format: Format = line.parse().unwrap();
    let output = Output::plain(format, samples[0].len() as u64);
    let mut bytes = Cursor::new(Vec::new());
    let source = Samples::new(format.rate, samples);
    render_source(source, &output, Dither::None, &mut bytes, &Unobserved).unwrap();
    bytes.into_inner()
}

fn samples(clip: &Clip) -> Vec<Vec<f64>> {
    collect(&mut *clip.frames().unwrap()).unwrap()
}

/// Noise against signal in dB.
fn noise(a: &[f64], b: &[f64]) -> f64 {
    let power = |x: &mut dyn Iterator<Item = f64>| x.map(|s| s * s).sum::<f64>();
    let error = power(&mut a.iter().zip(b).map(|(a, b)| a - b));
    10.0 * (error / power(&mut a.iter().copied())).log10()
}

/// What is written, and the noise it may have, in dB; lossless where none is named.
const WRITTEN: &[(&str, Option<f64>)] = &[
    ("wav pcm8", None),
    ("wav pcm16", None),
    ("wav pcm24", None),
    ("wav pcm32", None),
    ("wav f32", None),
    ("wav f64", None),
    ("wav mulaw", Some(-34.0)),
    ("wav alaw", Some(-34.0)),
    ("wav imaadpcm", Some(-28.0)),
    ("aiff pcm8", None),
    ("aiff pcm16", None),
    ("aiff pcm24", None),
    ("aiff pcm32", None),
    ("aifc pcm16be", None),
    ("aifc pcm16le", None),
    ("aifc pcm24be", None),
    ("aifc f32be", None),
    ("aifc mulaw", Some(-34.0)),
    ("aifc alaw", Some(-34.0)),
    ("flac flac16", None),
    ("flac flac24", None),
    ("m4a alac16", None),
    ("m4a alac24", None),
    ("m4a aac", Some(-10.0)),
    ("ogg vorbis", Some(-10.0)),
    ("qoa qoa", Some(-30.0)),
    ("raw pcm16le", None),
    ("raw pcm24be", None),
    ("raw f32be", None),
    ("raw pcm8", None),
];

#[test]
fn everything_written_is_read_back_frame_for_frame() {
    let folder = Folder::new();
    for (spec, floor) in WRITTEN {
        for channels in ["mono", "stereo", "5.1"] {
            let two_at_most = ["imaadpcm", "alac16", "alac24", "aac"];
            if channels == "5.1" && two_at_most.iter().any(|word| spec.ends_with(word)) {
                continue;
            }
            for (rate, frames) in [
                (8000, 1),
                (22_050, 31),
                (44_100, 4096),
                (48_000, 4097),
                (96_000, 30_001),
            ] {
                let clip = folder.make(&format!("wav f64 {rate} {channels}"), frames);
                let out = folder.fit(&clip, &format!("{spec} {rate} any"));
                assert_eq!(out.facts().frames, frames as u64, "{spec}");
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
                    let worst = a
                        .iter()
                        .zip(b)
                        .fold(0.0f64, |most, (a, b)| most.max((a - b).abs()));
                    match floor {
                        // 8 bits move their noise up, which makes it larger.
                        None => assert!(
                            worst < if bits < 9.0 { 0.1 } else { step },
                            "{spec} {channels}: {worst}"
                        ),
                        // Vorbis takes the upper half of an LFE channel away.
                        Some(_) if spec.starts_with("ogg") && channel == 3 => {}
                        Some(floor) if frames > 4000 => {
                            let noise = noise(a, b);
                            assert!(noise < *floor, "{spec} {rate} {channels}: {noise:.1} dB");
                        }
                        Some(_) => {}
                    }
                }
            }
        }
    }
}

#[test]
fn vorbis_channels_come_back_in_their_places() {
    let folder = Folder::new();
    for channels in 3..=8 {
        let clip = folder.make(&format!("wav f32 48000 {channels}ch"), 20_000);
        let out = folder.fit(&clip, "ogg vorbis:q8 any any");
        for (at, (a, b)) in samples(&clip).iter().zip(&samples(&out)).enumerate() {
            let lfe = channels >= 6 && at == 3;
            assert!(
                lfe || noise(a, b) < -10.0,
                "{channels} channels, number {at}"
            );
        }
    }
}

#[test]
fn loops_markers_and_texts_travel() {
    let folder = Folder::new();
    let format: Format = "wav pcm16 44100 stereo".parse().unwrap();
    let output = Output {
        loops: vec![Loop {
            range: FrameRange {
                start: 1000,
                end: 5000,
            },
            plays: 0,
        }],
        markers: vec![
            Marker {
                frame: 77,
                name: "here".to_owned(),
            },
            Marker {
                frame: 5500,
                name: String::new(),
            },
        ],
        tags: vec![
            Tag::new("TITLE", "Crossing, at dusk: ü"),
            Tag::new("ARTIST", "nobody"),
        ],
        ..Output::plain(format, 6000)
    };
    let mut bytes = Cursor::new(Vec::new());
    let source = Samples::new(format.rate, signal(format, 6000));
    render_source(source, &output, Dither::None, &mut bytes, &Unobserved).unwrap();
    let first = folder.open(bytes.get_ref()).unwrap();
    let kept = |facts: &Facts, markers: bool| {
        assert_eq!(facts.loops, output.loops, "{}", facts.format);
        assert_eq!(facts.tags, output.tags, "{}", facts.format);
        assert_eq!(
            facts.markers,
            if markers {
                output.markers.clone()
            } else {
                Vec::new()
            },
            "{}",
            facts.format
        );
        assert_eq!(facts.notes, []);
    };
    kept(first.facts(), true);
    let mut at = first;
    for (line, markers) in [
        ("aiff pcm16 any any", true),
        ("aifc pcm16le any any", true),
        ("wav pcm16 any any", true),
        ("ogg vorbis any any", false),
        ("flac flac16 any any", false),
        ("wav pcm24 any any", false),
    ] {
        let wish = Demand {
            chunks: Some(Chunks::Kept),
            ..demand(line)
        };
        let plan = plan(at.facts(), &wish).unwrap();
        let (next, bytes) = folder.carry_out(&at, &plan);
        kept(next.facts(), markers);
        at = folder.open(&bytes).unwrap();
    }
    // Where there is no place for them it is said, and texts only come along where asked.
    let plan = plan(at.facts(), &demand("m4a aac any any")).unwrap();
    assert!(plan.to.loops.is_empty() && plan.to.tags.is_empty());
    assert!(
        plan.decisions
            .iter()
            .any(|d| d.why == "m4a has no place for them")
    );
    // A loop under names of one's own.
    let wish = Demand {
        loop_tags: Some("start=FROM,end=TO,in=seconds".parse().unwrap()),
        ..demand("ogg vorbis any any")
    };
    let named = plan_clip(
        &at,
        &wish,
        &Edits::default(),
        Reference::default(),
        &Unobserved,
    )
    .unwrap();
    let (out, bytes) = folder.carry_out(&at, &named);
    assert_eq!(out.facts().loops, output.loops);
    let text = String::from_utf8_lossy(&bytes).into_owned();
    assert!(text.contains("FROM=0.022675737") && text.contains("TO=0.113378685"));
}

/// Tags are taken off and set with the audio packets copied as they are.
#[test]
fn never_converted_without_need() {
    let folder = Folder::new();
    for spec in [
        "wav pcm24",
        "aiff pcm16",
        "aifc alaw",
        "ogg vorbis",
        "m4a aac",
        "m4a alac24",
        "flac flac16",
        "qoa qoa",
        "wav imaadpcm",
    ] {
        let clip = folder.make("wav pcm24 44100 stereo", 20_000);
        let clip = folder.fit(&clip, &format!("{spec} any any"));
        let (bytes, own) = (all(&clip), format!("{spec} 44100|48000 stereo|mono"));
        let copy = folder.put(
            "first",
            &std::fs::read(clip.input().path().unwrap()).unwrap(),
        );
        let clip = Clip::open(&copy).unwrap();
        assert_eq!(
            plan(clip.facts(), &demand(&own)).unwrap().work,
            Work::Nothing,
            "{spec}"
        );
        if spec == "qoa qoa" {
            continue;
        }
        let edits = Edits {
            tags: vec![Tag::new("TITLE", "Bell")],
            ..Edits::default()
        };
        let named = plan_clip(
            &clip,
            &demand(&own),
            &edits,
            Reference::default(),
            &Unobserved,
        )
        .unwrap();
        assert_eq!(named.work, Work::Rewrap, "{spec}");
        let (titled, _) = folder.carry_out(&clip, &named);
        assert_eq!(titled.facts().tags, [Tag::new("TITLE", "Bell")], "{spec}");
        assert_eq!(all(&titled), bytes, "{spec}");
        assert_eq!(samples(&titled), samples(&clip), "{spec}");
        let titled = Clip::open(&folder.put(
            "second",
            &std::fs::read(titled.input().path().unwrap()).unwrap(),
        ))
        .unwrap();
        let bare = Demand {
            chunks: Some(Chunks::Bare),
            ..demand(&own)
        };
        let stripped = plan(titled.facts(), &bare).unwrap();
        assert_eq!(stripped.work, Work::Rewrap, "{spec}");
        let (stripped, _) = folder.carry_out(&titled, &stripped);
        assert_eq!(
            (all(&stripped), stripped.facts().tags.len()),
            (bytes, 0),
            "{spec}"
        );
    }
}

fn all(clip: &Clip) -> Vec<u8> {
    let mut bytes = Vec::new();
    clip.audio_bytes().unwrap().read_to_end(&mut bytes).unwrap();
    bytes
}

#[test]
fn what_cannot_be_encoded_names_the_nearest() {
    let folder = Folder::new();
    let clip = folder.make("wav pcm16 37800 5.1", 100);
    for (line, part) in [
        ("m4a aac 37800 stereo", "32000"),
        ("m4a alac16 any any", "--route"),
        ("ogg vorbis:600k 8000 mono", "vorbis:"),
        ("ogg vorbis:q12 44100 mono", "q-1 to q10"),
        ("m4a aac:4k 44100 mono", "aac:8k"),
    ] {
        match plan(clip.facts(), &demand(line)) {
            Err(Error::CannotMeet { instead, .. }) => {
                assert!(instead.contains(part), "{line}: {instead}")
            }
            other => panic!("{line}: {other:?}"),
        }
    }
    let odd = Demand {
        header: Some(deft_needle_audio::spec::Header::Extensible),
        ..demand("wav imaadpcm 22050 mono")
    };
    assert!(matches!(
        plan(clip.facts(), &odd),
        Err(Error::CannotMeet { .. })
    ));
    for line in [
        "ogg pcm16 any any",
        "wav vorbis any any",
        "wav pcm16be any any",
        "mp3 any any any",
    ] {
        assert!(
            matches!(
                plan(clip.facts(), &demand(line)),
                Err(Error::BadSpec { .. })
            ),
            "{line}"
        );
    }
}

/// Frames of silence with an info tag: the length is exact, and the start is not late.
#[test]
fn mp3_by_its_info_tag() {
    let folder = Folder::new();
    let frame = |contents: &[(usize, &[u8])]| {
        let mut bytes = vec![0; 417];
        bytes[..4].copy_from_slice(&[0xFF, 0xFB, 0x90, 0x64]);
        for (at, part) in contents {
            bytes[*at..*at + part.len()].copy_from_slice(part);
        }
        bytes
    };
    // Behind 32 bytes of side information: its name, the flag for the number of frames, twenty.
    let info = frame(&[
        (36, b"Info\0\0\0\x01\0\0\0\x14"),
        (48, b"Maker1.00"),
        (69, &[0x24, 0x04, 0x57]),
    ]);
    let mut file = b"ID3\x03\0\0\0\0\0\x12TIT2\0\0\0\x08\0\0\x03Kettle!".to_vec();
    file.extend(&info);
    file.extend(frame(&[]).repeat(20));
    let clip = folder.open(&file).unwrap();
    // 0x240 frames before, 0x457 behind.
    assert_eq!(clip.facts().frames, 20 * 1152 - 0x240 - 0x457);
    assert_eq!(clip.facts().tags, [Tag::new("TITLE", "Kettle!")]);
    assert_eq!(samples(&clip)[0].len() as u64, clip.facts().frames);
    let short = folder.open(&file[..file.len() - 500]).unwrap();
    assert!(matches!(
        short.facts().notes[..],
        [Note::Truncated {
            promised: 23_040,
            held: 20_736
        }]
    ));
    let untold = folder.open(&frame(&[]).repeat(5)).unwrap();
    assert_eq!(
        (untold.facts().frames, samples(&untold)[0].len()),
        (5760, 5760)
    );
}

/// A Matroska file around the packets of an Ogg file, by the shortest way.
#[test]
fn matroska_around_vorbis() {
    let folder = Folder::new();
    let clip = folder.make("wav pcm16 48000 stereo", 30_000);
    let ogg = folder.fit(&clip, "ogg vorbis any any");
    let element = |id: &[u8], contents: &[u8]| {
        let size = (contents.len() as u64 | 1 << 56).to_be_bytes();
        [id, &size[..], contents].concat()
    };
    let headers = ogg.stream().headers;
    let texts = b"\x03vorbis\0\0\0\0\0\0\0\0\x01";
    let lengths = [headers[0].len(), texts.len()].map(|n| {
        vec![255; n / 255]
            .into_iter()
            .chain([(n % 255) as u8])
            .collect::<Vec<u8>>()
    });
    let private = [&[2][..], &lengths.concat(), &headers[0], texts, &headers[1]].concat();
    let audio = [
        element(b"\xB5", &48_000f64.to_be_bytes()),
        element(b"\x9F", &[2]),
    ]
    .concat();
    let track = [
        element(b"\xD7", &[1]),
        element(b"\x73\xC5", &[1]),
        element(b"\x83", &[2]),
        element(b"\x86", b"A_VORBIS"),
        element(b"\x63\xA2", &private),
        element(b"\xE1", &audio),
    ]
    .concat();
    let mut cluster = element(b"\xE7", &[0]);
    let (mut packets, mut packet, mut at) = (ogg.packets().unwrap(), Vec::new(), 0u16);
    while packets.next(&mut packet).unwrap() {
        cluster.extend(element(
            b"\xA3",
            &[&[0x81][..], &at.to_be_bytes(), &[0x80], &packet].concat(),
        ));
        at += 10;
    }
    let info = [
        element(b"\x2A\xD7\xB1", &1_000_000u32.to_be_bytes()),
        element(b"\x4D\x80", b"x"),
        element(b"\x57\x41", b"x"),
    ]
    .concat();
    let segment = [
        element(b"\x15\x49\xA9\x66", &info),
        element(b"\x16\x54\xAE\x6B", &element(b"\xAE", &track)),
        element(b"\x1F\x43\xB6\x75", &cluster),
    ]
    .concat();
    let head = element(b"\x1A\x45\xDF\xA3", &element(b"\x42\x82", b"matroska"));
    let file = [head, element(b"\x18\x53\x80\x67", &segment)].concat();
    let found = folder.open(&file).unwrap();
    assert_eq!(found.facts().format.to_string(), "mkv vorbis 48000 stereo");
    let (a, b) = (samples(&ogg), samples(&found));
    assert_eq!(a[0][..], b[0][..a[0].len()]);
}

/// HE-AAC is heard whole, not only its core.
#[cfg(feature = "aac")]
#[test]
fn he_aac_at_its_full_rate() {
    use fdk_aac::enc::{AudioObjectType, BitRate, ChannelMode, Encoder, EncoderParams, Transport};
    let folder = Folder::new();
    let encoder = Encoder::new(EncoderParams {
        bit_rate: BitRate::Cbr(48_000),
        sample_rate: 44_100,
        transport: Transport::Raw,
        channels: ChannelMode::Stereo,
        audio_object_type: AudioObjectType::Mpeg4HeAac,
    })
    .unwrap();
    let info = encoder.info().unwrap();
    let wave = |n: usize| ((n as f64 * 0.9).sin() * 8000.0) as i16;
    let input: Vec<i16> = (0..2048 * 30).flat_map(|n| [wave(n), wave(n)]).collect();
    let (mut packets, mut out, mut at) = (Vec::new(), vec![0; 8192], 0);
    while at < input.len() {
        let done = encoder.encode(&input[at..], &mut out).unwrap();
        at += done.input_consumed;
        if done.output_size > 0 {
            packets.push(out[..done.output_size].to_vec());
        } else if done.input_consumed == 0 {
            break;
        }
    }
    let config = &info.confBuf[..info.confSize as usize];
    let part = |tag: u8, contents: &[u8]| [&[tag, contents.len() as u8][..], contents].concat();
    let decoder = [&[0x40, 0x15][..], &[0; 11], &part(5, config)].concat();
    let stream = part(
        3,
        &[&[0, 0, 0][..], &part(4, &decoder), &part(6, &[2])].concat(),
    );
    let boxed = |kind: &[u8], contents: &[u8]| {
        [
            &(8 + contents.len() as u32).to_be_bytes()[..],
            kind,
            contents,
        ]
        .concat()
    };
    let esds = boxed(b"esds", &[&[0; 4][..], &stream].concat());
    let entry = [
        &[0, 0, 0, 0, 0, 0, 0, 1][..],
        &[0; 8],
        &[0, 2, 0, 16, 0, 0, 0, 0, 0xAC, 0x44, 0, 0],
        &esds,
    ]
    .concat();
    let description = [&[0, 0, 0, 0, 0, 0, 0, 1][..], &boxed(b"mp4a", &entry)].concat();
    let output = Output::plain(
        "m4a aac 44100 stereo".parse().unwrap(),
        2048 * packets.len() as u64,
    );
    let along = Along {
        stream: Some(Stream {
            headers: vec![description],
            delay: 0,
            packet_frames: 2048,
            packets: packets.len() as u64,
        }),
        ..Along::default()
    };
    let mut file = Cursor::new(Vec::new());
    let mut writer = writer(&mut file, &output, along).unwrap();
    packets
        .iter()
        .for_each(|packet| writer.copy(packet).unwrap());
    writer.finish().unwrap();
    drop(writer);
    let clip = folder.open(file.get_ref()).unwrap();
    assert_eq!(clip.facts().format.to_string(), "m4a aac 44100 stereo");
    let found = samples(&clip);
    assert_eq!(found[0].len(), 2048 * packets.len());
    // The tone lies at 6,317 Hz; it is there at its own level.
    let power: f64 = found[0][20_000..40_000].iter().map(|s| s * s).sum::<f64>() / 20_000.0;
    assert!(
        (power.sqrt() * 2f64.sqrt() * 32_768.0 - 8000.0).abs() < 800.0,
        "{power}"
    );
}

/// AU and CAF by hand, and samples without a header.
#[test]
fn formats_that_are_only_read() {
    let folder = Folder::new();
    let frames: Vec<u8> = (0..100i16).flat_map(|n| (n * 300).to_be_bytes()).collect();
    let au = [
        &b".snd\0\0\0\x18\xFF\xFF\xFF\xFF\0\0\0\x03\0\0\x56\x22\0\0\0\x02"[..],
        &frames,
    ]
    .concat();
    let clip = folder.open(&au).unwrap();
    assert_eq!(
        (
            clip.facts().format.to_string().as_str(),
            clip.facts().frames
        ),
        ("au pcm16 22050 stereo", 50)
    );
    assert_eq!(clip.facts().notes, [Note::LengthLeftOpen]);
    let chunk = |id: &[u8], contents: &[u8]| {
        [id, &(contents.len() as u64).to_be_bytes(), contents].concat()
    };
    let desc = [
        &22_050f64.to_be_bytes()[..],
        b"lpcm\0\0\0\0\0\0\0\x04\0\0\0\x01\0\0\0\x02\0\0\0\x10",
    ]
    .concat();
    let data = [&[0; 4][..], &frames].concat();
    let info = b"\0\0\0\x01title\0Bell\0";
    let caf = [
        &b"caff\0\x01\0\0"[..],
        &chunk(b"desc", &desc),
        &chunk(b"info", info),
        &chunk(b"data", &data),
    ]
    .concat();
    let caf = folder.open(&caf).unwrap();
    assert_eq!(caf.facts().format.to_string(), "caf pcm16be 22050 stereo");
    assert_eq!(caf.facts().tags, [Tag::new("TITLE", "Bell")]);
    assert_eq!(samples(&caf)[1][3], 7.0 * 300.0 / 32_768.0);
    let raw = Hints {
        raw: Some("raw pcm16be 22050 stereo".parse().unwrap()),
        ..Hints::default()
    };
    let raw = Clip::from_input(Input::file(&folder.put("dump", &frames)), &raw).unwrap();
    assert_eq!(samples(&raw), samples(&caf));
}

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
        let cut = folder
            .open(&bytes[..bytes.len() * 3 / 5])
            .unwrap_or_else(|e| panic!("{spec}: {e}"));
        let (frames, notes) = (cut.facts().frames, &cut.facts().notes);
        assert!(frames > 20_000 && frames < 60_000, "{spec}: {frames}");
        let told = |note: &Note| match note {
            Note::Truncated { promised, held } => *promised == 60_000 && *held == frames,
            note => note.to_string().contains("cut short"),
        };
        assert!(notes.iter().any(told), "{spec}: {notes:?}");
        let found = samples(&cut);
        assert_eq!(found[0].len() as u64, frames, "{spec}");
        let common = found[0].len() - 3000;
        assert_eq!(found[0][..common], samples(&whole)[0][..common], "{spec}");
    }
}

/// Where a spec leaves something open, the clip's own value stays, else the next that fits.
#[test]
fn where_each_spec_leads() {
    for (own, spec, want) in [
        (
            "wav pcm16 44100 stereo",
            "flac any any any",
            "flac flac16 44100 stereo",
        ),
        (
            "wav pcm8 44100 stereo",
            "flac any any any",
            "flac flac16 44100 stereo",
        ),
        (
            "wav f32 44100 stereo",
            "flac any any any",
            "flac flac24 44100 stereo",
        ),
        (
            "wav f32 44100 stereo",
            "aiff any any any",
            "aiff pcm24 44100 stereo",
        ),
        (
            "wav pcm16 44100 stereo",
            "any vorbis any any",
            "ogg vorbis 44100 stereo",
        ),
        (
            "wav pcm16 44100 stereo",
            "ogg|wav vorbis|pcm16 48000 any",
            "wav pcm16 48000 stereo",
        ),
        (
            "wav pcm16 44100 stereo",
            "m4a any any any",
            "m4a aac 44100 stereo",
        ),
        (
            "m4a alac16 44100 stereo",
            "m4a any any mono",
            "m4a alac16 44100 mono",
        ),
        (
            "mp3 mp3 44100 stereo",
            "any any 48000 any",
            "wav pcm16 48000 stereo",
        ),
        (
            "mp4 aac 44100 stereo",
            "any any any mono",
            "m4a aac 44100 mono",
        ),
        (
            "au mulaw 8000 mono",
            "any any 16000 any",
            "wav mulaw 16000 mono",
        ),
        (
            "aifc pcm16le 44100 mono",
            "wav any any any",
            "wav pcm16 44100 mono",
        ),
        (
            "aifc pcm16le 44100 mono",
            "any any 48000 any",
            "aifc pcm16le 48000 mono",
        ),
        (
            "wav pcm24 44100 mono",
            "aifc any any any",
            "aifc pcm24be 44100 mono",
        ),
        (
            "wav pcm16 44100 mono",
            "raw any any any",
            "raw pcm16le 44100 mono",
        ),
        (
            "wav pcm24 48000 5.1",
            "qoa any any any",
            "qoa qoa 48000 6ch",
        ),
        (
            "wav pcm16 48000 6ch",
            "ogg any any any",
            "ogg vorbis 48000 5.1",
        ),
    ] {
        let facts = Facts {
            frames: 100,
            ..Facts::new(own.parse().unwrap(), 1000)
        };
        let found = plan(&facts, &demand(spec)).unwrap_or_else(|e| panic!("{own}, {spec}: {e}"));
        assert_eq!(found.to.format.to_string(), want, "{own}, {spec}");
    }
}

fn boxed(kind: &[u8], contents: &[u8]) -> Vec<u8> {
    [
        &(8 + contents.len() as u32).to_be_bytes()[..],
        kind,
        contents,
    ]
    .concat()
}

/// QuickTime with PCM in two chunks, an edit list that begins late, and a second track of pictures.
#[test]
fn quicktime_by_hand() {
    let folder = Folder::new();
    let words = |all: &[u32]| {
        all.iter()
            .flat_map(|w| w.to_be_bytes())
            .collect::<Vec<u8>>()
    };
    let film = |first: u32, second: u32| {
        let entry = [
            &[0, 0, 0, 0, 0, 0, 0, 1][..],
            &[0; 8],
            &[0, 1, 0, 16, 0, 0, 0, 0, 0x1F, 0x40, 0, 0],
        ]
        .concat();
        let stbl = [
            boxed(b"stsd", &[words(&[0, 1]), boxed(b"sowt", &entry)].concat()),
            boxed(b"stts", &words(&[0, 1, 100, 1])),
            boxed(b"stsc", &words(&[0, 2, 1, 60, 1, 2, 40, 1])),
            boxed(b"stsz", &words(&[0, 2, 100])),
            boxed(b"stco", &words(&[0, 2, first, second])),
        ]
        .concat();
        let mdia = [
            boxed(b"mdhd", &words(&[0, 0, 0, 8000, 100, 0])),
            boxed(
                b"hdlr",
                &[words(&[0, 0]), b"soun".to_vec(), words(&[0, 0, 0])].concat(),
            ),
            boxed(b"minf", &boxed(b"stbl", &stbl)),
        ]
        .concat();
        // A pause, then the track from its tenth frame on, for 10 ms.
        let elst = words(&[0, 2, 500, u32::MAX, 0x1_0000, 10, 10, 0x1_0000]);
        let sound = [
            boxed(b"edts", &boxed(b"elst", &elst)),
            boxed(b"mdia", &mdia),
        ]
        .concat();
        let picture = boxed(
            b"mdia",
            &boxed(b"hdlr", &[words(&[0, 0]), b"vide".to_vec()].concat()),
        );
        let mvhd = boxed(b"mvhd", &words(&[0, 0, 0, 1000, 12]));
        let moov = [mvhd, boxed(b"trak", &picture), boxed(b"trak", &sound)].concat();
        [boxed(b"ftyp", b"qt  \0\0\0\0"), boxed(b"moov", &moov)].concat()
    };
    let samples_of = |range: std::ops::Range<i16>| {
        range
            .flat_map(|n| (n * 100).to_le_bytes())
            .collect::<Vec<u8>>()
    };
    let head = film(0, 0).len() as u32;
    let data = [samples_of(0..60), vec![9; 30], samples_of(60..100)].concat();
    let file = [film(head + 8, head + 8 + 150), boxed(b"mdat", &data)].concat();
    let clip = folder.open(&file).unwrap();
    assert_eq!(clip.facts().format.to_string(), "mp4 pcm16le 8000 mono");
    assert_eq!((clip.facts().frames, clip.facts().notes.len()), (80, 0));
    let want: Vec<f64> = (10..90).map(|n| f64::from(n) * 100.0 / 32_768.0).collect();
    assert_eq!(samples(&clip), [want]);
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

/// One small file of every kind that is written, with all that can lie beside the samples.
fn seeds() -> &'static [Vec<u8>] {
    static SEEDS: std::sync::OnceLock<Vec<Vec<u8>>> = std::sync::OnceLock::new();
    SEEDS.get_or_init(|| {
        let seed = |(spec, _): &(&str, Option<f64>)| {
            let format: Format = format!("{spec} 22050 stereo").parse().unwrap();
            let output = Output {
                loops: vec![Loop {
                    range: FrameRange {
                        start: 10,
                        end: 500,
                    },
                    plays: 0,
                }],
                tags: vec![Tag::new("TITLE", "x")],
                ..Output::plain(format, 3000)
            };
            let output = Output {
                block_bytes: spec.contains("adpcm").then_some(512),
                ..output
            };
            let mut bytes = Cursor::new(Vec::new());
            let source = Samples::new(format.rate, signal(format, 3000));
            render_source(source, &output, Dither::None, &mut bytes, &Unobserved).unwrap();
            bytes.into_inner()
        };
        let headed = WRITTEN.iter().filter(|(spec, _)| !spec.starts_with("raw"));
        headed.map(seed).collect()
    })
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
