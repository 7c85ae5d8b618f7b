//! Loops out of pieces of what goes on and never repeats: no end to be heard, nothing that is known again.

use crate::bench::{Folder, demand, made, samples};
use deft_needle_audio::edit::Request;
use deft_needle_audio::observe::Unobserved;
use deft_needle_audio::plan::{Plan, Reference, plan_clip};
use deft_needle_audio::render::render;
use deft_needle_audio::units::FrameRange;
use deft_needle_audio::{Clip, Error, Facts, Unmet};
use std::f64::consts::TAU;
use std::io::Cursor;

const RATE: usize = 16_000;

/// Noise of a level that changes little by little, with drops in it.
fn rain(seconds: usize, seed: u64) -> Vec<f64> {
    let mut state = seed;
    let mut next = || {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
        (state >> 33) as f64 / f64::from(1u32 << 30) - 1.0
    };
    let (mut low, mut drop) = (0.0, 0.0);
    let sample = |i: usize| {
        low += 0.3 * (next() - low);
        drop *= 0.98;
        if next() > 0.999 {
            drop = 0.4 * next();
        }
        let swell = 1.0 + 0.25 * (TAU * i as f64 / (7.3 * RATE as f64)).sin();
        (0.15 * low + drop * next()) * swell
    };
    (0..seconds * RATE).map(sample).collect()
}

/// Partials of a note that wavers by three parts in a thousand.
fn engine(seconds: usize) -> Vec<f64> {
    let mut phase = 0.0;
    let sample = |i: usize| {
        let waver = 1.0 + 0.003 * (TAU * i as f64 / (3.1 * RATE as f64)).sin();
        phase += TAU * 71.0 * waver / RATE as f64;
        (1..12).map(|n| 0.1 / f64::from(n) * (f64::from(n) * phase).sin()).sum::<f64>()
    };
    (0..seconds * RATE).map(sample).collect()
}

fn planned(clip: &Clip, options: &[(&str, &str)], line: &str) -> Result<Plan, Error> {
    let edits = Request::read(options.iter().copied()).unwrap().edits;
    plan_clip(clip, &demand(line), &edits, Reference::default(), &Unobserved)
}

/// What is known of the file, its samples, and its bytes.
fn written(clip: &Clip, plan: &Plan) -> (Facts, Vec<Vec<f64>>, Vec<u8>) {
    let mut out = Cursor::new(Vec::new());
    render(clip, plan, &mut out, &Unobserved).unwrap();
    let bytes = out.into_inner();
    let folder = Folder::new();
    let clip = folder.open(&bytes).unwrap();
    (clip.facts().clone(), samples(&clip), bytes)
}

/// Levels of stretches of 50 ms, round the seam and on, in dB.
fn levels(samples: &[f64]) -> Vec<f64> {
    let step = RATE / 20;
    let power = |at: usize| {
        let part = samples.iter().cycle().skip(at).take(step);
        part.map(|s| s * s).sum::<f64>() / step as f64
    };
    (0..samples.len()).step_by(step).map(|at| 10.0 * power(at).log10()).collect()
}

fn spread(levels: &[f64]) -> (f64, f64) {
    let most = |a: f64, b: &f64| a.max(*b);
    (
        -levels.iter().map(|l| -l).fold(f64::MIN, |a, b| most(a, &b)),
        levels.iter().fold(f64::MIN, most),
    )
}

#[test]
fn rain_goes_on_without_a_dip_and_leaves_the_thunder_out() {
    let folder = Folder::new();
    let mut sides = vec![rain(40, 1), rain(40, 2)];
    let usual = levels(&sides[0]);
    for side in &mut sides {
        // Once in forty seconds, and so every time round.
        side[12 * RATE..13 * RATE].iter_mut().for_each(|s| *s *= 5.0);
    }
    let clip = folder.open(&made("wav pcm24 16000 stereo", sides)).unwrap();
    let plan = planned(&clip, &[("texture", "16s")], "wav pcm24 any any").unwrap();
    let texture = plan.texture().unwrap();
    let thunder = FrameRange { start: 12 * RATE as u64, end: 13 * RATE as u64 };
    for (at, piece) in texture.pieces.iter().enumerate() {
        let range = piece.range;
        assert!(range.end <= thunder.start || range.start >= thunder.end, "{range:?}");
        for other in &texture.pieces[..at] {
            let shared =
                range.end.min(other.range.end).saturating_sub(range.start.max(other.range.start));
            assert!(shared * 4 < range.len(), "{range:?} {:?}", other.range);
        }
    }
    let (facts, looped, bytes) = written(&clip, &plan);
    let short = 16 * RATE as u64 - facts.frames;
    assert!(short <= RATE as u64 / 10, "{short} frames short");
    assert_eq!(facts.loops[0].range, FrameRange { start: 0, end: facts.frames });
    let [low, high] = [spread(&usual), spread(&levels(&looped[0]))].map(|s| [s.0, s.1]);
    assert!(high[0] > low[0] - 1.0 && high[1] < low[1] + 1.0, "{low:?} {high:?}");
    // The same again, to the byte.
    let again = planned(&clip, &[("texture", "16s")], "wav pcm24 any any").unwrap();
    assert!(plan == again && written(&clip, &again).2 == bytes);
}

#[test]
fn an_engine_stays_in_step_through_every_join() {
    let folder = Folder::new();
    let clip = folder.open(&made("wav f32 16000 mono", vec![engine(20)])).unwrap();
    let plan = planned(&clip, &[("texture", "8s")], "wav f32 any any").unwrap();
    let texture = plan.texture().unwrap();
    for piece in &texture.pieces {
        assert!(piece.likeness[0] > 0.9, "{:?}", piece.likeness);
    }
    let (_, looped, _) = written(&clip, &plan);
    let [own, (low, high)] = [spread(&levels(&engine(20))), spread(&levels(&looped[0]))];
    assert!(low > own.0 - 0.5 && high < own.1 + 0.5, "{low} to {high} dB, {own:?}");
    // At another rate it is as many frames as it lasts, and no jump is heard at its seam.
    let plan = planned(&clip, &[("texture", "8s")], "wav pcm16 12000 any").unwrap();
    let (facts, looped, _) = written(&clip, &plan);
    assert_eq!((facts.frames, facts.loops.len()), (plan.to.frames, 1));
    let all = &looped[0];
    let step = |at: usize| (all[at] - all[(at + all.len() - 1) % all.len()]).abs();
    let steepest = (1..all.len()).map(step).fold(0.0f64, f64::max);
    assert!(step(0) <= steepest);
}

#[test]
fn it_is_made_of_the_part_that_is_used_and_refuses_what_is_not_its_own() {
    let folder = Folder::new();
    let clip = folder.open(&made("wav pcm16 16000 mono", vec![rain(12, 3)])).unwrap();
    let part = [("texture", "auto"), ("cut", "2s..8s")];
    let plan = planned(&clip, &part, "wav pcm16 any any").unwrap();
    let seconds = |plan: &Plan| plan.to.frames as f64 / RATE as f64;
    assert!((seconds(&plan) - 3.0).abs() < 0.08, "half of the part: {}", seconds(&plan));
    let within = FrameRange { start: 2 * RATE as u64, end: 8 * RATE as u64 };
    assert!(plan.texture().unwrap().pieces.iter().all(|piece| within.contains(piece.range)));
    let told = planned(&clip, &[("texture", "auto"), ("longest", "2s")], "wav pcm16 any any");
    assert!((1.92..=2.0).contains(&seconds(&told.unwrap())));
    for (options, want) in [
        (&[("texture", "30s")][..], Unmet::NoTexture { texture: 30.0, least: 0.2, most: 24.0 }),
        (&[("texture", "50ms")], Unmet::NoTexture { texture: 0.05, least: 0.2, most: 24.0 }),
        (&[("texture", "4s"), ("crossfade", "1s")], Unmet::TextureLoops { option: "crossfade" }),
        (&[("texture", "4s"), ("loop", "all")], Unmet::TextureLoops { option: "loop" }),
        (&[("texture", "4s"), ("stretch", "2")], Unmet::TextureLoops { option: "stretch" }),
    ] {
        match planned(&clip, options, "wav pcm16 any any") {
            Err(Error::CannotMeet(unmet)) => assert_eq!(unmet, want),
            other => panic!("{options:?}: {other:?}"),
        }
    }
    // Silence and very short clips are no reason to fail.
    for (samples, length) in [(vec![0.0; 8_000], "auto"), (rain(1, 4)[..6_500].to_vec(), "0.2s")] {
        let clip = folder.open(&made("wav pcm16 16000 mono", vec![samples])).unwrap();
        let plan = planned(&clip, &[("texture", length)], "wav pcm16 any any").unwrap();
        assert_eq!(written(&clip, &plan).0.frames, plan.to.frames);
    }
    // A clip that holds less than its header says is refused, wherever that is noticed.
    let whole = made("flac flac16 16000 mono", vec![rain(10, 5)]);
    for bytes in [whole.len() / 2, whole.len() - 1000] {
        let clip = folder.open(&whole[..bytes]).unwrap();
        let cut = planned(&clip, &[("texture", "6s")], "wav pcm16 any any");
        let written = cut.and_then(|plan| {
            render(&clip, &plan, &mut Cursor::new(Vec::new()), &Unobserved).map(drop)
        });
        assert!(written.is_err() || clip.facts().frames < 10 * RATE as u64, "{bytes}");
    }
}
