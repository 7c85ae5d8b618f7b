//! Loop points, markers, texts; packets that are copied as they are.

use crate::bench::{Folder, Riff, audio_bytes, demand, samples, signal};
use deft_needle_audio::block::Samples;
use deft_needle_audio::clip::{Loop, Marker, Tag};
use deft_needle_audio::observe::Unobserved;
use deft_needle_audio::plan::{Decision, LeftOut, Reference, Work, plan, plan_clip};
use deft_needle_audio::render::render_source;
use deft_needle_audio::shape::quantise::Dither;
use deft_needle_audio::spec::Output;
use deft_needle_audio::spec::{Chunks, Demand, Format};
use deft_needle_audio::units::FrameRange;
use deft_needle_audio::{Clip, Edits, Facts};
use std::io::Cursor;

#[test]
fn loops_markers_and_texts_travel() {
    let folder = Folder::new();
    let format: Format = "wav pcm16 44100 stereo".parse().unwrap();
    let output = Output {
        loops: vec![Loop::endless(FrameRange { start: 1000, end: 5000 })],
        markers: vec![
            Marker { frame: 77, name: "here".to_owned() },
            Marker { frame: 5500, name: String::new() },
        ],
        tags: vec![Tag::new("TITLE", "Crossing, at dusk: ü"), Tag::new("ARTIST", "nobody")],
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
            if markers { output.markers.clone() } else { Vec::new() },
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
        let wish = Demand { chunks: Some(Chunks::Kept), ..demand(line) };
        let plan = plan(at.facts(), &wish).unwrap();
        let (next, bytes) = folder.carry_out(&at, &plan);
        kept(next.facts(), markers);
        at = folder.open(&bytes).unwrap();
    }
    // Where there is no place for them it is said, and texts only come along where asked.
    let plan = plan(at.facts(), &demand("m4a aac any any")).unwrap();
    assert!(plan.to.loops.is_empty() && plan.to.tags.is_empty());
    let container = "m4a".to_owned();
    let left = Decision::LoopsLeftOut(LeftOut::NoPlace { container });
    assert!(plan.decisions.contains(&left), "{:?}", plan.decisions);
    // A loop under names of one's own.
    let wish = Demand {
        loop_tags: Some("start=FROM,end=TO,in=seconds".parse().unwrap()),
        ..demand("ogg vorbis any any")
    };
    let named =
        plan_clip(&at, &wish, &Edits::default(), Reference::default(), &Unobserved).unwrap();
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
        let (bytes, own) = (audio_bytes(&clip), format!("{spec} 44100|48000 stereo|mono"));
        let copy = folder.put("first", &std::fs::read(clip.input().path().unwrap()).unwrap());
        let clip = Clip::open(&copy).unwrap();
        assert_eq!(plan(clip.facts(), &demand(&own)).unwrap().work, Work::Nothing, "{spec}");
        if spec == "qoa qoa" {
            continue;
        }
        let edits = Edits { tags: vec![Tag::new("TITLE", "Bell")], ..Edits::default() };
        let named =
            plan_clip(&clip, &demand(&own), &edits, Reference::default(), &Unobserved).unwrap();
        assert_eq!(named.work, Work::Rewrap, "{spec}");
        let (titled, _) = folder.carry_out(&clip, &named);
        assert_eq!(titled.facts().tags, [Tag::new("TITLE", "Bell")], "{spec}");
        assert_eq!(audio_bytes(&titled), bytes, "{spec}");
        assert_eq!(samples(&titled), samples(&clip), "{spec}");
        let titled = Clip::open(
            &folder.put("second", &std::fs::read(titled.input().path().unwrap()).unwrap()),
        )
        .unwrap();
        let bare = Demand { chunks: Some(Chunks::Bare), ..demand(&own) };
        let stripped = plan(titled.facts(), &bare).unwrap();
        assert_eq!(stripped.work, Work::Rewrap, "{spec}");
        let (stripped, _) = folder.carry_out(&titled, &stripped);
        assert_eq!((audio_bytes(&stripped), stripped.facts().tags.len()), (bytes, 0), "{spec}");
    }
}

/// A last ADPCM block may be short; copied, it stays so.
#[test]
fn a_short_last_block_is_copied_as_it_is() {
    let folder = Folder::new();
    let clip = folder.make("wav pcm16 22050 mono", 3000);
    let whole = folder.fit(&clip, "wav imaadpcm any any");
    let block = whole.facts().block_bytes.unwrap();
    let mut data = audio_bytes(&whole);
    data.truncate(data.len() - 100);
    let format = [
        &b"\x11\0\x01\0\x22\x56\0\0\0\0\0\0"[..],
        &(block as u16).to_le_bytes(),
        b"\x04\0\x02\0\xF9\x03",
    ]
    .concat();
    let riff = Riff::new()
        .chunk(b"fmt ", &format)
        .chunk(b"LIST", b"INFOINAM\x05\0\0\0Bell\0\0")
        .chunk(b"data", &data);
    let clip = folder.open(&riff.bytes()).unwrap();
    let bare = Demand { chunks: Some(Chunks::Bare), ..demand("wav imaadpcm any any") };
    let plan = plan(clip.facts(), &bare).unwrap();
    assert_eq!(plan.work, Work::Rewrap);
    let (stripped, _) = folder.carry_out(&clip, &plan);
    assert_eq!(audio_bytes(&stripped), data);
    assert_eq!(stripped.facts().frames, clip.facts().frames);
    assert_eq!(samples(&stripped), samples(&clip));
}

/// What an M4A file says of its own delay and length is not carried into one that has others.
#[test]
fn the_old_gapless_text_does_not_come_along() {
    let folder = Folder::new();
    let format: Format = "m4a aac:96k 44100 stereo".parse().unwrap();
    let tags = vec![Tag::new("TITLE", "Crossing")];
    let output = Output { tags, ..Output::plain(format, 50_000) };
    let mut bytes = Cursor::new(Vec::new());
    let source = Samples::new(format.rate, signal(format, 50_000));
    render_source(source, &output, Dither::None, &mut bytes, &Unobserved).unwrap();
    let own = folder.open(bytes.get_ref()).unwrap();
    let told = |clip: &Clip| {
        let bytes = std::fs::read(clip.input().path().unwrap()).unwrap();
        let places = bytes.windows(8).enumerate().filter(|(_, part)| *part == b"iTunSMPB");
        let text = |at: usize| String::from_utf8_lossy(&bytes[at + 24..at + 80]).into_owned();
        places.map(|(at, _)| text(at)).collect::<Vec<_>>()
    };
    let before = told(&own);
    let kept = Demand { chunks: Some(Chunks::Kept), ..demand("m4a aac:128k any any") };
    let edits = Edits { cut: "..30000smp".parse().ok(), ..Edits::default() };
    let plan = plan_clip(&own, &kept, &edits, Reference::default(), &Unobserved).unwrap();
    assert!(plan.to.carried.iter().any(|carried| carried.extra.id == "udta"));
    let (shorter, _) = folder.carry_out(&own, &plan);
    assert_eq!(shorter.facts().frames, 30_000);
    let after = told(&shorter);
    assert_eq!((before.len(), after.len()), (1, 1));
    assert!(after[0].contains(&format!("{:016X}", 30_000)), "{after:?}");
    // Packets that are copied keep theirs.
    let again =
        folder.fit_to(&own, &Demand { chunks: Some(Chunks::Kept), ..demand("m4a aac any any") });
    assert_eq!(again.2.frames, 50_000);
}
