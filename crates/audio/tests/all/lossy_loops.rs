//! Loops through lossy codecs: around the seam, what is decoded is as near to the ideal loop as elsewhere.

use crate::bench::{Folder, demand, made, samples};
use deft_needle_audio::observe::Unobserved;
use deft_needle_audio::plan::{Reference, plan_clip};
use deft_needle_audio::{Clip, Edits};
use std::f64::consts::TAU;

const RATE: f64 = 44_100.0;

/// A loop of chords, and of noise that repeats with it.
fn loop_at(turn: f64, noise: &[f64], length: usize) -> f64 {
    let chord: f64 = [330.0, 416.0, 495.0, 661.0, 1_321.0, 3_305.0]
        .iter()
        .map(|k| (TAU * k * turn + k).sin() / (1.0 + k / 900.0))
        .sum();
    let index = (turn * length as f64).round() as usize % length;
    0.11 * chord + noise[index]
}

/// RMS of the error within 10 ms of the seam, and everywhere else, in dBFS.
fn errors(found: &[f64], start: usize, ideal: impl Fn(usize) -> f64) -> [f64; 2] {
    let near = (0.01 * RATE) as usize;
    let (mut seam, mut rest) = (Vec::new(), Vec::new());
    for index in start..found.len() {
        let apart = (found[index] - ideal(index)).powi(2);
        let at_seam = index < start + near || index + near >= found.len();
        if at_seam { seam.push(apart) } else { rest.push(apart) }
    }
    [seam, rest].map(|all| 10.0 * (all.iter().sum::<f64>() / all.len() as f64).log10())
}

#[test]
fn seams_are_no_worse_than_the_codec_is_elsewhere() {
    let folder = Folder::new();
    let length = 88_211usize;
    let mut seed = 5u32;
    let noise: Vec<f64> = (0..length)
        .map(|_| {
            seed = seed.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            0.05 * (f64::from(seed >> 8) / f64::from(1u32 << 23) - 1.0)
        })
        .collect();
    let silence = vec![0.0; length];
    let lines = [
        "ogg vorbis:q2",
        "ogg vorbis:q5",
        "ogg vorbis:q9",
        "m4a aac:64k",
        "m4a aac:96k",
        "m4a aac:160k",
        "mp3 mp3:96k",
        "mp3 mp3:128k",
    ];
    println!("| encoding | sound | intro | seam, plain | seam, as a loop | elsewhere |");
    for line in lines {
        for (name, noise, intro) in [
            ("chords", &silence, 0usize),
            ("chords", &silence, 11_025),
            ("chords and noise", &noise, 0),
            ("chords and noise", &noise, 11_025),
        ] {
            let signal = (0..intro + length).map(|n| {
                let turn = (n as f64 - intro as f64) / length as f64;
                loop_at(turn.rem_euclid(1.0), noise, length) * if n < intro { 0.3 } else { 1.0 }
            });
            let clip = folder.open(&made("wav f32 44100 mono", vec![signal.collect()])).unwrap();
            // An MP4 file has no loop points: it loops as a whole.
            let whole = line.starts_with("m4a");
            if whole && intro > 0 {
                continue;
            }
            let looped = if whole { "all".to_owned() } else { format!("{intro}smp..end") };
            let as_loop = Edits { looped: Some(looped.parse().unwrap()), ..Edits::default() };
            let encoded = |clip: &Clip, edits: &Edits| {
                let demand = demand(&format!("{line} 44100 mono"));
                let plan =
                    plan_clip(clip, &demand, edits, Reference::default(), &Unobserved).unwrap();
                let (out, _) = folder.carry_out(clip, &plan);
                assert_eq!(out.facts().frames, (intro + length) as u64);
                samples(&out).remove(0)
            };
            let ideal = |index: usize| {
                loop_at(((index - intro) as f64 / length as f64).rem_euclid(1.0), noise, length)
            };
            let [plain, _] = errors(&encoded(&clip, &Edits::default()), intro, ideal);
            let [seam, rest] = errors(&encoded(&clip, &as_loop), intro, ideal);
            // Where the loop begins louder than its intro, MP3 takes short windows, which code chords less well.
            let more = if line.starts_with("mp3") && intro > 0 { 5.0 } else { 1.5 };
            assert!(seam < rest + more, "{line}, {name}, {intro}: {seam:.1} beside {rest:.1} dBFS");
            // Where the seam was no worse than the rest to begin with, there is nothing to gain.
            if name == "chords" && more < 2.0 && plain > rest + 2.0 {
                assert!(seam < plain - 2.0, "{line}, {intro}: {seam:.1}, plain {plain:.1} dBFS");
            }
            println!("| {line} | {name} | {intro} | {plain:.1} | {seam:.1} | {rest:.1} |");
        }
    }
}
