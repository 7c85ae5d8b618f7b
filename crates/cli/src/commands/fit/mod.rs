//! Clips to files that meet a spec.

mod jobs;
mod report;

use super::tell_unread;
use crate::args::Fit;
use crate::commands::counted;
use crate::console::{BOLD, Console, GOOD, paint, safe};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::paths::text;
use crate::paths::{expand, is_stream, means_folder, open_clip};
use crate::progress::Progress;
use deft_needle_audio::plan::{Reference, Step, plan_clip};
use deft_needle_audio::read::Hints;
use deft_needle_audio::render::Outcome;
use deft_needle_audio::spec::Container;
use deft_needle_audio::survey::{Ask, Survey, survey};
use deft_needle_audio::{Clip, Plan};
use deft_needle_core::disk::{Disk, RealDisk};
use deft_needle_core::error::Error as CoreError;
use deft_needle_core::fit::{Durable, fit_to_file, refuse_existing, write_verified};
use deft_needle_core::install::Warning;
use deft_needle_core::sheet::{Asked, Rule};
use deft_needle_core::target::Target;
use jobs::Job;
pub use jobs::spec_of_name;
use rayon::prelude::*;
use serde::Serialize;
use serde_json::json;
use std::path::{Path, PathBuf};

/// One clip, fitted or planned.
#[derive(Debug, Serialize)]
struct Fitted {
    #[serde(serialize_with = "deft_needle_core::root::lossy")]
    clip: PathBuf,
    #[serde(serialize_with = "deft_needle_core::root::lossy")]
    out: PathBuf,
    plan: Plan,
    /// What was typed and wins over the sheet.
    overruled: Vec<String>,
    /// `None` where only planned.
    outcome: Option<Outcome>,
    /// Bits a second of what was written; `None` where only planned.
    bit_rate: Option<u64>,
    /// The clip and the file, where the level was changed.
    levels: Option<[Survey; 2]>,
    /// A seam that is heard, where a loop was set.
    seam: Option<Warning>,
}

/// Fits every clip; one that fails is reported, and the rest goes on.
pub fn run(args: &Fit, console: &Console) -> Result<Exit, Failure> {
    let clips = expand(&args.clips)?;
    let into_folder = clips.len() > 1 || means_folder(&args.out);
    if is_stream(&args.out) && (into_folder || console.json()) {
        return Err(Failure::usage(
            "standard output takes one clip, and no --json beside it",
            "name a file or a folder with -o",
        ));
    }
    let target = args.wanted.target(args.root.as_deref())?;
    if let Some(target) = &target {
        tell_unread(&target.slots, console);
    }
    let closed = target.as_ref().and_then(|target| closed(target, args));
    if args.outside.encoder.is_some() || closed.is_some() {
        return outside(&clips, args, closed, console);
    }
    let jobs = jobs::jobs(&clips, args, into_folder, target.as_ref())?;
    if args.plot.is_some() && (clips.len() > 1 || is_stream(&clips[0]) || is_stream(&args.out)) {
        return Err(Failure::usage(
            "--plot draws one clip, from a file to a file",
            "fit the clips one by one",
        ));
    }
    let fitted: Vec<_> = jobs
        .into_par_iter()
        .map(|job| fit(&job, args, console).map_err(|failure| failure.about(job.clip)))
        .collect();
    let mut exit = Exit::Done;
    let mut done = Vec::new();
    let all = fitted.len();
    for one in fitted {
        match one {
            Ok(fitted) => done.push(fitted),
            // Told once, below.
            Err(failure) if failure.exit() == Exit::Interrupted => exit = Exit::Interrupted,
            Err(failure) => {
                exit = exit.worst(failure.exit());
                console.failure(&failure);
            }
        }
    }
    for fitted in &done {
        report::report(fitted, console);
    }
    if exit == Exit::Interrupted {
        console.announce(format!(
            "interrupted: {} of {} written, the rest was not",
            done.len(),
            counted(all, "file")
        ));
    }
    if let (Some(plot), Some(first), false) = (&args.plot, done.first(), args.dry_run) {
        let clip = open_clip(&first.clip, &args.reading.hints(None))?;
        super::draw::fitted(clip, written_clip(&first.out, &first.plan)?, plot, console)?;
    }
    console.object(|| json!({ "files": done, "dry_run": args.dry_run }));
    Ok(exit)
}

/// The rule of a slot whose format is closed.
fn closed<'a>(target: &'a Target, args: &Fit) -> Option<&'a Rule> {
    let name = args.out.file_name().unwrap_or_default().to_string_lossy();
    let slot = args.slot.as_deref().unwrap_or(&name);
    let (_, aim) = target.aim(slot).ok()?;
    (*aim.rule.spec.get_ref() == Asked::Opaque).then_some(aim.rule)
}

/// One clip through the command of a closed format.
fn outside(
    clips: &[PathBuf],
    args: &Fit,
    rule: Option<&Rule>,
    console: &Console,
) -> Result<Exit, Failure> {
    let ([clip], false, false) = (clips, is_stream(&args.out), means_folder(&args.out)) else {
        return Err(Failure::usage(
            "--encoder makes one file of one clip",
            "fit the clips one by one",
        ));
    };
    let clip = open_clip(clip, &args.reading.hints(None))?;
    let edits = args.shaping.edits();
    let disk = RealDisk::default();
    let name = safe(&clip.input().name().display().to_string());
    if args.dry_run {
        refuse_existing(&[&clip], &args.out, args.overwrite)?;
        let plan = args.outside.plan(&clip, &edits, rule, console)?;
        if let Some(plan) = &plan {
            console.say(format!("{}\n{plan}\n  then the command is run", paint(BOLD, name)));
        }
        console.object(|| json!({
            "files": [{ "clip": text(clip.input().name()), "out": text(&args.out), "feed": plan }],
            "dry_run": true,
        }));
        return Ok(Exit::Done);
    }
    let Some(made) = args.outside.make(&clip, &edits, rule, console)? else {
        return Ok(Exit::Done);
    };
    make_folder(&args.out, &disk)?;
    let bytes = made.put(&clip, &args.out, args.overwrite, &disk)?;
    console.say(format!(
        "{} to {}\n  fed as {}; {} bytes, {}",
        paint(BOLD, name),
        paint(BOLD, safe(&args.out.display().to_string())),
        made.plan.to.format,
        bytes,
        paint(GOOD, "made by the command")
    ));
    console.object(|| json!({
        "files": [{ "clip": text(clip.input().name()), "out": text(&args.out), "feed": made.plan, "bytes": bytes }],
        "dry_run": false,
    }));
    Ok(Exit::Done)
}

fn fit(job: &Job<'_>, args: &Fit, console: &Console) -> Result<Fitted, Failure> {
    let out = job.out.as_path();
    let clip = open_clip(job.clip, &args.reading.hints(job.demand.loop_tags.as_ref()))?;
    let progress = Progress::new(console, clip.facts().frames);
    let mut edits = job.edits.clone();
    let mut overruled = job.overruled.clone();
    let mut reference = Reference::default();
    if let Some(aim) = &job.aim {
        reference.lufs = aim.listed.and_then(|listed| listed.lufs);
        let stock = reference.lufs.is_some();
        overruled.extend(aim.fill_in(&mut edits, clip.facts(), stock));
    }
    let plan = plan_clip(&clip, &job.demand, &edits, reference, &progress)?;
    let rule = job.aim.map(|aim| aim.rule);
    if let Some(rule) = rule {
        rule.refuse(&plan)?;
    }
    let fitted = |outcome, bit_rate, levels, seam| Fitted {
        clip: clip.input().name().to_owned(),
        out: out.to_owned(),
        plan: plan.clone(),
        overruled: overruled.clone(),
        outcome,
        bit_rate,
        levels,
        seam,
    };
    let disk = RealDisk::default();
    if args.dry_run {
        if !is_stream(out) {
            refuse_existing(&[&clip], out, args.overwrite)?;
        }
        return Ok(fitted(None, None, None, None));
    }
    drop(progress);
    let progress = Progress::new(console, plan.to.frames);
    let written = if is_stream(out) {
        to_standard_output(&clip, &plan, rule, &progress, console)?
    } else {
        make_folder(out, &disk)?;
        fit_to_file(&clip, &plan, out, args.overwrite, rule, &disk, &progress)?
    };
    let levels = match changes_level(&plan) && !is_stream(out) {
        true => Some([
            survey(&clip, Ask::ALL, &progress)?,
            survey(&written_clip(out, &plan)?, Ask::ALL, &progress)?,
        ]),
        false => None,
    };
    let seam = match is_stream(out) {
        true => None,
        false => Warning::of_seam(&written_clip(out, &plan)?, &edits)?,
    };
    let bit_rate = written.facts.bit_rate();
    Ok(fitted(Some(written.outcome), Some(bit_rate), levels, seam))
}

/// Opens what was written, told what its content cannot tell.
fn written_clip(out: &Path, plan: &Plan) -> Result<Clip, Failure> {
    let hints = Hints {
        raw: (plan.to.format.container == Container::Raw).then_some(plan.to.format),
        loop_tags: Some(plan.to.loop_tags.clone()),
    };
    open_clip(out, &hints)
}

fn changes_level(plan: &Plan) -> bool {
    let changes = |step: &Step| matches!(step, Step::Gain { .. } | Step::Limit { .. });
    plan.steps().iter().any(changes)
}

/// Writes to a private file, and sends it once it is verified.
fn to_standard_output(
    clip: &Clip,
    plan: &Plan,
    rule: Option<&Rule>,
    progress: &Progress,
    console: &Console,
) -> Result<deft_needle_core::fit::Written, Failure> {
    let folder = tempfile::tempdir().map_err(CoreError::write("make", &std::env::temp_dir()))?;
    let file = folder.path().join("out");
    let disk = RealDisk::default();
    let written = write_verified(clip, plan, &file, Durable::No, rule, &disk, progress)?;
    let sent = std::fs::File::open(&file).and_then(|bytes| console.bytes(bytes));
    sent.map_err(CoreError::write("write to", Path::new("standard output")))?;
    Ok(written)
}

/// Makes the folder of an output, but not the folders above it: they would be typing mistakes.
pub fn make_folder(out: &Path, disk: &dyn Disk) -> Result<(), Failure> {
    let Some(folder) = out.parent().filter(|f| !f.as_os_str().is_empty()) else {
        return Ok(());
    };
    match disk.create_folder(folder) {
        Err(error) if !folder.is_dir() => Err(CoreError::write("make", folder)(error).into()),
        _ => Ok(()),
    }
}
