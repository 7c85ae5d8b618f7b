//! Loops through every conversion: what comes out is held against the ideal periodic signal.
#![allow(clippy::as_conversions, clippy::unwrap_used, missing_docs)]

mod bench;

use bench::{Folder, demand, made, samples};
use deft_needle_audio::observe::Unobserved;
use deft_needle_audio::plan::{Plan, Reference, Step, plan_clip};
use deft_needle_audio::{Clip, Edits};
use std::f64::consts::TAU;

const RATES: [u32; 9] = [
    8_000, 11_025, 16_000, 22_050, 32_000, 44_100, 48_000, 88_200, 96_000,
];

/// A sum of harmonics of a loop, up to a part of it that any filter lets through.
struct Periodic {
    harmonics: Vec<(f64, f64)>,
}

impl Periodic {
    /// For a loop of so many seconds, below so many hertz.
    fn new(seconds: f64, hertz: f64) -> Self {
        let most = (seconds * hertz) as usize;
        // Some of the harmonics, the highest among them.
        let chosen = (1..12).map(|n| (n * n * 7 * most / 1000).clamp(1, most));
        Self {
            harmonics: chosen
                .chain([most])
                .map(|k| (k as f64, 1.3 * k as f64))
                .collect(),
        }
    }

    /// Its value at a part of the loop.
    fn at(&self, turn: f64) -> f64 {
        let sum: f64 = self
            .harmonics
            .iter()
            .map(|(k, phase)| (TAU * k * turn + phase).sin())
            .sum();
        0.5 * sum / self.harmonics.len() as f64
    }
}

fn planned(clip: &Clip, spec: &str, edits: &Edits) -> Plan {
    plan_clip(
        clip,
        &demand(spec),
        edits,
        Reference::default(),
        &Unobserved,
    )
    .unwrap()
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
    let worst = range
        .map(|m| (found[m as usize] - ideal(m)).abs())
        .fold(0.0, f64::max);
    20.0 * worst.max(1e-12).log10()
}

#[test]
fn every_pair_of_rates_keeps_loops_exact() {
    let folder = Folder::new();
    let mut worst = f64::NEG_INFINITY;
    for from in RATES {
        for to in RATES.into_iter().filter(|to| *to != from) {
            let length = u64::from(from / 5 + 13);
            let loop_of = Periodic::new(
                length as f64 / f64::from(from),
                0.45 * f64::from(from.min(to)),
            );
            for (intro, other) in [
                (0u64, 0.0),
                (u64::from(from / 20), 0.0),
                (u64::from(from / 20 + 7), 0.4),
            ] {
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
                assert!(
                    range.len() * a % (length * b) == 0,
                    "{from} to {to}: {range:?} {a}:{b}"
                );
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
