//! Loops through every conversion: what comes out is held against the ideal periodic signal.

use crate::bench::{Folder, demand, made, samples};
use deft_needle_audio::observe::Unobserved;
use deft_needle_audio::plan::{Decision, Plan, Reference, plan_clip};
use deft_needle_audio::shape::Step;
use deft_needle_audio::{Clip, Edits};
use proptest::prelude::*;
use std::f64::consts::TAU;

const RATES: [u32; 9] = [8_000, 11_025, 16_000, 22_050, 32_000, 44_100, 48_000, 88_200, 96_000];

/// A sum of harmonics of a loop, up to a part of it that any filter lets through.
struct Periodic {
    harmonics: Vec<(f64, f64)>,
}

impl Periodic {
    /// For a loop of this many seconds, below this many hertz.
    fn new(seconds: f64, hertz: f64) -> Self {
        let most = (seconds * hertz) as usize;
        // Some of the harmonics, the highest among them.
        let chosen = (1..12).map(|n| (n * n * 7 * most / 1000).clamp(1, most));
        Self { harmonics: chosen.chain([most]).map(|k| (k as f64, 1.3 * k as f64)).collect() }
    }

    /// Its value at a part of the loop.
    fn at(&self, turn: f64) -> f64 {
        let sum: f64 = self.harmonics.iter().map(|(k, phase)| (TAU * k * turn + phase).sin()).sum();
        0.5 * sum / self.harmonics.len() as f64
    }
}

fn planned(clip: &Clip, spec: &str, edits: &Edits) -> Plan {
    plan_clip(clip, &demand(spec), edits, Reference::default(), &Unobserved).unwrap()
}

/// Frames in and out of the rate's step.
fn ratio(plan: &Plan) -> (u64, u64) {
    plan.steps()
        .iter()
        .find_map(|step| match step {
            Step::Resample { from, to, .. } => Some((*from, *to)),
            _ => None,
        })
        .unwrap_or((1, 1))
}

/// The greatest difference in dBFS from the ideal signal over the whole loop.
fn error(found: &[f64], range: std::ops::Range<u64>, ideal: impl Fn(u64) -> f64) -> f64 {
    let worst = range.map(|m| (found[m as usize] - ideal(m)).abs()).fold(0.0, f64::max);
    20.0 * worst.max(1e-12).log10()
}

#[test]
fn every_pair_of_rates_keeps_loops_exact() {
    let folder = Folder::new();
    let mut worst = f64::NEG_INFINITY;
    for from in RATES {
        for to in RATES.into_iter().filter(|to| *to != from) {
            let length = u64::from(from / 5 + 13);
            let loop_of =
                Periodic::new(length as f64 / f64::from(from), 0.45 * f64::from(from.min(to)));
            for (intro, other) in
                [(0u64, 0.0), (u64::from(from / 20), 0.0), (u64::from(from / 20 + 7), 0.4)]
            {
                let frames = intro + length;
                let wave = (0..frames).map(|n| match n < intro {
                    true => other * (0.31 * n as f64).sin(),
                    false => loop_of.at((n - intro) as f64 / length as f64),
                });
                let clip = folder
                    .open(&made(&format!("wav f64 {from} mono"), vec![wave.collect()]))
                    .unwrap();
                let edits = Edits {
                    looped: Some(format!("{intro}smp..end").parse().unwrap()),
                    ..Edits::default()
                };
                let plan = planned(&clip, &format!("wav f32 {to} mono"), &edits);
                let (out, _) = folder.carry_out(&clip, &plan);
                let range = out.facts().loops[0].range;
                let (a, b) = ratio(&plan);
                let cents =
                    1200.0 * (a as f64 * f64::from(to) / (b as f64 * f64::from(from))).log2();
                assert!(cents.abs() <= 1.0, "{from} to {to}: {cents}");
                assert_eq!(range.end, out.facts().frames);
                assert!(range.len() * a % (length * b) == 0, "{from} to {to}: {range:?} {a}:{b}");
                let found = samples(&out).remove(0);
                let ideal = |m: u64| {
                    loop_of.at((m as f64 * a as f64 / b as f64 - intro as f64) / length as f64)
                };
                let off = error(&found, range.start..range.end, ideal);
                worst = worst.max(off);
                assert!(off < -110.0, "{from} to {to}, intro {intro}: {off:.1} dBFS");
            }
        }
    }
    println!("worst of all: {worst:.1} dBFS");
}

/// A clip of noise, so that every frame can be told from every other.
fn noise(folder: &Folder, frames: u64) -> Clip {
    let mut seed = 9u32;
    let next = |_| {
        seed = seed.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        f64::from(seed >> 8) / f64::from(1u32 << 24) - 0.5
    };
    folder.open(&made("wav f32 48000 mono", vec![(0..frames).map(next).collect()])).unwrap()
}

#[test]
fn points_move_to_multiples_with_their_sound() {
    let folder = Folder::new();
    let clip = noise(&folder, 40_000);
    let before = samples(&clip).remove(0);
    let edits = |text: &str, multiple: u64, bend: Option<f64>| Edits {
        looped: Some(text.parse().unwrap()),
        loop_multiple: std::num::NonZeroU64::new(multiple),
        loop_bend: bend,
        ..Edits::default()
    };
    // Start and end, the multiple, the bend that is allowed; where the loop lies then, and its rounds.
    for (start, end, multiple, bend, at, rounds) in [
        (1_024, 9_216, 1_024, None, 1_024, 1),
        (1_000, 9_192, 1_024, None, 1_024, 1),
        (1_025, 9_217, 1_024, None, 2_048, 1),
        (0, 8_192, 64, None, 0, 1),
        (3, 3_000, 64, Some(0.0), 64, 64),
        (100, 4_196, 4_096, None, 4_096, 1),
    ] {
        let edits = edits(&format!("{start}smp..{end}smp"), multiple, bend);
        let plan = planned(&clip, "wav f32 any any", &edits);
        let (out, _) = folder.carry_out(&clip, &plan);
        let range = out.facts().loops[0].range;
        assert_eq!((range.start, range.len()), (at, rounds * (end - start)), "{start}..{end}");
        assert!(range.len().is_multiple_of(multiple));
        // Every sample is the clip's own: up to the end, then the loop again.
        let length = end - start;
        let found = samples(&out).remove(0);
        assert_eq!(found.len() as u64, range.end);
        for (index, sample) in (0u64..).zip(&found) {
            let own = if index < end { index } else { start + (index - start) % length };
            assert!(*sample == before[own as usize], "{start}..{end}: frame {index}");
        }
    }
    // What is no multiple is bent where it is resampled anyway, and by the fewest rounds.
    let bent = planned(&clip, "wav f32 44100 any", &edits("1000smp..31003smp", 64, None));
    let range = bent.to.loops[0].range;
    assert_eq!((range.start % 64, range.len() % 64), (0, 0));
    let (from, to) = ratio(&bent);
    let rounds = (range.len() as f64 / (30_003.0 * 44.1 / 48.0)).round() as u64;
    assert_eq!((from, to), (rounds * 30_003, range.len()));
    let cents = 1200.0 * (from as f64 * 44_100.0 / (to as f64 * 48_000.0)).log2();
    assert!(cents.abs() <= 1.0, "{cents}");
    for fewer in 1..rounds {
        let exact = fewer as f64 * 30_003.0 * 44.1 / 48.0;
        let off = 1200.0 * (64.0 * (exact / 64.0).round() / exact).log2();
        assert!(off.abs() > 1.0, "{fewer} rounds would do");
    }
    // Without anything to convert, it is not bent unasked.
    let wish = demand("wav any any any");
    let refused = |edits: &Edits| {
        let error = plan_clip(&clip, &wish, edits, Reference::default(), &Unobserved).unwrap_err();
        format!("{error:?}")
    };
    let told = refused(&edits("0smp..30003smp", 1_024, None));
    assert!(told.contains("usual: 1.0, exact: Some(1024)"), "{told}");
    let asked = planned(&clip, "wav any any any", &edits("0smp..30003smp", 1_024, Some(1.0)));
    assert!(asked.to.loops[0].range.len().is_multiple_of(1_024));
    assert!(ratio(&asked) != (1, 1));
    let kept = Edits {
        tail: Some(deft_needle_audio::edit::Tail::Keep),
        ..edits("1000smp..9192smp", 1_024, None)
    };
    assert!(refused(&kept).contains("LoopPinned"));
}

#[test]
fn short_loops_go_round_more_than_once_before_they_are_bent() {
    let folder = Folder::new();
    let clip = noise(&folder, 4_000);
    for length in [9u64, 50, 333] {
        let edits = Edits {
            looped: Some(format!("1000smp..{}smp", 1_000 + length).parse().unwrap()),
            ..Edits::default()
        };
        let plan = planned(&clip, "wav f32 44100 any", &edits);
        let (from, to) = ratio(&plan);
        let cents = 1200.0 * (from as f64 * 44_100.0 / (to as f64 * 48_000.0)).log2();
        assert!(cents.abs() <= 1.0, "{length}: {cents}");
        assert_eq!(from % length, 0);
        let (out, _) = folder.carry_out(&clip, &plan);
        assert_eq!(out.facts().loops[0].range.len(), to);
    }
}

/// With the sound behind it kept, a loop's points stay, and the plan says how far off the seam is: held
/// here against the ideal signal.
#[test]
fn a_kept_tail_keeps_the_points_and_its_error_is_told() {
    let folder = Folder::new();
    let (intro, length) = (9_600u64, 9_607u64);
    let tone = Periodic::new(length as f64 / 48_000.0, 9_000.0);
    for (other, least, most) in [(0.0, -60.0, -20.0), (1.0, -200.0, -110.0)] {
        let wave = (0..intro + length + 4_800).map(|n| {
            let inside = (intro..intro + length).contains(&n);
            let turn = (n as f64 - intro as f64) / length as f64;
            if inside { tone.at(turn) } else { other * tone.at(turn) }
        });
        let clip = folder.open(&made("wav f64 48000 mono", vec![wave.collect()])).unwrap();
        let edits = Edits {
            looped: Some(format!("{intro}smp..{}smp", intro + length).parse().unwrap()),
            tail: Some(deft_needle_audio::edit::Tail::Keep),
            ..Edits::default()
        };
        let plan = planned(&clip, "wav f32 44100 mono", &edits);
        let range = plan.to.loops[0].range;
        assert_eq!(range.start, 8_820);
        let (from, to) = ratio(&plan);
        assert_eq!((from, to), (length, range.len()));
        let told = plan.decisions.iter().find_map(|decision| match decision {
            Decision::SeamError { decibels } => Some(*decibels),
            _ => None,
        });
        let told = told.unwrap();
        assert!((least..=most).contains(&told), "{told}");
        let (out, _) = folder.carry_out(&clip, &plan);
        let ideal =
            |m: u64| tone.at((m as f64 * from as f64 / to as f64 - intro as f64) / length as f64);
        let found = error(&samples(&out)[0], range.start + 1..range.end, ideal);
        assert!(
            (told - 8.0..told + 1.0).contains(&found) || found < -110.0,
            "told {told}, found {found}"
        );
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]

    /// Whatever is asked together: what is planned is what is written, or it is refused before.
    #[test]
    fn any_loop_with_any_edit_is_written_as_planned(
        start in 0u64..9_000, length in 40u64..20_000, multiple in prop::sample::select(vec![None, Some(1u64), Some(64), Some(1_000)]),
        spec in prop::sample::select(vec!["wav f32 any mono", "wav pcm16 44100 mono", "aiff pcm24 22050 mono", "ogg vorbis:q3 44100 mono", "m4a aac 48000 mono", "wav imaadpcm 24000 mono", "flac flac16 96000 mono"]),
        all in any::<bool>(), speed in prop::sample::select(vec![None, Some("1.5")]), pad in prop::sample::select(vec![None, Some("10ms"), Some("0s,5ms")]),
        fade in prop::sample::select(vec![None, Some("2ms"), Some("90ms")]), gain in prop::sample::select(vec![None, Some("+14dB")]),
        bend in prop::sample::select(vec![None, Some(0.0), Some(1.0)]), cut in prop::sample::select(vec![None, Some("0.05s..")]),
    ) {
        let folder = Folder::new();
        let clip = noise(&folder, 30_000);
        let looped = if all { "all".to_owned() } else { format!("{start}smp+{length}smp") };
        let edits = Edits {
            looped: Some(looped.parse().unwrap()),
            loop_multiple: multiple.and_then(std::num::NonZeroU64::new),
            loop_bend: bend,
            speed: speed.map(|text| text.parse().unwrap()),
            pad: pad.map(|text| text.parse().unwrap()),
            crossfade: fade.map(|text| text.parse().unwrap()),
            gain: gain.map(|text| text.parse().unwrap()),
            cut: cut.map(|text| text.parse().unwrap()),
            ..Edits::default()
        };
        let plan = plan_clip(&clip, &demand(spec), &edits, Reference::default(), &Unobserved);
        if let Ok(plan) = plan && plan.to.frames < 2_000_000 {
            let (out, _) = folder.carry_out(&clip, &plan);
            for one in &out.facts().loops {
                let multiple = multiple.unwrap_or(1);
                prop_assert_eq!((one.range.start % multiple, one.range.len() % multiple), (0, 0));
                prop_assert!(one.range.end <= out.facts().frames);
            }
        }
    }
}
