//! Plans: what facts, a demand and edits give, as tables.

use crate::bench::{Folder, demand, made, signal};
use deft_needle_audio::edit::{Group, OPTIONS, Request};
use deft_needle_audio::observe::Unobserved;
use deft_needle_audio::plan::{Plan, Reference, Step, Work, plan, plan_clip};
use deft_needle_audio::spec::{Chunks, Demand, Facts, Format, Header, Looped};
use deft_needle_audio::{Clip, Error, Unmet};
use proptest::prelude::*;
use std::fmt::Debug;

/// Options as they are typed, in pairs.
type Typed<'a> = &'a [(&'a str, &'a str)];

/// The first word of a value as it prints: the name of its kind.
fn kind(value: &impl Debug) -> String {
    let text = format!("{value:?}");
    text.split(|c: char| !c.is_alphanumeric()).next().unwrap().to_owned()
}

fn steps(plan: &Plan) -> Vec<String> {
    plan.steps().iter().map(kind).collect()
}

fn planned(clip: &Clip, wish: &Demand, typed: &[(&str, &str)]) -> Result<Plan, Error> {
    let request = Request::read(typed.iter().copied()).unwrap();
    let turned = Clip::from_input(clip.input().clone(), &request.hints()).unwrap();
    let clip = if request.reverse { &turned } else { clip };
    plan_clip(clip, wish, &request.edits, Reference::default(), &Unobserved)
}

fn facts(line: &str, frames: u64) -> Facts {
    Facts { frames, ..Facts::new(line.parse::<Format>().unwrap(), 0) }
}

/// How much is done, and in which steps.
fn work(from: &Facts, wish: &Demand) -> (String, Vec<String>) {
    let plan = plan(from, wish).unwrap();
    (kind(&plan.work), steps(&plan))
}

#[test]
fn nothing_is_done_without_need() {
    let plain = |line: &str| {
        let mut facts = facts(line, 1000);
        facts.header = deft_needle_audio::spec::usual_header(facts.format);
        facts
    };
    let bare = |line: &str| Demand { chunks: Some(Chunks::Bare), ..demand(line) };
    let mut tagged = plain("wav pcm16 48000 mono");
    tagged.extras.push(deft_needle_audio::clip::Extra {
        id: "LIST INFO".to_owned(),
        offset: 100,
        bytes: 20,
    });
    let extensible = Facts { header: Some(Header::Extensible), ..plain("wav pcm16 48000 mono") };
    let wants_plain = Demand { header: Some(Header::Plain), ..demand("any any any any") };
    let cases: [(&str, Facts, Demand, &str, &[&str]); 13] = [
        (
            "it conforms",
            plain("wav pcm16 48000 mono"),
            demand("wav pcm16 48000 mono"),
            "Nothing",
            &[],
        ),
        ("any", plain("ogg vorbis 44100 stereo"), demand("any any any any"), "Nothing", &[]),
        (
            "an alternative",
            plain("wav alaw 8000 mono"),
            demand("wav pcm16|alaw 8000 mono"),
            "Nothing",
            &[],
        ),
        ("chunks may stay", tagged.clone(), demand("wav pcm16 48000 mono"), "Nothing", &[]),
        ("chunks must go", tagged, bare("wav pcm16 48000 mono"), "Rewrap", &[]),
        ("another header", extensible, wants_plain, "Rewrap", &[]),
        (
            "the same packets",
            plain("mp4 aac 44100 stereo"),
            demand("m4a aac 44100 stereo"),
            "Rewrap",
            &[],
        ),
        (
            "the other byte order",
            plain("wav pcm16 48000 mono"),
            demand("aiff pcm16 48000 mono"),
            "Render",
            &[],
        ),
        ("more bits", plain("wav pcm16 48000 mono"), demand("wav pcm24 48000 mono"), "Render", &[]),
        (
            "fewer bits",
            plain("wav pcm24 48000 mono"),
            demand("wav pcm16 48000 mono"),
            "Render",
            &["Quantise"],
        ),
        (
            "fewer channels",
            plain("wav pcm16 48000 stereo"),
            demand("wav pcm16 48000 mono"),
            "Render",
            &["Route", "Quantise"],
        ),
        (
            "another rate",
            plain("wav pcm16 48000 mono"),
            demand("wav pcm16 44100 mono"),
            "Render",
            &["Resample", "Quantise"],
        ),
        (
            "floats may hold anything",
            plain("wav f32 48000 mono"),
            demand("wav pcm16 48000 mono"),
            "Render",
            &["Finite", "Quantise"],
        ),
    ];
    for (name, from, wish, how, want) in cases {
        let (found, mut steps) = work(&from, &wish);
        assert_eq!(found, how, "{name}");
        // A step that changes nothing of the samples is no concern of this table.
        steps.retain(|step| want.contains(&step.as_str()) || step != "Quantise");
        assert_eq!(steps, want, "{name}");
    }
}

/// Bits that are lost are dithered, and no others.
#[test]
fn dither_follows_from_the_bits() {
    let depth = |line: &str| match line.split(' ').nth(1).unwrap() {
        "pcm8" => 8,
        "pcm16" | "flac16" => 16,
        "pcm24" | "flac24" => 24,
        "pcm32" => 32,
        _ => 64,
    };
    let lines = ["pcm8", "pcm16", "pcm24", "pcm32", "f32"];
    for from in lines {
        for to in lines {
            let [from, to] = [from, to].map(|word| format!("wav {word} 48000 mono"));
            let plan = plan(&facts(&from, 1000), &demand(&to)).unwrap();
            let dither = plan.steps().iter().find_map(|step| match step {
                Step::Quantise { dither, .. } => Some(kind(dither)),
                _ => None,
            });
            let want = match (depth(&from) > depth(&to), depth(&to)) {
                (true, 8) => "Shaped",
                (true, _) => "Triangular",
                _ => "None",
            };
            assert_eq!(dither.as_deref().unwrap_or("None"), want, "{from} to {to}");
        }
    }
}

/// The order that the documentation promises, with everything asked at once.
#[test]
fn steps_come_in_one_order() {
    let folder = Folder::new();
    let same = signal("wav pcm24 48000 mono".parse().unwrap(), 96_000).remove(0);
    let clip = folder.open(&made("wav pcm24 48000 stereo", vec![same.clone(), same])).unwrap();
    let typed = [
        ("cut", "0.1s..1.6s"),
        ("keep", "shared"),
        ("route", "R L"),
        ("voicing", "dispatch"),
        ("speed", "1.25"),
        ("gain", "+24dB"),
        ("fade-in", "50ms"),
        ("fade-out", "60ms"),
        ("pad", "0.1s,0.2s"),
    ];
    let plan = planned(&clip, &demand("wav pcm16 44100 stereo"), &typed).unwrap();
    let order = [
        "Finite",
        "Dc",
        "Stretches",
        "Cut",
        "EdgeFade",
        "Separate",
        "Route",
        "Voice",
        "Resample",
        "Gain",
        "Limit",
        "Fade",
        "Pad",
        "Quantise",
    ];
    let places: Vec<usize> =
        steps(&plan).iter().map(|step| order.iter().position(|o| o == step).unwrap()).collect();
    assert!(places.is_sorted(), "{:?}", steps(&plan));
    let must = [
        "Cut", "Separate", "Route", "Voice", "Resample", "Gain", "Limit", "Fade", "Pad", "Quantise",
    ];
    for step in must {
        assert!(steps(&plan).iter().any(|s| s == step), "{step}: {:?}", steps(&plan));
    }
    // 1.5 s at 1.25 times the speed last 1.2 s; silence comes on top.
    assert_eq!(plan.to.frames, 44_100 * 15 / 10);
}

/// Each option of the table changes a plan, in the step that it is about, and says so.
#[test]
fn every_option_has_its_step_and_its_decision() {
    let folder = Folder::new();
    // A sound between silences, louder on one side, with a loop.
    let mut channels = signal("wav pcm24 48000 stereo".parse().unwrap(), 96_000);
    for channel in &mut channels {
        channel[..9_600].fill(0.0);
        channel[40_000..50_000].fill(0.0);
        channel[86_400..].fill(0.0);
    }
    channels[1].iter_mut().for_each(|s| *s *= 0.5);
    let clip = folder.open(&made("wav pcm24 48000 stereo", channels)).unwrap();
    let looped: &[(&str, &str)] = &[("loop", "0.5s..1.5s")];
    let none: &[(&str, &str)] = &[];
    let cases: &[(&str, Typed<'_>, &str, &str)] = &[
        ("cut", none, "Cut", "Cut"),
        ("piece", none, "Cut", "Cut"),
        ("snap", &[("cut", "0.501s..1.503s")], "Cut", "EndsSnapped"),
        ("trim-silence", none, "Cut", "SilenceTrimmed"),
        ("trim-ends", &[("trim-silence", "true")], "Cut", "SilenceTrimmed"),
        ("breath", &[("trim-silence", "true")], "Cut", "SilenceTrimmed"),
        ("edge-fade", &[("cut", "0.501s..0.8s")], "EdgeFade", "Cut"),
        ("longest", &[("too-long", "cut")], "Cut", "Shortened"),
        ("too-long", &[("longest", "0.5s")], "Cut", "Shortened"),
        ("reverse", none, "Reverse", "Reversed"),
        ("keep", none, "Separate", "Separated"),
        ("low-cut", none, "CutTone", "ToneCut"),
        ("high-cut", none, "CutTone", "ToneCut"),
        ("voicing", none, "Voice", "Voiced"),
        ("route", none, "Route", "Routed"),
        ("speed", none, "Resample", "SpeedChanged"),
        ("stretch", none, "Lengthen", "Stretched"),
        ("fit-length", none, "Lengthen", "Stretched"),
        ("gain", none, "Gain", "Gained"),
        ("level", none, "Gain", "Gained"),
        ("ceiling", &[("gain", "+12dB")], "Limit", "PeaksLimited"),
        ("allow-clipping", &[("gain", "+18dB")], "Gain", "PeaksClipped"),
        ("fade-in", none, "Fade", "Faded"),
        ("fade-out", none, "Fade", "Faded"),
        ("fade-curve", &[("fade-in", "0.2s")], "Fade", "Faded"),
        ("pad", none, "Pad", "Padded"),
        ("loop", none, "", "LoopSet"),
        ("loop-direction", looped, "", "LoopPlays"),
        ("tail", looped, "", "TailCut"),
        ("loop-snap", looped, "", "LoopEndMoved"),
        ("crossfade", looped, "Stretches", "Crossfaded"),
        ("texture", none, "Texture", "Textured"),
        ("loop-multiple", &[("loop", "0.5s..1.5001s"), ("loop-bend", "10")], "", "LoopLength"),
        ("loop-bend", &[("loop", "0.5s..1.5001s"), ("loop-multiple", "16")], "", "LoopLength"),
        ("tag", none, "", ""),
    ];
    let shaping = OPTIONS.iter().filter(|o| matches!(o.group, Group::Shaping | Group::Looping));
    for option in shaping {
        let Some((_, with, step, decision)) = cases.iter().find(|case| case.0 == option.name)
        else {
            panic!("{} has no row here", option.name);
        };
        // The one example that does something to this clip.
        let value = match option.name {
            "level" => "-1dBFS",
            "piece" => "1",
            "longest" => "0.5s",
            "too-long" => "cut",
            "route" => "-R L",
            "tail" => "cut",
            "loop-direction" => "ping-pong",
            "trim-ends" => option.examples[1],
            "cut" => "0.5s..1s",
            "loop" => "0.4s..1.2s",
            "fade-in" | "fade-out" => "0.2s",
            "loop-bend" => "10",
            "edge-fade" => "10ms",
            "breath" => "0.05s",
            "fade-curve" => "equal-power",
            _ => option.examples[0],
        };
        let typed = [with, &[(option.name, value)][..]].concat();
        let wish = demand("wav pcm24 48000 stereo");
        let plan = planned(&clip, &wish, &typed).unwrap_or_else(|e| panic!("{typed:?}: {e:?}"));
        let has = steps(&plan);
        assert!(step.is_empty() || has.iter().any(|s| s == step), "{typed:?}: {has:?}");
        let decisions: Vec<String> = plan.decisions.iter().map(kind).collect();
        let told = decision.is_empty() || decisions.iter().any(|d| d == decision);
        assert!(told, "{typed:?}: {decisions:?}");
        let without = planned(&clip, &wish, with);
        let same = without.is_ok_and(|w| (&w.work, &w.to) == (&plan.work, &plan.to));
        // A multiple, a bend and an end that happen to be met already are only said.
        assert!(
            !same || ["loop-snap", "tail", "loop-bend", "trim-ends"].contains(&option.name),
            "{typed:?}"
        );
    }
}

/// Peak, true peak and gain against arithmetic.
#[test]
fn levels_are_what_arithmetic_says() {
    let folder = Folder::new();
    let frames = 48_000;
    let tone = |peak: f64| -> Vec<f64> {
        (0..frames).map(|n| peak * (std::f64::consts::TAU * f64::from(n) / 48.0).sin()).collect()
    };
    let clip = folder.open(&made("wav pcm24 48000 mono", vec![tone(0.25)])).unwrap();
    let wish = demand("wav pcm24 48000 mono");
    let own = 20.0 * 0.25f64.log10();
    for (typed, gain, limited) in [
        (vec![("level", "-6dBFS")], Some(-6.0 - own), false),
        (vec![("level", "-6dBTP")], Some(-6.0 - own), false),
        (vec![("gain", "+3dB")], Some(3.0), false),
        (vec![("gain", "-3dB")], Some(-3.0), false),
        (vec![("gain", "0dB")], None, false),
        (vec![("gain", "+20dB")], Some(20.0), true),
        (vec![("gain", "+20dB"), ("ceiling", "0dB")], Some(20.0), true),
        (vec![("gain", "+20dB"), ("allow-clipping", "true")], Some(20.0), false),
    ] {
        let plan = planned(&clip, &wish, &typed).unwrap();
        let found = plan.steps().iter().find_map(|step| match step {
            Step::Gain { decibels } => Some(*decibels),
            _ => None,
        });
        let near = match (found, gain) {
            (Some(found), Some(gain)) => (found - gain).abs() < 0.02,
            (found, gain) => found == gain,
        };
        assert!(near, "{typed:?}: {found:?}, not {gain:?}");
        let limits = plan.steps().iter().any(|step| matches!(step, Step::Limit { .. }));
        assert_eq!(limits, limited, "{typed:?}");
    }
}

/// What cannot be met is a kind with its values.
#[test]
fn what_cannot_be_met_says_which_kind() {
    let folder = Folder::new();
    let clip = folder.make("wav pcm16 48000 stereo", 48_000);
    let named = |name: &str, samples: Vec<Vec<f64>>| {
        Clip::open(&folder.put(name, &made("wav pcm16 48000 mono", samples))).unwrap()
    };
    let mono = named("mono", signal("wav pcm16 48000 mono".parse().unwrap(), 48_000));
    let silent = named("silent", vec![vec![0.0; 4800]]);
    let looped = |looped| Demand { looped, ..demand("wav pcm16 48000 any") };
    let wav = demand("wav pcm16 48000 any");
    let cases: Vec<(&Clip, Demand, Typed<'_>, &str)> = vec![
        (&clip, wav.clone(), &[("cut", "0.5s..9s")], "RangeOutside"),
        (&clip, wav.clone(), &[("cut", "2s..3s")], "RangeOutside"),
        (&clip, wav.clone(), &[("cut", "0.4s..0.2s")], "RangeBackwards"),
        (&clip, wav.clone(), &[("low-cut", "30kHz")], "NothingAbove"),
        (&clip, wav.clone(), &[("tail", "wrap")], "NoLoopToWrap"),
        (&clip, wav.clone(), &[("piece", "7")], "NoSuchPiece"),
        (&silent, wav.clone(), &[("trim-silence", "true")], "AllSilent"),
        (&silent, wav.clone(), &[("level", "-16LUFS")], "SilentClip"),
        (&clip, wav.clone(), &[("longest", "0.5s")], "TooLong"),
        (&mono, wav.clone(), &[("keep", "shared")], "NotStereo"),
        (&clip, demand("wav pcm16 48000 3ch"), &[], "NoUsualRoute"),
        (&mono, wav.clone(), &[("route", "R L")], "RouteBeyondClip"),
        (&clip, demand("wav pcm16 48000 mono"), &[("route", "L R")], "RouteMismatch"),
        (&clip, wav.clone(), &[("level", "stock")], "NoStock"),
        (&clip, wav.clone(), &[("crossfade", "50ms")], "NoLoopToSmooth"),
        (&clip, wav.clone(), &[("cut", "0s..0.5s"), ("loop", "0.4s..0.8s")], "LoopOutside"),
        (&clip, wav.clone(), &[("loop", "0.1s..0.9s"), ("crossfade", "0.5s")], "CrossfadeTooLong"),
        (&clip, wav.clone(), &[("fade-in", "0.2s"), ("cut", "0.1s..0.2s")], "FadeTooLong"),
        (
            &clip,
            wav.clone(),
            &[("loop", "0.1s..0.9s"), ("crossfade", "50ms"), ("tail", "keep")],
            "CrossfadeWithTail",
        ),
        (&clip, looped(Looped::Required), &[], "LoopRequired"),
        (&clip, looped(Looped::Forbidden), &[("loop", "all")], "LoopRefused"),
        (&clip, demand("qoa qoa 48000 stereo"), &[("loop", "0.1s..0.9s")], "LoopRefused"),
        (&clip, demand("qoa qoa 48000 stereo"), &[("tag", "TITLE=x")], "TagRefused"),
        (&clip, demand("ogg vorbis:900k 48000 stereo"), &[], "BitRateOutside"),
        (&clip, demand("ogg vorbis:q99 48000 stereo"), &[], "QualityOutside"),
        (&clip, demand("m4a aac 50000 stereo"), &[], "RateUnknown"),
    ];
    for (clip, wish, typed, want) in cases {
        match planned(clip, &wish, typed) {
            Err(Error::CannotMeet(unmet)) => assert_eq!(kind(&unmet), want, "{typed:?}"),
            other => panic!("{typed:?} on {:?}: {want}, not {other:?}", wish.specs),
        }
    }
    let TooLong { seconds, longest } = too_long(&clip);
    assert_eq!((seconds, longest), (1.0, 0.25));
}

struct TooLong {
    seconds: f64,
    longest: f64,
}

fn too_long(clip: &Clip) -> TooLong {
    let wish = demand("wav pcm16 48000 any");
    match planned(clip, &wish, &[("longest", "0.25s")]) {
        Err(Error::CannotMeet(Unmet::TooLong { seconds, longest })) => TooLong { seconds, longest },
        other => panic!("{other:?}"),
    }
}

/// Channels by the usual ways, and what each output channel is made of.
#[test]
fn the_usual_ways_between_layouts() {
    for (from, to, route) in [
        ("mono", "stereo", "L L"),
        ("mono", "4ch", "L L L L"),
        ("stereo", "mono", "0.5L+0.5R"),
        ("mono", "5.1", "0 0 L 0 0 0"),
    ] {
        let [from, to] = [from, to].map(|word| format!("wav pcm16 48000 {word}"));
        let plan = plan(&facts(&from, 100), &demand(&to)).unwrap();
        let found = plan.steps().iter().find_map(|step| match step {
            Step::Route { route } => Some(route.to_string()),
            _ => None,
        });
        assert_eq!(
            found.unwrap().replace("- ", "0 ").replace(" -", " 0"),
            route.to_owned(),
            "{from} to {to}"
        );
    }
    // No fold can clip: the gains of every channel add up to no more than 1.
    for from in ["stereo", "quad", "5.1", "7.1", "3ch", "16ch"] {
        for to in ["mono", "stereo", "quad", "5.1"] {
            let [from, to] = [from, to].map(|word| format!("wav pcm16 48000 {word}"));
            let Ok(plan) = plan(&facts(&from, 100), &demand(&to)) else { continue };
            for step in plan.steps() {
                if let Step::Route { route } = step {
                    for row in &route.0 {
                        let sum: f64 = row.iter().map(|(_, gain)| gain.abs()).sum();
                        assert!(sum <= 1.0 + 1e-9, "{from} to {to}: {route}");
                    }
                }
            }
        }
    }
}

/// What a list of spec lines, `any` and alternatives choose.
#[test]
fn the_first_that_the_clip_meets_is_chosen() {
    for (from, wishes, to) in [
        (
            "wav pcm16 44100 stereo",
            vec!["wav pcm16 44100 any", "ogg vorbis:q6 48000 any"],
            "wav pcm16 44100 stereo",
        ),
        (
            "ogg vorbis 48000 mono",
            vec!["wav pcm16 44100 any", "ogg vorbis:q6 48000 any"],
            "ogg vorbis 48000 mono",
        ),
        (
            "wav pcm24 96000 mono",
            vec!["wav pcm16 44100 any", "ogg vorbis:q6 48000 any"],
            "wav pcm16 44100 mono",
        ),
        ("wav pcm16 22050 mono", vec!["wav pcm8|pcm16 18900|22050 mono"], "wav pcm16 22050 mono"),
        ("wav pcm24 22050 stereo", vec!["wav pcm8|pcm16 18900|22050 mono"], "wav pcm8 22050 mono"),
        ("wav pcm24 11025 stereo", vec!["wav pcm8|pcm16 18900|22050 mono"], "wav pcm8 18900 mono"),
        ("flac flac24 96000 5.1", vec!["any any 48000 any"], "flac flac24 48000 5.1"),
    ] {
        let specs = wishes.iter().map(|line| line.parse().unwrap()).collect();
        let wish = Demand { specs, ..demand("any any any any") };
        let plan = plan(&facts(from, 1000), &wish).unwrap();
        assert_eq!(plan.to.format.to_string(), to, "{from}: {wishes:?}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    /// A clip lasts round(frames × out ÷ in), whatever the rates, and the plan comes back from JSON as it was.
    #[test]
    fn lengths_and_texts(
        frames in 1u64..10_000_000,
        from in prop::sample::select(vec![8_000u32, 9_450, 11_025, 18_900, 22_050, 44_100, 48_000, 96_000, 192_000]),
        to in prop::sample::select(vec![8_000u32, 9_450, 11_025, 18_900, 22_050, 44_100, 48_000, 96_000, 192_000]),
        channels in prop::sample::select(vec!["mono", "stereo", "5.1"]),
    ) {
        let from_facts = facts(&format!("wav pcm24 {from} {channels}"), frames);
        let plan = plan(&from_facts, &demand(&format!("wav pcm16 {to} mono"))).unwrap();
        let exact = u128::from(frames) * u128::from(to);
        let want = (exact * 2 + u128::from(from)) / (u128::from(from) * 2);
        prop_assert_eq!(u128::from(plan.to.frames), want);
        let told = serde_json::to_string(&plan).unwrap();
        let again: Plan = serde_json::from_str(&told).unwrap();
        prop_assert_eq!(&again, &plan);
        prop_assert!(matches!(plan.work, Work::Render(_)));
    }
}
