//! What each format takes: the codec alone, the tool around it, and reading it back, which is what verification costs.
//!
//! `cargo bench -p deft-needle-audio --bench formats [LINE]`. Both are run in turn, and the least of several runs
//! counts: what else a machine does makes a run longer, never shorter.
#![allow(clippy::as_conversions, clippy::print_stdout, missing_docs)]

mod shared;

use deft_needle_audio::Clip;
use deft_needle_audio::block::{Block, Samples, Source};
use deft_needle_audio::num::int32;
use deft_needle_audio::observe::Unobserved;
use deft_needle_audio::read::{Hints, Input};
use deft_needle_audio::render::render_source;
use deft_needle_audio::shape::quantise::Dither;
use deft_needle_audio::spec::{ByteOrder, Codec, Container, Format, Output};
use deft_needle_audio::write::codec::{aac, alac, flac, mp3, opus, plain, qoa, vorbis};
use shared::{drain, noise};
use std::hint::black_box;
use std::io::Cursor;
use std::time::{Duration, Instant};

const SECONDS: u64 = 60;
const RATE: u32 = 48_000;
/// Turns, the least of which counts.
const TURNS: usize = 15;

const LINES: [&str; 22] = [
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
];

fn source_of(format: Format) -> Samples {
    let frames = u64::from(format.rate.hertz()) * SECONDS;
    let channel = noise(frames as usize);
    Samples::new(format.rate, vec![channel; usize::from(format.channels.count())])
}

fn timed<T>(work: impl FnOnce() -> T) -> Duration {
    let began = Instant::now();
    black_box(work());
    began.elapsed()
}

fn main() {
    let asked: Vec<String> = std::env::args().skip(1).filter(|a| !a.starts_with('-')).collect();
    println!("{:<28} {:>10} {:>14} {:>10}", "", "written", "to the codec", "read");
    for line in LINES {
        if asked.is_empty() || asked.iter().any(|asked| line.contains(asked.as_str())) {
            measure(line);
        }
    }
}

fn measure(line: &str) {
    let format: Format = line.parse().expect("a spec line");
    let mut output = Output::plain(format, u64::from(format.rate.hertz()) * SECONDS);
    output.block_bytes = line.starts_with("wav").then_some(2048).filter(|_| line.contains("adpcm"));
    let write = |source: Samples| {
        let mut bytes = Cursor::new(Vec::new());
        let made = render_source(source, &output, Dither::None, &mut bytes, &Unobserved);
        made.map(|_| bytes.into_inner()).expect("memory")
    };
    let folder = tempfile::tempdir().expect("a temporary folder");
    let path = folder.path().join("clip");
    std::fs::write(&path, write(source_of(format))).expect("room for a file");
    let raw = (format.container == Container::Raw).then_some(format);
    let hints = Hints { raw, ..Hints::default() };
    let clip = Clip::from_input(Input::file(&path), &hints).expect("a sound file");
    let bare = bare(&output);
    let mut least = [Duration::MAX; 3];
    for _ in 0..TURNS {
        let source = || source_of(format);
        let (own, whole) = (source(), source());
        let taken = [
            bare.as_ref().map_or(Duration::MAX, |bare| timed(|| bare(own))),
            timed(|| write(whole)),
            timed(|| drain(clip.frames().expect("readable"))),
        ];
        for (least, taken) in least.iter_mut().zip(taken) {
            *least = taken.min(*least);
        }
    }
    let [own, written, read] = least.map(|time| time.as_secs_f64());
    let real = |taken: f64| SECONDS as f64 / taken;
    let beside = match bare {
        Some(_) => format!("{:.2}", written / own),
        None => "no codec".to_owned(),
    };
    println!("{line:<28} {:>10.0} {beside:>14} {:>10.0}", real(written), real(read));
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
