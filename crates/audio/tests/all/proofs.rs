//! Verification is shown to reject: whatever is wrong in a written file is noticed before it is placed.

use crate::bench::{Folder, WRITTEN, demand, signal};
use deft_needle_audio::block::{Block, Samples, Source, collect};
use deft_needle_audio::clip::{Loop, Marker, Tag};
use deft_needle_audio::edit::Request;
use deft_needle_audio::observe::Unobserved;
use deft_needle_audio::plan::{Plan, Reference, Work, plan, plan_clip};
use deft_needle_audio::render::{Outcome, render, render_source, render_to_play};
use deft_needle_audio::shape::quantise::Dither;
use deft_needle_audio::spec::{Demand, Format, Header, Kind, Output};
use deft_needle_audio::units::FrameRange;
use deft_needle_audio::verify::verify;
use deft_needle_audio::{Clip, Error, Facts};
use std::io::Cursor;

/// A file that was written as planned.
struct Proved {
    folder: Folder,
    clip: Clip,
    plan: Plan,
    outcome: Outcome,
    bytes: Vec<u8>,
}

impl Proved {
    fn of(clip: &str, frames: usize, asked: &[(&str, &str)]) -> Self {
        let folder = Folder::new();
        let clip = folder.make(clip, frames);
        Self::in_folder(folder, clip, asked)
    }

    fn in_folder(folder: Folder, clip: Clip, asked: &[(&str, &str)]) -> Self {
        let request = Request::read(asked.iter().copied()).unwrap();
        let demand = request.demand(demand("any any any any")).unwrap();
        let reference = Reference::default();
        let plan = plan_clip(&clip, &demand, &request.edits, reference, &Unobserved).unwrap();
        let mut bytes = Cursor::new(Vec::new());
        let outcome = render(&clip, &plan, &mut bytes, &Unobserved).unwrap();
        let bytes = bytes.into_inner();
        let proved = Self { folder, clip, plan, outcome, bytes };
        proved.verify(&proved.bytes).unwrap();
        proved
    }

    fn verify(&self, bytes: &[u8]) -> Result<Facts, Error> {
        let path = self.folder.put("written", bytes);
        verify(&self.clip, &self.plan, &self.outcome, &path, None, &Unobserved)
    }

    /// What is said of a file that was written as something else was planned; of the same signal where none
    /// is given.
    fn said(&self, change: impl FnOnce(&mut Output), samples: Option<Vec<Vec<f64>>>) -> String {
        let mut output = self.plan.to.clone();
        change(&mut output);
        let usual = || signal(output.format, output.frames as usize);
        let samples = samples.unwrap_or_else(usual);
        output.frames = samples[0].len() as u64;
        let source = Samples::new(output.format.rate, samples);
        let mut bytes = Cursor::new(Vec::new());
        render_source(source, &output, Dither::None, &mut bytes, &Unobserved).unwrap();
        match self.verify(bytes.get_ref()) {
            Ok(_) => "passes".to_owned(),
            Err(error) => error.to_string(),
        }
    }
}

/// Whoever listens while a file is proved hears all of it, copied or encoded, and a listener that leaves early lets no
/// fault through.
#[test]
fn a_listener_hears_what_is_proved() {
    for (from, line) in [
        ("wav pcm16 44100 stereo", "wav pcm16 44100 stereo"),
        ("wav pcm16 44100 stereo", "aiff pcm16 44100 stereo"),
        ("wav pcm16 44100 stereo", "wav pcm24 44100 mono"),
        ("wav pcm16 44100 stereo", "ogg vorbis:q4 44100 stereo"),
        ("wav pcm16 44100 stereo", "ogg flac16 44100 stereo"),
    ] {
        let proved = Proved::of(from, 9000, &[("spec", line)]);
        let path = proved.folder.put("written", &proved.bytes);
        let listened = |listen: &mut dyn FnMut(&Clip, &mut dyn Source) -> Result<(), Error>| {
            let Proved { clip, plan, outcome, .. } = &proved;
            verify(clip, plan, outcome, &path, Some(listen), &Unobserved)
        };
        let mut heard = Vec::new();
        listened(&mut |written, frames| {
            heard = collect(frames)?;
            assert_eq!(collect(&mut *written.frames()?)?, heard, "{line}");
            Ok(())
        })
        .unwrap();
        assert_eq!(heard[0].len(), 9000, "{line}");
        let mut leaves = |_: &Clip, frames: &mut dyn Source| frames.next(&mut Block::default());
        listened(&mut leaves).unwrap();
        let last = proved.bytes.len() - 40;
        let damaged = [&proved.bytes[..last], &[0x55; 40][..]].concat();
        std::fs::write(&path, damaged).unwrap();
        assert!(listened(&mut leaves).is_err(), "{line}");
    }
}

/// What is made quickly to be played holds every sample, rounded and held at full scale, and claims no check sum.
#[test]
fn what_is_made_to_be_played_loses_nothing() {
    for (line, scale) in
        [("flac flac16 44100 stereo", 32_768.0), ("flac flac24 44100 mono", 8_388_608.0)]
    {
        let format: Format = line.parse().unwrap();
        let mut samples = signal(format, 9000);
        samples[0][100..110].fill(1.5);
        samples[0][200] = -1.0;
        let want: Vec<Vec<f64>> = samples
            .iter()
            .map(|all| {
                all.iter()
                    .map(|s| (s * scale).round_ties_even().clamp(-scale, scale - 1.0) / scale)
                    .collect()
            })
            .collect();
        let output = Output::plain(format, 9000);
        let mut source = Samples::new(format.rate, samples);
        let mut bytes = Cursor::new(Vec::new());
        render_to_play(&mut source, &output, &mut bytes, &Unobserved).unwrap();
        let bytes = bytes.into_inner();
        assert_eq!(bytes[26..42], [0; 16], "{line}");
        let folder = Folder::new();
        let clip = Clip::open(&folder.put("played.flac", &bytes)).unwrap();
        assert_eq!(collect(&mut *clip.frames().unwrap()).unwrap(), want, "{line}");
    }
}

fn looped(start: u64, end: u64) -> Loop {
    Loop::endless(FrameRange { start, end })
}

/// Each thing that verification claims to notice, one at a time.
#[test]
fn what_is_not_as_planned_is_named() {
    for (spec, said) in [
        ("wav pcm24", "wav"),
        ("aiff pcm16", "aiff"),
        ("flac flac16", "flac"),
        ("ogg vorbis:q4", "ogg"),
    ] {
        let line = format!("{spec} 44100 stereo");
        let lossy = said == "ogg";
        let asked = [
            ("spec", line.as_str()),
            ("loop", "1000smp..4000smp"),
            ("tail", "keep"),
            ("tag", "TITLE=Kettle"),
        ];
        let proved = Proved::of("wav f64 44100 stereo", 6000, &asked);
        let same = || samples_of(&proved);
        assert!(
            proved.plan.to.loops.len() == 1 && matches!(proved.plan.work, Work::Render(_)),
            "{line}"
        );
        let swapped = || same().into_iter().rev().collect::<Vec<_>>();
        let shorter =
            |by: usize| same().into_iter().map(|c| c[..c.len() - by].to_vec()).collect::<Vec<_>>();
        let louder = || {
            same()
                .into_iter()
                .map(|c| c.iter().map(|s| s * 1.5).collect())
                .collect::<Vec<Vec<f64>>>()
        };
        let late = |by: usize| -> Vec<Vec<f64>> {
            let shifted = |c: Vec<f64>| [&vec![0.0; by], &c[..c.len() - by]].concat();
            same().into_iter().map(shifted).collect()
        };
        let mut one = same();
        one[1][3210] += 0.01;
        let samples = if lossy { "" } else { "a sample reads back" };
        type Change<'a> = (&'a str, Box<dyn FnOnce(&mut Output)>, Option<Vec<Vec<f64>>>, &'a str);
        let cases: Vec<Change<'_>> = vec![
            (
                "a frame fewer",
                Box::new(|_| {}),
                Some(shorter(1)),
                "frames: expected 6000, found 5999",
            ),
            (
                "another loop",
                Box::new(|o| o.loops = vec![looped(1001, 4000)]),
                Some(same()),
                "loop points",
            ),
            ("no loop", Box::new(|o| o.loops.clear()), Some(same()), "loop points"),
            (
                "another tag",
                Box::new(|o| o.tags = vec![Tag::new("TITLE", "Kettles")]),
                Some(same()),
                "texts",
            ),
            ("no tag", Box::new(|o| o.tags.clear()), Some(same()), "texts"),
            ("channels swapped", Box::new(|_| {}), Some(swapped()), samples),
            ("another level", Box::new(|_| {}), Some(louder()), samples),
            ("a start that is late", Box::new(|_| {}), Some(late(40)), samples),
            ("silence", Box::new(|_| {}), Some(vec![vec![0.0; 6000]; 2]), samples),
        ];
        for (what, change, samples, said) in cases {
            let found = proved.said(change, samples);
            assert!(found != "passes" && found.contains(said), "{line}, {what}: {found}");
        }
        if !lossy {
            let found = proved.said(|_| {}, Some(one));
            assert!(found.contains("a sample reads back"), "{line}, one sample: {found}");
        }
    }
}

/// What the clip gives at the output's rate and channels.
fn samples_of(proved: &Proved) -> Vec<Vec<f64>> {
    crate::bench::samples(&proved.clip)
}

#[test]
fn another_kind_of_file_is_named() {
    let wav = Proved::of("wav f64 44100 stereo", 500, &[("spec", "wav pcm16 44100 stereo")]);
    for (line, said) in [
        ("wav pcm24 44100 stereo", "format: expected wav pcm16 44100 stereo, found wav pcm24"),
        ("wav pcm16 48000 stereo", "found wav pcm16 48000 stereo"),
        ("aiff pcm16 44100 stereo", "found aiff pcm16"),
    ] {
        let found = wav.said(|o| *o = Output::plain(line.parse().unwrap(), o.frames), None);
        assert!(found.contains(said), "{line}: {found}");
    }
    let found = wav.said(|o| o.header = Some(Header::Extensible), Some(samples_of(&wav)));
    assert!(found.contains("header is of another kind"), "{found}");
    let marked = |o: &mut Output| o.markers = vec![Marker { frame: 7, name: "here".to_owned() }];
    let found = wav.said(marked, Some(samples_of(&wav)));
    assert!(found.contains("markers are others"), "{found}");
    let blocks = Proved::of("wav f64 22050 mono", 4000, &[("spec", "wav imaadpcm 22050 mono")]);
    let found = blocks.said(|o| o.block_bytes = Some(1024), None);
    assert!(found.contains("blocks are of another size"), "{found}");
}

/// Chunks that come along must be there, and those that nobody asked for must not.
#[test]
fn chunks_are_counted() {
    let folder = Folder::new();
    let sound = vec![0u8; 400];
    let riff = crate::bench::Riff::new()
        .fmt(1, 1, 8000, 16)
        .chunk(b"data", &sound)
        .chunk(b"odd ", b"kept");
    let clip = folder.open(&riff.bytes()).unwrap();
    let kept = Proved::in_folder(
        folder,
        clip,
        &[("spec", "wav pcm16 8000 mono"), ("tags", "keep"), ("gain", "-1dB")],
    );
    let plain = crate::bench::Riff::new().fmt(1, 1, 8000, 16).chunk(b"data", &sound);
    let error = kept.verify(&plain.bytes()).unwrap_err().to_string();
    assert!(error.contains("the chunk odd  is missing"), "{error}");
    let bare =
        Proved::of("wav f64 8000 mono", 200, &[("spec", "wav pcm16 8000 mono"), ("tags", "strip")]);
    let more = [&bare.bytes[..], b"odd \x04\0\0\0more"].concat();
    let mut more = more;
    let size = (more.len() as u32 - 8).to_le_bytes();
    more[4..8].copy_from_slice(&size);
    let error = bare.verify(&more).unwrap_err().to_string();
    assert!(error.contains("the chunk odd  was not requested"), "{error}");
    let cut = bare.verify(&bare.bytes[..bare.bytes.len() - 2]).unwrap_err().to_string();
    assert!(!cut.is_empty());
}

/// Copied packets and copied files are compared byte by byte.
#[test]
fn copies_are_compared_byte_by_byte() {
    for (clip, asked) in [
        (
            "wav pcm16 44100 stereo",
            vec![("spec", "wav pcm16 44100 stereo"), ("header", "extensible")],
        ),
        ("ogg vorbis:q4 44100 stereo", vec![("tag", "TITLE=x")]),
        ("wav pcm16 44100 stereo", vec![("spec", "wav pcm16 44100 stereo")]),
    ] {
        let proved = Proved::of(clip, 5000, &asked);
        assert!(!matches!(proved.plan.work, Work::Render(_)), "{clip}: {:?}", proved.plan);
        let mut damaged = proved.bytes.clone();
        let at = damaged.len() - 700;
        damaged[at] ^= 0x10;
        assert!(proved.verify(&damaged).is_err(), "{clip}");
        assert!(proved.verify(&proved.bytes[..proved.bytes.len() - 300]).is_err(), "{clip}");
    }
}

/// One bit of every byte of a file turned over, in every format that loses nothing: what passes is listed, with
/// the reason why it may.
#[test]
fn no_byte_is_wrong_unnoticed() {
    for (spec, _) in WRITTEN {
        let format =
            format!("{spec} 44100 stereo").parse::<deft_needle_audio::spec::Format>().unwrap();
        if format.encoding.codec.kind() == Kind::Lossy {
            continue;
        }
        let line = format.to_string();
        let proved = Proved::of("wav f64 44100 stereo", 31, &[("spec", &line)]);
        let may = may_pass(&line, &proved.bytes);
        let mut passing = Vec::new();
        for at in 0..proved.bytes.len() {
            let mut damaged = proved.bytes.clone();
            damaged[at] ^= 0x10;
            if proved.verify(&damaged).is_ok() && !may.iter().any(|range| range.contains(&at)) {
                passing.push(at);
            }
        }
        assert!(passing.is_empty(), "{line}: {passing:?} of {} bytes", proved.bytes.len());
    }
}

/// Where a byte may be another, since it changes neither what is heard nor what a loader needs.
fn may_pass(line: &str, bytes: &[u8]) -> [std::ops::Range<usize>; 2] {
    let find = |id: &[u8; 4]| bytes.windows(4).position(|w| w == id).unwrap();
    match line.split(' ').next().unwrap() {
        // The name of the compression, which is for people.
        "aifc" => [find(b"COMM") + 8 + 22..find(b"SSND"), 0..0],
        // The sizes of the smallest and the largest frame, hints for buffers.
        "flac" => [12..18, 0..0],
        // Brands, times, languages, matrices; in the packet reserved bits of its header, a mix that mixes
        // nothing, and what fills up its last byte.
        "m4a" => [0..find(b"mdat") + 16, bytes.len() - 1..bytes.len()],
        // Hints for buffers in what decoders must know; the same of the packet; frames behind those that count.
        "caf" if line.contains("alac") => {
            [find(b"kuki") + 12..find(b"data") + 28, find(b"pakt") - 1..bytes.len()]
        }
        _ => [0..0, 0..0],
    }
}

#[test]
fn a_plan_without_edits_is_proved_too() {
    let folder = Folder::new();
    let clip = folder.make("wav f64 44100 mono", 100);
    let plan = plan(
        clip.facts(),
        &Demand::from("wav pcm16 any any".parse::<deft_needle_audio::Spec>().unwrap()),
    );
    assert!(matches!(plan.unwrap().work, Work::Render(_)));
}
