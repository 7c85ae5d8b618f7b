//! A job of a thousand slots beside the sum of its bare fits, and the same job once nothing has changed.
//!
//! `cargo bench -p deft-needle-core` prints ratios of one run.
#![allow(clippy::unwrap_used, clippy::print_stdout, clippy::as_conversions, missing_docs)]

use deft_needle_audio::block::Samples;
use deft_needle_audio::observe::Unobserved;
use deft_needle_audio::plan::Reference;
use deft_needle_audio::render::render_source;
use deft_needle_audio::shape::quantise::Dither;
use deft_needle_audio::spec::Output;
use deft_needle_audio::spec::{Demand, Format, Spec};
use deft_needle_audio::{Clip, Edits};
use deft_needle_core::RealDisk;
use deft_needle_core::root::{Found, RootAsk};
use deft_needle_core::run::{Ask, Fitting, Run, Session};
use deft_needle_core::run::{Changed, Which, restore};
use std::fs;
use std::io::Cursor;
use std::path::Path;
use std::time::{Duration, Instant, SystemTime};

const SLOTS: usize = 1000;
/// What slots take, the cheapest that there is and a usual one: effects of a second and a half.
const SPECS: [&str; 2] = ["wav pcm16 24000 mono", "ogg vorbis:q5 44100 mono"];

fn sound(spec: &str, seconds: f64, hertz: f64) -> Vec<u8> {
    let format: Format = spec.parse().unwrap();
    let rate = f64::from(format.rate.hertz());
    let frames = (seconds * rate) as usize;
    let wave = (0..frames).map(|i| 0.4 * (i as f64 * std::f64::consts::TAU * hertz / rate).sin());
    let channels = vec![wave.collect::<Vec<f64>>(); usize::from(format.channels.count())];
    let mut bytes = Cursor::new(Vec::new());
    let source = Samples::new(format.rate, channels);
    let output = Output::plain(format, frames as u64);
    render_source(source, &output, Dither::None, &mut bytes, &Unobserved).unwrap();
    bytes.into_inner()
}

fn make(folder: &Path, spec: &str) {
    fs::create_dir_all(folder.join("game/sfx")).unwrap();
    fs::create_dir_all(folder.join("takes")).unwrap();
    let stock = sound(spec, 0.5, 300.0);
    let mut job = "target = 'target.toml'\nroot = 'game'\n".to_owned();
    for index in 0..SLOTS {
        fs::write(folder.join(format!("game/sfx/s{index:04}x.wav")), &stock).unwrap();
        let clip = sound("wav pcm16 44100 stereo", 1.5, 200.0 + index as f64);
        fs::write(folder.join(format!("takes/c{index}.wav")), clip).unwrap();
        job +=
            &format!("[[replace]]\nslot = 'sfx/s{index:04}x.wav'\nclip = 'takes/c{index}.wav'\n");
    }
    let target = format!(
        "name = 'T'\n[[slots]]\nin-root = '.'\n[[rule]]\nmatch = 'sfx/*.wav'\nspec = '{spec}'\n"
    );
    fs::write(folder.join("target.toml"), target).unwrap();
    fs::write(folder.join("job.toml"), job).unwrap();
}

fn timed(work: impl FnOnce()) -> Duration {
    let began = Instant::now();
    work();
    began.elapsed()
}

/// Every clip planned, written and verified, one after another, and nothing else.
fn bare(folder: &Path, spec: &str) {
    let disk = RealDisk::default();
    let spec: Spec = spec.parse().unwrap();
    let demand = Demand::from(spec);
    for index in 0..SLOTS {
        let clip = Clip::open(&folder.join(format!("takes/c{index}.wav"))).unwrap();
        let edits = Edits::default();
        let reference = Reference::default();
        let fitting =
            Fitting { clip: &clip, demand: &demand, edits: &edits, rule: None, reference };
        let plan = fitting.plan(&Unobserved).unwrap();
        let out = folder.join(format!("bare{index}.wav"));
        fitting.write(&plan, &out, None, &disk, &Unobserved).unwrap();
    }
}

fn install(folder: &Path) {
    let disk = RealDisk::default();
    let run = Run::open(&folder.join("job.toml"), Ask::default(), &Unobserved).unwrap();
    let session = Session::open(run, &disk, &Unobserved).unwrap();
    assert!(session.plan.faults.is_empty());
    session.carry_out(&disk, &Unobserved).unwrap();
}

fn take_out(folder: &Path) {
    let root = RootAsk::default().certain(&folder.join("game"), Found::Named).unwrap();
    restore(&root, Which::All, Changed::Refuse, false, &RealDisk::default()).unwrap();
}

/// As if all files were of yesterday: time stamps are trusted once they have settled.
fn age(folder: &Path) {
    let time = SystemTime::now() - Duration::from_secs(60);
    for name in ["game/sfx", "takes"] {
        for entry in fs::read_dir(folder.join(name)).unwrap().flatten() {
            let file = fs::File::options().write(true).open(entry.path()).unwrap();
            file.set_modified(time).unwrap();
        }
    }
}

fn main() {
    SPECS.into_iter().for_each(measure);
}

fn measure(spec: &str) {
    let place = tempfile::tempdir().unwrap();
    let folder = place.path();
    make(folder, spec);
    let pool =
        |threads: usize| rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap();
    let bare_time = timed(|| bare(folder, spec));
    let one = timed(|| pool(1).install(|| install(folder)));
    take_out(folder);
    let two = timed(|| pool(2).install(|| install(folder)));
    let again = timed(|| install(folder));
    age(folder);
    install(folder);
    let settled = timed(|| install(folder));
    let out = timed(|| take_out(folder));
    let ratio = |time: Duration| time.as_secs_f64() / bare_time.as_secs_f64();
    println!(
        "{SLOTS} slots of {spec}, ratios to the sum of their bare fits on one core ({bare_time:.2?}):"
    );
    println!("  installed on one core            {:.2}", ratio(one));
    println!("  installed on two cores           {:.2}", ratio(two));
    println!("  efficiency of two cores          {:.0} %", 50.0 / ratio(two));
    println!("  installed again, nothing changed {:.3}  ({again:.2?})", ratio(again));
    println!("  the same, stamps settled             {:.3}  ({settled:.2?})", ratio(settled));
    println!("  restored                         {:.2}", ratio(out));
}
