//! Loops are found where songs are known to repeat, and smoothed where nothing repeats.

use crate::bench::{Folder, demand, made};
use deft_needle_audio::observe::Unobserved;
use deft_needle_audio::plan::{Reference, plan_clip};
use deft_needle_audio::seam::{Bounds, Candidate, Judgement, Reason, Verdict, find, judge, smooth};
use deft_needle_audio::units::FrameRange;
use deft_needle_audio::{Clip, Edits};
use std::f64::consts::TAU;

const RATE: f64 = 32_000.0;

/// Numbers between −1 and 1 from a seed.
struct Dice(u64);

impl Dice {
    fn next(&mut self) -> f64 {
        self.0 =
            self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) as f64 / f64::from(1u32 << 30) - 1.0
    }
}

/// A song as it is written down: when, which note, how loud, how long.
#[derive(Clone)]
struct Song {
    notes: Vec<(f64, f64, f64, f64)>,
    end: f64,
}

impl Song {
    fn new() -> Self {
        Self { notes: Vec::new(), end: 0.0 }
    }

    /// Bars of melody, bass and a beat, which are others for every seed.
    fn bars(self, count: usize, tempo: f64, key: f64, seed: u64) -> Self {
        self.bars_of(4, count, tempo, key, seed)
    }

    fn bars_of(mut self, beats: usize, count: usize, tempo: f64, key: f64, seed: u64) -> Self {
        const SCALE: [f64; 7] = [0.0, 2.0, 4.0, 5.0, 7.0, 9.0, 11.0];
        let beat = 60.0 / tempo;
        let mut dice = Dice(seed);
        for bar in 0..count {
            let at = self.end + beats as f64 * beat * bar as f64;
            let root = key - 24.0 + SCALE[(dice.next().abs() * 6.9) as usize];
            self.notes.push((at, root, 0.5, beats as f64 * beat));
            for step in 0..2 * beats {
                let pitch = key
                    + SCALE[(dice.next().abs() * 6.9) as usize]
                    + 12.0 * (dice.next() > 0.5) as u8 as f64;
                if dice.next() > -0.6 {
                    self.notes.push((at + 0.5 * beat * step as f64, pitch, 0.3, 0.9 * beat));
                }
                if step % 2 == 0 {
                    self.notes.push((at + 0.5 * beat * step as f64, f64::NAN, 0.25, 0.08));
                }
            }
        }
        self.end += beats as f64 * beat * count as f64;
        self
    }

    /// The same again, as a player would: a little early or late, louder or softer.
    fn played(&self, seed: u64, looseness: f64) -> Self {
        let mut dice = Dice(seed);
        let mut song = self.clone();
        for (at, _, level, _) in &mut song.notes {
            *at = (*at + looseness * dice.next()).max(0.0);
            *level *= 1.0 + 0.3 * dice.next();
        }
        song
    }

    fn rendered(&self, tail: f64) -> Vec<Vec<f64>> {
        let frames = ((self.end + tail) * RATE) as usize;
        let mut sides = vec![vec![0.0; frames]; 2];
        for (at, pitch, level, length) in &self.notes {
            let hertz = 440.0 * 2f64.powf(pitch / 12.0);
            let (first, mut dice) = (at * RATE, Dice(5));
            for index in 0..(length * RATE) as usize {
                // Notes begin between frames, where they were written.
                let t = (index as f64 + 1.0 - first.fract()) / RATE;
                let fade = (1.0 - t / length).max(0.0);
                let wave = match pitch.is_nan() {
                    true => dice.next() * (-60.0 * t).exp(),
                    false => (1..6)
                        .map(f64::from)
                        .map(|k| (TAU * hertz * k * t).sin() * (-3.0 * k * t).exp() / k)
                        .sum::<f64>(),
                };
                let pan = 0.5 + 0.4 * (pitch * 1.7).sin();
                let pan = if pan.is_nan() { 0.5 } else { pan };
                let at = first as usize + 1 + index;
                if at < frames {
                    sides[0][at] += level * fade * wave * pan;
                    sides[1][at] += level * fade * wave * (1.0 - pan);
                }
            }
        }
        sides
    }
}

fn found(folder: &Folder, sides: Vec<Vec<f64>>, most: usize) -> (Clip, Vec<Candidate>) {
    let line = if sides.len() == 2 { "wav f32 32000 stereo" } else { "wav f32 32000 mono" };
    let clip = folder.open(&made(line, sides)).unwrap();
    let all = find(&clip, &Bounds::any(clip.facts()), most, &Unobserved).unwrap();
    (clip, all)
}

#[test]
fn songs_are_looped_where_they_repeat() {
    let folder = Folder::new();
    let intro = |tempo| Song::new().bars(2, tempo, 0.0, 11);
    let exact = |tempo: f64| intro(tempo).bars(8, tempo, 3.0, 7).bars(8, tempo, 3.0, 7);
    let bars = |count: f64, tempo: f64| 240.0 / tempo * count * RATE;
    let noisy = |mut sides: Vec<Vec<f64>>| {
        let power: f64 =
            sides.iter().flatten().map(|s| s * s).sum::<f64>() / (2 * sides[0].len()) as f64;
        // Of a mean square of 1/3, 30 dB below the song.
        let level = (3.0 * power / 1000.0).sqrt();
        let mut dice = Dice(99);
        sides.iter_mut().flatten().for_each(|s| *s += level * dice.next());
        sides
    };
    let key_change = exact(120.0).bars(4, 120.0, 5.0, 7);
    let ending = intro(96.0)
        .bars(6, 96.0, 0.0, 3)
        .bars(2, 96.0, 0.0, 21)
        .bars(6, 96.0, 0.0, 3)
        .bars(2, 96.0, 0.0, 22);
    // Repeats that begin on whole frames are equal to the last bit; those of 97 beats a minute are not.
    for (name, sides, want, within) in [
        ("exact", exact(120.0).rendered(1.0), bars(8.0, 120.0), 1.0),
        ("between frames", exact(97.0).rendered(1.0), bars(8.0, 97.0), 1.0),
        ("another tempo", exact(152.0).rendered(0.0), bars(8.0, 152.0), 1.0),
        ("a key change", key_change.rendered(1.0), bars(8.0, 120.0), 1.0),
        ("a second ending", ending.rendered(1.0), bars(8.0, 96.0), 1.0),
        ("noise at 30 dB", noisy(exact(120.0).rendered(1.0)), bars(8.0, 120.0), 1.0),
        ("performed", exact(110.0).played(4, 0.0015).rendered(1.0), bars(8.0, 110.0), 0.002 * RATE),
        (
            "performed, noisy",
            noisy(exact(90.0).played(8, 0.0015).rendered(1.0)),
            bars(8.0, 90.0),
            0.002 * RATE,
        ),
    ] {
        let (clip, all) = found(&folder, sides, 5);
        let best = &all[0];
        // Two rounds keep more of the music than one.
        let rounds = (best.seam.range.len() as f64 / want).round().max(1.0);
        let off = best.seam.range.len() as f64 - rounds * want;
        assert!(off.abs() <= rounds * within, "{name}: {off:+.1} frames off {want}: {best:?}");
        // What was played twice never joins to the sample; a crossfade makes it.
        let performed = name.starts_with("performed");
        if !performed {
            assert!(best.seam.click_db <= 0.0, "{name}: {:.1} dB", best.seam.click_db);
        }
        let range = best.seam.range;
        let edits = Edits {
            looped: Some(format!("{}smp..{}smp", range.start, range.end).parse().unwrap()),
            crossfade: Some("60ms".parse().unwrap()),
            ..Edits::default()
        };
        let seam = smoothed(&folder, &clip, &edits);
        assert_eq!(seam.verdict, Verdict::Good, "{name}: {seam:?}");
    }
}

/// What a file ends like tells how its maker meant it to go round; bars tell from where on.
#[test]
fn form_tells_where_music_goes_round() {
    let folder = Folder::new();
    let bars = |count: f64| 240.0 / 120.0 * count * RATE;
    let song = || Song::new().bars(2, 120.0, 0.0, 11).bars(8, 120.0, 3.0, 7);
    let part = |sides: Vec<Vec<f64>>, from: f64, to: f64| -> Vec<Vec<f64>> {
        sides.into_iter().map(|side| side[from as usize..to as usize].to_vec()).collect()
    };
    let twice = || Song::new().bars(8, 120.0, 3.0, 7).bars(8, 120.0, 3.0, 7).rendered(0.5);
    let mut dying = song().rendered(0.7);
    for side in &mut dying {
        let fade = (0.3 * RATE) as usize;
        let first = side.len() - fade;
        for (n, sample) in side[first..].iter_mut().enumerate() {
            *sample *= 1.0 - n as f64 / fade as f64;
        }
    }
    let again = song().bars(8, 120.0, 3.0, 7).rendered(0.0);
    for (name, sides, reason, start, length, within) in [
        ("the second time", part(twice(), bars(8.0), bars(16.0)), Reason::Bars, 0.0, 8.0, 0.0),
        ("up to the tail", dying, Reason::Bars, 2.0, 8.0, 0.01 * RATE),
        (
            "its first notes once more",
            part(again, 0.0, bars(10.0) + 0.6 * RATE),
            Reason::Return,
            f64::NAN,
            8.0,
            1.0,
        ),
    ] {
        let (_, all) = found(&folder, sides, 5);
        let best = &all[0];
        assert_eq!(best.reason, reason, "{name}: {best:?}");
        let off = best.seam.range.len() as f64 - bars(length);
        assert!(off.abs() <= within, "{name}: {off:+.1} frames off");
        let early = best.seam.range.start as f64 - bars(start);
        assert!(start.is_nan() || early.abs() <= 0.03 * RATE, "{name}: {early:+.1} frames off");
        let told = best.bars.unwrap();
        assert_eq!((told.count, told.beats), (8, 4), "{name}");
        assert!((told.tempo - 120.0).abs() < 0.05, "{name}: {}", told.tempo);
        assert!(best.seam.verdict < Verdict::Bad, "{name}: {best:?}");
    }
}

#[test]
fn tempo_and_metre_are_told() {
    let folder = Folder::new();
    for (tempo, beats, count) in [(72.0, 4, 8), (96.0, 3, 12), (133.3, 4, 16), (171.0, 3, 16)] {
        let once = |song: Song| song.bars_of(beats, count, tempo, 2.0, 17);
        let length = (beats * count) as f64 * 60.0 / tempo * RATE;
        // The second time round, with the end of the first still in it.
        let sides = once(once(Song::new())).rendered(0.5);
        let part = |side: Vec<f64>| side[length as usize..2 * length as usize].to_vec();
        let (_, all) = found(&folder, sides.into_iter().map(part).collect(), 5);
        let told: Vec<_> = all.iter().filter_map(|one| Some((one.seam.range, one.bars?))).collect();
        assert!(!told.is_empty(), "{tempo}: {all:?}");
        for (range, bars) in told {
            // A beat may be felt twice as fast or half as fast.
            let near = [0.5, 1.0, 2.0].map(|turns| turns * tempo);
            let near = near.into_iter().find(|near| (bars.tempo / near - 1.0).abs() < 5e-4);
            assert!(near.is_some(), "{tempo}: {bars:?}");
            assert_eq!(bars.beats, beats as u64, "{tempo}: {bars:?}");
            let long = (bars.count * bars.beats) as f64 * 60.0 / near.unwrap() * RATE;
            assert!((range.len() as f64 - long).abs() < 0.02 * RATE, "{tempo}: {range:?} {bars:?}");
        }
    }
}

/// What is asked is kept, whatever the form says; where nothing is left, that is said.
#[test]
fn loops_stay_within_their_bounds() {
    let folder = Folder::new();
    let song = Song::new().bars(2, 120.0, 0.0, 11).bars(8, 120.0, 3.0, 7).bars(8, 120.0, 3.0, 7);
    let clip = folder.open(&made("wav f32 32000 stereo", song.rendered(0.6))).unwrap();
    let any = Bounds::any(clip.facts());
    let seconds = |from: f64, to: f64| FrameRange {
        start: (from * RATE) as u64,
        end: (to * RATE) as u64 + 1,
    };
    for (name, bounds) in [
        ("short", Bounds { lengths: seconds(2.0, 6.0), ..any }),
        ("long", Bounds { lengths: seconds(20.0, 40.0), ..any }),
        ("early", Bounds { starts: seconds(0.0, 1.0), ..any }),
        ("late", Bounds { starts: seconds(12.0, 13.0), ..any }),
        ("ends early", Bounds { ends: seconds(15.0, 21.0), ..any }),
        ("both", Bounds { starts: seconds(4.0, 5.0), ends: seconds(19.9, 21.0), ..any }),
    ] {
        let all = find(&clip, &bounds, 5, &Unobserved).unwrap_or_else(|e| panic!("{name}: {e:?}"));
        assert!(all.iter().all(|one| bounds.allows(one.seam.range)), "{name}: {all:?}");
        let bad = |one: &Candidate| one.seam.verdict == Verdict::Bad;
        let first = all.iter().position(bad).unwrap_or(all.len());
        assert!(all[first..].iter().all(bad), "{name}: a bad seam before a better one");
    }
    let none = Bounds { lengths: seconds(50.0, 60.0), ..any };
    assert!(find(&clip, &none, 5, &Unobserved).is_err());
    let crossed = Bounds { lengths: FrameRange { start: 640_000, end: 320_000 }, ..any };
    assert!(crossed.check(clip.facts()).is_err() && any.check(clip.facts()).is_ok());
}

/// Lossy clips are looked at as they were kept, others are read again: the loops are the same.
#[test]
fn what_is_kept_is_what_was_decoded() {
    let folder = Folder::new();
    let song = Song::new().bars(6, 120.0, 3.0, 7).bars(6, 120.0, 3.0, 7).rendered(0.0);
    let clip = folder.open(&made("wav f32 32000 stereo", song)).unwrap();
    let line = demand("ogg vorbis:q6 32000 stereo");
    let plan =
        plan_clip(&clip, &line, &Edits::default(), Reference::default(), &Unobserved).unwrap();
    let (lossy, _) = folder.carry_out(&clip, &plan);
    let bytes = std::fs::read(lossy.input().path().unwrap()).unwrap();
    let lossy = Clip::open(&folder.put("lossy.ogg", &bytes)).unwrap();
    let line = demand("wav f32 32000 stereo");
    let plan =
        plan_clip(&lossy, &line, &Edits::default(), Reference::default(), &Unobserved).unwrap();
    let (plain, _) = folder.carry_out(&lossy, &plan);
    let [kept, read] = [&lossy, &plain]
        .map(|clip| find(clip, &Bounds::any(clip.facts()), 5, &Unobserved).unwrap());
    assert_eq!(kept, read);
}

/// The seam of what these edits make.
fn smoothed(folder: &Folder, clip: &Clip, edits: &Edits) -> Judgement {
    let line = demand("wav f32 any any");
    let plan = plan_clip(clip, &line, edits, Reference::default(), &Unobserved).unwrap();
    let (out, _) = folder.carry_out(clip, &plan);
    judge(&out, out.facts().loops[0].range).unwrap()
}

#[test]
fn tones_go_round_in_whole_periods() {
    let folder = Folder::new();
    // The last are too short for spectra.
    for (hertz, frames) in
        [(55.0, 64_000u32), (97.3, 64_000), (441.0, 64_000), (97.3, 3_000), (400.0, 800)]
    {
        let wave = |n: u32| {
            0.4 * (TAU * hertz * f64::from(n) / RATE).sin()
                + 0.2 * (TAU * 3.0 * hertz * f64::from(n) / RATE + 1.0).sin()
        };
        let (_, all) = found(&folder, vec![(0..frames).map(wave).collect()], 1);
        let periods = all[0].seam.range.len() as f64 * hertz / RATE;
        // To the nearest frame.
        assert!(
            (periods - periods.round()).abs() <= 0.5 * hertz / RATE + 1e-9,
            "{hertz}: {periods}"
        );
        assert_eq!(all[0].seam.verdict, Verdict::Good, "{hertz}: {:.1}", all[0].seam.click_db);
    }
}

/// Water or wind: nothing repeats, and everything goes on.
#[test]
fn noise_goes_round_anywhere_and_swells_need_a_crossfade() {
    let folder = Folder::new();
    let mut dice = Dice(3);
    let steady: Vec<f64> = (0..200_000).map(|_| 0.2 * dice.next()).collect();
    let (_, all) = found(&folder, vec![steady], 5);
    assert!(all.iter().all(|one| one.seam.verdict == Verdict::Good && one.wave_db > -3.0));
    // It grows louder by 30 dB: any plain loop jumps back.
    let swell: Vec<f64> = (0..200_000)
        .map(|n| 0.3 * dice.next() * 10f64.powf(-1.5 * (1.0 - f64::from(n) / 200_000.0)))
        .collect();
    let clip = folder.open(&made("wav f32 32000 mono", vec![swell])).unwrap();
    let whole = FrameRange { start: 60_000, end: 190_000 };
    let plain = judge(&clip, whole).unwrap();
    assert_eq!(plain.verdict, Verdict::Bad, "{:.1} dB", plain.level_db);
    let reckoned = smooth(&clip, &plain, &Unobserved).unwrap().unwrap();
    assert_eq!(reckoned.verdict, Verdict::Good, "{} s", reckoned.seconds);
    let edits = Edits {
        looped: Some("60000smp..190000smp".parse().unwrap()),
        crossfade: Some("1.5s".parse().unwrap()),
        ..Edits::default()
    };
    let seam = smoothed(&folder, &clip, &edits);
    assert_eq!(seam.verdict, Verdict::Good, "{:.1} dB", seam.level_db);
}

#[test]
fn files_that_go_round_as_a_whole_are_cut_at_their_best_seam() {
    let folder = Folder::new();
    let song = Song::new().bars(4, 120.0, 0.0, 31).bars(1, 120.0, 0.0, 31);
    let clip = folder.open(&made("wav f32 32000 stereo", song.rendered(0.3))).unwrap();
    let cut = Edits { cut: Some("seam".parse().unwrap()), ..Edits::default() };
    let plan =
        plan_clip(&clip, &demand("wav f32 any any"), &cut, Reference::default(), &Unobserved)
            .unwrap();
    // Four bars of 2 s, before the first of them comes again.
    assert_eq!(plan.to.frames, 256_000);
    assert!(plan.to.loops.is_empty());
    let (out, _) = folder.carry_out(&clip, &plan);
    let all = FrameRange { start: 0, end: 256_000 };
    let seam = judge(&out, all).unwrap();
    assert_eq!(seam.verdict, Verdict::Good, "{seam:?}");
    // At another rate it still loops to the frame.
    let plan =
        plan_clip(&clip, &demand("wav f32 44100 any"), &cut, Reference::default(), &Unobserved)
            .unwrap();
    assert_eq!(plan.to.frames, 352_800);
    let (out, _) = folder.carry_out(&clip, &plan);
    let whole = FrameRange { start: 0, end: 352_800 };
    assert_eq!(judge(&out, whole).unwrap().verdict, Verdict::Good);
}

#[test]
fn ends_snap_to_the_wave() {
    let folder = Folder::new();
    let wave = |n: u32| 0.4 * (TAU * 100.0 * f64::from(n) / RATE).sin();
    let clip =
        folder.open(&made("wav f32 32000 mono", vec![(0..64_000).map(wave).collect()])).unwrap();
    // A period has 320 frames; the end is 37 off.
    let edits = Edits {
        looped: Some("3200smp..32037smp".parse().unwrap()),
        loop_snap: Some("3ms".parse().unwrap()),
        ..Edits::default()
    };
    let plan =
        plan_clip(&clip, &demand("wav f32 any any"), &edits, Reference::default(), &Unobserved)
            .unwrap();
    assert_eq!(plan.to.loops[0].range, FrameRange { start: 3_200, end: 32_000 });
    assert_eq!(plan.to.frames, 32_000);
}
