//! Loop points: set, carried through cuts, rates and silence, and read back.

use crate::bench::{Folder, audio_bytes, demand, made, samples};
use deft_needle_audio::edit::{Request, TooLong};
use deft_needle_audio::observe::Unobserved;
use deft_needle_audio::plan::{Plan, Reference, Work, plan_clip};
use deft_needle_audio::seam::{Verdict, judge};
use deft_needle_audio::spec::{Chunks, Demand, Looped};
use deft_needle_audio::units::FrameRange;
use deft_needle_audio::{Clip, Edits, Error};
use proptest::prelude::*;

/// Edits as they are typed, in pairs.
fn edits(typed: &[(&str, &str)]) -> Edits {
    Request::read(typed.iter().copied()).unwrap().edits
}

fn planned(clip: &Clip, wish: &Demand, typed: &[(&str, &str)]) -> Result<Plan, Error> {
    plan_clip(clip, wish, &edits(typed), Reference::default(), &Unobserved)
}

/// Frames, and the loop, after carrying it out.
fn came_out(
    folder: &Folder,
    clip: &Clip,
    spec: &str,
    typed: &[(&str, &str)],
) -> (u64, Option<(u64, u64)>) {
    let plan = planned(clip, &demand(spec), typed).unwrap_or_else(|e| panic!("{typed:?}: {e}"));
    let (out, _) = folder.carry_out(clip, &plan);
    let range = out.facts().loops.first().map(|l| (l.range.start, l.range.end));
    (out.facts().frames, range)
}

#[test]
fn loops_are_set_and_go_where_the_sound_goes() {
    let folder = Folder::new();
    let clip = folder.make("wav pcm24 48000 stereo", 48_000);
    let own = |name: &str| {
        Clip::open(&folder.put(name, &std::fs::read(clip.input().path().unwrap()).unwrap()))
            .unwrap()
    };
    let clip = own("clip.wav");
    for (typed, frames, range) in [
        (vec![("loop", "12000smp..36000smp")], 36_000, Some((12_000, 36_000))),
        (vec![("loop", "12000smp..36000smp"), ("tail", "keep")], 48_000, Some((12_000, 36_000))),
        (vec![("loop", "0.25s..end")], 48_000, Some((12_000, 48_000))),
        (vec![("loop", "0.25s+0.5s"), ("tail", "fade")], 48_000, Some((12_000, 36_000))),
        (vec![("loop", "all")], 48_000, Some((0, 48_000))),
        (vec![("loop", "all"), ("cut", "0.1s..0.6s")], 24_000, Some((0, 24_000))),
        (vec![("loop", "12000smp..36000smp"), ("cut", "0.2s..")], 26_400, Some((2_400, 26_400))),
        (vec![("loop", "12000smp..36000smp"), ("pad", "0.1s,0s")], 40_800, Some((16_800, 40_800))),
        (vec![("loop", "12000smp..36000smp"), ("speed", "2")], 18_150, Some((6_150, 18_150))),
        (vec![("loop", "none")], 48_000, None),
    ] {
        assert_eq!(
            came_out(&folder, &clip, "wav pcm16 any any", &typed),
            (frames, range),
            "{typed:?}"
        );
    }
    for (spec, at) in [
        ("ogg vorbis 44100 any", (11_025, 33_075)),
        ("aiff pcm16 44100 any", (11_025, 33_075)),
        ("flac flac16 any any", (12_000, 36_000)),
        ("wav imaadpcm 22050 any", (5_513, 16_538)),
    ] {
        let (_, range) =
            came_out(&folder, &clip, spec, &[("loop", "12000smp..36000smp"), ("tail", "keep")]);
        assert_eq!(range, Some(at), "{spec}");
    }
}

#[test]
fn a_loop_that_came_along_stays_on_its_sound() {
    let folder = Folder::new();
    let clip = folder.make("wav pcm24 48000 stereo", 48_000);
    let set =
        planned(&clip, &demand("wav any any any"), &[("loop", "0.25s..0.75s"), ("tail", "keep")])
            .unwrap();
    assert_eq!(set.work, Work::Rewrap, "loop points are the header's alone");
    let (looped, _) = folder.carry_out(&clip, &set);
    assert_eq!(audio_bytes(&looped), audio_bytes(&clip));
    let path = folder.put("looped.wav", &std::fs::read(looped.input().path().unwrap()).unwrap());
    let looped = Clip::open(&path).unwrap();
    for (typed, frames, range) in [
        (vec![("cut", "0.125s..")], 42_000, Some((6_000, 30_000))),
        (vec![("pad", "100ms")], 57_600, Some((16_800, 40_800))),
        (vec![("tail", "cut")], 36_000, Some((12_000, 36_000))),
        (vec![("cut", "0.5s..")], 24_000, None),
        (vec![("loop", "none")], 48_000, None),
        (vec![("loop", "0..0.5s")], 24_000, Some((0, 24_000))),
    ] {
        assert_eq!(
            came_out(&folder, &looped, "wav pcm16 any any", &typed),
            (frames, range),
            "{typed:?}"
        );
    }
    // At a seam no edge is faded, though it is cut through sound.
    let cut =
        planned(&clip, &demand("wav any any any"), &[("cut", "0.25s.."), ("loop", "0.25s..0.75s")])
            .unwrap();
    let (seamless, _) = folder.carry_out(&clip, &cut);
    assert!(samples(&seamless)[0] == samples(&clip)[0][12_000..36_000], "every sample as it was");
}

#[test]
fn what_cannot_loop_is_said_with_figures() {
    let folder = Folder::new();
    let clip = folder.make("wav pcm16 48000 mono", 48_000);
    let forbidden = Demand { looped: Looped::Forbidden, ..demand("wav any any any") };
    let required = Demand {
        looped: Looped::Required,
        chunks: Some(Chunks::Loops),
        ..demand("wav any any any")
    };
    let cut_short =
        Edits { too_long: TooLong::Cut, ..edits(&[("loop", "0.2s..0.9s"), ("longest", "0.5s")]) };
    let wish = demand("wav any any any");
    let error = plan_clip(&clip, &wish, &cut_short, Reference::default(), &Unobserved);
    assert!(error.unwrap_err().to_string().contains("LoopNotUsed"));
    for (wish, typed, part) in [
        (&demand("wav any any any"), vec![("loop", "0.5s..2s")], "RangeOutside"),
        (
            &demand("wav any any any"),
            vec![("loop", "0.5s..0.9s"), ("cut", "..0.8s")],
            "LoopOutside",
        ),
        (
            &demand("qoa qoa any any"),
            vec![("loop", "0.5s..0.9s")],
            "LoopRefused { container: Some(\"qoa\") }",
        ),
        (&forbidden, vec![("loop", "all")], "LoopRefused { container: None }"),
        (&required, vec![("pad", "1s")], "LoopRequired"),
    ] {
        let error = planned(&clip, wish, &typed).unwrap_err().to_string();
        assert!(error.contains(part), "{typed:?}: {error}");
    }
    let met = planned(&clip, &required, &[("loop", "0.2s..0.8s")]).unwrap();
    let (out, _) = folder.carry_out(&clip, &met);
    assert!(required.shortfalls(out.facts()).is_empty());
}

/// Signals whose seams are known: what a true loop gives, and by how much a spoilt one stands out.
#[test]
fn seams_are_judged_by_what_stands_out() {
    let folder = Folder::new();
    let rate = 48_000.0;
    let mut seed = 1u32;
    let mut noise = move || {
        seed = seed.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        f64::from(seed) / f64::from(u32::MAX) * 2.0 - 1.0
    };
    let tone =
        |hertz: f64| move |n: usize| 0.4 * (std::f64::consts::TAU * hertz * n as f64 / rate).sin();
    let wide: Vec<f64> = (0..96_000).map(|_| 0.2 * noise()).collect();
    let sine: Vec<f64> = (0..96_000).map(tone(100.0)).collect();
    let quiet_end: Vec<f64> =
        (0..96_000).map(|n| tone(100.0)(n) * if n >= 48_000 { 0.1 } else { 1.0 }).collect();
    let stepped = |sound: &[f64], step: f64| -> Vec<f64> {
        sound.iter().enumerate().map(|(n, s)| s + if n >= 48_000 { step } else { 0.0 }).collect()
    };
    for (name, signal, start, end, want) in [
        // Whole periods of 480 frames, and half a one.
        ("whole periods", &sine, 4_800, 52_800, Verdict::Good),
        ("a quarter period off", &sine, 4_800, 52_920, Verdict::Bad),
        ("one frame off", &sine, 4_800, 52_801, Verdict::Bad),
        // From nothing that anybody hears to what nobody misses; noise masks what a tone does not.
        ("a step of 0.0003", &stepped(&sine, 0.0003), 4_800, 91_200, Verdict::Good),
        ("a step of 0.003", &stepped(&sine, 0.003), 4_800, 91_200, Verdict::Audible),
        ("a step of 0.02", &stepped(&sine, 0.02), 4_800, 91_200, Verdict::Bad),
        ("a step of 0.003 in noise", &stepped(&wide, 0.003), 4_800, 91_200, Verdict::Good),
        ("a step of 0.6 in noise", &stepped(&wide, 0.6), 4_800, 91_200, Verdict::Bad),
        ("noise anywhere", &wide, 1_234, 77_777, Verdict::Good),
        ("from quiet to loud", &quiet_end, 4_800, 91_200, Verdict::Bad),
    ] {
        let clip = folder.open(&made("wav f32 48000 mono", vec![signal.clone()])).unwrap();
        let found = judge(&clip, FrameRange { start, end }).unwrap();
        assert_eq!(found.verdict, want, "{name}: {:.1} dB", found.click_db);
    }
    // A note that begins at the start is the sound's own, with or without something before it.
    let note = |n: usize| (-(n as f64) / 9_000.0).exp() * tone(660.0)(n);
    let notes: Vec<f64> = (0..96_000).map(|n| note(n % 24_000)).collect();
    for (start, end) in [(0, 96_000), (0, 72_000), (24_000, 96_000), (24_000, 72_000)] {
        let clip = folder.open(&made("wav f32 48000 mono", vec![notes.clone()])).unwrap();
        let found = judge(&clip, FrameRange { start, end }).unwrap();
        assert!(found.click_db <= 0.0, "{start}..{end}: {:.1} dB", found.click_db);
    }
    // A codec's noise, 45 dB below, is another one on each side of a seam, and no click.
    let noisy: Vec<f64> = sine
        .iter()
        .zip(&wide)
        .enumerate()
        .map(|(n, (s, w))| s + w * if n >= 48_000 { 0.016 } else { -0.016 })
        .collect();
    let clip = folder.open(&made("wav f32 48000 mono", vec![noisy])).unwrap();
    let found = judge(&clip, FrameRange { start: 4_800, end: 91_200 }).unwrap();
    assert_eq!(found.verdict, Verdict::Good, "{:.1} dB", found.click_db);
    let clip = folder.open(&made("wav f32 48000 mono", vec![stepped(&sine, 0.02)])).unwrap();
    let found = judge(&clip, FrameRange { start: 4_800, end: 91_200 }).unwrap();
    assert!((found.step - 0.02).abs() < 0.006, "{}", found.step);
    assert!(judge(&clip, FrameRange { start: 10, end: 20 }).is_err());
    assert!(judge(&clip, FrameRange { start: 0, end: 96_001 }).is_err());
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]

    /// A click stands where the loop begins, another where it ends: wherever they go, the points go along.
    #[test]
    fn points_stay_on_their_sound(
        start in 4_000u64..20_000, length in 4_000u64..20_000, cut in 0u64..3_000, pad in 0u64..2_000,
        rate in prop::sample::select(vec![22_050u32, 32_000, 44_100, 48_000, 96_000]),
        spec in prop::sample::select(vec!["wav f32", "aiff pcm24", "flac flac24"]), speed in prop::sample::select(vec!["1", "2", "0.5"]),
    ) {
        let folder = Folder::new();
        let mut signal = vec![0.0; 48_000];
        let end = start + length;
        signal[start as usize] = 0.5;
        signal[end as usize] = -0.5;
        let clip = folder.open(&made("wav f32 48000 mono", vec![signal])).unwrap();
        let (cut, pad) = (format!("{cut}smp.."), format!("{}s,0s", pad as f64 / 48_000.0));
        let asked = format!("{start}smp..{end}smp");
        let typed = [("loop", asked.as_str()), ("cut", &cut), ("pad", &pad), ("tail", "keep"), ("speed", speed)];
        let plan = planned(&clip, &demand(&format!("{spec} {rate} mono")), &typed).unwrap();
        let (out, _) = folder.carry_out(&clip, &plan);
        let (found, heard) = (out.facts().loops[0].range, samples(&out).remove(0));
        let place = |sign: f64| {
            let best = (0..heard.len()).max_by(|a, b| (sign * heard[*a]).total_cmp(&(sign * heard[*b])));
            best.unwrap() as f64
        };
        // The peak of a resampled click lies at the nearest frame or the next.
        prop_assert!((place(1.0) - found.start as f64).abs() <= 1.0, "{typed:?} {spec} {rate}: {found:?}");
        prop_assert!((place(-1.0) - found.end as f64).abs() <= 1.0, "{typed:?} {spec} {rate}: {found:?}");
    }
}
