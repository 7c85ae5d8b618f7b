//! What the tests of files share: a folder, files made by hand or by signal, and what came back.
#![allow(dead_code, reason = "every test file uses its own part")]

use deft_needle_audio::block::{Samples, collect};
use deft_needle_audio::observe::Unobserved;
use deft_needle_audio::plan::{Plan, Work, plan};
use deft_needle_audio::read::{Hints, Input};
use deft_needle_audio::render::{render, render_source};
use deft_needle_audio::shape::quantise::Dither;
use deft_needle_audio::spec::Output;
use deft_needle_audio::spec::{Demand, Format};
use deft_needle_audio::verify::verify;
use deft_needle_audio::{Clip, Error, Facts, Spec};
use std::io::{Cursor, Read};
use std::path::PathBuf;
use tempfile::TempDir;

/// Identifier, stated size where it lies, contents, and whether an odd one is padded.
pub type Chunk = (Vec<u8>, Option<u32>, Vec<u8>, bool);

/// A RIFF file put together chunk by chunk.
pub struct Riff {
    pub form: &'static [u8; 4],
    pub size: Option<u32>,
    pub chunks: Vec<Chunk>,
}

impl Riff {
    pub fn new() -> Self {
        Self { form: b"RIFF", size: None, chunks: Vec::new() }
    }
    pub fn chunk(mut self, id: &[u8; 4], bytes: &[u8]) -> Self {
        self.chunks.push((id.to_vec(), None, bytes.to_vec(), true));
        self
    }
    /// A chunk that states another size than it has.
    pub fn lying(mut self, id: &[u8; 4], stated: u32, bytes: &[u8]) -> Self {
        self.chunks.push((id.to_vec(), Some(stated), bytes.to_vec(), true));
        self
    }
    pub fn unpadded(mut self, id: &[u8; 4], bytes: &[u8]) -> Self {
        self.chunks.push((id.to_vec(), None, bytes.to_vec(), false));
        self
    }
    pub fn fmt(self, tag: u16, channels: u16, rate: u32, bits: u16) -> Self {
        self.chunk(b"fmt ", &fmt(tag, channels, rate, bits))
    }
    pub fn bytes(&self) -> Vec<u8> {
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

pub fn fmt(tag: u16, channels: u16, rate: u32, bits: u16) -> Vec<u8> {
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

pub fn extensible(tag: u16, channels: u16, rate: u32, bits: u16, valid: u16, mask: u32) -> Vec<u8> {
    let mut bytes = fmt(0xFFFE, channels, rate, bits);
    bytes.extend(22u16.to_le_bytes());
    bytes.extend(valid.to_le_bytes());
    bytes.extend(mask.to_le_bytes());
    bytes.extend(tag.to_le_bytes());
    bytes.extend(b"\0\0\0\0\x10\0\x80\0\0\xAA\0\x38\x9B\x71");
    bytes
}

pub struct Folder(pub TempDir);

impl Folder {
    pub fn new() -> Self {
        Self(tempfile::tempdir().unwrap())
    }
    pub fn path(&self, name: &str) -> PathBuf {
        self.0.path().join(name)
    }
    pub fn put(&self, name: &str, bytes: &[u8]) -> PathBuf {
        std::fs::write(self.path(name), bytes).unwrap();
        self.path(name)
    }
    pub fn open(&self, bytes: &[u8]) -> Result<Clip, Error> {
        Clip::open(&self.put("clip", bytes))
    }
    /// A file of this format that holds `signal`.
    pub fn make(&self, line: &str, frames: usize) -> Clip {
        let format: Format = line.parse().unwrap();
        self.open(&made(line, signal(format, frames))).unwrap()
    }
    /// Carries a plan out, verified.
    pub fn carry_out(&self, clip: &Clip, plan: &Plan) -> (Clip, Vec<u8>) {
        let mut bytes = Cursor::new(Vec::new());
        let outcome = render(clip, plan, &mut bytes, &Unobserved).unwrap();
        let out = self.put("out.wav", bytes.get_ref());
        verify(clip, plan, &outcome, &out, None, &Unobserved)
            .unwrap_or_else(|e| panic!("{plan:?}: {e}"));
        let hints = Hints {
            raw: Some(plan.to.format).filter(|f| f.container.facts().word == "raw"),
            loop_tags: Some(plan.to.loop_tags.clone()),
            ..Hints::default()
        };
        let clip = Clip::from_input(Input::file(&out), &hints).unwrap();
        (clip, bytes.into_inner())
    }
    pub fn fit(&self, clip: &Clip, line: &str) -> Clip {
        self.carry_out(clip, &plan(clip.facts(), &demand(line)).unwrap()).0
    }
    /// The same for any demand; gives the bytes, how much was done, and what was read back.
    pub fn fit_to(&self, clip: &Clip, demand: &Demand) -> (Vec<u8>, Work, Facts) {
        let plan = plan(clip.facts(), demand).unwrap();
        let (clip, bytes) = self.carry_out(clip, &plan);
        (bytes, plan.work, clip.facts().clone())
    }
}

pub fn demand(line: &str) -> Demand {
    line.parse::<Spec>().unwrap().into()
}

/// A tone of its own for every channel, with a little noise.
pub fn signal(format: Format, frames: usize) -> Vec<Vec<f64>> {
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

pub fn made(line: &str, samples: Vec<Vec<f64>>) -> Vec<u8> {
    let format: Format = line.parse().unwrap();
    let output = Output::plain(format, samples[0].len() as u64);
    let mut bytes = Cursor::new(Vec::new());
    let source = Samples::new(format.rate, samples);
    render_source(source, &output, Dither::None, &mut bytes, &Unobserved).unwrap();
    bytes.into_inner()
}

pub fn samples(clip: &Clip) -> Vec<Vec<f64>> {
    collect(&mut *clip.frames().unwrap()).unwrap()
}

/// Noise against signal in dB.
pub fn noise_to_signal(a: &[f64], b: &[f64]) -> f64 {
    let power = |x: &mut dyn Iterator<Item = f64>| x.map(|s| s * s).sum::<f64>();
    let error = power(&mut a.iter().zip(b).map(|(a, b)| a - b));
    10.0 * (error / power(&mut a.iter().copied())).log10()
}

pub fn audio_bytes(clip: &Clip) -> Vec<u8> {
    let mut bytes = Vec::new();
    clip.audio_bytes().unwrap().read_to_end(&mut bytes).unwrap();
    bytes
}

pub fn boxed(kind: &[u8], contents: &[u8]) -> Vec<u8> {
    [&(8 + contents.len() as u32).to_be_bytes()[..], kind, contents].concat()
}

/// What is written, and the noise it may have, in dB; lossless where none is named.
pub const WRITTEN: &[(&str, Option<f64>)] = &[
    ("wav pcm8", None),
    ("wav pcm16", None),
    ("wav pcm24", None),
    ("wav pcm32", None),
    ("wav f32", None),
    ("wav f64", None),
    ("wav mulaw", Some(-34.0)),
    ("wav alaw", Some(-34.0)),
    ("wav imaadpcm", Some(-28.0)),
    ("wav msadpcm", Some(-28.0)),
    ("au pcm8", None),
    ("au pcm16", None),
    ("au pcm24", None),
    ("au f32", None),
    ("au mulaw", Some(-34.0)),
    ("au alaw", Some(-34.0)),
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
    ("ogg opus", Some(-10.0)),
    ("mp3 mp3", Some(-9.0)),
    ("qoa qoa", Some(-30.0)),
    ("raw pcm16le", None),
    ("raw pcm24be", None),
    ("raw f32be", None),
    ("raw pcm8", None),
    ("w64 pcm8", None),
    ("w64 pcm16", None),
    ("w64 f32", None),
    ("w64 alaw", Some(-34.0)),
    ("w64 imaadpcm", Some(-28.0)),
    ("rf64 pcm24", None),
    ("rf64 mulaw", Some(-34.0)),
    ("caf pcm8", None),
    ("caf pcm16le", None),
    ("caf pcm24be", None),
    ("caf f64le", None),
    ("caf alaw", Some(-34.0)),
    ("caf imaadpcm", Some(-28.0)),
    ("caf alac16", None),
    ("caf alac24", None),
    ("caf aac", Some(-10.0)),
    ("ogg flac16", None),
    ("ogg flac24", None),
];
