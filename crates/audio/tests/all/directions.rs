//! Loops that do not go round forward, more than one, and one for the release: read, written, carried and heard.

use crate::bench::{Folder, Riff, demand, made, samples};
use deft_needle_audio::clip::{Direction, Loop};
use deft_needle_audio::edit::Request;
use deft_needle_audio::hear::Programme;
use deft_needle_audio::observe::Unobserved;
use deft_needle_audio::plan::{Decision, Plan, Reference, plan, plan_clip};
use deft_needle_audio::units::FrameRange;
use deft_needle_audio::{Clip, Error, Unmet};
use std::io::Cursor;

use Direction::{Backward, Forward, PingPong};

fn looped(start: u64, end: u64, direction: Direction, release: bool) -> Loop {
    Loop { direction, release, ..Loop::endless(FrameRange { start, end }) }
}

/// Sixteen bits of mono: the number of each frame.
fn counted(frames: u16) -> Vec<u8> {
    (0..frames).flat_map(u16::to_le_bytes).collect()
}

/// A WAV of counted frames with a `smpl` chunk of these loops: type, first frame, last frame, plays.
fn wav(frames: u16, loops: &[[u32; 4]]) -> Vec<u8> {
    let mut smpl = [0, 0, 125_000, 60, 0, 0, 0, loops.len() as u32, 0].to_vec();
    for [kind, first, last, plays] in loops {
        smpl.extend([0, *kind, *first, *last, 0, *plays]);
    }
    let smpl: Vec<u8> = smpl.into_iter().flat_map(u32::to_le_bytes).collect();
    Riff::new().fmt(1, 1, 8000, 16).chunk(b"smpl", &smpl).chunk(b"data", &counted(frames)).bytes()
}

/// An AIFF of 100 silent frames whose `INST` chunk holds these modes, between the markers 1, 2 and 3, 4 at
/// the frames 10, 40, 50 and 90.
fn aiff(sustain: u16, release: u16) -> Vec<u8> {
    let chunk = |id: &[u8; 4], bytes: Vec<u8>| {
        [id.as_slice(), &(bytes.len() as u32).to_be_bytes(), &bytes].concat()
    };
    let rate = [0x40, 0x0B, 0xFA, 0, 0, 0, 0, 0, 0, 0];
    let comm = [&[0, 1, 0, 0, 0, 100, 0, 16][..], &rate].concat();
    let mut mark = vec![0, 4];
    for (id, frame) in [(1, 10), (2, 40), (3, 50), (4, 90)] {
        mark.extend([0, id, 0, 0, 0, frame, 0, 0]);
    }
    let words = [sustain, 1, 2, release, 3, 4].into_iter().flat_map(u16::to_be_bytes);
    let inst = [60, 0, 0, 127, 1, 127, 0, 0].into_iter().chain(words).collect();
    let ssnd = vec![0; 8 + 200];
    let body = [
        b"AIFF".to_vec(),
        chunk(b"COMM", comm),
        chunk(b"MARK", mark),
        chunk(b"INST", inst),
        chunk(b"SSND", ssnd),
    ]
    .concat();
    [b"FORM".to_vec(), (body.len() as u32).to_be_bytes().to_vec(), body].concat()
}

#[test]
fn directions_are_read_as_the_formats_define_them() {
    let folder = Folder::new();
    let clip =
        folder.open(&wav(100, &[[0, 1, 9, 0], [1, 20, 39, 3], [2, 50, 69, 0], [7, 80, 89, 0]]));
    let facts = clip.unwrap().facts().clone();
    let plays = Loop { plays: 3, ..looped(20, 40, PingPong, false) };
    let want = [
        looped(1, 10, Forward, false),
        plays,
        looped(50, 70, Backward, false),
        looped(80, 90, Forward, false),
    ];
    assert_eq!(facts.loops, want);
    assert!(
        format!("{:?}", facts.notes).contains("a loop of type 7; taken for one that plays forward")
    );
    for (sustain, release, want) in [
        (0, 0, vec![]),
        (1, 0, vec![looped(10, 40, Forward, false)]),
        (2, 1, vec![looped(10, 40, PingPong, false), looped(50, 90, Forward, true)]),
        (0, 2, vec![looped(50, 90, PingPong, true)]),
    ] {
        let facts = folder.open(&aiff(sustain, release)).unwrap().facts().clone();
        assert_eq!(facts.loops, want, "{sustain} {release}");
        assert_eq!(facts.notes, []);
    }
    let odd = folder.open(&aiff(3, 0)).unwrap().facts().clone();
    assert!(odd.loops[0].direction == Forward && format!("{:?}", odd.notes).contains("mode 3"));
}

#[test]
fn loops_travel_as_far_as_containers_tell_them() {
    let folder = Folder::new();
    let in_wav = || wav(100, &[[1, 10, 39, 0], [2, 50, 89, 0]]);
    let both = [looped(10, 40, PingPong, false), looped(50, 90, Backward, false)];
    for (from, line, want, told) in [
        (in_wav(), "wav pcm24 any any", both.to_vec(), &[][..]),
        (in_wav(), "caf pcm16 any any", both.to_vec(), &[]),
        (
            in_wav(),
            "aiff pcm16 any any",
            vec![looped(10, 40, PingPong, false), looped(50, 90, Forward, true)],
            &["PlaysForward { direction: Backward", "SecondForRelease"],
        ),
        (
            in_wav(),
            "flac flac16 any any",
            vec![looped(10, 40, Forward, false)],
            &["FirstLoops { most: 1", "PlaysForward { direction: PingPong"],
        ),
        (aiff(0, 2), "aifc pcm16le any any", vec![looped(50, 90, PingPong, true)], &[]),
        (
            aiff(2, 1),
            "aiff pcm24 any any",
            vec![looped(10, 40, PingPong, false), looped(50, 90, Forward, true)],
            &[],
        ),
        (
            aiff(1, 2),
            "wav pcm16 any any",
            vec![looped(10, 40, Forward, false), looped(50, 90, PingPong, false)],
            &["ReleaseUntold"],
        ),
    ] {
        let clip = folder.open(&from).unwrap();
        let plan = plan(clip.facts(), &demand(line)).unwrap();
        let said = format!("{:?}", plan.decisions);
        for word in told {
            assert!(said.contains(word), "{line}: {said}");
        }
        let changes = ["PlaysForward", "ReleaseUntold", "SecondForRelease"];
        let number = changes.iter().filter(|word| said.contains(*word)).count();
        assert_eq!(number, told.iter().filter(|word| !word.starts_with("First")).count(), "{line}");
        assert_eq!(folder.carry_out(&clip, &plan).0.facts().loops, want, "{line}");
    }
}

fn planned(clip: &Clip, line: &str, typed: &[(&str, &str)]) -> Result<Plan, Error> {
    let request = Request::read(typed.iter().copied()).unwrap();
    plan_clip(clip, &demand(line), &request.edits, Reference::default(), &Unobserved)
}

#[test]
fn a_direction_is_set_and_kept_and_has_no_seam_to_smooth() {
    let folder = Folder::new();
    let clip = folder.open(&wav(8000, &[[1, 1000, 3999, 0]])).unwrap();
    for (typed, line, want) in [
        (
            &[("loop", "0.5s..0.75s"), ("loop-direction", "backward")][..],
            "wav any any any",
            looped(4000, 6000, Backward, false),
        ),
        (&[("loop", "0.5s..0.75s")], "wav any any any", looped(4000, 6000, Forward, false)),
        (&[("loop-direction", "forward")], "wav any any any", looped(1000, 4000, Forward, false)),
        (
            &[("tail", "keep"), ("gain", "-3dB")],
            "wav any any any",
            looped(1000, 4000, PingPong, false),
        ),
        // Points that turn back go to the nearest frames of another rate: there is no seam to keep exact.
        (&[("gain", "-3dB")], "wav pcm16 7999 any", looped(1000, 4000, PingPong, false)),
    ] {
        let plan = planned(&clip, line, typed).unwrap();
        assert_eq!(folder.carry_out(&clip, &plan).0.facts().loops, [want], "{typed:?}");
    }
    // All of its loops turn, and the samples are copied.
    let two = folder.open(&wav(8000, &[[1, 1000, 3999, 2], [0, 5000, 5999, 0]])).unwrap();
    let plan = planned(&two, "wav any any any", &[("loop-direction", "backward")]).unwrap();
    let first = Loop { plays: 2, ..looped(1000, 4000, Backward, false) };
    let found = folder.carry_out(&two, &plan).0.facts().loops.clone();
    assert_eq!(found, [first, looped(5000, 6000, Backward, false)]);
    assert!(plan.steps().is_empty());
    let none = folder.open(&wav(100, &[])).unwrap();
    let error = planned(&none, "wav any any any", &[("loop-direction", "backward")]);
    let unmet = Unmet::NoLoopToPlay { direction: "backward".to_owned() };
    assert!(matches!(error, Err(Error::CannotMeet(found)) if found == unmet));
    let clip = folder.open(&wav(8000, &[[1, 1000, 3999, 0]])).unwrap();
    let plan =
        planned(&clip, "wav any any any", &[("loop", "all"), ("loop-direction", "ping-pong")]);
    let plan = plan.unwrap();
    assert!(plan.decisions.contains(&Decision::LoopPlays { direction: PingPong }));
    assert!(plan.steps().is_empty(), "samples stay: {:?}", plan.steps());
    for smooths in [("crossfade", "10ms"), ("loop-snap", "1ms"), ("tail", "wrap")] {
        let error = planned(&clip, "wav any any any", &[smooths]);
        let turns = Unmet::TurnsBack { direction: "ping-pong".to_owned() };
        assert!(matches!(error, Err(Error::CannotMeet(unmet)) if unmet == turns), "{smooths:?}");
    }
}

#[test]
fn each_loop_is_heard_the_way_it_plays_to_the_frame() {
    let folder = Folder::new();
    let up = |a: i32, b: i32| (a..b).collect::<Vec<_>>();
    let down = |a: i32, b: i32| (a..b).rev().collect::<Vec<_>>();
    for (loops, rounds, want) in [
        (&[[0, 10, 19, 0]][..], 3, vec![up(0, 20), up(10, 20), up(10, 20), up(20, 40)]),
        (&[[1, 10, 19, 0]], 2, vec![up(0, 20), down(10, 20), up(10, 20), up(20, 40)]),
        (&[[2, 10, 19, 0]], 3, vec![up(0, 20), down(10, 20), down(10, 20), up(20, 40)]),
        (
            &[[0, 25, 34, 0], [1, 10, 19, 0]],
            2,
            vec![up(0, 20), down(10, 20), up(10, 20), up(20, 35), up(25, 35), up(35, 40)],
        ),
        (
            &[[0, 10, 19, 0], [0, 12, 15, 0]],
            2,
            vec![up(0, 16), up(12, 16), up(16, 20), up(10, 20), up(20, 40)],
        ),
        (&[[1, 10, 19, 0]], 1, vec![up(0, 40)]),
        (&[], 2, vec![up(0, 40), up(0, 40)]),
    ] {
        let clip = folder.open(&wav(40, loops)).unwrap();
        let clips = [clip];
        let programme = Programme::new(&clips, &[0], rounds).unwrap();
        let mut bytes = Cursor::new(Vec::new());
        programme.write(&clips, &mut bytes, &Unobserved).unwrap();
        let mut heard = hound::WavReader::new(Cursor::new(bytes.into_inner())).unwrap();
        let heard: Vec<i32> = heard.samples::<i16>().map(|s| s.unwrap().into()).collect();
        assert_eq!(heard, want.concat(), "{loops:?} {rounds} times");
    }
}

/// A clip that is turned round twice is itself, whatever it is made of.
#[test]
fn twice_the_other_way_round_is_the_clip() {
    let folder = Folder::new();
    for line in [
        "wav pcm16 48000 stereo",
        "wav pcm32 8000 mono",
        "wav f64 44100 3ch",
        "ogg vorbis 44100 stereo",
        "mp3 mp3 44100 mono",
    ] {
        let clip = folder.make(line, 10_007);
        let back = clip.reversed().unwrap();
        let (own, turned) = (samples(&clip), samples(&back));
        for (own, turned) in own.iter().zip(&turned) {
            assert!(own.iter().eq(turned.iter().rev()), "{line}");
        }
        assert_eq!(samples(&back.reversed().unwrap()), own, "{line}");
        assert!(back.facts().reversed && !clip.facts().reversed);
    }
    let nothing = folder.open(&made("wav pcm16 8000 mono", vec![Vec::new()])).unwrap();
    assert_eq!(samples(&nothing.reversed().unwrap())[0].len(), 0);
}
