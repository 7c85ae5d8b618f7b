//! Stopped after any number of blocks, work of every kind ends with that and nothing else, and leaves no trace.
#![allow(clippy::as_conversions, clippy::unwrap_used, missing_docs)]

use deft_needle_audio::Clip;
use deft_needle_audio::Error as AudioError;
use deft_needle_audio::block::Samples;
use deft_needle_audio::edit::Request;
use deft_needle_audio::observe::{Observer, Unobserved};
use deft_needle_audio::plan::Reference;
use deft_needle_audio::render::render_source;
use deft_needle_audio::seam::{Bounds, find};
use deft_needle_audio::shape::quantise::Dither;
use deft_needle_audio::spec::{Demand, Format, Output, Spec};
use deft_needle_core::learn::learn;
use deft_needle_core::run::{Ask, Fitting, Run, Session};
use deft_needle_core::stock::Stock;
use deft_needle_core::{Error, RealDisk};
use std::collections::BTreeMap;
use std::fs;
use std::path::Path;
use std::sync::atomic::{AtomicU32, Ordering};
use tempfile::TempDir;

/// Stops once it was asked so often.
struct After {
    left: AtomicU32,
}

impl After {
    fn asks(asks: u32) -> Self {
        Self { left: AtomicU32::new(asks) }
    }
}

impl Observer for After {
    fn stopped(&self) -> bool {
        self.left.fetch_update(Ordering::SeqCst, Ordering::SeqCst, |n| n.checked_sub(1)).is_err()
    }
}

fn save(path: &Path, spec: &str, frames: usize) {
    let format: Format = spec.parse().unwrap();
    let wave = |n: usize| 0.4 * (n as f64 * 0.031).sin() + 0.1 * (n as f64 * 0.27).sin();
    let channels = vec![(0..frames).map(wave).collect(); usize::from(format.channels.count())];
    let mut file = fs::File::create(path).unwrap();
    let output = Output::plain(format, frames as u64);
    let source = Samples::new(format.rate, channels);
    render_source(source, &output, Dither::None, &mut file, &Unobserved).unwrap();
}

fn world() -> TempDir {
    let folder = tempfile::tempdir().unwrap();
    let at = |name: &str| folder.path().join(name);
    fs::create_dir_all(at("game/sfx")).unwrap();
    for name in ["gull", "bell", "kettle"] {
        save(&at(&format!("game/sfx/{name}.wav")), "wav pcm16 22050 mono", 9_000);
    }
    save(&at("clip.wav"), "wav pcm24 48000 stereo", 40_000);
    let sheet = "name = 'x'\n[[slots]]\nin-root = '.'\n[[rule]]\nmatch = 'sfx/*.wav'\nspec = 'wav pcm16 22050 mono'\n";
    fs::write(at("x.toml"), sheet).unwrap();
    let lines = ["gull", "bell"].map(|name| {
        format!("[[replace]]\nslot = 'sfx/{name}.wav'\nclip = 'clip.wav'\nlevel = '-16LUFS'\n")
    });
    fs::write(at("job.toml"), format!("target = 'x.toml'\nroot = 'game'\n{}", lines.concat()))
        .unwrap();
    folder
}

/// Every file and its contents, the ledger's folder aside.
fn contents(folder: &Path) -> BTreeMap<String, Vec<u8>> {
    let mut all = BTreeMap::new();
    let mut open = vec![folder.to_owned()];
    while let Some(next) = open.pop() {
        for entry in fs::read_dir(next).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                if !path.ends_with(".deft-needle") {
                    open.push(path);
                }
            } else {
                let name = path.strip_prefix(folder).unwrap().to_string_lossy().into_owned();
                all.insert(name, fs::read(path).unwrap());
            }
        }
    }
    all
}

fn is_stop(error: &Error) -> bool {
    match error {
        Error::Audio(AudioError::Stopped) => true,
        Error::Slot { source, .. } => is_stop(source),
        _ => false,
    }
}

/// Runs the work with more and more patience until it ends; gives how many stops there were.
fn stops(folder: &Path, work: &dyn Fn(&dyn Observer) -> Result<(), Error>) -> u32 {
    let before = contents(folder);
    let mut patience = 0;
    loop {
        match work(&After::asks(patience)) {
            Ok(()) => return patience,
            Err(error) => assert!(is_stop(&error), "after {patience}: {error:?}"),
        }
        assert_eq!(contents(folder), before, "after {patience} something is left");
        // Early stops one by one, later ones in larger steps.
        patience += 1 + patience / 12;
        assert!(patience < 100_000, "it never ends");
    }
}

#[test]
fn a_fit_that_is_stopped_leaves_nothing() {
    let folder = world();
    let clip = Clip::open(&folder.path().join("clip.wav")).unwrap();
    let options = [
        ("trim-silence", "true"),
        ("level", "-16LUFS"),
        ("loop", "0.1s..0.6s"),
        ("crossfade", "20ms"),
    ];
    let edits = Request::read(options).unwrap().edits;
    for spec in [
        "wav pcm16 22050 mono",
        "ogg vorbis 44100 mono",
        "flac flac16 48000 stereo",
        "m4a aac 44100 stereo",
    ] {
        let demand = Demand::from(spec.parse::<Spec>().unwrap());
        let edits = if spec.starts_with("m4a") { Request::default().edits } else { edits.clone() };
        let fitting = Fitting {
            clip: &clip,
            demand: &demand,
            edits: &edits,
            rule: None,
            reference: Reference::default(),
        };
        let out = folder.path().join("out.bin");
        let fit = |observer: &dyn Observer| {
            let plan = fitting.plan(observer)?;
            fitting.write(&plan, &out, None, &RealDisk::default(), observer)?;
            fs::remove_file(&out).unwrap();
            Ok(())
        };
        assert!(stops(folder.path(), &fit) > 5, "{spec}");
    }
}

#[test]
fn a_job_that_is_stopped_changes_nothing() {
    let folder = world();
    let job = folder.path().join("job.toml");
    let stock = contents(folder.path());
    let install = |observer: &dyn Observer| {
        let disk = RealDisk::default();
        let run = Run::open(&job, Ask::default(), observer)?;
        Session::open(run, &disk, observer)?.carry_out(&disk, observer).map(drop)
    };
    assert!(stops(folder.path(), &install) > 10);
    let installed = contents(folder.path());
    let changed = |name: &&String| installed[*name] != stock[*name];
    assert_eq!(
        stock.keys().filter(changed).collect::<Vec<_>>(),
        ["game/sfx/bell.wav", "game/sfx/gull.wav"]
    );
}

#[test]
fn learning_and_finding_loops_can_be_stopped() {
    let folder = world();
    let learns = |observer: &dyn Observer| {
        let stock = Stock::open(&folder.path().join("game"))?;
        learn(&stock, "game.slots.csv", observer).map(drop)
    };
    assert!(stops(folder.path(), &learns) > 1);
    let clip = Clip::open(&folder.path().join("clip.wav")).unwrap();
    let finds = |observer: &dyn Observer| {
        find(&clip, &Bounds::any(clip.facts()), 3, observer)?;
        Ok(())
    };
    assert!(stops(folder.path(), &finds) > 1);
}
