//! What each step costs beside the cheapest way to do it; compare figures of one run only.
#![allow(clippy::as_conversions, missing_docs)]

mod shared;

use criterion::{Criterion, Throughput, criterion_group, criterion_main};
use deft_needle_audio::block::{Block, Samples, Source};
use deft_needle_audio::measure::{Ask, survey};
use deft_needle_audio::observe::Unobserved;
use deft_needle_audio::plan::{Reference, plan_clip};
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
use deft_needle_audio::spec::{Demand, Format, Kind, Spec};
use deft_needle_audio::units::SampleRate;
use deft_needle_audio::{Clip, Edits};
use ebur128::{EbuR128, Mode};
use shared::{drain, noise};
use std::hint::black_box;
use std::io::Cursor;
use std::sync::Arc;

const SECONDS: u64 = 60;
const RATE: u32 = 48_000;

fn source() -> Samples {
    let rate = SampleRate::new(RATE).expect("a rate");
    Samples::new(rate, vec![noise((u64::from(RATE) * SECONDS) as usize); 2])
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

criterion_group!(benches, shaping, inspecting, loops);
criterion_main!(benches);
