//! What each step costs beside the cheapest way to do it; compare figures of one run only.
#![allow(clippy::as_conversions, missing_docs)]

use criterion::{Criterion, Throughput, criterion_group, criterion_main};
use deft_needle_audio::Clip;
use deft_needle_audio::block::{Block, Samples, Source};
use deft_needle_audio::observe::Unobserved;
use deft_needle_audio::plan::Output;
use deft_needle_audio::render::render_source;
use deft_needle_audio::shape::fade::{Curve, Faded};
use deft_needle_audio::shape::gain::Amplified;
use deft_needle_audio::shape::limit::{Limited, Limiter};
use deft_needle_audio::shape::quantise::{Dither, Quantiser};
use deft_needle_audio::shape::resample::Resampler;
use deft_needle_audio::shape::separate::{Keep, Separated};
use deft_needle_audio::shape::voicing::{VOICINGS, Voiced};
use deft_needle_audio::spec::{Format, Header, Kind};
use deft_needle_audio::survey::{Ask, survey};
use deft_needle_audio::units::SampleRate;
use ebur128::{EbuR128, Mode};
use std::hint::black_box;
use std::sync::Arc;

const SECONDS: u64 = 60;
const RATE: u32 = 48_000;

fn noise(frames: usize) -> Vec<f64> {
    let mut state = 1u64;
    let next = |_| {
        state = state
            .wrapping_mul(6_364_136_223_846_793_005)
            .wrapping_add(1);
        (state >> 11) as f64 / (1u64 << 53) as f64 - 0.5
    };
    (0..frames).map(next).collect()
}

fn source() -> Samples {
    let channel = noise((u64::from(RATE) * SECONDS) as usize);
    Samples::new(
        SampleRate::new(RATE).expect("not 0"),
        vec![channel.clone(), channel],
    )
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
    group
        .sample_size(10)
        .throughput(Throughput::Elements(u64::from(RATE) * SECONDS));
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
                drain(Quantiser::new(
                    s,
                    Kind::Integer(bits),
                    dither,
                    Arc::default(),
                ));
            });
        });
    }
    let peaks = || Arc::new(std::sync::Mutex::new(Limited::default()));
    type Step = fn(Samples, Arc<std::sync::Mutex<Limited>>) -> Box<dyn Source>;
    let steps: [(&str, Step); 6] = [
        ("gain", |s, _| Box::new(Amplified::new(s, 6.0))),
        ("fade", |s, _| {
            Box::new(Faded::new(
                s,
                2_880_000,
                1_000_000,
                1_000_000,
                Curve::EqualPower,
            ))
        }),
        ("limit, never at work", |s, l| {
            Box::new(Limiter::new(s, 20.0, l))
        }),
        ("limit, always at work", |s, l| {
            Box::new(Limiter::new(s, -12.0, l))
        }),
        ("separate", |s, _| Box::new(Separated::new(s, Keep::Shared))),
        ("voicing", |s, _| Box::new(Voiced::new(s, &VOICINGS[0]))),
    ];
    for (name, step) in steps {
        group.bench_function(name, |b| {
            b.iter_with_setup(source, |s| drain(step(s, peaks())))
        });
    }
    group.finish();
}

/// The floor of `inspect`: reading a file and metering it at all, by the same meter.
fn inspecting(c: &mut Criterion) {
    let folder = tempfile::tempdir().expect("a temporary folder");
    let path = folder.path().join("clip.wav");
    let format: Format = "wav pcm16 48000 stereo".parse().expect("a spec line");
    let output = Output {
        format,
        header: Some(Header::Plain),
        frames: u64::from(RATE) * SECONDS,
        loops: Vec::new(),
        carried: Vec::new(),
    };
    let mut bytes = Vec::new();
    render_source(source(), &output, Dither::None, &mut bytes, &Unobserved).expect("memory");
    std::fs::write(&path, bytes).expect("room for a file");
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

criterion_group!(benches, shaping, inspecting);
criterion_main!(benches);
