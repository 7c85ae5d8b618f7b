//! What each step costs beside the cheapest way to do it; compare figures of one run only.
#![allow(clippy::as_conversions, missing_docs)]

use criterion::{Criterion, Throughput, criterion_group, criterion_main};
use deft_needle_audio::block::{Block, Samples, Source};
use deft_needle_audio::measure::{Ask, survey};
use deft_needle_audio::num::int32;
use deft_needle_audio::observe::Unobserved;
use deft_needle_audio::plan::{Reference, plan_clip};
use deft_needle_audio::read::{Hints, Input};
use deft_needle_audio::render::{render, render_source};
use deft_needle_audio::seam::{Bounds, find};
use deft_needle_audio::shape::blocks::BlockStep as _;
use deft_needle_audio::shape::fade::{Curve, Faded};
use deft_needle_audio::shape::gain::Amplified;
use deft_needle_audio::shape::lengthen::Lengthened;
use deft_needle_audio::shape::limit::{Limited, Limiter};
use deft_needle_audio::shape::quantise::{Dither, Quantiser};
use deft_needle_audio::shape::resample::Resampler;
use deft_needle_audio::shape::separate::{Keep, Separated};
use deft_needle_audio::shape::tone::ToneCut;
use deft_needle_audio::shape::voicing::{VOICINGS, Voiced};
use deft_needle_audio::spec::Output;
use deft_needle_audio::spec::{ByteOrder, Codec, Container, Demand, Format, Kind, Spec};
use deft_needle_audio::units::SampleRate;
use deft_needle_audio::write::codec::{aac, alac, flac, mp3, opus, plain, qoa, vorbis};
use deft_needle_audio::{Clip, Edits};
use ebur128::{EbuR128, Mode};
use std::hint::black_box;
use std::io::Cursor;
use std::sync::Arc;

const SECONDS: u64 = 60;
const RATE: u32 = 48_000;

fn noise(frames: usize) -> Vec<f64> {
    let mut state = 1u64;
    let next = |_| {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
        (state >> 11) as f64 / (1u64 << 53) as f64 - 0.5
    };
    (0..frames).map(next).collect()
}

fn source() -> Samples {
    source_of(format!("wav f64 {RATE} stereo").parse().expect("a spec line"))
}

fn source_of(format: Format) -> Samples {
    let channel = noise((u64::from(format.rate.hertz()) * SECONDS) as usize);
    Samples::new(format.rate, vec![channel; usize::from(format.channels.count())])
}

fn drain(mut source: impl Source) {
    let mut block = Block::new(source.channels());
    loop {
        source.next(&mut block).expect("memory can be read");
        if black_box(&block).is_empty() {
            return;
        }
    }
}

fn shaping(c: &mut Criterion) {
    let mut group = c.benchmark_group("a minute of stereo");
    group.sample_size(10).throughput(Throughput::Elements(u64::from(RATE) * SECONDS));
    group.bench_function("nothing", |b| b.iter_with_setup(source, drain));
    for to in [44_100, 22_050, 18_900, 48_001] {
        group.bench_function(format!("resample to {to}"), |b| {
            let rate = SampleRate::new(to).expect("not 0");
            b.iter_with_setup(source, |s| drain(Resampler::new(s, rate)));
        });
    }
    for (bits, dither) in [(16, Dither::Triangular), (8, Dither::Shaped)] {
        group.bench_function(format!("quantise to {bits} bits, {dither:?}"), |b| {
            b.iter_with_setup(source, |s| {
                drain(Quantiser::new(Kind::Integer(bits), dither, Arc::default()).on(s));
            });
        });
    }
    let peaks = || Arc::new(std::sync::Mutex::new(Limited::default()));
    type Step = fn(Samples, Arc<std::sync::Mutex<Limited>>) -> Box<dyn Source>;
    let steps: [(&str, Step); 8] = [
        ("gain", |s, _| Box::new(Amplified::new(6.0).on(s))),
        ("fade", |s, _| {
            Box::new(Faded::new(2_880_000, 1_000_000, 1_000_000, Curve::EqualPower).on(s))
        }),
        ("limit, never at work", |s, l| Box::new(Limiter::new(s, 20.0, l))),
        ("limit, always at work", |s, l| Box::new(Limiter::new(s, -12.0, l))),
        ("separate", |s, _| Box::new(Separated::new(s, Keep::Shared))),
        ("tone", |s, _| Box::new(ToneCut::new(Some(80.0), Some(7_500.0)).on(s))),
        ("stretch", |s, _| Box::new(Lengthened::new(s, 2_880_000, 3_456_000))),
        ("voicing", |s, _| Box::new(Voiced::new(VOICINGS[0]).on(s))),
    ];
    for (name, step) in steps {
        group.bench_function(name, |b| b.iter_with_setup(source, |s| drain(step(s, peaks()))));
    }
    group.finish();
}

/// The floor of `inspect`: reading a file and metering it at all, by the same meter.
fn inspecting(c: &mut Criterion) {
    let folder = tempfile::tempdir().expect("a temporary folder");
    let path = folder.path().join("clip.wav");
    let format: Format = "wav pcm16 48000 stereo".parse().expect("a spec line");
    let output = Output::plain(format, u64::from(RATE) * SECONDS);
    let mut bytes = Cursor::new(Vec::new());
    render_source(source(), &output, Dither::None, &mut bytes, &Unobserved).expect("memory");
    std::fs::write(&path, bytes.get_ref()).expect("room for a file");
    let clip = Clip::open(&path).expect("a sound file");

    let mut group = c.benchmark_group("inspect");
    group.sample_size(10);
    group.bench_function("read and meter (the floor)", |b| {
        b.iter(|| {
            let mut frames = clip.frames().expect("readable");
            let mut meter = EbuR128::new(2, RATE, Mode::I | Mode::TRUE_PEAK).expect("a meter");
            let mut block = Block::new(2);
            loop {
                frames.next(&mut block).expect("readable");
                if block.is_empty() {
                    return black_box(meter.loudness_global().expect("a level"));
                }
                let slices: Vec<&[f64]> = block.channels().iter().map(Vec::as_slice).collect();
                meter.add_frames_planar_f64(&slices).expect("two channels");
            }
        });
    });
    group.bench_function("the whole survey", |b| {
        b.iter(|| survey(&clip, Ask::ALL, &Unobserved).expect("readable"));
    });
    group.finish();
}

/// What each format takes: the codec alone, the tool around it, and reading it back (which is what
/// verification costs).
/// Finding loops beside reading the clip; a loop that is bent to whole frames beside a plain conversion.
fn loops(c: &mut Criterion) {
    let mut group = c.benchmark_group("loops");
    group.sample_size(10);
    let folder = tempfile::tempdir().expect("there is room");
    let path = folder.path().join("minute.wav");
    let mut file = std::fs::File::create(&path).expect("there is room");
    let format: Format = "wav pcm16 48000 stereo".parse().expect("a spec");
    let output = Output::plain(format, u64::from(RATE) * SECONDS);
    render_source(source(), &output, Dither::None, &mut file, &Unobserved).expect("it is written");
    let clip = Clip::open(&path).expect("it was written");
    group.throughput(Throughput::Elements(SECONDS));
    group.bench_function("read", |b| {
        b.iter(|| {
            let mut frames = clip.frames().expect("it can be read");
            let mut block = Block::new(2);
            while frames.next(&mut block).is_ok() && !black_box(&block).is_empty() {}
        });
    });
    group.bench_function("find", |b| {
        b.iter(|| find(&clip, &Bounds::any(clip.facts()), 5, &Unobserved).expect("it is found"));
    });
    let line: Demand = "wav f32 44100 stereo".parse::<Spec>().expect("a spec").into();
    for (name, typed) in [("converted", None), ("converted as a loop", Some("all"))] {
        let edits = Edits {
            looped: typed.map(|text| text.parse().expect("a loop")),
            // One frame less, so that nothing comes out whole.
            cut: Some("1smp..".parse().expect("a cut")),
            edge_fade: Some("0".parse().expect("a time")),
            ..Edits::default()
        };
        let plan = plan_clip(&clip, &line, &edits, Reference::default(), &Unobserved);
        let plan = plan.expect("a plan");
        group.bench_function(name, |b| {
            b.iter(|| {
                let mut out = Cursor::new(Vec::new());
                render(&clip, &plan, &mut out, &Unobserved).expect("it is written")
            });
        });
    }
    group.finish();
}

fn formats(c: &mut Criterion) {
    let mut group = c.benchmark_group("formats");
    group.sample_size(10);
    for line in [
        "wav pcm16 48000 stereo",
        "wav mulaw 48000 stereo",
        "wav imaadpcm 48000 stereo",
        "wav msadpcm 48000 stereo",
        "w64 pcm24 48000 stereo",
        "aiff pcm24 48000 stereo",
        "aifc imaadpcm 48000 stereo",
        "flac flac16 48000 stereo",
        "flac flac24 48000 stereo",
        "ogg flac16 48000 stereo",
        "m4a alac16 48000 stereo",
        "m4a alac24 48000 stereo",
        "caf alac24 48000 stereo",
        "m4a aac 48000 stereo",
        "caf aac 48000 stereo",
        "ogg vorbis 48000 stereo",
        "ogg opus 48000 stereo",
        "mp3 mp3:192k 48000 stereo",
        "qoa qoa 48000 stereo",
        "wav gsm 8000 mono",
        "raw g722 16000 mono",
        "au g726-32 8000 mono",
    ] {
        let format: Format = line.parse().expect("a spec line");
        let mut output = Output::plain(format, u64::from(format.rate.hertz()) * SECONDS);
        output.block_bytes =
            line.starts_with("wav").then_some(2048).filter(|_| line.contains("adpcm"));
        let source = || source_of(format);
        let write = |source: Samples| {
            let mut bytes = Cursor::new(Vec::new());
            let made = render_source(source, &output, Dither::None, &mut bytes, &Unobserved);
            made.map(|_| bytes.into_inner()).expect("memory")
        };
        if let Some(bare) = bare(&output) {
            group.bench_function(format!("{line}: the codec alone"), |b| {
                b.iter_with_setup(source, &bare)
            });
        }
        group.bench_function(format!("{line}: written"), |b| {
            b.iter_with_setup(source, |s| black_box(write(s).len()));
        });
        let folder = tempfile::tempdir().expect("a temporary folder");
        let path = folder.path().join("clip");
        std::fs::write(&path, write(source())).expect("room for a file");
        let raw = (format.container == Container::Raw).then_some(format);
        let hints = Hints { raw, ..Hints::default() };
        let clip = Clip::from_input(Input::file(&path), &hints).expect("a sound file");
        group.bench_function(format!("{line}: read"), |b| {
            b.iter(|| drain(clip.frames().expect("readable")));
        });
    }
    group.finish();
}

type Bare = Box<dyn Fn(Samples) -> usize>;

/// A codec fed with blocks, its packets thrown away; `None` for those that are hardly more than copies.
fn bare(output: &Output) -> Option<Bare> {
    fn blocks(mut source: Samples, mut take: impl FnMut(&Block)) {
        let mut block = Block::new(source.channels());
        loop {
            source.next(&mut block).expect("memory");
            if block.is_empty() {
                return;
            }
            take(&block);
        }
    }
    let whole = move |source: Samples, scale: f64, encode: &mut dyn FnMut(&[Vec<i32>]) -> usize| {
        let mut sum = 0;
        blocks(source, |block| {
            let of = |c: &Vec<f64>| c.iter().map(|s| int32(s * scale)).collect();
            let channels: Vec<Vec<i32>> = block.channels().iter().map(of).collect();
            sum += encode(&channels);
        });
        sum
    };
    let (format, output) = (output.format, output.clone());
    let (bits, scale) = match format.encoding.codec {
        Codec::Flac24 | Codec::Alac24 => (24, 8_388_608.0),
        _ => (16, 32_768.0),
    };
    match format.encoding.codec {
        Codec::Vorbis => Some(Box::new(move |source| {
            let mut codec = vorbis::Vorbis::new(format).expect("a codec");
            let mut sum = 0;
            blocks(source, |block| {
                codec.encode(block).expect("encodable");
                while let Some(packet) = codec.next_packet() {
                    sum += packet.bytes.len();
                }
            });
            sum
        })),
        Codec::Aac => Some(Box::new(move |source| {
            let mut codec = aac::Aac::new(format).expect("a codec");
            let mut sum = 0;
            blocks(source, |block| {
                codec.encode(block, |packet| sum += packet.len()).expect("encodable");
            });
            sum
        })),
        Codec::Qoa => Some(Box::new(move |source| {
            let mut codec = qoa::Qoa::new(RATE, 2);
            let mut bytes = Vec::new();
            blocks(source, |block| codec.encode(block, &mut bytes));
            bytes.len()
        })),
        // The check sum of all samples is part of the format.
        Codec::Flac16 | Codec::Flac24 => Some(Box::new(move |source| {
            let (mut codec, mut length) = (flac::Flac::new(format), 0);
            blocks(source, |block| {
                let put = |frame: Vec<u8>| -> Result<(), ()> {
                    length += frame.len();
                    Ok(())
                };
                codec.encode(block, put).expect("nothing fails");
            });
            length + codec.stream_info(0).len()
        })),
        Codec::Alac16 | Codec::Alac24 => Some(Box::new(move |source| {
            let mut codec = alac::Alac::new(bits, 2);
            whole(source, scale, &mut |channels| codec.packet(channels).len())
        })),
        Codec::Opus => Some(Box::new(move |source| {
            let mut codec = opus::Opus::new(format, format.rate).expect("a codec");
            let mut sum = 0;
            blocks(source, |block| {
                codec.encode(block).expect("encodable");
                while let Some(packet) = codec.next_packet() {
                    sum += packet.len();
                }
            });
            sum
        })),
        Codec::Mp3 => Some(Box::new(move |source| {
            let mut codec = mp3::Mp3::new(RATE, 2, mp3::Aim::Constant(192)).expect("a codec");
            let mut sum = 0;
            blocks(source, |block| {
                codec.encode(block);
                while let Some(frame) = codec.next_frame() {
                    sum += frame.len();
                }
            });
            sum
        })),
        Codec::ImaAdpcm | Codec::MsAdpcm | Codec::Gsm | Codec::G722 | Codec::G726At32 => {
            Some(Box::new(move |source| {
                let mut codec = plain::Plain::new(&output, ByteOrder::Little);
                let (mut bytes, mut sum) = (Vec::new(), 0);
                blocks(source, |block| {
                    bytes.clear();
                    codec.encode(block, &mut bytes);
                    sum += bytes.len();
                });
                sum
            }))
        }
        _ => None,
    }
}

criterion_group!(benches, shaping, inspecting, loops, formats);
criterion_main!(benches);
